"""Rows of which it is not resolved yet whether their keys came before: what one of several machines
finds.

Whether a key came before hangs on all of the input, and so does the outcome of what stands below
such a row. So a machine that has a share of it keeps what is needed to resolve that later: for each
row the row that it stands in, its key, and its place. KeyResolver within each share, and then once
more, would not do: a row that is left out for another of its share would be missed if that one is
left out for a third. Rows that `where` filters are kept, too: they go the way of the row that they
stand in, if that is rejected after all.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import pyarrow as pa

from mukret.columns.types import stored
from mukret.engine.decided import DecidedRows, DecidedTable
from mukret.engine.deciding import key_texts
from mukret.paths import normalized
from mukret.rules.model import Rules, Table
from mukret.semantics.outcomes import RowOutcome

# Columns beside those of a table; no field can have such a name.
# What becomes of the row by its share alone: written or filtered.
OUTCOME = "mukret:outcome"
# Whether it is filtered since `where` could not be told.
UNKNOWN = "mukret:unknown"
# The number of the row that it stands in, among those of the table around it in the block where
# that one is met.
ABOVE = "mukret:above"
# The number of the row above it in a table that recurses, -1 for none.
OVER = "mukret:over"
# The number of its document in the file, and its normalized path there.
DOCUMENT, PATH = "mukret:document", "mukret:path"
# Begins the names of columns with the texts of the key; null in a row that stands for the absence
# of rows.
KEY = "mukret:key:"


def told_tables(rules: Rules) -> set[str]:
    """Tables whose rows may be rejected for a key that came before, so that their places must be
    known: those with such a key, and all within them.
    """
    names: set[str] = set()
    for table in rules.parents_first():
        if (table.key and table.duplicates == "reject") or table.within in names:
            names.add(table.name)
    return names


def unresolved_schema(table: Table, schema: pa.Schema) -> pa.Schema:
    """The columns of a table and those beside them.

    `schema` is that of its columns, None if it has none. Enums are texts, since a file of Arrow has
    one dictionary for all of its batches.
    """
    beside = [
        (OUTCOME, pa.uint8()),
        (UNKNOWN, pa.bool_()),
        (ABOVE, pa.int64()),
        (OVER, pa.int64()),
        (DOCUMENT, pa.int64()),
        (PATH, pa.string()),
    ]
    # Keys as texts beside the columns: rows are compared by them when parts are put together.
    keys = [(f"{KEY}{name}", pa.string()) for name in table.key]
    columns = [(column.name, _plain(column.type)) for column in schema or ()]
    return pa.schema([*columns, *beside, *keys])


def own_columns(
    rows: pa.RecordBatch, table: Table, schema: pa.Schema
) -> pa.RecordBatch:
    """The columns of a table out of rows with open keys, as they are handed over."""
    arrays = [stored(kind).finished(rows.column(name)) for name, kind in table.columns]
    return pa.RecordBatch.from_arrays(arrays, schema=schema)


def _plain(kind: pa.DataType) -> pa.DataType:
    return kind.value_type if pa.types.is_dictionary(kind) else kind


def unresolved_rows(
    rows: DecidedRows, schemas: Mapping[str, pa.Schema], told: set[str]
) -> Iterator[tuple[str, pa.RecordBatch]]:
    """The rows of each table that is met in a batch, but for those that are rejected, as record
    batches of `unresolved_schema`. `schemas` has these by table, no others are looked at; `told`
    are those of which places are wanted.
    """
    for table in rows.new:
        if table.name not in schemas:
            continue
        # Rows that are rejected for themselves are resolved: they stand in the rejects of the part.
        kept = _kept(table)
        numbers = pa.array(kept, pa.int64())
        schema = schemas[table.name]
        arrays_of_table = (
            table.columns.record_batch().take(numbers).columns
            if table.table.columns
            else []
        )
        own_arrays = [
            array.cast(schema.field(n).type) for n, array in enumerate(arrays_of_table)
        ]
        beside = [
            *_beside(table, kept, rows.tables, placed=table.name in told),
            *_keys(table, kept),
        ]
        arrays = [
            pa.array(column, schema.field(len(own_arrays) + n).type)
            for n, column in enumerate(beside)
        ]
        yield (
            table.name,
            pa.RecordBatch.from_arrays([*own_arrays, *arrays], schema=schema),
        )


def _kept(table: DecidedTable) -> Sequence[int]:
    if table.outcomes.all_written:
        return range(table.rows.count)
    return [
        row
        for row, outcome in enumerate(table.outcomes.row_outcomes)
        # Rows that are filtered stay: rows within go with them.
        if outcome != RowOutcome.REJECTED
    ]


def _beside(
    table: DecidedTable,
    kept: Sequence[int],
    tables: Mapping[str, DecidedTable],
    *,
    placed: bool,
) -> Iterator[Sequence[object]]:
    row_outcomes, unknown = table.outcomes.row_outcomes, table.outcomes.unknown
    yield [row_outcomes[row] for row in kept]
    yield [row in unknown for row in kept]
    yield _above(table, kept, tables)
    yield _over(table, kept)
    batch = table.rows.batch
    yield [batch.numbers[table.rows.document(row)] for row in kept]
    yield (
        [normalized(table.rows.place(row).location) for row in kept]
        if placed
        else [None] * len(kept)
    )


def _above(
    table: DecidedTable, kept: Sequence[int], tables: Mapping[str, DecidedTable]
) -> list[int]:
    """A row is kept only with the row that it stands in."""
    owners = [table.rows.owners[row] for row in kept]
    if table.table.within is None:
        return owners
    # Numbers among those that are kept.
    numbers = {
        row: number for number, row in enumerate(_kept(tables[table.table.within]))
    }
    return [numbers[owner] for owner in owners]


def _over(table: DecidedTable, kept: Sequence[int]) -> list[int]:
    """A row is kept only with the row above it."""
    if not table.rows.recursive:
        return [-1] * len(kept)
    numbers = {row: number for number, row in enumerate(kept)}
    # Of a row at the top.
    numbers[-1] = -1
    above = table.rows.gathered.above
    return [numbers[above[row]] for row in kept]


def _keys(table: DecidedTable, kept: Sequence[int]) -> Iterator[Sequence[str | None]]:
    placeholders = table.rows.placeholders
    for name in table.table.key:
        texts = key_texts(table.columns, name).to_pylist()
        for row in placeholders:
            texts[row] = None
        yield [texts[row] for row in kept]
