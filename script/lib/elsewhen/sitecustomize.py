"""For script/calendar, in every Python that it starts: `time.sleep` without `clock_nanosleep`, which the library that
shows another date answers with EINVAL where only the monotonic clock is left alone."""

import select
import time


def _sleep(seconds: float) -> None:
    if seconds < 0:
        raise ValueError("sleep length must be non-negative")
    end = time.monotonic() + seconds
    while True:
        select.select((), (), (), max(0.0, end - time.monotonic()))
        if time.monotonic() >= end:
            return


time.sleep = _sleep  # type: ignore[assignment]  # it takes what has an index, too, which nobody hands it
