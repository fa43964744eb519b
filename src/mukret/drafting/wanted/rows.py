"""The rows of a table as somebody typed them, in a CSV file."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass, field
from enum import Enum

from mukret.codes import Code
from mukret.errors import InputError

ANY_MARK, UNWANTED_MARK = "?", "-"
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,62}")


class Anything(Enum):
    """A cell that says nothing."""

    ANYTHING = "anything"


ANYTHING = Anything.ANYTHING
# A text as `extract` would write it, None for null, or ANYTHING.
Cell = str | None | Anything


@dataclass(frozen=True)
class WantedRow:
    """`line`: where it stands in its file, from 1."""

    cells: tuple[Cell, ...]
    line: int
    file: str


@dataclass
class WantedTable:
    """`rows` are to be among those of the table; `unwanted` are not."""

    name: str
    file: str
    columns: tuple[str, ...]
    rows: list[WantedRow] = field(default_factory=list)
    unwanted: list[WantedRow] = field(default_factory=list)


def read_wanted(file: str, name: str) -> WantedTable:
    """A header, and rows below it: `?` says nothing, an empty cell is null, and a row that begins
    with a cell `-` is one that is not wanted. Raises InputError.
    """
    try:
        with open(file, encoding="utf-8-sig", newline="") as opened:
            lines = csv.reader(opened)
            header = next(lines, [])
            table = WantedTable(name, file, tuple(cell.strip() for cell in header))
            _check_header(table)
            for cells in lines:
                if cells:
                    _add(table, cells, lines.line_num)
    except OSError as error:
        raise InputError(
            Code.NOT_OPENED,
            f"{file}: {(error.strerror or str(error)).lower()}",
            hint="check the path",
        ) from None
    except (UnicodeDecodeError, csv.Error) as error:
        raise InputError(Code.NOT_OPENED, f"{file}: no CSV in UTF-8: {error}") from None
    if not table.rows:
        hint = "type two or three rows of the wanted table below the header"
        raise InputError(
            Code.NO_INPUT, f"{file}: there is no wanted row in it", hint=hint
        )
    return table


def _check_header(table: WantedTable) -> None:
    said = "the file is empty" if not table.columns else None
    for number, name in enumerate(table.columns):
        if not _NAME.fullmatch(name):
            said = f"{name!r} is no name of a field"
        elif name in table.columns[:number]:
            said = f"the field {name} is there twice"
    if said is not None:
        hint = "the first line names the fields: letters, digits and _"
        raise InputError(Code.NOT_OPENED, f"{table.file}: {said}", hint=hint)


def _add(table: WantedTable, cells: list[str], line: int) -> None:
    width = len(table.columns)
    unwanted = cells[0].strip() == UNWANTED_MARK
    if unwanted and len(cells) == width + 1:
        cells = cells[1:]
    elif unwanted:
        cells = [ANY_MARK, *cells[1:]]
    if len(cells) != width:
        message = (
            f"{table.file}, line {line}: {len(cells)} cells, and the header has {width}"
        )
        raise InputError(
            Code.NOT_OPENED,
            message,
            hint="a cell that holds a comma stands in double quotes",
        )
    row = WantedRow(tuple(map(_cell, cells)), line, table.file)
    (table.unwanted if unwanted else table.rows).append(row)


def _cell(text: str) -> Cell:
    text = text.strip()
    return ANYTHING if text == ANY_MARK else text or None
