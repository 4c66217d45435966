"""Measurements of Nestrel against floors taken in the same run: `script/bench`."""
