"""A workbook → the texts of its cells, as far as a sheet holds them: 15 digits,
and no empty texts.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator, Sequence
from decimal import Decimal
from itertools import islice
from pathlib import Path
from typing import Any

import pyarrow as pa

from mukret.codes import Code
from mukret.delivered.contract import DeliveredTable
from mukret.delivered.files import Tables
from mukret.destinations.xlsx import sheet_names
from mukret.errors import UsageError
from mukret.types import Date, DecimalType, Float, Timestamp, ValueType

ROWS_AT_ONCE = 10_000
# A control character, as a sheet has it (ECMA-376, part 1, 22.9.2.19); the reading library leaves
# it so.
_ESCAPED = re.compile("_x([0-9A-F]{4})_")


def sheet_texts(
    path: Path, table: DeliveredTable, tables: Tables
) -> Iterator[pa.RecordBatch]:
    """Raises UsageError without the library."""
    try:
        import openpyxl
    except ImportError:
        hint = "pip install 'mukret[xlsx]'"
        raise UsageError(
            Code.MISSING_EXTRA,
            "workbooks need openpyxl, which is not installed",
            hint=hint,
        ) from None
    book = openpyxl.load_workbook(path, read_only=True)
    try:
        rows = book[sheet_names(list(tables))[table.name]].iter_rows(values_only=True)
        next(rows, None)  # the heads, which may be titles
        kinds = list(table.columns.values())
        while some := list(islice(rows, ROWS_AT_ONCE)):
            columns = []
            for number, kind in enumerate(kinds):
                texts = [_text(_cell(row, number), kind) for row in some]
                columns.append(pa.array(texts, pa.string()))
            yield pa.record_batch(columns, names=list(table.columns))
    finally:
        book.close()


def _cell(row: Sequence[object], number: int) -> object:
    """Rows are as long as their last cell that holds something."""
    return row[number] if number < len(row) else None


def _text(value: Any, kind: ValueType) -> str | None:
    if value is None:
        return None
    if isinstance(value, str):
        return _ESCAPED.sub(lambda match: chr(int(match[1], 16)), value)
    match kind:
        case DecimalType():
            # A float of the sheet is the number that its shortest digits say.
            return kind.written(
                Decimal(repr(value)).quantize(Decimal(1).scaleb(-kind.scale))
            )
        case Float():
            return kind.written(float(value))
        case Timestamp():
            # Sheets know no zones; instants are written there in UTC.
            return kind.written(value.replace(tzinfo=dt.UTC))
        case Date():
            return kind.written(value.date())
    return kind.written(value)
