"""`mukret preview`: typed rows on the screen, rejected ones with their reasons."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from functools import partial
from typing import TYPE_CHECKING, Any

import click

from mukret.cli import completing
from mukret.cli.console import next_step
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
    from mukret.engine.run import Output, Run
    from mukret.inspect.picking import Wanted
    from mukret.inspect.previewing import Preview, SeenRow
    from mukret.rules import Rules
    from mukret.rules.model import Table
    from mukret.semantics.rejects import Reject

MOST_APART = 3
MOST_REASONS = 4
SMALL_BATCH = 500_000
ENOUGH_BYTES = 2_000_000
"""Inputs up to this size are read to their end, so that the counts are those of the whole."""
MOST_BYTES = 20_000_000
"""So far rows are looked for of tables that have few or none."""
MOST_WATCHED = 4_000_000
"""So much of the input is read at every save, as far as there is time between two."""


@click.command(
    "preview",
    short_help="Show the first typed rows, and the rejected ones with reasons.",
    epilog=examples(
        "mukret preview merrow-demo/merrow.rules.yaml merrow-demo/feed --table sailings",
        "mukret preview merrow-demo/merrow.rules.yaml merrow-demo/feed --rows 3",
    ),
)
@rules_argument
@files_argument
@click.option(
    "--table", metavar="T", shell_complete=completing.tables, help="Show this table alone."
)
@click.option(
    "--rows",
    metavar="N",
    type=click.IntRange(0),
    default=10,
    show_default=True,
    help="Rows of each table.",
)
@click.option(
    "--sample",
    metavar="N",
    type=click.IntRange(1),
    help="N rows from anywhere in the input, not the first.",
)
@click.option(
    "--seed",
    metavar="S",
    type=int,
    default=0,
    show_default=True,
    help="The same seed takes the same sample.",
)
@click.option("--where", metavar="SQL", help="Only rows of a table that meet this condition.")
@click.option(
    "--columns",
    metavar="A,B,…",
    shell_complete=completing.listed_fields,
    help="Only these columns of a table, in this order.",
)
@click.option("--wide", is_flag=True, help="Rows as records: the fields downwards.")
@click.option(
    "--raw",
    is_flag=True,
    help="Below each value what stood in the response, where it is not the same.",
)
@click.option(
    "--watch",
    "watched",
    is_flag=True,
    help="Again at every save of RULES, with what the save changed.",
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
    rows: int,
    sample: int | None,
    seed: int,
    where: str | None,
    columns: str | None,
    wide: bool,
    raw: bool,
    watched: bool,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Show the first rows that RULES give for FILE..., with their types, rejected ones in place
    with their reasons.

    Reads the beginning of the input alone (20 MB at the most); with --where as far as it has to,
    with --sample, or with
    --where and --rows 0, which counts, to the end. Writes nothing. Exit code 1 if a row that was
    read was rejected.
    """
    from mukret.cli.progress import progress_bar
    from mukret.errors import UsageError

    logger = set_up_logging(log, verbose)
    if watched and (as_json or "-" in files):
        raise UsageError(
            "usage",
            "--watch reads the files again and again, for a screen: no --json, no standard input",
        )
    if raw and as_json:
        raise UsageError("usage", "--raw is for the screen: --json has no place for it")
    asked = Asked(
        rules, files, table, rows, sample, seed, where, columns, wide=wide, raw=raw, quiet=quiet
    )
    if watched:
        from mukret.cli.watch import watch

        watch(rules, asked.begin_watched, _show_changed)
        return
    seen = asked.begin(rejected=not as_json)
    with progress_bar(seen.run.sources, quiet=quiet or as_json) as seen.run.progress:
        seen.go_on()
    logger.info("%s: %d documents looked at", rules, seen.run.tally.documents)
    if as_json:
        _print_json(seen)
    else:
        seen.print()
        if not quiet:
            _print_next(seen, rules, files)
    ctx.exit(1 if seen.findings else 0)


@dataclass(frozen=True)
class Asked:
    """What was typed."""

    rules: str
    files: tuple[str, ...]
    table: str | None
    rows: int
    sample: int | None
    seed: int
    where: str | None
    columns: str | None
    wide: bool
    raw: bool
    quiet: bool

    def begin_watched(self) -> Seen:
        """Reads the rules anew, for a part of the input that can be read at every save."""
        return self.begin(rejected=True, most=MOST_WATCHED)

    def begin(self, *, rejected: bool, most: int | None = None) -> Seen:
        """Reads the rules; of the input, nothing so far.

        `rejected`: rejected rows stand among the others. `most`: after so many bytes the input is
        taken to end, and all that is read is kept.
        """
        from mukret.engine.run import Run
        from mukret.inspect.previewing import Anywhere, First, Preview

        rules = loaded_rules(self.rules, self.files)
        one = self.table is not None or self.where is not None or self.columns is not None
        own = known_table(rules, self.table) if one else None
        names = [own.name] if own else list(rules.tables)
        columns = _columns(own, self.columns) if own and self.columns else None
        wanted = self.wanted(own)
        choice = (
            partial(Anywhere, self.sample, self.seed) if self.sample else partial(First, self.rows)
        )
        shown = [name for name in names if rules.tables[name].columns]
        keep = most is not None
        preview = Preview(
            shown, choice, wanted=wanted, stood=self.raw, rejected=rejected, keep=keep
        )
        sources = sources_of(self.files)
        run = Run(rules, sources, batch_bytes=SMALL_BATCH, most_bytes=most, observer=preview.look)
        return Seen(self, run, preview, names, columns, run.batches())

    def wanted(self, table: Table | None) -> Wanted:
        from mukret.inspect.picking import all_rows, meeting

        return (
            meeting(where_option(dict(table.columns), self.where))
            if table and self.where
            else all_rows
        )


@dataclass
class Seen:
    """What was found so far.

    `rejects`: all, where rejected rows are not among the others; `apart`: by table, the first of
    those that are no row of one.
    """

    asked: Asked
    run: Run
    preview: Preview
    names: list[str]
    columns: list[str] | None
    outputs: Iterator[Output]
    rejects: list[Reject] = field(default_factory=list)
    apart: dict[str | None, list[Reject]] = field(default_factory=dict)
    size: int = 0
    finished: bool = False
    """Whether nothing is left to read."""

    def go_on(self, until: float = math.inf) -> None:
        """Reads until there is enough, or until this time of the monotonic clock; one batch at
        least.
        """
        for output in self.outputs:
            if not self.preview.rejected:
                self.rejects += (
                    reject for reject in output.rejects if reject.table in (None, *self.names)
                )
            for reject in output.rejects:
                if reject.table is None or reject.rows is not None:
                    apart = self.apart.setdefault(reject.table, [])
                    apart += [reject] * (len(apart) < MOST_APART)
            self.size += output.size
            if self.enough or time.monotonic() >= until:
                return
        self.finished = True

    @property
    def enough(self) -> bool:
        """Whether all rows are found that are to be shown, or those that are missing are not at the
        beginning.
        """
        counting = self.asked.where is not None and self.asked.rows == 0
        if self.preview.keep or self.size < ENOUGH_BYTES or counting:
            return False
        anywhere = self.asked.where is not None or self.asked.sample is not None
        return self.preview.enough or (self.size >= MOST_BYTES and not anywhere)

    @property
    def complete(self) -> bool:
        """Whether all of the input was read."""
        return self.finished and not self.run.cut_short

    @property
    def rules(self) -> Rules:
        return self.run.rules

    @property
    def findings(self) -> bool:
        tables = self.run.tally.tables
        return any(tables[name].rows_rejected for name in self.names) or bool(
            self.run.tally.bad_documents
        )

    def print(self) -> None:
        from mukret.cli.console import print_notices, screen
        from mukret.cli.rows_view import RowsView, print_apart
        from mukret.rules.model import RESPONSE
        from mukret.text import counted

        console = screen()
        rows = self.preview.rows
        for name in self.names:
            console.print(_title(name, self.run.tally.tables[name], self.complete))
            view = RowsView(
                self.run.rules.tables[name], rows.get(name, ()), self.columns, console.width
            )
            view.print(console, wide=self.asked.wide)
            if self.asked.where is not None:
                console.print(f"      [dim]{self.meeting(name)}[/]")
            apart = self.apart.get(name, [])
            print_apart(console, apart)
            for line in self.others(name, rows.get(name, ()), apart):
                console.print(f"  {line}", soft_wrap=True, markup=False)
            console.print()
        bad = self.apart.get(None, [])
        print_apart(console, bad)
        if len(bad) < self.run.tally.bad_documents:
            more = counted(self.run.tally.bad_documents - len(bad), "more document")
            console.print(f"{more} not readable: mukret survey says why", soft_wrap=True)
        if self.complete and not self.asked.quiet:
            print_notices(
                [one for one in self.run.notices() if one.table in (None, RESPONSE, *self.names)]
            )

    def meeting(self, name: str) -> str:
        """How many rows meet the condition."""
        met = self.preview.met[name]
        many = f"{met:,} rows meet" if met > 1 else "one row meets" if met else "no row meets"
        return f"{many} the condition{'' if self.complete else ' so far'}"

    def others(self, name: str, rows: Sequence[SeenRow], apart: Sequence[Reject]) -> list[str]:
        """Why rows were rejected, where not all of them are shown."""
        from mukret.cli.console import reason_lines
        from mukret.semantics.rejects import PARENT_REJECTED
        from mukret.text import counted

        reasons = [reason for reason in self.run.tally.reasons.values() if reason.table == name]
        along = sum(reason.count for reason in reasons if reason.code == PARENT_REJECTED)
        causes = sorted(
            (one for one in reasons if one.code != PARENT_REJECTED), key=lambda one: -one.count
        )
        all_rejected = self.run.tally.tables[name].rows_rejected - along
        shown = sum(row.reject is not None for row in rows) + sum(
            reject.rows or 0 for reject in apart
        )
        lines = []
        if shown < all_rejected:
            lines.append(
                f"{counted(all_rejected - shown, 'rejected row')} not shown; the reasons of all:"
            )
            lines += [
                f"  {reason_lines(reason, 100)[0].removeprefix(f'{name}.')}"
                for reason in causes[:MOST_REASONS]
            ]
            if len(causes) > MOST_REASONS:
                lines.append(f"  … and {len(causes) - MOST_REASONS} more kinds of reasons")
        if along:
            above = (
                self.run.rules.tables[name].within or name
            )  # a table that recurses may be within none
            whole = (
                f"the row of {above} above it" if along == 1 else f"the rows of {above} above them"
            )
            lines.append(f"{counted(along, 'row')} rejected with {whole}")
        return lines


def _columns(table: Table, text: str) -> list[str]:
    from mukret.errors import UsageError
    from mukret.text import did_you_mean

    known = dict(table.columns)
    names = [name.strip() for name in text.split(",") if name.strip()]
    for name in names:
        if name not in known:
            hint = did_you_mean(name, known) or f"columns: {', '.join(known)}"
            raise UsageError("usage", f"{table.name} has no column {name}", hint=hint)
    return names


def _title(name: str, counts: Any, complete: bool) -> str:
    parts = [f"{counts.rows_written:,} rows" if counts.rows_written != 1 else "1 row"]
    if counts.rows_rejected:
        parts.append(f"[yellow]{counts.rows_rejected:,} rejected[/yellow]")
    if counts.rows_filtered:
        parts.append(f"{counts.rows_filtered:,} filtered")
    if counts.rows_deduplicated:
        parts.append(f"{counts.rows_deduplicated:,} deduplicated")
    more = "" if complete else " [dim]so far: only the beginning was read[/dim]"
    return f"[bold]{name}[/bold]  {', '.join(parts)}{more}"


def _print_next(seen: Seen, rules: str, files: Sequence[str]) -> None:
    """What to type next: how the first rejected row came about, or the first of all."""
    if "-" in files:
        return
    rows = [(name, row) for name, rows in seen.preview.rows.items() for row in rows]
    chosen = next(((name, row) for name, row in rows if row.reject), rows[0] if rows else None)
    if chosen is None:
        return
    name, row = chosen
    question = "why a row is rejected, field by field" if row.reject else "how a row came about"
    click.echo(f"Next: {question}", err=True)
    next_step(
        "trace", rules, *files, "--table", name, "--reject" if row.reject else "--nth", str(row.nth)
    )


def _show_changed(new: Seen, old: Seen | None) -> None:
    """The rows, and what a save of the rules changed, as far as the input was read under both."""
    from mukret.cli.compare import print_comparison
    from mukret.inspect.comparing import Comparing, same_parts

    new.print()
    if old is None:
        return
    click.secho("what the save changed", bold=True)
    if not same_parts(old.run, new.run):
        click.echo(
            "the input was cut in other places: mukret compare OLD NEW FILE... says what changed"
        )
        return
    comparing = Comparing(old.rules, new.rules)
    for before, after in zip(old.preview.kept, new.preview.kept, strict=False):
        comparing.see(before, after)
    print_comparison(comparing.found, new.rules)
    if new.run.cut_short:
        click.secho(f"after {MOST_WATCHED // 1_000_000} MB reading stopped", dim=True)


def _print_json(seen: Seen) -> None:
    """Compact JSON with numbers digit for digit."""
    from mukret.values import json_text

    tables = {}
    for name, rows in seen.preview.rows.items():
        kinds = dict(seen.run.rules.tables[name].columns)
        tables[name] = [
            {
                field: _json_value(row.values[field], kinds[field].written)
                for field in seen.columns or kinds
            }
            for row in rows
        ]
    met = {"meeting": seen.preview.met.total()} if seen.asked.where is not None else {}
    click.echo(
        json_text(
            {"tables": tables, **met, "rejects": [reject.as_json() for reject in seen.rejects]}
        )
    )


def _json_value(value: Any, written: Any) -> Any:
    from mukret.values import Number

    if value is None or isinstance(value, bool | int | str | list):
        return value
    text = written(value)
    return Number(text) if isinstance(value, float | Decimal) else text
