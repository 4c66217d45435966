"""The messages between the service and the process that opens pictures."""

from __future__ import annotations

import struct

QUESTION = struct.Struct("!H")
"""The width of a preview, or 0 for a look; the descriptor of the picture comes with it."""
ANSWER = struct.Struct("!BI")
"""An outcome, and the length of what follows: a JSON object, or a WebP."""
DONE, BROKEN, TOO_LARGE = 0, 1, 2
