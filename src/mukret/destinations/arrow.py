"""Arrow IPC: the record batches as they are, what the rules say about them in the metadata of the
schema.

A file is in the file format, which can be read from any place; a stream in the format for streams.
"""

from __future__ import annotations

from typing import BinaryIO

import pyarrow as pa

from mukret.destinations.formats import EachInAFile
from mukret.destinations.gathering import GatheredFile
from mukret.rules.model import Rules, Table

ROWS_OF_A_BATCH = 100_000
BYTES_OF_A_BATCH = 16_000_000


class ArrowTables(EachInAFile):
    """Tables on their way into Arrow files."""

    ending = ".arrow"

    def file_of(self, table: Table, schema: pa.Schema, file: BinaryIO) -> ArrowFile:
        return ArrowFile(
            described(self.delivery.rules, table, schema),
            file,
            streaming=self.delivery.streaming,
        )


class ArrowFile(GatheredFile):
    """A table on its way into an Arrow file or stream."""

    def __init__(self, schema: pa.Schema, file: BinaryIO, *, streaming: bool) -> None:
        super().__init__(ROWS_OF_A_BATCH, BYTES_OF_A_BATCH)
        self.schema = schema
        make = pa.ipc.new_stream if streaming else pa.ipc.new_file
        self.writer = make(pa.PythonFile(file, "w"), schema)

    def put(self, rows: pa.RecordBatch) -> None:
        self.writer.write_table(rows.cast(self.schema).combine_chunks())

    def end(self) -> None:
        self.writer.close()


def described(rules: Rules, table: Table, schema: pa.Schema) -> pa.Array:
    """The schema with what the rules say: notes and units of the columns, the note of the table,
    and which rules.
    """
    about = {field.name: field for field in table.fields} | {
        item.name: item.field for item in table.inherit
    }
    fields = []
    for column in schema:
        field = about[column.name]
        told = {
            "title": field.title,
            "note": field.note,
            "measured_in": field.measured_in,
        }
        # Metadata is text: what the rules leave out has no key.
        given = {name: text for name, text in told.items() if text}
        fields.append(column.with_metadata(given) if given else column)
    told = {"note": table.note, "rules_sha256": rules.sha256}
    return pa.schema(
        fields, metadata={name: text for name, text in told.items() if text}
    )
