"""What differs between two deliveries, on the screen."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import click

from mukret.cli.views.screen import next_step
from mukret.delivered.differences import (
    ChangedValue,
    ColumnChanges,
    Differences,
    Row,
    SampledRows,
    TableDifferences,
)
from mukret.destinations.publish import RUN_FILE
from mukret.text import counted, escaped, shortened

LONGEST = 46
LONGEST_ROW = 110
INDENT = " " * 6


def print_differences(differences: Differences) -> None:
    for name in differences.gone:
        click.echo(f"{click.style(name, bold=True)}  the table is gone")
    for name in differences.added:
        click.echo(f"{click.style(name, bold=True)}  the table is new")
    for name, table in differences.tables.items():
        # Tables that are the same are named in one line at the end.
        if table.any:
            _print_table(name, table)
            click.echo()
    same = [name for name, table in differences.tables.items() if not table.any]
    if same:
        click.echo(f"the same: {', '.join(same)}")


def _print_table(name: str, table: TableDifferences) -> None:
    before, after = table.rows
    click.echo(
        f"{click.style(name, bold=True)}  {counted(before, 'row')}, now {after:,}; "
        f"{_told_apart(table)}"
    )
    for line in _columns(table.columns):
        click.echo(f"  {line}")
    # Whole rows are shown with their keys; of changed ones the values alone.
    _print_rows("rows added", table.added, table.key)
    _print_rows("rows gone", table.gone, table.key)
    if table.changed_rows:
        click.echo(f"  rows changed: {table.changed_rows:,}")
    for field, changed in table.changed.items():
        click.echo(f"    {field}: {changed.count:,}")
        for value in changed.sample:
            _print_value(value)


def _told_apart(table: TableDifferences) -> str:
    if table.key:
        return f"told apart by {', '.join(table.key)}"
    if table.repeated:
        return f"whole rows, since the key {', '.join(table.repeated)} comes more than once"
    return "whole rows, since there is no key"


def _columns(columns: ColumnChanges) -> Iterator[str]:
    # The share is said, since it is a guess by what the values have in common.
    for name, renamed in columns.renamed.items():
        yield (
            f"column {name}: renamed, was {renamed.before} ({renamed.share:.0%} of the values "
            "are the same)"
        )
    for name, kind in columns.added.items():
        yield f"column {name}: new, {kind}"
    for name, kind in columns.gone.items():
        yield f"column {name}: gone (was {kind})"
    for name, (before, after) in columns.retyped.items():
        yield f"column {name}: {before}, now {after}"


def _print_rows(what: str, rows: SampledRows, key: tuple[str, ...]) -> None:
    if not rows.count:
        return
    click.echo(f"  {what}: {rows.count:,}")
    for row in rows.sample:
        first = {name: row[name] for name in key}
        click.echo(
            f"{INDENT}{escaped(shortened(_row(first | dict(row)), _width() - len(INDENT) - 2))}"
        )


def _print_value(value: ChangedValue) -> None:
    pair = escaped(f"{_cell(value.before)} → {_cell(value.after)}")
    room = _width() - len(INDENT) - len(pair)
    between = "   " if len(_row(value.key)) < room else f"\n{INDENT}  "
    row = click.style(escaped(shortened(_row(value.key), LONGEST_ROW)), dim=True)
    click.echo(f"{INDENT}{pair}{between}{row}")


def _width() -> int:
    """Columns of the terminal, as far as lines are still read with ease."""
    return min(LONGEST_ROW, shutil.get_terminal_size().columns)


def _row(row: Row) -> str:
    return "  ".join(f"{name}={_cell(text)}" for name, text in row.items())


def _cell(text: str | None) -> str:
    return "null" if text is None else shortened(text, LONGEST) or '""'


def print_next(differences: Differences, new: str) -> None:
    """How to see where the first changed value came from, if the later delivery says by which rules
    it was made.
    """
    record = Path(new) / RUN_FILE
    # A database: its record names the rules, too, but a trace wants a folder.
    if not record.is_file():
        return
    rules = json.loads(record.read_bytes())["rules"]["file"]
    for name, table in differences.tables.items():
        for field, changed in table.changed.items():
            key = changed.sample[0].key
            pairs = [
                part
                for column, text in key.items()
                for part in ("--key", f"{column}={text}")
            ]
            click.echo("Next: where the first of these values came from", err=True)
            next_step("trace", rules, new, "--table", name, *pairs, "--field", field)
            return
