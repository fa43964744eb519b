"""How rows of a table are drawn: fitted to the width of the terminal, rejected ones with their
reasons in place.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import TYPE_CHECKING, NamedTuple

from rich import box
from rich.console import Console
from rich.markup import escape
from rich.table import Table as Grid

from mukret.cli.views.screen import cell_width, readable
from mukret.inspect.previewing import SeenRow
from mukret.text import counted, escaped

if TYPE_CHECKING:
    from mukret.rules.model import Table
    from mukret.semantics.rejects import Reject
    from mukret.types import ValueType

# What a cell may take, the widest first that gives all columns their room.
WIDEST_CELLS = (60, 40, 32, 24)
NARROWEST_RECORD = 22
GAP = 2
NULL = "null"
NTH = "nth"
REJECTED = "✗"
INDENT = " " * 6


class Cell(NamedTuple):
    """The text of a value, None for null; what stood in the response, where that is to be shown;
    whether it is bad.
    """

    text: str | None
    stood: str = ""
    bad: bool = False

    @property
    def shown(self) -> str:
        """A text that could be taken for something else stands in quotes."""
        if self.text is None:
            return NULL
        doubtful = self.text in ("", NULL) or self.text != self.text.strip(" ")
        return escaped(f'"{self.text}"' if doubtful and not self.bad else self.text)

    @property
    def width(self) -> int:
        return max(cell_width(self.shown), cell_width(self.stood))

    @property
    def markup(self) -> str:
        text = escape(self.shown)
        text = (
            f"[red]{text}[/]"
            if self.bad
            else f"[dim]{text}[/]"
            if self.text is None
            else text
        )
        return f"{text}\n[dim]{escape(self.stood)}[/]" if self.stood else text


class Head(NamedTuple):
    """A column: the name of the field, the name of its type, and whether its values are numbers."""

    name: str
    type: str
    number: bool

    @property
    def width(self) -> int:
        return max(len(self.name), len(self.type))


class RowsView:
    """Rows of one table as a grid. `width` is that of the terminal."""

    def __init__(
        self,
        table: Table,
        rows: Sequence[SeenRow],
        names: Sequence[str] | None,
        width: int,
    ) -> None:
        kinds = dict(table.columns)
        self.table = table
        self.rows = rows
        self.width = width
        self.asked = names is not None
        self.heads = [_head(name, kinds[name]) for name in names or kinds]
        self.cells = [self._cells(row) for row in rows]
        self.gutter = max(len(NTH), *(len(_mark(row)) for row in rows)) if rows else 0

    def _cells(self, row: SeenRow) -> list[Cell]:
        kinds = dict(self.table.columns)
        return [_cell(row, head.name, kinds[head.name]) for head in self.heads]

    def print(self, console: Console, *, wide: bool) -> None:
        """As a grid with a row below the other; as records if that is asked for, or if columns that
        were asked for do not fit.
        """
        if not self.rows:
            return
        # Wide cells are cut first, then columns are left out, and named.
        cap = next((cap for cap in WIDEST_CELLS if self.fits(self.widths(cap))), None)
        # Who asked for columns gets them all, if need be below each other.
        if wide or (cap is None and self.asked):
            self.print_records(console)
            return
        widths = self.widths(cap or WIDEST_CELLS[-1])
        chosen = list(range(len(widths))) if cap else self.chosen(widths)
        self.print_grid(console, chosen, widths)
        left = [
            head.name for number, head in enumerate(self.heads) if number not in chosen
        ]
        if left:
            console.print(
                f"{INDENT}[dim]{escape(self.left_out(left))}[/]", soft_wrap=True
            )

    def widths(self, cap: int) -> list[int]:
        fitted = []
        for index, head in enumerate(self.heads):
            widest = max((row[index].width for row in self.cells), default=0)
            fitted.append(max(head.width, min(cap, widest)))
        return fitted

    def fits(self, widths: Sequence[int]) -> bool:
        return self.gutter + sum(widths) + GAP * len(widths) <= self.width

    def chosen(self, widths: Sequence[int]) -> list[int]:
        """Columns that have room beside each other: first the key and what is bad, last what says
        nothing.
        """
        keys = self.table.key
        order = sorted(
            range(len(widths)), key=lambda index: (self.telling(index, keys), index)
        )
        kept: list[int] = []
        for index in order:
            # One at least, however narrow the screen is.
            if self.fits([widths[other] for other in (*kept, index)]) or not kept:
                kept.append(index)
        return sorted(kept)

    def telling(self, index: int, keys: Sequence[str]) -> int:
        column = [row[index] for row in self.cells]
        if self.heads[index].name in keys or any(cell.bad for cell in column):
            return 0
        different = len({cell.text for cell in column})
        if different == 1 and len(column) > 1:
            return 3 if column[0].text is None else 2
        return 1

    def left_out(self, names: Sequence[str]) -> str:
        """How many columns have no room, and their names, as far as these have."""
        start, end = f"{counted(len(names), 'column')} more", " (--columns, --wide)"
        room = self.width - len(INDENT) - len(start) - len(end) - len(": ")
        shown = ", ".join(names)
        if len(shown) > room:
            shown = shown[: max(0, room - 3)].rpartition(", ")[0]
            shown += ", …" if shown else ""
        return f"{start}: {shown}{end}" if shown else start + end

    # ---- a row below the other

    def print_grid(
        self, console: Console, chosen: Sequence[int], widths: Sequence[int]
    ) -> None:
        first = True
        for rejected, group in groupby(
            range(len(self.rows)), lambda number: self.rows[number].reject is not None
        ):
            # Rejected rows stand alone, with their reasons below; others share a grid.
            for some in ([number] for number in group) if rejected else [list(group)]:
                console.print(self.grid(chosen, widths, some, header=first))
                first = False
                reject = self.rows[some[-1]].reject
                for line in _reasons(reject) if reject else ():
                    console.print(INDENT + line, soft_wrap=True)

    def grid(
        self,
        chosen: Sequence[int],
        widths: Sequence[int],
        rows: Sequence[int],
        *,
        header: bool,
    ) -> Grid:
        # Widths are given, so that grids above and below each other are aligned.
        grid = Grid(
            box=box.SIMPLE_HEAD,
            pad_edge=False,
            header_style="bold",
            padding=0,
            collapse_padding=True,
            show_edge=False,
            show_header=header,
        )
        grid.add_column(
            f"[dim not bold]{NTH}[/]", width=self.gutter, justify="right", no_wrap=True
        )
        for index in chosen:
            head = self.heads[index]
            grid.add_column(
                f" {head.name}\n [dim not bold]{escape(head.type)}[/]",
                width=widths[index] + 1,
                justify="right" if head.number else "left",
                no_wrap=True,
            )
        for number in rows:
            style = "yellow" if self.rows[number].reject else "dim"
            mark = f"[{style}]{_mark(self.rows[number])}[/]"
            grid.add_row(
                mark, *(_indented(self.cells[number][index].markup) for index in chosen)
            )
        return grid

    # ---- the fields downwards

    def print_records(self, console: Console) -> None:
        """As many rows beside each other as have room, and the others below."""
        of_names = max(cell_width(head.name) for head in self.heads)
        of_types = max(cell_width(head.type) for head in self.heads)
        room = self.width - of_names - of_types - 2 * GAP
        # As many as have room for values: names and types stand once, at the left.
        beside = max(1, min(len(self.rows), (room + GAP) // (NARROWEST_RECORD + GAP)))
        each = max(NARROWEST_RECORD, (room + GAP) // beside - GAP)
        for start in range(0, len(self.rows), beside):
            if start:
                console.print()
            console.print(
                self.records(range(start, min(start + beside, len(self.rows))), each)
            )
            for row in self.rows[start : start + beside]:
                for line in _reasons(row.reject) if row.reject else ():
                    console.print(f"  [yellow]{_mark(row)}[/]  {line}", soft_wrap=True)

    def records(self, rows: Sequence[int], each: int) -> Grid:
        grid = Grid(
            box=box.SIMPLE_HEAD,
            pad_edge=False,
            header_style="bold",
            padding=(0, 1, 0, 0),
            show_edge=False,
        )
        grid.add_column("field", no_wrap=True)
        grid.add_column("type", no_wrap=True, style="dim", header_style="dim not bold")
        for number in rows:
            row = self.rows[number]
            head = (
                f"[yellow]{REJECTED} rejected row {row.nth}[/]"
                if row.reject
                else f"row {row.nth}"
            )
            grid.add_column(head, no_wrap=True, max_width=each)
        for index, field in enumerate(self.heads):
            grid.add_row(
                field.name,
                escape(field.type),
                *(self.cells[number][index].markup for number in rows),
            )
        return grid


def _head(name: str, kind: ValueType) -> Head:
    return Head(name, kind.name, kind.is_number)


def _cell(row: SeenRow, name: str, kind: ValueType) -> Cell:
    bad = row.bad.get(name)
    if bad is not None:
        return Cell(bad, bad=True)
    value = row.values[name]
    text = None if value is None else kind.written(value)
    stood = row.stood.get(name, "")
    return Cell(text, "" if stood in (text, f'"{text}"') else stood)


def _mark(row: SeenRow) -> str:
    return f"{REJECTED} {row.nth}" if row.reject else str(row.nth)


def _indented(markup: str) -> str:
    return "\n".join(f" {line}" for line in markup.split("\n"))


def _reasons(reject: Reject) -> Iterator[str]:
    """Why a row is rejected, in rich's markup, and where it stands."""
    for problem in reject.problems:
        field = f"{problem.field}: " if problem.field else ""
        yield (
            f"[yellow]{escape(escaped(field + problem.message))}[/] "
            f"[dim]{escape(f'[{problem.code}]')}[/]"
        )
    # Most files hold one document: its number would only be in the way.
    document = f", document {reject.document}" if reject.document > 1 else ""
    path = readable(reject.path) if reject.path else "document"
    yield f"[dim]{escape(escaped(f'{path} in {reject.file}{document}'))}[/]"


def print_apart(console: Console, rejects: Sequence[Reject]) -> None:
    """Rejects that are no row: a document that can't be read, rows that can't be told apart."""
    for reject in rejects:
        first, *others = _reasons(reject)
        console.print(f"[yellow]{REJECTED}[/]     {first}", soft_wrap=True)
        for line in others:
            console.print(INDENT + line, soft_wrap=True)
