"""Memory that was freed goes back to the system.

The C library of Debian keeps what was freed of large blocks for the next ones: each that is freed raises the size
from which a block has memory of its own (up to 32 MB), and with it how much is kept at the end of the heap. A process
that once had much to send would look as large for good (decisions/070).
"""

from __future__ import annotations

import ctypes
import os

_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
_BLOCK_BYTES = 128 * 1024
_KEPT_BYTES = 256 * 1024


def give_back() -> bool:
    """Fix both sizes for this process; whether its C library has them (mallopt(3)). What its environment says of them
    stands."""
    if os.environ.keys() & {"MALLOC_MMAP_THRESHOLD_", "MALLOC_TRIM_THRESHOLD_"}:
        return False
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except (OSError, AttributeError):
        return False
    return bool(mallopt(_MMAP_THRESHOLD, _BLOCK_BYTES) and mallopt(_TRIM_THRESHOLD, _KEPT_BYTES))
