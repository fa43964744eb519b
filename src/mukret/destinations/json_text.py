"""JSON: an array of objects for each table; or one object with all of them, as a payload."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from typing import TYPE_CHECKING, BinaryIO, cast

import msgspec

from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.destinations.formats import Opener, PlainWriter
from mukret.destinations.json_objects import objects
from mukret.destinations.jsonl import joined
from mukret.destinations.nested import Nesting

if TYPE_CHECKING:
    import pyarrow as pa

CHUNK = 1_000_000


class JsonTables(PlainWriter):
    """Tables on their way into files that each hold an array."""

    def __init__(
        self, delivery: Delivery, opener: Opener, *, inside: bool = False
    ) -> None:
        """`inside`: each array is the value of a member, and no text of its own."""
        self.delivery = delivery
        self.nesting = Nesting(delivery) if delivery.options.nested else None
        # Tables within stand in the records of others and have no array of their own.
        names = self.nesting.roots if self.nesting else list(delivery.schemas)
        self.arrays = {
            name: Array(opener(f"{name}.json"), delivery.options.indent, inside=inside)
            for name in names
        }

    def write(self, rows: RowsToWrite) -> None:
        if self.nesting is not None:
            for name, records in self.nesting.records(rows).items():
                self.arrays[name].add(self.arrays[name].elements(records))
            return
        for name, batch in rows.tables.items():
            if batch.num_rows:
                columns = self.delivery.rules.tables[name].columns
                self.arrays[name].add(
                    self.arrays[name].elements(objects(batch, columns))
                )

    def close(self) -> None:
        for array in self.arrays.values():
            array.close()


class Array:
    """A JSON array on its way into a file; an element to a line, or indented."""

    def __init__(self, file: BinaryIO, indent: int | None, *, inside: bool) -> None:
        self.file = file
        self.indent = indent
        self.margin = b" " * (indent or 0) * inside
        self.end = b"" if inside else b"\n"
        self.empty = True

    def elements(self, records: pa.RecordBatch) -> bytes | None:
        """Records as elements, with what stands between them."""
        if not len(records):
            return None
        if self.indent is None:
            return cast(bytes, joined(records, ",\n").to_pybytes())
        return b",\n".join(self.indented(records.to_pylist()))

    def indented(self, records: list[str]) -> Iterator[bytes]:
        margin = self.margin + b" " * (self.indent or 0)
        for record in records:
            yield margin + msgspec.json.format(
                record.encode(), indent=self.indent or 0
            ).replace(b"\n", b"\n" + margin)

    def add(self, elements: bytes | None) -> None:
        if elements:
            self.file.write(b"[\n" if self.empty else b",\n")
            self.file.write(elements)
            self.empty = False

    def close(self) -> None:
        self.file.write(
            (b"[]" if self.empty else b"\n" + self.margin + b"]") + self.end
        )


class Payload(PlainWriter):
    """All tables as one object, each under its name.

    Rows of all come together, so each waits in a file of its own.
    """

    def __init__(self, delivery: Delivery, opener: Opener) -> None:
        self.out = opener("")
        self.indent = delivery.options.indent
        self.waiting: dict[str, BinaryIO] = {}
        self.tables = JsonTables(delivery, self.temporary, inside=True)

    def temporary(self, name: str) -> BinaryIO:
        file = cast(BinaryIO, tempfile.TemporaryFile())  # noqa: SIM115
        self.waiting[name.removesuffix(".json")] = file
        return file

    def write(self, rows: RowsToWrite) -> None:
        self.tables.write(rows)

    def close(self) -> None:
        self.tables.close()
        margin = b" " * (self.indent or 0)
        # Tables come side by side but stand one behind the other: each has waited in a file.
        for number, (name, file) in enumerate(self.waiting.items()):
            self.out.write(
                (b",\n" if number else b"{\n")
                + margin
                + msgspec.json.encode(name)
                + b": "
            )
            file.seek(0)
            while chunk := file.read(CHUNK):
                self.out.write(chunk)
            file.close()
        self.out.write(b"\n}\n" if self.waiting else b"{}\n")
