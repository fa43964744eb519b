"""Apache Parquet: one file per table, the types as they are, what the rules say about a column in its metadata."""

from __future__ import annotations

from typing import Any, BinaryIO

import pyarrow as pa
import pyarrow.parquet as pq

from mukret.rules.model import Table

ENDING = ".parquet"
ROWS_OF_A_GROUP = 100_000
"""Batches are small; readers want row groups that are not."""
BYTES_OF_A_GROUP = 16_000_000


class ParquetFile:
    """A table on its way into a Parquet file."""

    def __init__(self, table: Table, schema: Any, file: BinaryIO) -> None:
        self.schema = _described(table, schema)
        self.writer = pq.ParquetWriter(file, self.schema, compression="zstd", compression_level=1)
        self.waiting: list[Any] = []
        self.rows = self.bytes = 0

    def encode(self, batch: Any) -> Any:
        """The record batch itself: rows of several go into one group."""
        return batch

    def add(self, encoded: Any) -> None:
        """Adds a record batch."""
        self.write(encoded)

    def write(self, batch: Any) -> None:
        """Adds the rows of a record batch."""
        if not batch.num_rows:
            return
        self.waiting.append(batch)
        self.rows += batch.num_rows
        self.bytes += batch.nbytes
        if self.rows >= ROWS_OF_A_GROUP or self.bytes >= BYTES_OF_A_GROUP:
            self.hand_over()

    def hand_over(self) -> None:
        if self.waiting:
            table = pa.Table.from_batches(self.waiting).cast(self.schema)
            self.writer.write_table(table, row_group_size=max(self.rows, 1))
            self.waiting, self.rows, self.bytes = [], 0, 0

    def close(self) -> None:
        """Writes what is left, and the end of the file, without which it is none."""
        self.hand_over()
        self.writer.close()


def _described(table: Table, schema: Any) -> Any:
    """The schema with notes, units, and the note of the table."""
    about = {own.name: own for own in table.fields} | {item.name: item.field for item in table.inherit}
    fields = []
    for column in schema:
        own = about[column.name]
        told = {"note": own.note, "measured_in": own.measured_in}
        given = {name: text for name, text in told.items() if text}
        fields.append(column.with_metadata(given) if given else column)
    return pa.schema(fields, metadata={"note": table.note} if table.note else None)
