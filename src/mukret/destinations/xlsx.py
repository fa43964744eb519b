"""XLSX (ECMA-376): one workbook with a sheet for each table and one for what was rejected, to be
looked at by people.

Numbers, booleans, dates and instants are real ones as far as a sheet holds them exactly: its
numbers have 15 digits, its times milliseconds. What has more is written as text, as in CSV; what
can't be held at all is refused.
"""

from __future__ import annotations

import datetime as dt
import os
from collections.abc import Callable, Collection, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from mukret.codes import Code
from mukret.columns.types import written
from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.destinations.formats import Opener, PlainWriter
from mukret.errors import OutputError, UsageError
from mukret.rules.model import Table
from mukret.semantics.rejects import Reject
from mukret.types import (
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Float,
    Integer,
    Time,
    Timestamp,
    TypedValue,
    ValueType,
)

if TYPE_CHECKING:
    import pyarrow as pa
    from xlsxwriter import Workbook as Book
    from xlsxwriter.format import Format
    from xlsxwriter.worksheet import Worksheet

FILE = "tables.xlsx"
# Below the header.
MOST_ROWS = 1_048_575
MOST_COLUMNS = 16_384
LONGEST_TEXT = 32_767
LONGEST_NAME = 31
MOST_DIGITS = 15
# Before it sheets count a day that there never was.
FIRST_DAY = dt.date(1900, 3, 1)
ELSEWHERE = "--format csv or parquet holds it"
REJECTED = ("table", "file", "document", "path", "field", "code", "value", "message")

# Writes a value of Python into a sheet, at a row and a column.
Cell = Callable[["Worksheet", int, int, Any], None]


class Workbook(PlainWriter):
    def __init__(self, delivery: Delivery, opener: Opener) -> None:
        """Raises UsageError without the library, and for names and numbers of columns that a
        workbook can't have.
        """
        try:
            import xlsxwriter
        except ImportError:
            hint = "pip install 'mukret[xlsx]'"
            raise UsageError(
                Code.MISSING_EXTRA,
                "workbooks need xlsxwriter, which is not installed",
                hint=hint,
            ) from None
        names = sheet_names(list(delivery.schemas))
        file = opener(FILE)
        beside = os.path.dirname(
            file.name
        )  # rows wait in files of their own, which go with the folder
        self.book = xlsxwriter.Workbook(
            file, {"constant_memory": True, "tmpdir": beside}
        )
        self.sheets = {
            name: Sheet(
                self.book,
                names[name],
                delivery.rules.tables[name],
                titles=delivery.options.titles,
            )
            for name in delivery.schemas
        }
        self.rejected = _new_sheet(
            self.book, _free_name("rejects", names.values()), REJECTED
        )
        self.rows_rejected = 0

    def write(self, rows: RowsToWrite) -> None:
        for name, batch in rows.tables.items():
            self.sheets[name].write(batch)

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        """As many as there is room for; all of them stand in the file of the rejects."""
        for reject in rejects:
            told = reject.as_json()
            for problem in told["problems"]:
                # A sheet ends at its last row, and so does what it can show.
                if self.rows_rejected < MOST_ROWS:
                    self.rows_rejected += 1
                    cells = {
                        **told,
                        **problem,
                        "path": problem.get("path") or told["path"],
                    }
                    for column, name in enumerate(REJECTED):
                        _text(
                            self.rejected,
                            self.rows_rejected,
                            column,
                            _shown(cells.get(name)),
                        )

    def close(self) -> None:
        self.book.close()

    def abandon(self) -> None:
        for sheet in self.book.worksheets():
            sheet.row_data_fh.close()
        self.book.fileclosed = True  # else it writes itself when it goes


class Sheet:
    """A table on its way into a sheet."""

    def __init__(self, book: Book, name: str, table: Table, *, titles: bool) -> None:
        # The library leaves further columns away without a word.
        if len(table.columns) > MOST_COLUMNS:
            message = (
                f"{table.name} has {len(table.columns):,} columns, a sheet {MOST_COLUMNS:,} "
                "at the most"
            )
            raise OutputError(Code.NOT_HELD, message, hint=ELSEWHERE)
        self.table = table
        self.columns = table.columns
        self.rows = 0
        heads = list(table.titles.values() if titles else dict(table.columns))
        self.sheet = _new_sheet(book, name, heads)
        self.cells = [_cell(kind, book) for _, kind in table.columns]

    def write(self, batch: pa.RecordBatch) -> None:
        """Adds the rows of a record batch.

        Raises OutputError for a value that a sheet can't hold, with its place.
        """
        if self.rows + batch.num_rows > MOST_ROWS:
            message = f"{self.table.name} has more rows than a sheet: {MOST_ROWS:,} at the most"
            raise OutputError(Code.NOT_HELD, message, hint=ELSEWHERE)
        columns = [
            _values(batch.column(n), kind) for n, (_, kind) in enumerate(self.columns)
        ]
        for row in zip(*columns, strict=True):
            self.rows += 1
            for number, value in enumerate(row):
                if value is not None:
                    self.put(number, value)

    def put(self, number: int, value: TypedValue) -> None:
        try:
            self.cells[number](self.sheet, self.rows, number, value)
        except _NotHeld as error:
            name = f"{self.table.name}.{self.columns[number][0]}"
            # The row of the sheet is the row of the table: the number is that of `trace`.
            trace = (
                f"mukret trace RULES FILE --table {self.table.name} --nth {self.rows}"
            )
            hint = f"{trace} shows where it stands; {ELSEWHERE}"
            raise OutputError(
                Code.NOT_HELD, f"{name}, row {self.rows:,}: {error}", hint=hint
            ) from None


class _NotHeld(ValueError):
    """A value that no cell can hold."""


def sheet_names(tables: Sequence[str]) -> dict[str, str]:
    """Names of tables → names of sheets, which have 31 characters and differ in more than case."""
    names: dict[str, str] = {}
    for table in tables:
        names[table] = _free_name(table, names.values())
    return names


def _free_name(wanted: str, taken: Collection[str]) -> str:
    name, number = wanted[:LONGEST_NAME], 1
    while name.lower() in {other.lower() for other in taken}:
        number += 1
        name = f"{wanted[: LONGEST_NAME - len(str(number)) - 1]}~{number}"
    return name


def _new_sheet(book: Book, name: str, heads: Sequence[str]) -> Worksheet:
    sheet = book.add_worksheet(name)
    bold = book.add_format({"bold": True})
    # Heads stay in sight.
    sheet.freeze_panes(1, 0)
    for column, head in enumerate(heads):
        sheet.set_column(column, column, min(40, max(10, len(head) + 2)))
        sheet.write_string(0, column, head, bold)
    return sheet


def _values(array: pa.Array, kind: ValueType) -> list[TypedValue]:
    if isinstance(
        kind,
        Integer | DecimalType | Float | Boolean | Date | Time | Datetime | Timestamp,
    ):
        return list(array.to_pylist())
    return list(written(array, kind).to_pylist())


def _cell(kind: ValueType, book: Book) -> Cell:
    """How values of a type are written."""
    match kind:
        case Boolean():
            return lambda sheet, row, column, value: sheet.write_boolean(
                row, column, value
            )
        case Integer():
            return _number(book.add_format({"num_format": "0"}), kind)
        case DecimalType():
            return _number(
                book.add_format(
                    {"num_format": f"0.{'0' * kind.scale}" if kind.scale else "0"}
                ),
                kind,
            )
        case Float():
            return lambda sheet, row, column, value: sheet.write_number(
                row, column, value
            )
        case Date():
            return _moment(book.add_format({"num_format": "yyyy-mm-dd"}), kind)
        case Time():
            return _moment(book.add_format({"num_format": "hh:mm:ss.000"}), kind)
        case Datetime() | Timestamp():
            return _moment(
                book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss.000"}), kind
            )
    return _text


def _number(form: Format, kind: ValueType) -> Cell:
    def put(sheet: Worksheet, row: int, column: int, value: int | Decimal) -> None:
        digits = Decimal(value).as_tuple().digits
        # A cell holds a double: further digits would be changed without a word.
        if len(digits) > MOST_DIGITS:
            sheet.write_string(row, column, kind.written(value))
        else:
            sheet.write_number(row, column, value, form)

    return put


def _moment(form: Format, kind: ValueType) -> Cell:
    def put(sheet: Worksheet, row: int, column: int, value: TypedValue) -> None:
        # Sheets count days from 1900 on, and count one that never was.
        day = (
            value
            if type(value) is dt.date
            else value.date()
            if isinstance(value, dt.datetime)
            else None
        )
        if day is not None and day < FIRST_DAY:
            raise _NotHeld(
                f"a sheet holds no date before {FIRST_DAY}, such as {kind.written(value)}"
            )
        # A sheet's moments are floats, exact to the millisecond: what is finer stands as text.
        if getattr(value, "microsecond", 0) % 1000:
            sheet.write_string(row, column, kind.written(value))
        else:
            sheet.write_datetime(
                row,
                column,
                value.replace(tzinfo=None) if isinstance(value, dt.datetime) else value,
                form,
            )

    return put


def _text(sheet: Worksheet, row: int, column: int, value: str | None) -> None:
    if value is None:
        return
    # Counted as the program counts: a sign beyond the first 65,536 is two.
    if len(value.encode("utf-16-le")) // 2 > LONGEST_TEXT:
        raise _NotHeld(
            f"a cell holds {LONGEST_TEXT:,} characters at the most, not {len(value):,}"
        )
    sheet.write_string(row, column, value)


def _shown(value: object) -> str | None:
    """What stands in the sheet of the rejects, shortened to what a cell holds."""
    from mukret.values import json_text

    if value is None:
        return None
    text = value if isinstance(value, str) else json_text(value)
    return text[:1000]
