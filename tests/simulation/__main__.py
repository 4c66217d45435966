"""Run schedules by seed: `python -m tests.simulation --seeds 1000 --first 1`."""

from __future__ import annotations

import argparse
import multiprocessing
import os
import time

from tests.simulation.run import run


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=1_000, help="how many schedules")
    parser.add_argument("--first", type=int, default=1, help="the first seed")
    parser.add_argument("--jobs", type=int, default=os.cpu_count(), help="processes")
    chosen = parser.parse_args()
    began = time.monotonic()
    with multiprocessing.Pool(chosen.jobs) as pool:
        for _ in pool.imap_unordered(run, range(chosen.first, chosen.first + chosen.seeds), chunksize=10):
            pass
    took = time.monotonic() - began
    print(f"{chosen.seeds:,} schedules kept every promise, {chosen.seeds / took * 60:,.0f} a minute")


if __name__ == "__main__":
    main()
