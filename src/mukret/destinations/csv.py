"""CSV (RFC 4180): UTF-8, a header, `\\n`; null is empty and unquoted, the empty string is `""`.

Written by compiled code of our own: CSV libraries that are fast quote every text, and those that
quote only where it is needed write null and the empty string alike.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, BinaryIO

import pyarrow.compute as pc

from mukret.columns.lines import csv_lines
from mukret.columns.types import written
from mukret.destinations.formats import EachInAFile
from mukret.destinations.gathering import Gathering
from mukret.rules.model import Table
from mukret.types import (
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Duration,
    Float,
    Integer,
    Time,
    Timestamp,
    ValueType,
)
from mukret.values import JsonValue

if TYPE_CHECKING:
    import pyarrow as pa

ENDING = ".csv"
ROWS_AT_ONCE = 50_000
BYTES_AT_ONCE = 16_000_000
_MARKS = '",\r\n'
# How a text begins that spreadsheets take for a formula.
_FORMULA = r"^([=+\-@\t\r])"
_MARKED = r"^'([=+\-@\t\r])"
_NO_TEXTS = (
    Integer,
    DecimalType,
    Float,
    Boolean,
    Date,
    Time,
    Datetime,
    Timestamp,
    Duration,
)


class CsvTables(EachInAFile):
    """Tables on their way into CSV files."""

    ending = ENDING

    def file_of(self, table: Table, schema: pa.Schema, file: BinaryIO) -> CsvFile:
        options = self.delivery.options
        return CsvFile(
            table,
            file,
            titles=options.titles,
            formulas_as_text=options.formulas_as_text,
        )

    def beside(self) -> Mapping[str, JsonValue]:
        from mukret.destinations import csv_metadata

        return {csv_metadata.FILE: csv_metadata.csv_metadata(self.delivery.rules)}


class CsvFile:
    """A table on its way into a CSV file.

    `titles`: these head the columns, and not the names. `formulas_as_text`: a quote stands before
    each text that a spreadsheet would take for a formula.
    """

    def __init__(
        self,
        table: Table,
        file: BinaryIO,
        *,
        titles: bool = False,
        formulas_as_text: bool = False,
    ) -> None:
        self.formulas_as_text = formulas_as_text
        self.kinds = [kind for _, kind in table.columns]
        self.file = file
        self.gathering = Gathering(ROWS_AT_ONCE, BYTES_AT_ONCE)
        heads = table.titles.values() if titles else table.titles
        self.file.write(",".join(map(_quoted, heads)).encode() + b"\n")

    def write(self, batch: pa.RecordBatch) -> None:
        """Adds the rows of a record batch, of several together: each kernel begins with a wait for
        the interpreter.
        """
        self._write(self.gathering.add(batch))

    def _write(self, table: pa.Table) -> None:
        if table is not None:
            self.file.write(self.lines(table.combine_chunks().to_batches()[0]))

    def lines(self, batch: pa.RecordBatch) -> bytes:
        """The lines of a record batch."""
        columns = batch.columns
        # Only if asked: the mark before them changes the value.
        if self.formulas_as_text:
            columns = [
                _as_text(column, kind)
                for column, kind in zip(columns, self.kinds, strict=True)
            ]
        return csv_lines(columns, self.kinds, batch.num_rows)

    def close(self) -> None:
        """Writes what is left."""
        self._write(self.gathering.rest())


def _quoted(text: str) -> str:
    """A text as a cell."""
    return (
        '"' + text.replace('"', '""') + '"'
        if not text or any(mark in text for mark in _MARKS)
        else text
    )


def _as_text(column: pa.Array, kind: ValueType) -> pa.Array:
    """A column with a quote before each text that a spreadsheet would take for a formula."""
    if isinstance(kind, _NO_TEXTS):
        return column
    return pc.replace_substring_regex(written(column, kind), _FORMULA, r"'\1")


def without_marks(texts: pa.Array, kind: ValueType) -> pa.Array:
    """The texts of a column in which `formulas_as_text` has put such quotes.

    One that stood there before goes, too.
    """
    if isinstance(kind, _NO_TEXTS):
        return texts
    return pc.replace_substring_regex(texts, _MARKED, r"\1")
