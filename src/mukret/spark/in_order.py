"""Keys resolved row by row in the order of the input, by the driver: where a row hangs on a row of
its own table.

In a table that recurses, a row goes with the row above it, whose key hangs on all that came before;
no join says that. The driver is sent the keys and what stands above, and nothing else.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import groupby
from typing import TYPE_CHECKING

from pyspark.sql import DataFrame, SparkSession
from pyspark.sql import functions as F

from mukret.engine.key_resolution import UnresolvedBlock, resolver_after
from mukret.engine.unresolved import ABOVE, KEY, OUTCOME, OVER
from mukret.rules.model import Rules
from mukret.spark.frame import (
    SCHEMA,
    Entry,
    EntryKind,
    entries_of,
    entry_batch,
    packed_rows,
    unpacked_rows,
)
from mukret.spark.keys import left_out_entry

if TYPE_CHECKING:
    import pyarrow as pa

# The numbers of a piece and of a block in it, and the block.
Block = tuple[int, int, UnresolvedBlock]


def has_keys_that_recurse(rules: Rules) -> bool:
    return any(
        table.key and table.rows.recurse is not None for table in rules.tables.values()
    )


def left_out_in_order(
    session: SparkSession, rules: Rules, frame: DataFrame
) -> DataFrame:
    """Entries with the rows that are left out for their keys, out of those with rows with open
    keys.
    """
    entries = frame.where(F.col("kind") == int(EntryKind.UNRESOLVED)).mapInArrow(
        without_values, SCHEMA
    )

    def blocks() -> Iterator[Block]:
        rows = (
            Entry(**{**row.asDict(), "kind": EntryKind(row["kind"])})
            for row in entries.toLocalIterator()
        )
        # Blocks come in the order of the input, as keys of rows below rows want it.
        for (piece, block), of_block in groupby(
            rows, key=lambda entry: (entry.piece, entry.block)
        ):
            tables = {}
            for entry in of_block:
                [tables[entry.name]] = unpacked_rows(bytes(entry.payload))
            yield piece, block, UnresolvedBlock(entry.file, entry.whole, tables)

    entries_left_out = [
        (
            left_out.piece,
            left_out.block,
            int(left_out.kind),
            left_out.name,
            left_out.file,
            left_out.whole,
            bytearray(left_out.payload),
        )
        for left_out in _left_out(rules, blocks)
    ]
    return session.createDataFrame(entries_left_out, SCHEMA)


def _left_out(rules: Rules, blocks: Callable[[], Iterator[Block]]) -> Iterator[Entry]:
    resolver = resolver_after(rules, lambda: (rows for _, _, rows in blocks()))
    for piece, block, rows in blocks():
        for name, table in resolver.resolve(rows).items():
            before = rows.tables[name].column(OUTCOME).to_pylist()
            gone = [
                row
                for row, outcome in enumerate(table.row_outcomes)
                # Rows that were gone before are known already.
                if outcome and outcome != before[row]
            ]
            if gone:
                yield left_out_entry(name, piece, block, gone)


def without_values(batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Entries with rows with open keys, without the values of fields."""
    for entry in entries_of(batches):
        [rows] = unpacked_rows(entry.payload)
        wanted = [
            name
            for name in rows.schema.names
            # All rows of the input go through one task: only what decides on them goes along.
            if name in (OUTCOME, ABOVE, OVER) or name.startswith(KEY)
        ]
        payload = packed_rows([rows.select(wanted)])
        yield entry_batch(
            [
                Entry(
                    entry.piece,
                    entry.block,
                    entry.kind,
                    entry.name,
                    payload,
                    entry.file,
                    entry.whole,
                )
            ]
        )
