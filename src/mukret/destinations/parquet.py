"""Apache Parquet: one file per table, the types as they are, what the rules say about a column in its metadata."""

from __future__ import annotations

from typing import Any, BinaryIO

import pyarrow as pa
import pyarrow.parquet as pq

from mukret.destinations.gathering import Gathering
from mukret.rules.model import Table

ROWS_OF_A_GROUP = 100_000
"""Batches are small; readers want row groups that are not."""
BYTES_OF_A_GROUP = 16_000_000


class ParquetFile:
    """A table on its way into a Parquet file."""

    def __init__(self, table: Table, schema: Any, file: BinaryIO) -> None:
        self.schema = _described(table, schema)
        self.writer = pq.ParquetWriter(file, self.schema, compression="zstd", compression_level=1)
        self.gathering = Gathering(ROWS_OF_A_GROUP, BYTES_OF_A_GROUP)

    def encode(self, batch: Any) -> Any:
        """The record batch itself: rows of several go into one group."""
        return batch

    def add(self, encoded: Any) -> None:
        """Adds a record batch."""
        self.write(encoded)

    def write(self, batch: Any) -> None:
        """Adds the rows of a record batch."""
        self._write(self.gathering.add(batch))

    def _write(self, table: Any) -> None:
        if table is not None:
            self.writer.write_table(table.cast(self.schema), row_group_size=table.num_rows)

    def close(self) -> None:
        """Writes what is left, and the end of the file, without which it is none."""
        self._write(self.gathering.rest())
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
