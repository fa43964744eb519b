"""Keys resolved across all pieces: which rows are left out, by Spark's own means, and what becomes
of the others.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from itertools import groupby
from typing import TYPE_CHECKING, Any

from mukret.engine.key_resolution import (
    KeyResolver,
    UnresolvedBlock,
    kept_rows,
    otherwise,
    rejects_of,
)
from mukret.engine.unresolved import own_columns
from mukret.rules.model import Rules, Table
from mukret.semantics.outcomes import RowOutcome, SeenKeys
from mukret.semantics.rejects import Reject
from mukret.semantics.tally import TableTally, Tally
from mukret.spark.evaluating import ranks_of, spark_schema
from mukret.spark.frame import (
    Entry,
    EntryKind,
    entries_of,
    entry_batch,
    packed_fact,
    unpacked_rows,
)
from mukret.spark.gathering import GatheredRows
from mukret.spark.rejected import LATER, reject_lines, rejects_entry
from mukret.spark.work import Work

if TYPE_CHECKING:
    import pyarrow as pa


class LeftOut(SeenKeys):
    """Knows which rows of a block are left out for a key that another row has."""

    def __init__(self, again: RowOutcome) -> None:
        super().__init__()
        self.again = again
        self.rows: set[int] = set()

    def row_outcomes(self, hashes: bytes, rows: Sequence[int]) -> bytes:
        if not self.rows:
            return bytes(len(rows))
        outcomes = bytearray([RowOutcome.WRITTEN]) * len(rows)
        for place, row in enumerate(rows):
            if row in self.rows:
                outcomes[place] = self.again
        return bytes(outcomes)


def resolved(work: Work, batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Entries of blocks in their order, those of pieces together → rows that are written, rejects,
    and corrections.
    """
    for piece, entries in groupby(entries_of(batches), key=lambda entry: entry.piece):
        for entries_of_block in _ResolvedPiece(piece, work.run([])).entries(entries):
            if entries_of_block:
                yield entry_batch(entries_of_block)


class _ResolvedPiece:
    def __init__(self, number: int, run: Any) -> None:
        self.number = number
        self.rules: Rules = run.rules
        self.schemas = run.schemas
        self.ranks = ranks_of(run.rules)
        self.left_out = {
            name: LeftOut(_outcome_of_duplicates(table))
            for name, table in self.rules.tables.items()
        }
        # The same as on one machine; only what is known of keys comes from elsewhere.
        self.resolver = KeyResolver(self.rules, self.left_out)
        self.gathered = GatheredRows(number)
        self.tally: Tally = run.nothing_counted()

    def entries(self, entries: Iterable[Entry]) -> Iterator[list[Entry]]:
        for block, some in groupby(entries, key=lambda entry: entry.block):
            yield list(self.of_block(block, list(some)))
        told = packed_fact((self.tally.tables, list(self.tally.reasons.values())))
        yield [*self.gathered.rest(), Entry(self.number, 0, EntryKind.TOLD, "", told)]

    def of_block(self, number: int, entries: list[Entry]) -> Iterator[Entry]:
        # Numbers are those of rows in this block.
        for known in self.left_out.values():
            known.rows = set()
        tables, first = {}, entries[-1]
        for entry in entries:
            [rows] = unpacked_rows(entry.payload)
            if entry.kind is EntryKind.LEFT_OUT:
                self.left_out[entry.name].rows.update(rows.column("row").to_pylist())
            else:
                tables[entry.name] = rows
        resolved_tables = self.resolver.resolve(
            UnresolvedBlock(first.file, first.whole, tables)
        )
        rejects: list[Reject] = []
        for name, table in resolved_tables.items():
            rows = tables[name]
            self.tally.tables[name].merge(otherwise(rows, table))
            rejects += rejects_of(name, first.file, rows, table)
            if name in self.schemas:
                columns = own_columns(
                    kept_rows(rows, table), self.rules.tables[name], self.schemas[name]
                )
                yield from self.gathered.add(
                    name, columns.cast(spark_schema(self.schemas[name]))
                )
        self.tally.note(rejects)
        if rejects:
            yield rejects_entry(
                self.number, number, reject_lines(rejects, self.ranks, LATER)
            )


def corrected(told: tuple[dict[str, TableTally], list[Any]], tally: Tally) -> None:
    """Adds the corrections of a piece to the counts of all."""
    tables, reasons = told
    tally.merge(
        Tally(
            tables,
            reasons={
                (reason.table, reason.field, reason.code): reason for reason in reasons
            },
        )
    )


def _outcome_of_duplicates(table: Table) -> RowOutcome:
    rejected = table.duplicates == "reject"
    return RowOutcome.REJECTED if rejected else RowOutcome.DEDUPLICATED
