"""What was freed goes back to the system."""

from __future__ import annotations

import subprocess
import sys

import pytest

pytestmark = pytest.mark.whole

_PLAY = """
import sys
from nestrel.service.heap import give_back

def held():
    with open("/proc/self/status") as status:
        return next(int(line.split()[1]) for line in status if line.startswith("RssAnon")) // 1024

if sys.argv[1] == "bounded":
    assert give_back()
before, small = held(), []
len(bytes(8_000_000))
for _ in range(3):
    large = []
    for _ in range(300):
        large.append(b"x" * 200_000)
        small.append(b"y" * 3_000)
    del large
print(held() - before)
"""


def _grown(how: str) -> int:
    """By how many MB a process has grown that has freed 180 MB in large blocks, and holds 3 MB between them."""
    done = subprocess.run([sys.executable, "-c", _PLAY, how], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return int(done.stdout)


def test_what_was_freed_in_large_blocks_is_held_no_more() -> None:
    assert _grown("bounded") < 20
    assert _grown("as it is") > 30
