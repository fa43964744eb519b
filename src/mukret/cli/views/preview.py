"""How a preview is drawn: each table with its counts, its rows, and why others are missing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import click
from rich.console import Console

from mukret.cli.views.counts import reason_lines
from mukret.cli.views.problems import print_notices
from mukret.cli.views.rows import RowsView, print_apart
from mukret.cli.views.screen import next_step, screen
from mukret.inspect.preview_run import HiddenRejects, PreviewRun
from mukret.inspect.previewing import SeenRow
from mukret.rules.model import Table
from mukret.semantics.tally import TableTally
from mukret.text import counted
from mukret.types import TypedValue, ValueType
from mukret.values import JsonValue, Number, json_text

MOST_REASONS = 4
WIDTH_OF_REASONS = 100


@dataclass(frozen=True)
class PreviewView:
    """`columns`: those to show of the one table that was asked for; None for all. `wide`: each row
    as a record, downwards. `notices`: warnings are told too, once all was read.
    """

    columns: Sequence[str] | None
    wide: bool
    notices: bool

    def print(self, seen: PreviewRun) -> None:
        console = screen()
        for name in seen.choice.tables:
            self._print_table(seen, name, console)
        bad = seen.apart.get(None, [])
        print_apart(console, bad)
        if len(bad) < seen.run.tally.bad_documents:
            more = counted(seen.run.tally.bad_documents - len(bad), "more document")
            console.print(
                f"{more} not readable: mukret survey says why", soft_wrap=True
            )
        # That a rule finds nothing can only be said at the end of the input.
        if seen.complete and self.notices:
            print_notices(seen.notices())

    def _print_table(self, seen: PreviewRun, name: str, console: Console) -> None:
        console.print(_title(name, seen.run.tally.tables[name], complete=seen.complete))
        rows = seen.rows.get(name, ())
        view = RowsView(seen.rules.tables[name], rows, self.columns, console.width)
        view.print(console, wide=self.wide)
        if seen.choice.condition is not None:
            met = _met(seen.preview.met[name], complete=seen.complete)
            console.print(f"      [dim]{met}[/]")
        print_apart(console, seen.apart.get(name, []))
        for line in _hidden_lines(seen.rules.tables[name], seen.hidden_rejects(name)):
            console.print(f"  {line}", soft_wrap=True, markup=False)
        console.print()


def _title(name: str, counts: TableTally, *, complete: bool) -> str:
    parts = [f"{counts.rows_written:,} rows" if counts.rows_written != 1 else "1 row"]
    if counts.rows_rejected:
        parts.append(f"[yellow]{counts.rows_rejected:,} rejected[/yellow]")
    if counts.rows_filtered:
        parts.append(f"{counts.rows_filtered:,} filtered")
    if counts.rows_deduplicated:
        parts.append(f"{counts.rows_deduplicated:,} deduplicated")
    # Counts of the beginning look like those of all of it.
    more = "" if complete else " [dim]so far: only the beginning was read[/dim]"
    return f"[bold]{name}[/bold]  {', '.join(parts)}{more}"


def _met(count: int, *, complete: bool) -> str:
    """How many rows meet the condition."""
    so_far = "" if complete else " so far"
    if count > 1:
        return f"{count:,} rows meet the condition{so_far}"
    return f"{'one row' if count else 'no row'} meets the condition{so_far}"


def _hidden_lines(table: Table, hidden: HiddenRejects) -> list[str]:
    """Why rows were rejected, where not all of them are shown."""
    lines = []
    if hidden.count:
        rows = counted(hidden.count, "rejected row")
        lines.append(f"{rows} not shown; the reasons of all:")
        for reason in hidden.causes[:MOST_REASONS]:
            first = reason_lines(reason, WIDTH_OF_REASONS)[0]
            lines.append("  " + first.removeprefix(f"{table.name}."))
        if len(hidden.causes) > MOST_REASONS:
            lines.append(
                f"  … and {len(hidden.causes) - MOST_REASONS} more kinds of reasons"
            )
    if hidden.with_parents:
        # A table that recurses may be within none: its rows stand in rows of its own.
        above = table.within or table.name
        alone = hidden.with_parents == 1
        whole = (
            f"the row of {above} above it"
            if alone
            else f"the rows of {above} above them"
        )
        lines.append(f"{counted(hidden.with_parents, 'row')} rejected with {whole}")
    return lines


def print_next(seen: PreviewRun, rules: str, files: Sequence[str]) -> None:
    """What to type next: how the first rejected row came about, or the first of all."""
    if "-" in files:
        return
    rows = [(name, row) for name, rows in seen.rows.items() for row in rows]
    if not rows:
        return
    # A rejected row is why most people would go on.
    name, row = next(((name, row) for name, row in rows if row.reject), rows[0])
    question = (
        "why a row is rejected, field by field"
        if row.reject
        else "how a row came about"
    )
    click.echo(f"Next: {question}", err=True)
    choice = "--reject" if row.reject else "--nth"
    next_step("trace", rules, *files, "--table", name, choice, str(row.nth))


def print_as_json(seen: PreviewRun, columns: Sequence[str] | None) -> None:
    """Compact JSON with numbers digit for digit."""
    report: dict[str, JsonValue] = {"tables": {}}
    for name, rows in seen.rows.items():
        types = dict(seen.rules.tables[name].columns)
        shown = {column: types[column] for column in columns or types}
        # Rows with their outcome, as `extract` would write them or set them aside.
        report["tables"][name] = [_record(row, shown) for row in rows]
    if seen.choice.condition is not None:
        report["meeting"] = seen.preview.met.total()
    report["rejects"] = [reject.as_json() for reject in seen.rejects]
    click.echo(json_text(report))


def _record(row: SeenRow, types: dict[str, ValueType]) -> dict[str, JsonValue]:
    return {name: _json_value(row.values[name], kind) for name, kind in types.items()}


def _json_value(value: TypedValue, kind: ValueType) -> JsonValue:
    if value is None or isinstance(value, bool | int | str | list):
        return value
    text = kind.written(value)
    return Number(text) if isinstance(value, float | Decimal) else text
