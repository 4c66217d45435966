"""The Skerry Line: a made-up ferry company, its crews, terminals and office, and what they write to each other."""

from __future__ import annotations

from dataclasses import dataclass, field

from nestrel.core.durations import Duration
from nestrel.core.retention import Rule, Then


@dataclass(frozen=True, slots=True)
class Person:
    user_id: str
    name: str
    work: str


@dataclass(frozen=True, slots=True)
class Room:
    """A conversation of the scenario. `share` is how many of the scenario's messages it gets, of 100; `topics` name
    the kinds of messages written there, and `rule` says what is kept of them."""

    name: str | None
    title: str
    kind: str
    visibility: str
    owner: str
    members: tuple[str, ...]
    share: int
    topics: tuple[str, ...]
    moderators: tuple[str, ...] = ()
    rule: Rule | None = None


PEOPLE = (
    Person("mara", "Mara Quill", "duty controller"),
    Person("odd", "Odd Haverland", "master, MV Corran"),
    Person("sunniva", "Sunniva Brekk", "mate, MV Corran"),
    Person("tam", "Tam Ferrier", "engineer, MV Selkie"),
    Person("ines", "Inés Caldeira", "terminal lead, Norwick"),
    Person("yusuf", "Yusuf Adeyo", "terminal lead, Holm Bay"),
    Person("petra", "Petra Lindqvist", "lost property"),
    Person("noor", "Noor Haddad", "timetable office"),
    Person("kaz", "Kaz Morita", "deckhand, MV Tern"),
    Person("brid", "Bríd Ó Ceallaigh", "catering"),
)

OFFICE = Person("office", "Skerry Line operations", "runs the service, as a trusted backend")
"""Who signs in to see usage, connections and the audit; in no conversation."""

EVERYONE = tuple(person.user_id for person in PEOPLE)

ROOMS = (
    Room("notices", "Notices to all crews", "bulletin", "closed", "mara", EVERYONE, 6, ("notice",), ("noor",)),
    Room("control-room", "Control room", "group", "closed", "mara", ("odd", "sunniva", "noor", "ines", "yusuf"), 16,
          ("delay", "berth", "weather"), (), Rule(keep_last=500)),
    Room("norwick-terminal", "Norwick terminal", "group", "open", "ines", ("mara", "kaz", "brid", "petra"), 13,
          ("berth", "cars", "lost")),
    Room("holm-bay-terminal", "Holm Bay terminal", "group", "open", "yusuf", ("mara", "tam", "petra"), 12,
          ("berth", "cars", "lost")),
    Room("mv-corran", "MV Corran, bridge and deck", "group", "closed", "odd", ("sunniva", "kaz", "tam"), 13,
          ("engine", "deck", "weather")),
    Room("mv-selkie", "MV Selkie, engine room", "group", "closed", "tam", ("odd", "kaz"), 9, ("engine", "deck")),
    Room("tide-tables", "Tides and swell", "bulletin", "open", "noor", EVERYONE, 5, ("tide",), ("mara",)),
    Room("lost-property", "Lost property", "group", "open", "petra", ("ines", "yusuf", "brid", "kaz"), 11, ("lost",)),
    Room("galley", "Galley and stores", "group", "open", "brid", ("sunniva", "kaz", "ines"), 7, ("galley",), (),
          Rule(keep_bytes=12_000, then=Then.DISCARD)),
    Room("rota-swaps", "Rota swaps", "group", "open", "noor", ("odd", "kaz", "tam", "sunniva", "yusuf"), 5, ("rota",),
          (), Rule(hold=True)),
    Room(None, "", "direct", "closed", "mara", ("odd",), 2, ("rota", "weather")),
    Room(None, "", "direct", "closed", "petra", ("ines",), 1, ("lost",)),
)  # fmt: skip

LOGBOOK = Room(
    "berth-log",
    "Berth log, Norwick and Holm Bay",
    "group",
    "closed",
    "yusuf",
    ("mara", "ines", "noor", "odd"),
    0,
    ("log",),
    (),
    Rule(keep_for=Duration.parse("P45D")),
)
"""The long one: every movement at every berth, for paging deep."""

VESSELS = ("MV Corran", "MV Selkie", "MV Tern", "MV Gannet")
BERTHS = ("berth 1", "berth 2", "berth 3", "the linkspan", "the layby berth")
PORTS = ("Norwick", "Holm Bay", "Skerry Head", "Eilean Mòr", "Sørvær")


@dataclass(frozen=True, slots=True)
class Phrases:
    """Sentences of one topic; the words in braces are drawn from the scenario's lists."""

    openers: tuple[str, ...]
    answers: tuple[str, ...] = field(default=())


TOPICS: dict[str, Phrases] = {
    "notice": Phrases(
        (
            "**{vessel}** is off service for her annual survey from {day}. {other} takes the {hour} from {port}.",
            "Fire drill on all vessels this week. Musters are logged by the mate, please, not by the purser.",
            "New life jackets are at {port}. Swap yours by {day}; the old ones have a **grey** toggle.",
            "The {hour} from {port} carries the school band on {day}: 62 on foot, one tuba, no cars.",
            "Harbour speed is 4 knots past {berth} until the divers are done. Thank you all.",
        )
    ),
    "delay": Phrases(
        (
            "{vessel} is {n} minutes down on the {hour}. Swell at {port}, nothing broken.",
            "Holding the {hour} for the connecting bus, {n} on board.",
            "{vessel} departed {port} {hour}, on time for once.",
        ),
        ("Copied.", "Thanks, board is updated.", "Told the queue. They took it well.", "Make that {n} minutes."),
    ),
    "berth": Phrases(
        (
            "Can {vessel} have {berth} at {hour}? {other} is still unloading.",
            "Fender adrift at {berth}. I have roped it off.",
            "Gangway at {berth} is stiff again below half tide.",
        ),
        ("Yes, take it.", "Not before {hour}, sorry.", "Sent someone with grease.", "Which side?"),
    ),
    "weather": Phrases(
        (
            "Wind {n} knots from the west at {port}, gusting more. We go, but slowly.",
            "Fog on the sound. Radar and horn, arriving {port} about {hour}.",
            "Forecast for {day}: easing by noon. Ύψος κύματος 1,2 m at the bar.",
        ),
        ("Understood, take your time.", "Ack.", "Will you still make the {hour}?", "Passengers warned."),
    ),
    "cars": Phrases(
        (
            "{n} cars and {m} vans booked on the {hour}; lane 3 is for the long loads.",
            "A caravan has lost its breakaway cable in lane 2. Letting it cool off.",
            "Standby queue at {port} is back to the bakery.",
        ),
        ("We can take four more.", "Sent the shunter.", "Lane 1 is clear."),
    ),
    "lost": Phrases(
        (
            "Found on {vessel}: one umbrella, green, with a duck's head. Shelf {n}.",
            "A child's left boot, size 29, from the {hour}. Somebody limps in {port}.",
            "Handed in at {port}: a violin case. There *is* a violin in it.",
            "Looking for a blue rucksack left on {vessel} on {day}.",
        ),
        ("Owner has rung, she comes at {hour}.", "That is mine!", "On the shelf since {day}, tag {n}.", "Collected."),
    ),
    "engine": Phrases(
        (
            "Port main is {n} degrees warmer than starboard. Strainer cleaned, watching it.",
            "Bilge alarm at {hour}: float switch, not water.",
            "Fuel on board {vessel}: {n}00 litres. Bunkering at {port} on {day}.",
        ),
        ("Keep me told.", "Same as last month then.", "Spare is in the blue locker."),
    ),
    "deck": Phrases(
        (
            "Bow visor seal replaced, tested at {hour}. No drip.",
            "Anchor windlass brake adjusted. Please do not hang coats on it.",
            "Who has the big shackle key?",
        ),
        ("Me. Bringing it.", "Try the paint store.", "Good work."),
    ),
    "tide": Phrases(
        (
            "High water {port} {hour}, {n} cm over datum. Linkspan steep an hour either side.",
            "Low water {port} {hour}. {vessel} keeps off {berth} below 60 cm.",
            "Springs on {day}: expect {n} cm more than the table says with this wind.",
        )
    ),
    "galley": Phrases(
        (
            "Out of oat milk on {vessel}, and it is only {day}.",
            "Soup on the {hour} is leek. Soup on the return is also leek.",
            "Stores order for {port}: bread {n}, rolls {m}, cheese the usual.",
        ),
        ("Two crates come on the {hour}.", "Merci.", "Leek again?", "Bread is in the van."),
    ),
    "rota": Phrases(
        (
            "Can anyone take my {day} early on {vessel}? I offer two lates.",
            "I am on {vessel} on {day} and at {port} on the same {day}. One of me has to move.",
        ),
        ("I can.", "Done, it is in the rota.", "Only if it is not the {hour}.", "Ask Noor first."),
    ),
    "log": Phrases(
        (
            "{vessel} alongside {berth} {hour}, bow in. Draught {n} cm.",
            "{vessel} cast off {berth} {hour} for {port}. {n} on board, {m} vehicles.",
            "{berth}: inspected {hour}, nothing to report.",
            "{vessel} shifted from {berth} to the layby berth {hour}.",
        )
    ),
}
