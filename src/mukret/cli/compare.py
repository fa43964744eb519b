"""`mukret compare`: what differs between two deliveries, or between what two versions of the rules
give.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from mukret.cli import completing
from mukret.cli.console import next_step
from mukret.cli.options import (
    examples,
    json_option,
    loaded_rules,
    newest_option,
    output_options,
    set_up_logging,
    sources_of,
)

if TYPE_CHECKING:
    from mukret.inspect.comparing import Change, Comparison, TableChanges
    from mukret.rules import Rules
    from mukret.values import JsonValue

LONGEST = 46
LONGEST_PLACE = 110


@click.command(
    "compare",
    short_help="Say what differs between two deliveries, or by other rules.",
    epilog=examples(
        "mukret compare merrow-demo/tables sqlite:///ferries.db --ignore-fields "
        "generated_at,log.found_in",
        "mukret compare merrow-demo/merrow.rules.yaml new.rules.yaml merrow-demo/feed",
    ),
)
@click.argument("old", metavar="OLD", shell_complete=completing.files)
@click.argument("new", metavar="NEW", shell_complete=completing.files)
@click.argument("files", metavar="[FILE...]", nargs=-1, shell_complete=completing.files)
@click.option(
    "--ignore-fields",
    "ignored",
    metavar="A,B",
    shell_complete=completing.compared_fields,
    callback=lambda _, __, text: names_in(text),
    help="Fields that are not looked at: NAME, or TABLE.NAME for one table alone.",
)
@newest_option
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    old: str,
    new: str,
    files: tuple[str, ...],
    ignored: tuple[str, ...],
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Say what is different: in the delivery NEW beside the delivery OLD (folders that `extract`
    wrote, sqlite:///…, postgresql://…, of whatever kinds), or in what the rules NEW make of FILE...
    beside the rules OLD.

    Of deliveries: rows that came, went and changed, told apart by the key of their table (where it
    has none, whole rows are counted), and columns that came, went, have another type or another
    name. Of rules: rows that are written in one version only and why, and values that changed; rows
    are the same if they stand at one place of a response. Each is counted and shown by its first
    cases; numbers are compared by their value. Exit code 1 if anything is different.
    """
    set_up_logging(log, verbose)
    if files:
        found = _compare_rules(old, new, files, ignored, as_json=as_json, quiet=quiet)
    else:
        found = _compare_deliveries(old, new, ignored, as_json=as_json, quiet=quiet)
    ctx.exit(1 if found else 0)


def names_in(text: str | None) -> tuple[str, ...]:
    """Names that were typed with commas between them."""
    return tuple(name.strip() for name in (text or "").split(",") if name.strip())


def _compare_deliveries(
    old: str, new: str, ignored: tuple[str, ...], *, as_json: bool, quiet: bool
) -> bool:
    """Whether two deliveries differ; what differs is printed."""
    from contextlib import closing

    from mukret.delivered import open_delivered
    from mukret.delivered.comparing import compare_deliveries

    _refuse_rules(old, new)
    with closing(open_delivered(old)) as before, closing(open_delivered(new)) as after:
        found = compare_deliveries(before, after, ignored=ignored)
    if as_json:
        _print_json(found.as_json())
    elif not quiet:
        from mukret.cli.differences_view import print_differences, print_next

        print_differences(found)
        print_next(found, new)
    return found.any


def _refuse_rules(old: str, new: str) -> None:
    """Raises UsageError for rules without anything to run them over."""
    from mukret.cli.options import looks_like_rules
    from mukret.errors import UsageError

    rules = [one for one in (old, new) if looks_like_rules(one)]
    if len(rules) == 2:
        hint = f"mukret compare {old} {new} FILE…"
        raise UsageError(
            "usage", "two rules files are compared over responses, and none are named", hint=hint
        )
    if rules:
        hint = "name two deliveries, or two rules files and responses"
        raise UsageError("usage", f"{rules[0]} has rules, the other one is a delivery", hint=hint)


def _compare_rules(
    old: str,
    new: str,
    files: Sequence[str],
    ignored: tuple[str, ...],
    *,
    as_json: bool,
    quiet: bool,
) -> bool:
    """Whether two versions of the rules give different tables; what differs is printed."""
    from mukret.cli.progress import progress_bar
    from mukret.inspect.comparing import compare_rules

    before, after = loaded_rules(old, files), loaded_rules(new, files)
    sources = sources_of(files)
    for source in sources:
        source.keep()
    with progress_bar(sources, quiet=quiet) as progress:
        found = compare_rules(before, after, sources, ignored=ignored, progress=progress)
    if as_json:
        _print_json(found.as_json())
    elif not quiet:
        print_comparison(found, after)
        _print_next(found, old, new, files)
    return found.found


def _print_json(report: JsonValue) -> None:
    from mukret.values import json_text

    click.echo(json_text(report))


def _print_next(found: Comparison, old: str, new: str, files: Sequence[str]) -> None:
    """How to see, for the first row that is different and has a key, how that came about."""
    for name, changes in found.tables.items():
        rows: list[tuple[str | None, str | None, Change]] = [
            (None, now, one) for (_, now), one in changes.fates.items()
        ]
        values: list[tuple[str | None, str | None, Change]] = [
            (col, "", one) for col, one in changes.values.items()
        ]
        for column, is_now, change in [*values, *rows]:
            key = change.examples[0].key
            if key and "-" not in files:
                pairs = [part for pair in key.items() for part in ("--key", "=".join(pair))]
                only = ["--field", column] if column else []
                click.echo("Next: how the first of these came about", err=True)
                next_step(
                    "trace", old if is_now is None else new, *files, "--table", name, *pairs, *only
                )
                return


def print_comparison(found: Comparison, rules: Rules) -> None:
    """What is different; `rules` are the new ones."""
    from mukret.text import counted

    parents = {name: table.within for name, table in rules.tables.items()}
    for name in found.gone:
        click.echo(f"{click.style(name, bold=True)}  the table is gone")
    for name in found.come:
        click.echo(f"{click.style(name, bold=True)}  the table is new")
    for name, changes in found.tables.items():
        if changes.any:
            above = found.tables.get(parents[name] or "")
            _print_table(
                name, changes, along=parents[name] if above is not None and above.fates else None
            )
    same = [name for name, changes in found.tables.items() if not changes.any]
    if same:
        click.echo(f"the same: {', '.join(same)}")
    bad = (
        f", {found.bad_documents:,} not readable (mukret survey says why)"
        if found.bad_documents
        else ""
    )
    click.echo(f"{counted(found.documents, 'document')} read by both{bad}")


def _print_table(name: str, changes: TableChanges, *, along: str | None) -> None:
    """`along`: the table above, where rows of that have another fate now, which those of this one
    share.
    """
    old, new = changes.written
    renamed = f" (renamed, was {changes.old_name})" if changes.old_name != name else ""
    click.echo(f"{click.style(name, bold=True)}{renamed}  {old:,} rows written, now {new:,}")
    for column, old_name in changes.renamed.items():
        click.echo(f"  column {column}: renamed, was {old_name}")
    for column, (before, after) in changes.columns.items():
        what = (
            f"gone (was {before})"
            if after is None
            else f"new, {after}"
            if before is None
            else f"{before}, now {after}"
        )
        click.echo(f"  column {column}: {what}")
    if along is not None and changes.fates:
        fates = (
            f"{was} → {becomes} {change.count:,}"
            for (was, becomes), change in changes.fates.items()
        )
        click.echo(f"  with {along}: {', '.join(fates)}")
    for (was, becomes), change in changes.fates.items() if along is None else ():
        _print_change(
            f"rows {was or 'not there'} → {becomes or 'not there'}", change, most=1, reasons=True
        )
    for column, change in changes.values.items():
        _print_change(column, change, most=3)


def _print_change(what: str, change: Change, *, most: int, reasons: bool = False) -> None:
    """`reasons`: the cases are rows with why they are rejected, and not values before and after."""
    from mukret.text import escaped, shortened

    click.echo(f"  {what}: {change.count:,}")
    for case in change.examples[:most]:
        key = "  ".join(map("=".join, case.key.items()))
        place = (
            f"{key}  {case.place}"
            if key and len(key) + len(case.place) <= LONGEST_PLACE
            else case.place
        )
        if case.old is None and case.new is None:
            click.secho(f"      {escaped(place)}", dim=True)
            continue
        pair = str(case.new) if reasons else f"{_shown(case.old)} → {_shown(case.new)}"
        click.echo(f"      {escaped(shortened(pair, 2 * LONGEST))}")
        click.secho(f"        {escaped(place)}", dim=True)


def _shown(text: str | None) -> str:
    from mukret.text import shortened

    return "null" if text is None else shortened(text, LONGEST) or '""'
