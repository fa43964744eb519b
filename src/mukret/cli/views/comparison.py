"""The differences between what two versions of the rules give, on the screen."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import click

from mukret.cli.views.screen import next_step
from mukret.inspect.comparing import Change, RulesComparison, TableChanges
from mukret.rules import Rules
from mukret.text import counted, escaped, shortened

LONGEST = 46
LONGEST_PLACE = 110


def print_comparison(comparison: RulesComparison, rules: Rules) -> None:
    """What is different; `rules` are the new ones."""
    for name in comparison.gone:
        click.echo(f"{click.style(name, bold=True)}  the table is gone")
    for name in comparison.come:
        click.echo(f"{click.style(name, bold=True)}  the table is new")
    same = []
    for name, changes in comparison.tables.items():
        if changes.any:
            # Rows that share the outcome of their parent are told with it, in a line.
            parent = rules.tables[name].within
            above = comparison.tables.get(parent or "")
            told_above = above is not None and above.row_outcomes
            _print_table(name, changes, parent if told_above else None)
        else:
            same.append(name)
    if same:
        click.echo(f"the same: {', '.join(same)}")
    bad = comparison.bad_documents
    unreadable = f", {bad:,} not readable (mukret survey says why)" if bad else ""
    click.echo(f"{counted(comparison.documents, 'document')} read by both{unreadable}")


def _print_table(name: str, changes: TableChanges, parent: str | None) -> None:
    """`parent`: the table above, if rows of that one have another outcome now, which those of this
    one share.
    """
    old, new = changes.written
    renamed = f" (renamed, was {changes.old_name})" if changes.old_name != name else ""
    click.echo(
        f"{click.style(name, bold=True)}{renamed}  {old:,} rows written, now {new:,}"
    )
    for line in _column_lines(changes):
        click.echo(f"  column {line}")
    if parent is not None and changes.row_outcomes:
        outcomes = (
            f"{was} → {becomes} {change.count:,}"
            for (was, becomes), change in changes.row_outcomes.items()
        )
        click.echo(f"  with {parent}: {', '.join(outcomes)}")
    # An example each: the first row says more than a count.
    if parent is None:
        for (was, becomes), change in changes.row_outcomes.items():
            what = f"rows {was or 'not there'} → {becomes or 'not there'}"
            _print_change(what, change, most=1, reasons=True)
    for column, change in changes.values.items():
        _print_change(column, change, most=3)


def _column_lines(changes: TableChanges) -> Iterator[str]:
    for column, old_name in changes.renamed.items():
        yield f"{column}: renamed, was {old_name}"
    for column, (before, after) in changes.columns.items():
        if after is None:
            yield f"{column}: gone (was {before})"
        elif before is None:
            yield f"{column}: new, {after}"
        else:
            yield f"{column}: {before}, now {after}"


def _print_change(
    what: str, change: Change, *, most: int, reasons: bool = False
) -> None:
    """`reasons`: the cases are rows with why they are rejected, and not values before and after."""
    click.echo(f"  {what}: {change.count:,}")
    for case in change.examples[:most]:
        place = case.place
        key = "  ".join(map("=".join, case.key.items()))
        # By its key a row is known to people, by its place to programs.
        if key and len(key) + len(place) <= LONGEST_PLACE:
            place = f"{key}  {place}"
        if case.old is None and case.new is None:
            click.secho(f"      {escaped(place)}", dim=True)
            continue
        pair = str(case.new) if reasons else f"{_shown(case.old)} → {_shown(case.new)}"
        click.echo(f"      {escaped(shortened(pair, 2 * LONGEST))}")
        click.secho(f"        {escaped(place)}", dim=True)


def _shown(text: str | None) -> str:
    return "null" if text is None else shortened(text, LONGEST) or '""'


def print_next(
    comparison: RulesComparison, old: str, new: str, files: Sequence[str]
) -> None:
    """How to see, for the first row that is different and has a key, how that came about."""
    # Standard input is over: what would be typed could not be run.
    if "-" in files:
        return
    for name, changes in comparison.tables.items():
        for rules, column, change in _traceable(changes, old, new):
            key = change.examples[0].key
            if key:
                pairs = [
                    part for pair in key.items() for part in ("--key", "=".join(pair))
                ]
                only = ["--field", column] if column else []
                click.echo("Next: how the first of these came about", err=True)
                next_step("trace", rules, *files, "--table", name, *pairs, *only)
                return


def _traceable(
    changes: TableChanges, old: str, new: str
) -> Iterator[tuple[str, str | None, Change]]:
    """Each change with the rules by which its rows can be traced, and its column if it has one."""
    for column, change in changes.values.items():
        yield new, column, change
    for (_, becomes), change in changes.row_outcomes.items():
        # Rows that are not there any more can be traced by the old rules alone.
        yield old if becomes is None else new, None, change
