"""What becomes of the rows of one table in one batch: which are rejected, filtered, dropped, and
which are written.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import true_rows
from mukret.columns.expressions import evaluate_column
from mukret.columns.hashing import row_hashes
from mukret.columns.types import written
from mukret.engine.typed_columns import TypedColumns
from mukret.semantics.outcomes import RowOutcome, SeenKeys, key_hash
from mukret.semantics.rejects import (
    PARENT_REJECTED,
    Fault,
    duplicate,
    key_missing,
    parent_rejected,
    where_failed,
)
from mukret.types import Float


@dataclass(frozen=True)
class Outcomes:
    """The outcome of each row (a byte, as `RowOutcome` has them), and the faults of those that are
    rejected.

    `unknown`: those that were filtered since `where` could not be told.
    """

    row_outcomes: bytes
    faults: Mapping[int, Sequence[Fault]] = field(default_factory=dict)
    unknown: frozenset[int] = frozenset()

    @property
    def all_written(self) -> bool:
        return not any(self.row_outcomes)

    def count(self, outcome: RowOutcome) -> int:
        return self.row_outcomes.count(outcome)

    def rejected_for_itself(self, row: int) -> bool:
        """Whether a row is rejected for what it holds, and not with the row above it."""
        return (
            self.row_outcomes[row] == RowOutcome.REJECTED
            and self.faults[row][0].bad.code != PARENT_REJECTED
        )


def written_all(columns: TypedColumns) -> Outcomes:
    """The outcomes of documents as rows of the response: nothing becomes of them."""
    return Outcomes(bytes(columns.rows.count), columns.faults)


def decide(columns: TypedColumns, above: Outcomes, seen: SeenKeys) -> Outcomes:
    """Decides the outcome of each row.

    `above` are the outcomes of the table that this one is within; the keys of the rows are noted in
    `seen`.
    """
    deciding = _Deciding(columns, above, seen)
    deciding.decide()
    seen.looked_at(columns.rows.count)
    return Outcomes(
        bytes(deciding.row_outcomes), deciding.faults, frozenset(deciding.unknown)
    )


class _Deciding:
    def __init__(self, columns: TypedColumns, above: Outcomes, seen: SeenKeys) -> None:
        self.columns = columns
        self.rows = columns.rows
        self.table = columns.rows.table
        self.above = above
        self.seen = seen
        # A byte for each row, 0 for written: most stay so.
        self.row_outcomes = bytearray(self.rows.count)
        self.faults = columns.faults
        self.unknown: set[int] = set()

    def decide(self) -> None:
        for name in self.table.key:
            for row in self.columns.lacking(name):
                if row not in self.rows.placeholders:
                    self.faults.setdefault(row, []).append(key_missing(name))
        # The order is that of `OneDocument.decide`: faults, the row above, the condition, the key.
        # Here each step is taken for all rows, there for one.
        passes = self.condition()
        for row in self.faults:
            self.row_outcomes[row] = RowOutcome.REJECTED
        keys = self.keys() if self.table.key else None
        if self.rows.recursive:
            self.row_by_row(passes, keys)
            return
        self.share_outcomes()
        for row in _failing(passes):
            if not self.row_outcomes[row] and row not in self.rows.placeholders:
                self.filter(row, passes)
        if keys is not None:
            self.deduplicate(keys)

    def condition(self) -> pa.Array:
        """The values of `where`; an error is a fault of rows that have none so far."""
        if self.table.where is None:
            return None
        column = evaluate_column(self.table.where, self.columns.arrays, self.rows.count)
        if column.failures:
            broken = self.columns.broken_in_any() | self.rows.placeholders
            for row, bad in column.failures.items():
                # The condition failed for a value that is blamed already.
                if row not in self.faults and row not in broken:
                    self.faults[row] = [where_failed(bad)]
        return column.array

    def share_outcomes(self) -> None:
        """Rows that are not rejected for themselves go the way of the row above them."""
        if not self.above.all_written:
            for row, owner in enumerate(self.rows.owners):
                self.share(row, self.above.row_outcomes[owner], self.name_above)

    @property
    def name_above(self) -> str:
        assert self.rows.parent is not None
        return self.rows.parent.table.name

    def share(self, row: int, outcome: int, table: str) -> None:
        if outcome and not self.row_outcomes[row]:
            self.row_outcomes[row] = outcome
            if outcome == RowOutcome.REJECTED:
                self.faults[row] = [parent_rejected(table)]

    def filter(self, row: int, passes: pa.Array) -> None:
        self.row_outcomes[row] = RowOutcome.FILTERED
        if passes[row].as_py() is None:
            self.unknown.add(row)

    def keys(self) -> list[pa.Array]:
        """The columns of the key as texts."""
        return [key_texts(self.columns, name) for name in self.table.key]

    def deduplicate(self, keys: list[pa.Array]) -> None:
        placeholders = self.rows.placeholders
        rows: Sequence[int] = range(self.rows.count)
        if any(self.row_outcomes) or placeholders:
            rows = [
                row
                for row in rows
                if not self.row_outcomes[row] and row not in placeholders
            ]
            numbers = pa.array(rows, pa.int64())
            keys = [column.take(numbers) for column in keys]
        row_outcomes = self.seen.row_outcomes(row_hashes(keys, len(rows)), rows)
        # Keys become values again only for rows whose key was there before: few, or none.
        if any(row_outcomes):
            for position, row in enumerate(rows):
                if row_outcomes[position]:
                    self.came_before(
                        row,
                        tuple(column[position].as_py() for column in keys),
                        row_outcomes[position],
                    )

    def came_before(self, row: int, key: tuple[str | None, ...], outcome: int) -> None:
        self.row_outcomes[row] = outcome
        if outcome == RowOutcome.REJECTED:
            self.faults[row] = [duplicate(dict(zip(self.table.key, key, strict=True)))]

    def row_by_row(self, passes: pa.Array, keys: list[pa.Array] | None) -> None:
        """In a table that recurses, the row above may be one of the table: it is decided first."""
        failing = set(_failing(passes)) - self.rows.placeholders
        for row, above in enumerate(self.rows.gathered.above):
            if above >= 0:
                self.share(row, self.row_outcomes[above], self.table.name)
            else:
                self.share(
                    row, self.above.row_outcomes[self.rows.owners[row]], self.name_above
                )
            if self.row_outcomes[row]:
                continue
            if row in failing:
                self.filter(row, passes)
            elif keys is not None and row not in self.rows.placeholders:
                # Whether a key was there before hangs on the rows before this one, and what becomes
                # of rows below hangs on that: no way round going row by row.
                key = tuple(column[row].as_py() for column in keys)
                [outcome] = self.seen.row_outcomes(key_hash(key), [row])
                if outcome:
                    self.came_before(row, key, outcome)


def key_texts(columns: TypedColumns, name: str) -> pa.Array:
    """A column of the key as texts that are equal if the values are."""
    kind = columns.rows.table.types[name]
    texts = written(columns.array(name), kind)
    return (
        # Both zeros of a float are one value, and one key.
        pc.if_else(pc.equal(texts, "-0"), "0", texts)
        if isinstance(kind, Float)
        else texts
    )


def _failing(passes: pa.Array) -> list[int]:
    return [] if passes is None else true_rows(pc.invert(pc.fill_null(passes, False)))
