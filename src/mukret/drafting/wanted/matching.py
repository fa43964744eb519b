"""Wanted cells beside the values of candidate rows: which row each wanted row is, and which value
gives each column.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from functools import lru_cache

from mukret.drafting.names import snake_case
from mukret.drafting.wanted.candidates import Candidate, CandidateTable
from mukret.drafting.wanted.rows import ANYTHING, Cell, WantedRow, WantedTable
from mukret.types import PLAIN, Bad, ValueType

# A value that so many rows have says nothing about which row is meant.
MOST_ROWS_OF_A_VALUE = 5_000

# So many candidate rows are looked at for each wanted one.
MOST_LIKELY = 200


@dataclass(frozen=True)
class Matched:
    """A candidate table with the number of the row that each wanted row is, and for each wanted
    column the values that give all of its cells, the best first.
    """

    table: CandidateTable
    rows: tuple[int, ...]
    columns: dict[str, list[Candidate]]

    @property
    def score(self) -> tuple[int, int, int]:
        """More columns are better, then values that stand in the row itself, then a table with
        fewer rows.
        """
        chosen = [values[0] for values in self.columns.values() if values]
        return len(chosen), -sum(value.levels for value in chosen), -self.table.rows


@lru_cache(maxsize=200_000)
def canonical(kind: ValueType, text: str) -> str:
    """A text that is equal for equal values of a type, however they are typed."""
    if kind.is_number:
        try:
            return format(Decimal(text).normalize() + 0, "f")
        except InvalidOperation:
            return text
    try:
        return kind.written(kind.convert(text, PLAIN))
    # What the type does not read is compared as it stands.
    except (Bad, NotImplementedError):
        return text


def equal(value: Candidate, row: int, cell: Cell) -> bool:
    """Whether a candidate row has what was typed."""
    return same(value.kind, value.texts[row], cell)


def same(kind: ValueType, text: str | None, cell: Cell) -> bool:
    """Whether a text of a type is what was typed;
    nothing was typed for null as for the empty text.
    """
    if cell is ANYTHING:
        return True
    if not text or cell is None:
        return not text and cell is None
    return text == cell or canonical(kind, text) == canonical(kind, str(cell))


def rows_like(rows: Sequence[WantedRow], table: CandidateTable) -> list[int] | None:
    """The rows of a candidate table that are most like some that were typed."""
    return _rows(rows, table)


def match(wanted: WantedTable, table: CandidateTable) -> Matched | None:
    """The rows of a candidate table that fit the wanted ones best; None where some has nothing to
    go by.
    """
    rows = _rows(wanted.rows, table)
    if rows is None:
        return None
    columns = {}
    for number, name in enumerate(wanted.columns):
        cells = [row.cells[number] for row in wanted.rows]
        columns[name] = _giving(name, cells, rows, table)
    return Matched(table, tuple(rows), columns)


def _rows(wanted: Sequence[WantedRow], table: CandidateTable) -> list[int] | None:
    """Of each wanted row the candidate row with the most of its cells.

    Where several have as many, the one that has them in those values which have them for the other
    rows, too; then that with the rarest; of these one that no other wanted row is, and that stands
    behind the one before.
    """
    indexes = [_Index(value) for value in table.values]
    likely: list[dict[int, float]] = []
    for row in wanted:
        candidates = _likely(row, indexes)
        if not candidates:
            return None
        likely.append(candidates)
    consistent = [
        _in_all_rows(number, wanted, likely, table)
        for number in range(len(wanted[0].cells))
    ]
    chosen: list[int] = []
    for row, rarity in zip(wanted, likely, strict=True):

        def rank(
            number: int, row: WantedRow = row, rarity: Mapping[int, float] = rarity
        ) -> tuple[float, ...]:
            last = chosen[-1] if chosen else -1
            return (
                _agreeing(row, number, consistent),
                rarity[number],
                number not in chosen,
                number > last,
                -number,
            )

        # One after the other and not all at once: the best assignment of many rows would take too
        # long.
        chosen.append(max(rarity, key=rank))
    return chosen


def _likely(row: WantedRow, indexes: Sequence[_Index]) -> dict[int, float]:
    """The candidate rows with the most cells of a wanted one, each with how rare these are; empty
    if none has any.
    """
    votes: Counter[int] = Counter()
    rarity: defaultdict[int, float] = defaultdict(float)
    for cell in row.cells:
        if isinstance(cell, str):
            for number, rare in _telling(cell, indexes).items():
                votes[number] += 1
                rarity[number] += rare
    most = max(votes.values(), default=0)
    best = sorted(number for number, count in votes.items() if count == most)
    # Each is compared with every value of the table below: so many are enough.
    return {number: rarity[number] for number in best[:MOST_LIKELY]}


def _telling(cell: str, indexes: Sequence[_Index]) -> dict[int, float]:
    """The rows that have a cell, and how much that tells: the more, the fewer they are."""
    rarity: dict[int, float] = {}
    for index in indexes:
        rows = index.rows_with(cell)
        for number in rows:
            rarity[number] = max(rarity.get(number, 0.0), 1 / len(rows))
    return rarity


def _in_all_rows(
    column: int,
    wanted: Sequence[WantedRow],
    likely: Sequence[Collection[int]],
    table: CandidateTable,
) -> list[Candidate]:
    """The values that could give a column in all wanted rows, whichever of the likely ones these
    are.
    """
    cells = [row.cells[column] for row in wanted]
    return [value for value in table.values if _could_give(value, cells, likely)]


def _could_give(
    value: Candidate, cells: Sequence[Cell], likely: Sequence[Collection[int]]
) -> bool:
    """Whether a value has each cell in some row that is likely for it."""
    return all(
        _has_in_one_of(value, numbers, cell)
        for cell, numbers in zip(cells, likely, strict=True)
    )


def _has_in_one_of(value: Candidate, rows: Collection[int], cell: Cell) -> bool:
    return any(equal(value, row, cell) for row in rows)


def _agreeing(
    row: WantedRow, number: int, consistent: Sequence[Sequence[Candidate]]
) -> int:
    """In how many columns a candidate row has the wanted cell in a value that has
    it in all rows.
    """
    return sum(
        _is_given(cell, number, values)
        for cell, values in zip(row.cells, consistent, strict=True)
    )


def _is_given(cell: Cell, row: int, values: Sequence[Candidate]) -> bool:
    """Whether one of these values has a cell in a row."""
    return any(equal(value, row, cell) for value in values)


class _Index:
    """Rows by what they have of one value."""

    def __init__(self, value: Candidate) -> None:
        self.kind = value.kind
        self.rows: dict[str, list[int]] = {}
        for number, text in enumerate(value.texts):
            if text is not None:
                self.rows.setdefault(canonical(value.kind, text), []).append(number)

    def rows_with(self, cell: str) -> Sequence[int]:
        rows = self.rows.get(canonical(self.kind, cell), ())
        return rows if len(rows) <= MOST_ROWS_OF_A_VALUE else ()


def _giving(
    name: str, cells: Sequence[Cell], rows: Sequence[int], table: CandidateTable
) -> list[Candidate]:
    """The values that have all of the cells of a wanted column in these rows, the best first; none
    where only nulls, or nothing, were typed of it.
    """
    if not any(isinstance(cell, str) for cell in cells):
        return []
    fitting = [value for value in table.values if _has_all(value, rows, cells)]
    return sorted(fitting, key=lambda value: _rank(name, value, cells, rows))


def _has_all(value: Candidate, rows: Sequence[int], cells: Sequence[Cell]) -> bool:
    """Whether a value has each of these cells in its row."""
    return all(equal(value, row, cell) for row, cell in zip(rows, cells, strict=True))


def _rank(
    name: str, value: Candidate, cells: Sequence[Cell], rows: Sequence[int]
) -> tuple[bool, bool, int, bool]:
    """A sort key: first the values that are written as it was typed, then those of the same name,
    the near ones, and those that are read as the draft reads them.
    """
    typed = [
        value.texts[row] == cell
        for row, cell in zip(rows, cells, strict=True)
        if isinstance(cell, str)
    ]
    return (
        # Smaller is better: False comes before True.
        not all(typed),
        not alike(name, value.field.name),
        value.levels,
        value.is_text and not value.field.reading,
    )


def alike(name: str, other: str) -> bool:
    """Whether two names have a word in common."""
    return bool(set(snake_case(name).split("_")) & set(snake_case(other).split("_")))
