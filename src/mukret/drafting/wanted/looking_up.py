"""Cells that stand in a record elsewhere in the response, whose key a row has: the name of a vessel
by its number.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mukret.drafting.wanted.candidates import Candidate, CandidateTable
from mukret.drafting.wanted.matching import same
from mukret.drafting.wanted.rows import Cell

MOST_ROWS = 20_000
# With fewer different cells anything would do.
FEWEST_DIFFERENT = 2


@dataclass(frozen=True)
class LookedUp:
    """The value `give` of the row of `table` whose `key` is the row's own value `by`."""

    table: CandidateTable
    key: Candidate
    give: Candidate
    by: Candidate


def looked_up(
    cells: Sequence[Cell],
    rows: Sequence[int],
    table: CandidateTable,
    others: Sequence[CandidateTable],
) -> Iterator[LookedUp]:
    """What gives the cells of a wanted column in these rows, out of outermost tables."""
    wanted = [
        (row, cell)
        for row, cell in zip(rows, cells, strict=True)
        if isinstance(cell, str)
    ]
    different = {cell for _, cell in wanted}
    # One word stands somewhere in almost any table.
    if len(different) < FEWEST_DIFFERENT:
        return
    for other in others:
        if not _can_be_looked_up(other) or other.table is table.table:
            continue
        for give in _of_the_rows(other):
            if all(_gives(give, cell) for cell in different):
                yield from _by_key(wanted, table, other, give)


def _of_the_rows(table: CandidateTable) -> list[Candidate]:
    """The values that stand in the rows of a table themselves, one in each."""
    return [value for value in table.values if value.levels == 0 and not value.nodes]


def _can_be_looked_up(table: CandidateTable) -> bool:
    """Whether it is an outermost table, as rules demand, and not too long to be gone through."""
    return table.table.within is None and table.rows <= MOST_ROWS


def _gives(value: Candidate, cell: str) -> bool:
    """Whether a value is what was typed, in some row."""
    return any(same(value.kind, text, cell) for text in set(value.texts))


def _by_key(
    wanted: Sequence[tuple[int, str]],
    table: CandidateTable,
    other: CandidateTable,
    give: Candidate,
) -> Iterator[LookedUp]:
    for key in _of_the_rows(other):
        if key is give or None in key.texts:
            continue
        given: dict[str | None, str | None] = {}
        for text, value in zip(key.texts, give.texts, strict=True):
            # The first row with a key counts, as in a lookup.
            given.setdefault(text, value)
        for by in table.values:
            same_type = by.kind == key.kind and "at" in by.field.source
            if same_type and all(
                same(give.kind, given.get(by.texts[row]), cell) for row, cell in wanted
            ):
                yield LookedUp(other, key, give, by)
