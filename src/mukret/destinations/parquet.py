"""Apache Parquet: one file per table, the types as they are, what the rules say about a column in
its metadata.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, BinaryIO

import pyarrow.parquet as pq

from mukret.destinations.arrow import described
from mukret.destinations.formats import EachInAFile
from mukret.destinations.gathering import GatheredFile
from mukret.rules.model import Rules, Table

if TYPE_CHECKING:
    import pyarrow as pa

# Batches are small; readers want row groups that are not.
ROWS_OF_A_GROUP = 100_000
BYTES_OF_A_GROUP = 16_000_000


class ParquetTables(EachInAFile):
    """Tables on their way into Parquet files."""

    ending = ".parquet"

    def abandon(self) -> None:
        for file in self.files.values():
            if isinstance(file, ParquetFile):
                # Else it writes an end, when it goes, into a file that is closed.
                file.writer.is_open = False

    def file_of(self, table: Table, schema: pa.Schema, file: BinaryIO) -> ParquetFile:
        return ParquetFile(self.delivery.rules, table, schema, file)


class ParquetFile(GatheredFile):
    """A table on its way into a Parquet file."""

    def __init__(
        self, rules: Rules, table: Table, schema: pa.Schema, file: BinaryIO
    ) -> None:
        super().__init__(ROWS_OF_A_GROUP, BYTES_OF_A_GROUP)
        self.schema = described(rules, table, schema)
        self.writer = pq.ParquetWriter(
            file, self.schema, compression="zstd", compression_level=1
        )

    def put(self, rows: pa.RecordBatch) -> None:
        self.writer.write_table(rows.cast(self.schema), row_group_size=rows.num_rows)

    def end(self) -> None:
        self.writer.close()
