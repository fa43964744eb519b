"""CSV, Parquet and Arrow files → the texts of their cells."""

from __future__ import annotations

import csv
from collections.abc import Iterator, Mapping
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq

from mukret.columns.types import written
from mukret.delivered.contract import DeliveredTable

ROWS_AT_ONCE = 65_536
_LONGEST_CELL = 1 << 27
# Bytes that are read at once; the larger ones if a row has no room in the smaller.
_BLOCK_SIZES = (1 << 20, 1 << 25, 1 << 29)

Tables = Mapping[str, DeliveredTable]


def csv_texts(path: Path, table: DeliveredTable, _: Tables) -> Iterator[pa.RecordBatch]:
    """Cells stand in a CSV file as they are; an empty one is null, unless it has quotes.

    Columns are told by their order, since the file may be headed with titles.
    """
    taken = 0
    for block_size in _BLOCK_SIZES:
        try:
            for batch in _csv_batches(
                path, list(table.columns), block_size, after=taken
            ):
                taken += batch.num_rows
                yield batch
            return
        except pa.ArrowInvalid:  # a row has no room in a block
            if block_size == _BLOCK_SIZES[-1]:
                raise


def _csv_batches(
    path: Path, names: list[str], block_size: int, *, after: int
) -> Iterator[pa.RecordBatch]:
    """The rows of a CSV file that come after so many."""
    csv.field_size_limit(_LONGEST_CELL)
    with open(path, encoding="utf-8", newline="") as file:
        heads = next(csv.reader(file))
    # Texts, whatever they look like: types are those of the record, not guessed.
    convert = pa_csv.ConvertOptions(
        column_types={head: pa.string() for head in heads},
        strings_can_be_null=True,
        quoted_strings_can_be_null=False,
        null_values=[""],
    )
    read = pa_csv.ReadOptions(block_size=block_size)
    parse = pa_csv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False)
    seen = 0
    with pa_csv.open_csv(
        path, read_options=read, convert_options=convert, parse_options=parse
    ) as reader:
        for batch in reader:
            # What was given before with smaller blocks is passed over.
            first = max(0, after - seen)
            seen += batch.num_rows
            if first < batch.num_rows:
                yield pa.record_batch(batch.columns, names=names).slice(first)


def parquet_texts(
    path: Path, table: DeliveredTable, _: Tables
) -> Iterator[pa.RecordBatch]:
    with pq.ParquetFile(path) as file:
        for batch in file.iter_batches(ROWS_AT_ONCE):
            yield typed_texts(batch, table)


def arrow_texts(
    path: Path, table: DeliveredTable, _: Tables
) -> Iterator[pa.RecordBatch]:
    with pa.ipc.open_file(path) as file:
        for number in range(file.num_record_batches):
            yield typed_texts(file.get_batch(number), table)


def typed_texts(batch: pa.RecordBatch, table: DeliveredTable) -> pa.RecordBatch:
    """A batch of typed columns as the texts that stand in CSV."""
    arrays = []
    for name, kind in table.columns.items():
        column = batch.column(name)
        if pa.types.is_dictionary(column.type):
            column = column.cast(pa.string())
        arrays.append(written(column, kind).cast(pa.string()))
    return pa.record_batch(arrays, names=list(table.columns))
