"""Rows of several machines resolved together, block by block in the order of the input: which keys
came before, and what stands below the rows that go for it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import row_mask
from mukret.columns.hashing import row_hashes
from mukret.engine.unresolved import ABOVE, DOCUMENT, KEY, OUTCOME, OVER, PATH, UNKNOWN
from mukret.rules.model import Rules, Table
from mukret.rules.rows import DOCUMENT as ANYWHERE
from mukret.semantics.outcomes import (
    LastRows,
    RowOutcome,
    SeenKeys,
    keys_of,
    last_key_passes,
)
from mukret.semantics.rejects import Fault, Reject, duplicate, parent_rejected, problem
from mukret.semantics.tally import TableTally


@dataclass(frozen=True)
class UnresolvedBlock:
    """The rows of some documents of one file, as `unresolved_rows` gives them, by table.

    `whole`: not another part of a document whose rows around its arrays came in an earlier block,
    and are not among these.
    """

    file: str
    whole: bool
    tables: Mapping[str, pa.Table]


@dataclass
class ResolvedTable:
    """The outcome of each row (a byte, as `RowOutcome` has them), and the faults of those that are
    rejected. At first that is what became of it in its share: it is written, or filtered for what
    it holds or with the row above it.
    """

    row_outcomes: bytearray
    faults: dict[int, Fault] = field(default_factory=dict)


ResolvedBlock = Mapping[str, ResolvedTable]


class KeyResolver:
    """Resolves the keys of blocks that come in the order of the input."""

    def __init__(self, rules: Rules, seen: Mapping[str, SeenKeys]) -> None:
        self.tables = rules.parents_first()
        self.seen = seen
        # What became of the rows around the arrays of a document that comes in parts.
        self.around: ResolvedBlock = {}

    def resolve(self, block: UnresolvedBlock) -> ResolvedBlock:
        resolved: dict[str, ResolvedTable] = {}
        for table in self.tables:
            if table.name in block.tables:
                above = resolved.get(table.within or "") or self.around.get(
                    table.within or ""
                )
                resolved[table.name] = self.table(
                    table, block.tables[table.name], above
                )
        # Parts of a long document share the rows around them; those of a whole one end with it.
        if block.whole:
            self.around = resolved
        return resolved

    def table(
        self, table: Table, rows: pa.RecordBatch, above: ResolvedTable | None
    ) -> ResolvedTable:
        resolved = ResolvedTable(bytearray(rows.column(OUTCOME).to_pylist()))
        around = (
            above.row_outcomes
            if above is not None and any(above.row_outcomes)
            else None
        )
        # As in `deciding`: rows below rows of the same table must wait for these.
        if table.rows.recurse is not None:
            self.row_by_row(table, rows, around, resolved)
        else:
            if around is not None:
                for row, owner in enumerate(rows.column(ABOVE).to_pylist()):
                    _share(resolved, row, around[owner], table.within or "")
            if table.key:
                kept = [
                    row
                    for row, outcome in enumerate(resolved.row_outcomes)
                    if not outcome
                ]
                self.by_key(table, rows, kept, resolved)
        self.seen[table.name].looked_at(rows.num_rows)
        return resolved

    def row_by_row(
        self,
        table: Table,
        rows: pa.RecordBatch,
        around: bytearray | None,
        resolved: ResolvedTable,
    ) -> None:
        """A row goes the way of the row above it, of its own table or of the one around it, which
        is resolved before.
        """
        places = zip(
            rows.column(OVER).to_pylist(), rows.column(ABOVE).to_pylist(), strict=True
        )
        for row, (over, owner) in enumerate(places):
            if over >= 0:
                _share(resolved, row, resolved.row_outcomes[over], table.name)
            elif around is not None:
                _share(resolved, row, around[owner], table.within or "")
            # A row that went already takes no key away from another.
            if table.key and not resolved.row_outcomes[row]:
                self.by_key(table, rows, [row], resolved)

    def by_key(
        self,
        table: Table,
        rows: pa.RecordBatch,
        kept: list[int],
        resolved: ResolvedTable,
    ) -> None:
        keys = [rows.column(f"{KEY}{name}") for name in table.key]
        numbers = pa.array(kept, pa.int64())
        filled = _filled(keys).take(
            numbers
        )  # a key with nulls is that of a row that stands for none
        if not pc.all(filled, min_count=0).as_py():
            numbers = numbers.filter(filled)
            kept = numbers.to_pylist()
        keys = [column.take(numbers) for column in keys]
        row_outcomes = self.seen[table.name].row_outcomes(
            row_hashes(keys, len(kept)), kept
        )
        for place, row in enumerate(kept) if any(row_outcomes) else ():
            if row_outcomes[place]:
                resolved.row_outcomes[row] = row_outcomes[place]
                if row_outcomes[place] == RowOutcome.REJECTED:
                    resolved.faults[row] = duplicate(
                        {
                            name: column[place].as_py()
                            for name, column in zip(table.key, keys, strict=True)
                        }
                    )


def resolver_after(
    rules: Rules, blocks: Callable[[], Iterable[UnresolvedBlock]]
) -> KeyResolver:
    """Ready to resolve blocks.

    Where the last row with a key counts they are read before, to know which that is: what is above
    is resolved in an earlier pass.
    """
    last: dict[str, LastRows] = {}
    for names in last_key_passes(rules.parents_first()):
        resolver = KeyResolver(rules, keys_of(rules.tables.values(), last, names))
        for block in blocks():
            resolver.resolve(block)
    return KeyResolver(rules, keys_of(rules.tables.values(), last))


def _share(resolved: ResolvedTable, row: int, outcome: int, table: str) -> None:
    """A row goes the way of the row above it, which is of this table."""
    if outcome and resolved.row_outcomes[row] in (
        RowOutcome.WRITTEN,
        RowOutcome.FILTERED,
    ):
        resolved.row_outcomes[row] = outcome
        if outcome == RowOutcome.REJECTED:
            resolved.faults[row] = parent_rejected(table)


def _filled(columns: list[pa.Array]) -> pa.Array:
    valid = pc.is_valid(columns[0])
    for column in columns[1:]:
        valid = pc.and_(valid, pc.is_valid(column))
    return valid


# ---- what comes of it


def kept_rows(rows: pa.RecordBatch, resolved: ResolvedTable) -> pa.RecordBatch:
    """The rows that are written, with all columns."""
    if not any(resolved.row_outcomes):
        return rows
    gone = (row for row, outcome in enumerate(resolved.row_outcomes) if outcome)
    return rows.filter(pc.invert(row_mask(gone, rows.num_rows)))


def otherwise(rows: pa.RecordBatch, resolved: ResolvedTable) -> TableTally:
    """What must be added to the counts of the shares: something else became of some rows than was
    counted there.
    """
    before = bytes(rows.column(OUTCOME).to_pylist())
    if before == resolved.row_outcomes:
        return TableTally()
    # Shares decided as if they were alone; the difference is what keys of other shares and rows
    # above changed.
    written, rejected, filtered, deduplicated = (
        resolved.row_outcomes.count(outcome) - before.count(outcome)
        for outcome in RowOutcome
    )
    unknown = rows.column(UNKNOWN).to_pylist()
    known = sum(
        unknown[row]
        for row, outcome in enumerate(resolved.row_outcomes)
        if outcome != RowOutcome.FILTERED
    )
    return TableTally(
        rows_written=written,
        rows_rejected=rejected,
        rows_filtered=filtered,
        rows_deduplicated=deduplicated,
        rows_filtered_unknown=-known,
    )


def rejects_of(
    table: str, file: str, rows: pa.RecordBatch, resolved: ResolvedTable
) -> Iterator[Reject]:
    """The rows that are rejected since a key came before, in their order."""
    # Where it stood was noted with the row: the document is gone by now.
    for row, fault in resolved.faults.items():
        document, path = (
            rows.column(DOCUMENT)[row].as_py(),
            rows.column(PATH)[row].as_py(),
        )
        yield Reject(
            file, document, path, table, (problem(fault, ANYWHERE, None, path),)
        )
