"""`mukret trace`: how the values of one row came about."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import click

from mukret.cli.handlers.conditions import typed_condition
from mukret.cli.handlers.inputs import known_table, loaded_rules
from mukret.cli.handlers.request import Talk
from mukret.cli.views.progress import progress_bar
from mukret.cli.views.screen import next_step, readable
from mukret.cli.views.trace import print_row
from mukret.codes import Code
from mukret.destinations.publish import RUN_FILE
from mukret.documents import Source, find_sources
from mukret.errors import InputError, UsageError
from mukret.inspect.picking import (
    Picked,
    RowFilter,
    all_rows,
    meeting,
    pick,
    pick_answer,
    with_values,
)
from mukret.inspect.tracing import trace
from mukret.paths import parse_path
from mukret.paths.locate import location_text
from mukret.rules import Rules
from mukret.rules.model import Table
from mukret.semantics.outcomes import RowOutcome
from mukret.text import did_you_mean
from mukret.values import json_text


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret trace`."""

    rules: str
    files: tuple[str, ...]
    table: str | None
    nth: int | None
    keys: tuple[str, ...]
    where: str | None
    reject: int | None
    field: str | None
    newest: bool
    as_json: bool

    @property
    def number(self) -> int:
        """The number of the row among those that are chosen, from 1."""
        return self.reject or self.nth or 1

    @property
    def outcome(self) -> RowOutcome | None:
        """The outcome of the rows that are counted; None: any."""
        if self.reject:
            return RowOutcome.REJECTED
        return None if self.keys or self.where else RowOutcome.WRITTEN


def handle(request: Request) -> int:
    request.start_log()
    rules = loaded_rules(request.rules, request.files)
    table = known_table(rules, request.table)
    _refuse_nonsense(request, table)
    sources = find_sources(_inputs(request.files), newest=request.newest)
    for source in sources:
        source.keep()
    wanted = _wanted(table, request.keys, request.where)
    with progress_bar(sources, quiet=request.quiet) as progress:
        picked = pick(
            rules,
            sources,
            table.name,
            wanted,
            request.outcome,
            request.number,
            progress=progress,
        )
    if picked is None:
        click.echo(_no_such_row(request, table.name), err=True)
        return 1
    row = trace(
        picked,
        request.field,
        lambda lookup, form: pick_answer(rules, sources, lookup, form),
    )
    if request.as_json:
        click.echo(json_text(row.as_json()))
        return 0
    print_row(row)
    # Of the first document the first node with this path is the row; of others it may not be.
    if not request.quiet and row.document == 1 and _is_a_file(row.file, sources):
        click.echo("\nNext: the row as it stands in the response", err=True)
        next_step("look", row.file, _visible(rules, picked, row.path), "--nth", "1")
    return 0


def _refuse_nonsense(request: Request, table: Table) -> None:
    """Raises UsageError."""
    # Rejected rows have no key that could be relied on.
    if request.reject is not None and (request.keys or request.where or request.nth):
        raise UsageError(
            Code.USAGE,
            "--reject counts all rejected rows: it goes with no other choice",
        )
    if request.field is not None and request.field not in table.types:
        hint = did_you_mean(request.field, table.types)
        raise UsageError(
            Code.USAGE, f"{table.name} has no field {request.field}", hint=hint
        )


def _no_such_row(request: Request, table: str) -> str:
    if request.number > 1:
        message = f"there are fewer than {request.number}"
    elif request.reject:
        message = f"no row of {table} is rejected"
    elif request.keys or request.where:
        message = f"no row of {table} is chosen so"
    else:
        message = f"no row of {table} is written"
    # Most often the row was rejected, and is looked for among those that were written.
    if request.quiet or request.reject:
        return message
    return f"{message} (--reject 1 shows the first that was rejected)"


def _is_a_file(name: str, sources: Sequence[Source]) -> bool:
    """Whether a source is a file of its own, which `look` can be given."""
    return any(source.path == name for source in sources)


def _visible(rules: Rules, picked: Picked, path: str) -> str:
    """The path of a row, or of the text that it stands in: `look` shows a text that holds JSON as a
    text.
    """
    if not rules.embedded:
        return readable(path)
    document = picked.table.rows.batch.whole(picked.table.rows.document(picked.row))
    row = next((location for location, _ in parse_path(path).nodes(document)), ())
    # The outermost text: within it everything is text to `look`.
    around = [
        location
        for embedded in rules.embedded
        for location, _ in embedded.path.nodes(document)
        if row[: len(location)] == location
    ]
    return location_text(min(around, key=len)) if around else readable(path)


def _inputs(files: tuple[str, ...]) -> Sequence[str]:
    """The files, or those that a run read, of which this is the folder. Raises InputError."""
    place = Path(files[0]) / RUN_FILE
    # A folder of responses that happens to hold none of our records.
    if len(files) > 1 or not place.is_file():
        return files
    try:
        record = json.loads(place.read_text(encoding="utf-8"))
        return [told["file"] for told in record["inputs"]]
    except (ValueError, KeyError, TypeError):
        message = f"{place} is no record of a run"
        raise InputError(
            Code.NOT_OPENED, message, hint="name the responses themselves"
        ) from None


def _wanted(table: Table, keys: tuple[str, ...], where: str | None) -> RowFilter:
    """Which rows are chosen. Raises UsageError."""
    if keys and where:
        hint = "a condition can name the key as well"
        raise UsageError(
            Code.USAGE, "--key and --where are two ways to say it", hint=hint
        )
    if where is not None:
        return meeting(typed_condition(table.types, where))
    if not keys:
        return all_rows
    # Texts as they are written: what was typed comes from a table.
    return with_values(table, dict(_typed_pair(pair, table) for pair in keys))


def _typed_pair(pair: str, table: Table) -> tuple[str, str]:
    name, equals, value = pair.partition("=")
    if not equals or name not in table.types:
        hint = did_you_mean(name, table.types) or f"fields: {', '.join(table.types)}"
        message = f"--key {pair}: FIELD=VALUE, a field of {table.name}"
        raise UsageError(Code.USAGE, message, hint=hint)
    return name, value
