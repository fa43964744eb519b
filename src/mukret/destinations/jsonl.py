"""JSON Lines: an object on each line, UTF-8."""

from __future__ import annotations

from typing import BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.destinations.formats import EachInAFile, Opener, PlainWriter
from mukret.destinations.gathering import Gathering
from mukret.destinations.json_objects import objects
from mukret.destinations.nested import Nesting
from mukret.rules.model import Table

ROWS_AT_ONCE = 50_000
BYTES_AT_ONCE = 16_000_000


class JsonLines(PlainWriter):
    """Tables on their way into files of JSON Lines."""

    def __init__(self, delivery: Delivery, opener: Opener) -> None:
        self.flat = None if delivery.options.nested else Lines(delivery, opener)
        self.nesting = Nesting(delivery) if delivery.options.nested else None
        self.files = (
            {}
            if self.nesting is None
            else {name: opener(f"{name}.jsonl") for name in self.nesting.roots}
        )

    def write(self, rows: RowsToWrite) -> None:
        if self.flat is not None:
            self.flat.write(rows)
        elif self.nesting is not None:
            for name, lines in self.nesting.records(rows).items():
                if len(lines):
                    self.files[name].write(joined(lines, "\n"))
                    # The end of the last line: the next batch begins on a new one.
                    self.files[name].write(b"\n")

    def close(self) -> None:
        if self.flat is not None:
            self.flat.close()


class Lines(EachInAFile):
    ending = ".jsonl"

    def file_of(self, table: Table, schema: pa.Schema, file: BinaryIO) -> LinesFile:
        return LinesFile(table, file)


class LinesFile:
    """A table on its way into a file."""

    def __init__(self, table: Table, file: BinaryIO) -> None:
        self.columns = table.columns
        self.file = file
        self.gathering = Gathering(ROWS_AT_ONCE, BYTES_AT_ONCE)

    def write(self, batch: pa.RecordBatch) -> None:
        """Adds the rows of a record batch, of several together."""
        self._write(self.gathering.add(batch))

    def _write(self, table: pa.Table) -> None:
        if table is not None:
            self.file.write(
                joined(
                    objects(table.combine_chunks().to_batches()[0], self.columns), "\n"
                )
            )
            self.file.write(b"\n")

    def close(self) -> None:
        """Writes what is left."""
        self._write(self.gathering.rest())


def joined(texts: pa.Array, between: str) -> pa.Array:
    """Texts of an array in one buffer."""
    row = pa.ListArray.from_arrays(pa.array([0, len(texts)], pa.int32()), texts)
    return pc.binary_join(row, between)[0].as_buffer()
