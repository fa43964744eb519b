"""The formats in which a folder of tables can be written, behind one contract."""

from __future__ import annotations

from typing import Any, BinaryIO, Protocol

from mukret.rules.model import Table

FORMATS = ("csv", "parquet")


class TableFile(Protocol):
    """A table on its way into a file. `add(encode(batch))` is what `write(batch)` does: the first half may be done by
    another process."""

    def write(self, batch: Any) -> None:
        """Adds the rows of a record batch."""

    def encode(self, batch: Any) -> Any:
        """A record batch as it is added; it can be sent to another process."""

    def add(self, encoded: Any) -> None:
        """Adds what was encoded."""

    def close(self) -> None:
        """Writes what is left; the file itself is closed by who opened it."""


def ending_of(form: str) -> str:
    """The ending of the files of a format."""
    return f".{form}"


def table_file(form: str, table: Table, schema: Any, file: BinaryIO, *, titles: bool = False) -> TableFile:
    """A writer for a table. What a format needs is imported when it is asked for."""
    if form == "parquet":
        from mukret.destinations.parquet import ParquetFile

        return ParquetFile(table, schema, file)
    from mukret.destinations.csv import CsvFile

    return CsvFile(table, file, titles=titles)
