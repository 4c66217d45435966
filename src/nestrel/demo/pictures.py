"""The demo's files: tide curves, berth plans and lists, drawn anew each time and the same for the same number."""

from __future__ import annotations

import io
import math
import random
import unicodedata
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Literal

from nestrel.demo.scenario import BERTHS, PORTS, VESSELS

if TYPE_CHECKING:  # it is imported when something is drawn
    from PIL import Image

_INK, _PAPER, _WATER, _SIGNAL, _LINE = "#10243e", "#fbf9f3", "#c9dcea", "#b4460f", "#b9b3a3"


@dataclass(frozen=True, slots=True)
class Drawn:
    """A file of the demo: what is on it, and the number that decides the rest."""

    what: Literal["tide", "berths", "list"]
    number: int
    day: datetime

    @property
    def name(self) -> str:
        day = f"{self.day:%Y-%m-%d}"
        return {"tide": f"tide curve {day}.png", "berths": f"berth plan {day}.png", "list": f"crew list {day}.txt"}[
            self.what
        ]

    def content(self) -> bytes:
        rng = random.Random(f"{self.what}/{self.number}")
        if self.what == "tide":
            return _tide(rng, self.day)
        return _berths(rng, self.day) if self.what == "berths" else _list(rng, self.day)


def _tide(rng: random.Random, day: datetime) -> bytes:
    """Two high waters and two low ones, as a curve over a day."""
    from PIL import Image, ImageDraw, ImageFont

    width, height, left, top, bottom = 960, 540, 70, 70, 480
    picture = Image.new("RGB", (width, height), _PAPER)
    draw = ImageDraw.Draw(picture)
    small, large = ImageFont.load_default(18), ImageFont.load_default(26)
    port, first, swing = _plain(rng.choice(PORTS)), rng.uniform(0.5, 6.0), rng.uniform(1.2, 2.3)

    def level(hour: float) -> float:
        return 2.6 + swing * math.cos((hour - first) / 12.42 * 2 * math.pi)

    def at(hour: float) -> tuple[float, float]:
        return left + hour / 24 * (width - left - 30), bottom - level(hour) / 5.2 * (bottom - top)

    draw.text((left, 22), f"{port}, {day:%d %B %Y}: height of tide in metres", fill=_INK, font=large)
    for metres in range(6):
        y = bottom - metres / 5.2 * (bottom - top)
        draw.line([(left, y), (width - 30, y)], fill=_LINE)
        draw.text((34, y - 10), str(metres), fill=_INK, font=small)
    for clock in range(0, 25, 3):
        x = at(clock)[0]
        draw.line([(x, bottom), (x, bottom + 6)], fill=_INK)
        draw.text((x - 20, bottom + 12), f"{clock:02}:00", fill=_INK, font=small)
    curve = [at(step / 10) for step in range(241)]
    draw.polygon([(left, bottom), *curve, (curve[-1][0], bottom)], fill=_WATER)
    draw.line(curve, fill=_INK, width=3)
    for n in range(4):
        hour = (first + n * 6.21) % 24
        x, y = at(hour)
        draw.ellipse([(x - 5, y - 5), (x + 5, y + 5)], fill=_SIGNAL)
        said = f"{int(hour):02}:{int(hour % 1 * 60):02}  {level(hour):.1f} m"
        draw.text((min(x + 10, width - 160), y - 26), said, fill=_SIGNAL, font=small)
    return _png(picture)


def _berths(rng: random.Random, day: datetime) -> bytes:
    """A quay from above, with who lies where."""
    from PIL import Image, ImageDraw, ImageFont

    width, height = 900, 460
    picture = Image.new("RGB", (width, height), _WATER)
    draw = ImageDraw.Draw(picture)
    small, large = ImageFont.load_default(18), ImageFont.load_default(26)
    draw.rectangle([(0, 300), (width, height)], fill=_PAPER, outline=_INK, width=2)
    draw.text((24, 410), f"{_plain(rng.choice(PORTS))}, {day:%d %B %Y}", fill=_INK, font=large)
    vessels = rng.sample(VESSELS, min(3, len(VESSELS)))
    for n, vessel in enumerate(vessels):
        x = 40 + n * 285
        draw.line([(x, 300), (x + 230, 300)], fill=_SIGNAL, width=6)
        draw.text((x, 315), BERTHS[n % len(BERTHS)], fill=_INK, font=small)
        hull = [(x + 6, 232), (x + 26, 200), (x + 190, 200), (x + 224, 245), (x + 190, 288), (x + 26, 288)]
        draw.polygon(hull, fill=_PAPER, outline=_INK, width=2)
        draw.text((x + 40, 232), vessel, fill=_INK, font=small)
        hour = rng.randrange(6, 22)
        draw.text((x + 20, 160), f"{hour:02}:{rng.randrange(0, 60, 5):02} to {hour + 1:02}:30", fill=_INK, font=small)
    draw.polygon([(850, 40), (862, 80), (850, 70), (838, 80)], fill=_INK)
    draw.text((843, 84), "N", fill=_INK, font=small)
    return _png(picture)


def _list(rng: random.Random, day: datetime) -> bytes:
    """Who sails when, as plain text."""
    rows = [f"Crew list for the week of {day:%d %B %Y}", ""]
    for n in range(7):
        when, sails = f"{day + timedelta(days=n):%a %d %b}", f"{rng.randrange(5, 12):02}:00"
        rows.append(f"{when}  {rng.choice(VESSELS):<12}  {sails}  {rng.randrange(4, 9)} hands")
    return ("\n".join(rows) + "\n").encode()


def _plain(name: str) -> str:
    """A name in the letters that the font has which is always there."""
    flat = unicodedata.normalize("NFD", name.replace("æ", "ae").replace("ø", "o"))
    return "".join(letter for letter in flat if letter.isascii())


def _png(picture: Image.Image) -> bytes:
    out = io.BytesIO()
    picture.save(out, "PNG", optimize=True)
    return out.getvalue()
