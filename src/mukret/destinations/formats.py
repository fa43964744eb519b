"""The formats of files, and the one list of them that the command line, the documentation and the
tests read.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING, BinaryIO, Protocol

from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.rules.model import Table
from mukret.semantics.rejects import Reject
from mukret.values import JsonValue

if TYPE_CHECKING:
    import pyarrow as pa

# Opens a new file by its name; whoever opened it closes it.
Opener = Callable[[str], BinaryIO]


class Writer(Protocol):
    """Tables on their way into the files of a format."""

    def write(self, rows: RowsToWrite) -> None:
        """Adds rows."""

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        """Adds what was rejected, if it has a place among the tables."""

    def close(self) -> None:
        """Writes what is left."""

    def abandon(self) -> None:
        """Called after an error instead of `close`: what was written is discarded."""

    def beside(self) -> Mapping[str, JsonValue]:
        """What stands beside the tables in a folder: JSON documents by the names of their files."""


@dataclass(frozen=True)
class Format:
    """`writer` names a class of `mukret.destinations`, which is imported when it is asked for, and
    called with a Delivery and an Opener; `payload` one by which all tables can go into one stream
    together. `streams`: a table can go to standard output as it comes; `binary`: not on a terminal;
    `grows`: a run can add files of its own to those of a table. `options` are those of `Options`
    that it takes; `extra` is to be installed for it.
    """

    name: str
    about: str
    writer: str
    streams: bool = True
    binary: bool = False
    payload: str | None = None
    grows: bool = False
    options: frozenset[str] = frozenset()
    extra: str | None = None

    def open(
        self, delivery: Delivery, opener: Opener, *, together: bool = False
    ) -> Writer:
        """`together`: as one payload. Raises what the format refuses."""
        module, _, name = ((self.payload or "") if together else self.writer).partition(
            ":"
        )
        # Imported by name: a run loads the one writer that it needs.
        made: Writer = getattr(import_module(f"mukret.destinations.{module}"), name)(
            delivery, opener
        )
        return made


FORMATS: dict[str, Format] = {
    one.name: one
    for one in (
        Format(
            "csv",
            "RFC 4180, with csv-metadata.json (W3C CSVW) beside",
            "csv:CsvTables",
            options=frozenset({"titles", "formulas_as_text"}),
        ),
        Format(
            "jsonl",
            "a JSON object on each line",
            "jsonl:JsonLines",
            grows=True,
            options=frozenset({"nested"}),
        ),
        Format(
            "json",
            "an array of JSON objects",
            "json_text:JsonTables",
            payload="json_text:Payload",
            options=frozenset({"nested", "indent"}),
        ),
        Format(
            "parquet",
            "Apache Parquet, compressed by zstd",
            "parquet:ParquetTables",
            binary=True,
            grows=True,
        ),
        Format(
            "arrow",
            "Arrow IPC: the file format, in a stream that for streams",
            "arrow:ArrowTables",
            binary=True,
        ),
        Format(
            "xlsx",
            "one workbook, with a sheet for each table",
            "xlsx:Workbook",
            streams=False,
            binary=True,
            options=frozenset({"titles"}),
            extra="xlsx",
        ),
    )
}


class TableFile(Protocol):
    """A table on its way into a file."""

    def write(self, batch: pa.RecordBatch) -> None: ...

    def close(self) -> None: ...


class PlainWriter:
    """What most writers do alike."""

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        """Does nothing: rejects have a file of their own."""

    def abandon(self) -> None:
        """Does nothing: the files are closed by whoever opened them."""

    def beside(self) -> Mapping[str, JsonValue]:
        return {}


class EachInAFile(PlainWriter, ABC):
    """The writer of a format that has a file for each table."""

    ending = ""

    def __init__(self, delivery: Delivery, opener: Opener) -> None:
        self.delivery = delivery
        self.opener = opener
        self.files = {
            name: self.file_of(
                # All at once: a table without rows has a file, too.
                delivery.rules.tables[name],
                schema,
                opener(f"{name}{self.ending}"),
            )
            for name, schema in delivery.schemas.items()
        }

    @abstractmethod
    def file_of(self, table: Table, schema: pa.Schema, file: BinaryIO) -> TableFile:
        """A table on its way into its file."""

    def write(self, rows: RowsToWrite) -> None:
        for name, batch in rows.tables.items():
            self.files[name].write(batch)

    def close(self) -> None:
        for file in self.files.values():
            file.close()
