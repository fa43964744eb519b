"""CSV (RFC 4180): UTF-8, a header, `\\n`; null is empty and unquoted, the empty string is `""`.

Written by Arrow's string kernels, a column at a time, and not by a CSV library: those that are fast quote every text,
and those that quote only where it is needed write null and the empty string alike.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, BinaryIO

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import any_true
from mukret.columns.written import written
from mukret.destinations.formats import EachInAFile
from mukret.destinations.gathering import Gathering
from mukret.rules.model import Table
from mukret.types import Boolean, Date, Datetime, DecimalType, Duration, Float, Integer, Time, Timestamp, ValueType

ENDING = ".csv"
ROWS_AT_ONCE = 50_000
BYTES_AT_ONCE = 16_000_000
_MARKS = '",\r\n'
_FORMULA = r"^([=+\-@\t\r])"
"""How a text begins that spreadsheets take for a formula."""
_SPECIAL = f"[{_MARKS}]"
_NEVER_QUOTED = (Integer, DecimalType, Float, Boolean, Date, Time, Datetime, Timestamp, Duration)


class CsvTables(EachInAFile):
    """Tables on their way into CSV files."""

    ending = ENDING

    def file_of(self, table: Table, schema: Any, file: BinaryIO) -> CsvFile:
        options = self.delivery.options
        return CsvFile(table, file, titles=options.titles, formulas_as_text=options.formulas_as_text)

    def beside(self) -> Mapping[str, Any]:
        from mukret.destinations import csv_metadata

        return {csv_metadata.FILE: csv_metadata.csv_metadata(self.delivery.rules)}


class CsvFile:
    """A table on its way into a CSV file. `titles`: these head the columns, and not the names. `formulas_as_text`: a
    quote stands before each text that a spreadsheet would take for a formula."""

    def __init__(self, table: Table, file: BinaryIO, *, titles: bool = False, formulas_as_text: bool = False) -> None:
        self.formulas_as_text = formulas_as_text
        self.kinds = [kind for _, kind in table.columns]
        self.file = file
        self.gathering = Gathering(ROWS_AT_ONCE, BYTES_AT_ONCE)
        heads = table.titles.values() if titles else table.titles
        self.file.write(",".join(map(_quoted, heads)).encode() + b"\n")

    def write(self, batch: Any) -> None:
        """Adds the rows of a record batch, of several together: each kernel begins with a wait for the interpreter."""
        self._write(self.gathering.add(batch))

    def _write(self, table: Any) -> None:
        if table is not None:
            self.file.write(self.lines(table.combine_chunks().to_batches()[0]))
            self.file.write(b"\n")

    def lines(self, batch: Any) -> Any:
        """The lines of a record batch that has rows in a buffer, without the last line end."""
        columns = [
            _cells(column, kind, formulas_as_text=self.formulas_as_text)
            for column, kind in zip(batch.columns, self.kinds, strict=True)
        ]
        lines = pc.binary_join_element_wise(*columns, ",") if len(columns) > 1 else columns[0]
        block = pc.binary_join(pa.ListArray.from_arrays([0, len(lines)], lines), "\n")
        return block[0].as_buffer()

    def close(self) -> None:
        """Writes what is left."""
        self._write(self.gathering.rest())


def _quoted(text: str) -> str:
    """A text as a cell."""
    return '"' + text.replace('"', '""') + '"' if not text or any(mark in text for mark in _MARKS) else text


def _cells(array: Any, kind: ValueType, *, formulas_as_text: bool) -> Any:
    """A column as the texts of its cells, quoted where that is needed."""
    text = written(array, kind)
    if not isinstance(kind, _NEVER_QUOTED):
        if formulas_as_text:
            text = pc.replace_substring_regex(text, _FORMULA, r"'\1")
        special = pc.match_substring_regex(text, _SPECIAL)
        if any_true(special):
            doubled = pc.binary_join_element_wise('"', pc.replace_substring(text, '"', '""'), '"', "")
            text = pc.if_else(special, doubled, text)
        empty = pc.equal(text, "")
        if any_true(empty):
            text = pc.if_else(empty, '""', text)
    return pc.fill_null(text, "")
