"""Hashed rows in parts that fit into memory: rows with the same key are in the part of the same
number.

A few rows stay where they are. Beyond that all go to the disk, each into the file of its part, so
that two deliveries of any length are joined a part after the other. Sorting both would have done as
well, but writes everything twice.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from pathlib import Path
from types import TracebackType
from typing import Self

import pyarrow as pa
import pyarrow.compute as pc

from mukret.delivered.hashed import KEY, first_half

# A power of two.
PARTS = 128
# Bytes of hashed rows of one side; so many are also gathered before they are written, so that files
# grow by blocks.
MOST_IN_MEMORY = 32_000_000


class Partitions:
    """Rows of one side, taken in as tables of one schema."""

    def __init__(self, tables: Iterable[pa.Table]) -> None:
        self.count = PARTS
        self.waiting: list[pa.RecordBatch] = []
        self.size = 0
        self.writers: list[pa.RecordBatchWriter] = []
        self.folder: tempfile.TemporaryDirectory[str] | None = None
        for table in tables:
            self.add(table)

    def add(self, table: pa.Table) -> None:
        self.waiting.append(table)
        self.size += table.nbytes
        if self.size > MOST_IN_MEMORY:
            self.spill()

    @property
    def spilled(self) -> bool:
        return bool(self.writers)

    def spill(self) -> None:
        """Writes what waits to the disk, sorted by parts."""
        if not self.waiting:
            return
        table = pa.concat_tables(self.waiting)
        self.waiting, self.size = [], 0
        if not self.writers:
            self.folder = tempfile.TemporaryDirectory(prefix="mukret-")
            self.writers = [
                pa.ipc.new_file(str(self.file(n)), table.schema)
                for n in range(self.count)
            ]
        parts = _part_of(table.column(KEY).combine_chunks(), self.count)
        # Rows of one part lie together, and are written in one go.
        ordered = table.take(pc.sort_indices(parts))
        start = 0
        for entry in sorted(
            pc.value_counts(parts).to_pylist(), key=lambda entry: entry["values"]
        ):
            self.writers[entry["values"]].write_table(
                ordered.slice(start, entry["counts"]).combine_chunks()
            )
            start += entry["counts"]

    def file(self, part: int) -> Path:
        assert self.folder is not None
        return Path(self.folder.name) / f"{part}.arrow"

    def whole(self) -> pa.Table:
        """All rows, where none were written to the disk."""
        return pa.concat_tables(self.waiting)

    def finish(self) -> None:
        """Ends the files, after the last row."""
        self.spill()
        for writer in self.writers:
            writer.close()

    def part(self, number: int) -> pa.Table:
        """The rows of a part, after `finish`."""
        with pa.ipc.open_file(str(self.file(number))) as file:
            return file.read_all()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        _: type[BaseException] | None,
        __: BaseException | None,
        ___: TracebackType | None,
    ) -> None:
        for writer in self.writers:
            writer.close()
        if self.folder is not None:
            self.folder.cleanup()


def _part_of(keys: pa.Table, count: int) -> pa.Table:
    """The number of the part of each key: some bits of its hash."""
    return pc.bit_wise_and(first_half(keys), pa.scalar(count - 1, pa.int64())).cast(
        pa.int32()
    )
