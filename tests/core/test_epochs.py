"""What a cursor of an earlier history is still good for, against histories that are written out in full."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from hypothesis import given
from hypothesis import strategies as st

from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.core.epochs import BEGINS_KEPT, Begun, Epoch, Lineage


@dataclass
class History:
    """Every change of one conversation that this history holds, by its name, and the log positions of them."""

    line: list[Epoch]
    changes: list[str] = field(default_factory=list)
    lsns: list[int] = field(default_factory=list)
    epochs: list[int] = field(default_factory=list)
    begins: list[int] = field(default_factory=list)
    lsn: int = 0

    @property
    def epoch(self) -> int:
        return self.line[-1].id


STEPS = st.lists(
    st.one_of(
        st.just(("write",)),
        st.just(("other",)),
        st.just(("cursor",)),
        st.tuples(st.just("promote"), st.integers(0, 6)),
        st.tuples(st.just("restore"), st.integers(0, 6)),
    ),
    max_size=60,
)


@given(STEPS)
def test_a_cursor_goes_on_exactly_where_all_that_it_has_seen_is_still_there(steps: list[tuple[object, ...]]) -> None:
    now = History([Epoch(1)], epochs=[1], begins=[0])
    saved = [now]
    cursors: list[tuple[ChangePosition, AllPosition, list[str]]] = []
    names = iter(range(10_000))
    for step in steps:
        if step[0] == "write":
            now.lsn += 10
            if now.epochs[0] != now.epoch:
                now.epochs = [now.epoch, *now.epochs][:BEGINS_KEPT]
                now.begins = [len(now.changes), *now.begins][:BEGINS_KEPT]
            now.changes = [*now.changes, f"c{next(names)}"]
            now.lsns = [*now.lsns, now.lsn]
        elif step[0] == "other":
            now.lsn += 10
        elif step[0] == "cursor":
            rev = len(now.changes)
            whole = AllPosition(now.epoch, now.lsn, now.lsn, now.lsn)
            cursors.append((ChangePosition(rev, rev, rev, now.epoch), whole, now.changes))
        else:
            lag = step[1]
            assert isinstance(lag, int)
            base = saved[max(0, len(saved) - 1 - lag)]
            branch = base.lsn if step[0] == "promote" else None
            # The table of epochs comes back with all else; the id of a new one is nobody else's.
            now = replace(base, line=[*base.line, Epoch(1000 + next(names), branch)])
        saved.append(replace(now))
    line = now.line
    lineage = Lineage(line)
    present = AllPosition(now.epoch, now.lsn, now.lsn, now.lsn)
    for at, everything, seen in cursors:
        there = now.changes[: len(seen)] == seen
        if lineage.holds(at, Begun(now.epochs, now.begins, len(now.changes))):
            assert there
        if lineage.goes_on(everything, present):
            assert there
        # Nothing lost since, and every step known: nobody is reset.
        told = at.epoch in lineage and all(one.branch is not None for one in line[1:]) and len(line) < BEGINS_KEPT
        kept = min([one.branch or 0 for one in line if one.id > at.epoch], default=now.lsn)
        if there and told and everything.lsn <= kept:
            assert lineage.goes_on(everything, present)
            assert lineage.holds(at, Begun(now.epochs, now.begins, len(now.changes)))


def test_a_cursor_from_later_than_now_is_proof_of_a_restore() -> None:
    lineage = Lineage([Epoch(5)])
    now = AllPosition(5, 1000, 50, 60)
    assert lineage.goes_on(AllPosition(5, 1000, 50, 60), now)
    for later in (AllPosition(5, 1001, 50, 60), AllPosition(5, 900, 50, 61)):
        assert lineage.set_back(later, now)
        assert not lineage.goes_on(later, now)
    assert not lineage.goes_on(AllPosition(6, 1, 1, 1), now)
