"""`mukret trace`: how the values of one row came about."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mukret.cli import completing
from mukret.cli.console import next_step, readable
from mukret.cli.options import (
    examples,
    files_argument,
    json_option,
    known_table,
    loaded_rules,
    newest_option,
    output_options,
    rules_argument,
    set_up_logging,
    sources_of,
    where_option,
)

if TYPE_CHECKING:
    from mukret.inspect.picking import Picked, Wanted
    from mukret.inspect.tracing import Traced, TracedRow
    from mukret.rules import Rules
    from mukret.rules.model import Table


@click.command(
    "trace",
    short_help="Explain a row: from the response to each value.",
    epilog=examples(
        "mukret trace merrow-demo/merrow.rules.yaml merrow-demo/feed --table sailings --key "
        "sailing_no=1003",
        (
            "mukret trace merrow-demo/merrow.rules.yaml merrow-demo/feed --table bookings --nth 2 "
            "--field per_seat"
        ),
    ),
)
@rules_argument
@files_argument
@click.option(
    "--table",
    metavar="T",
    shell_complete=completing.tables,
    help="The table of the row, if there is more than one.",
)
@click.option(
    "--nth",
    metavar="N",
    type=click.IntRange(1),
    help="The Nth row that is written (or of those chosen).",
)
@click.option(
    "--key",
    "keys",
    metavar="FIELD=VALUE",
    multiple=True,
    shell_complete=completing.keys,
    help="Rows with this value; may be given again.",
)
@click.option("--where", metavar="SQL", help="Rows that meet this condition.")
@click.option(
    "--reject",
    metavar="N",
    type=click.IntRange(1),
    help="The Nth row of the table that is rejected.",
)
@click.option(
    "--field",
    metavar="F",
    shell_complete=completing.fields,
    help="This field alone, with all that it was made of.",
)
@newest_option
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    rules: str,
    files: tuple[str, ...],
    table: str | None,
    nth: int | None,
    keys: tuple[str, ...],
    where: str | None,
    reject: int | None,
    field: str | None,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Explain one row that RULES give for FILE... (or for the input of a run, if FILE is the folder
    that it wrote): where each value stood in the response, and each step from there to what is
    written.

    Exit code 1 if there is no such row.
    """
    from mukret.cli.progress import progress_bar
    from mukret.errors import UsageError
    from mukret.inspect.picking import pick, pick_answer
    from mukret.inspect.tracing import trace
    from mukret.semantics.fates import Fate
    from mukret.text import did_you_mean

    set_up_logging(log, verbose)
    checked = loaded_rules(rules, files)
    own = known_table(checked, table)
    table = own.name
    if reject is not None and (keys or where or nth):
        raise UsageError("usage", "--reject counts all rejected rows: it goes with no other choice")
    if field is not None and field not in own.types:
        raise UsageError(
            "usage", f"{table} has no field {field}", hint=did_you_mean(field, own.types)
        )
    sources = sources_of(_inputs(files))
    for source in sources:
        source.keep()
    wanted = _wanted(own, keys, where)
    fate = Fate.REJECTED if reject else None if keys or where else Fate.WRITTEN
    with progress_bar(sources, quiet=quiet) as progress:
        picked = pick(checked, sources, table, wanted, fate, reject or nth or 1, progress=progress)
    if picked is None:
        what = "is rejected" if reject else "is chosen so" if keys or where else "is written"
        count = (
            f"there are fewer than {reject or nth}"
            if (reject or nth or 1) > 1
            else f"no row of {table} {what}"
        )
        click.echo(
            count if quiet or reject else f"{count} (--reject 1 shows the first that was rejected)",
            err=True,
        )
        ctx.exit(1)
    found = trace(picked, field, lambda lookup, form: pick_answer(checked, sources, lookup, form))
    if as_json:
        from mukret.values import json_text

        click.echo(json_text(found.as_json()))
    else:
        _print(found)
        if not quiet and found.document == 1 and found.file in (source.path for source in sources):
            # of the first document, the first node with this path is the one
            click.echo("\nNext: the row as it stands in the response", err=True)
            next_step("look", found.file, _visible(checked, picked, found.path), "--nth", "1")


def _visible(rules: Rules, picked: Picked, path: str) -> str:
    """The path of a row, or of the text that it stands in: `look` shows a text that holds JSON as a
    text.
    """
    from mukret.paths import parse_path
    from mukret.paths.locate import location_text

    if not rules.embedded:
        return readable(path)
    document = picked.table.rows.batch.whole(picked.table.rows.document(picked.row))
    row = next((location for location, _ in parse_path(path).nodes(document)), ())
    texts = [location for one in rules.embedded for location, _ in one.path.nodes(document)]
    around = [location for location in texts if row[: len(location)] == location]
    return location_text(min(around, key=len)) if around else readable(path)


def _inputs(files: tuple[str, ...]) -> Sequence[str]:
    """The files, or those that a run read, of which this is the folder."""
    from mukret.destinations.publish import RUN_FILE
    from mukret.errors import InputError

    place = Path(files[0]) / RUN_FILE
    if len(files) > 1 or not place.is_file():
        return files
    try:
        return [one["file"] for one in json.loads(place.read_text(encoding="utf-8"))["inputs"]]
    except (ValueError, KeyError, TypeError):
        raise InputError(
            "not-opened", f"{place} is no record of a run", hint="name the responses themselves"
        ) from None


def _wanted(table: Table, keys: tuple[str, ...], where: str | None) -> Wanted:
    from mukret.errors import UsageError
    from mukret.inspect.picking import all_rows, meeting, with_values
    from mukret.text import did_you_mean

    if keys and where:
        raise UsageError(
            "usage",
            "--key and --where are two ways to say it",
            hint="a condition can name the key as well",
        )
    if where is not None:
        return meeting(where_option(table.types, where))
    if not keys:
        return all_rows
    values = {}
    for pair in keys:
        name, equals, value = pair.partition("=")
        if not equals or name not in table.types:
            hint = did_you_mean(name, table.types) or f"fields: {', '.join(table.types)}"
            raise UsageError(
                "usage", f"--key {pair}: FIELD=VALUE, a field of {table.name}", hint=hint
            )
        values[name] = value
    return with_values(table, values)


def _print(row: TracedRow) -> None:
    from mukret.text import escaped

    click.echo(f"{click.style(row.table, bold=True)}, a row that is {row.fate}")
    click.echo(escaped(f"at {row.path} in {row.file}, document {row.document}"))
    for problem in row.problems:
        click.secho(f"  {escaped(problem)}", fg="red")
    for one in row.fields:
        click.echo("")
        _print_field(one, 0)


def _print_field(one: Traced, depth: int) -> None:
    from mukret.text import escaped

    indent = "    " * depth
    value = click.style("null", dim=True) if one.value is None else escaped(one.value)
    click.echo(
        f"{indent}{click.style(one.name, bold=True)} {click.style(one.type, dim=True)}  {value}"
    )
    if one.problem:
        click.secho(f"{indent}    {escaped(one.problem)}", fg="red")
    for step in one.steps:
        click.echo(f"{indent}    {escaped(step)}")
    for inner in one.inner:
        _print_field(inner, depth + 1)
