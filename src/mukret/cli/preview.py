"""`mukret preview`: typed rows on the screen, rejected ones with their reasons."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from decimal import Decimal
from functools import partial
from random import Random
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from mukret.cli.options import (
    examples,
    files_argument,
    json_option,
    known_table,
    output_options,
    rules_argument,
    set_up_logging,
    where_option,
)

if TYPE_CHECKING:
    from mukret.engine.batch_tables import BatchTables
    from mukret.engine.picking import Condition
    from mukret.engine.rejects import Reject
    from mukret.engine.run import Run
    from mukret.engine.table_batch import TableBatch
    from mukret.rules import Rules
    from mukret.rules.model import Table
    from mukret.types import ValueType

MOST_REJECTS = 3
WIDEST_CELL = 60
NARROWEST_CELL = 22
NULL = "null"
SMALL_BATCH = 250_000
ENOUGH_BYTES = 2_000_000
"""Inputs up to this size are read to their end, so that the counts are those of the whole."""


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
@click.option("--table", metavar="T", help="Show this table alone.")
@click.option("--rows", metavar="N", type=click.IntRange(0), default=10, show_default=True, help="Rows of each table.")
@click.option("--sample", metavar="N", type=click.IntRange(1), help="N rows from anywhere in the input, not the first.")
@click.option(
    "--seed", metavar="S", type=int, default=0, show_default=True, help="The same seed takes the same sample."
)
@click.option("--where", metavar="SQL", help="Only rows that meet this condition; with --table.")
@click.option("--columns", metavar="A,B,…", help="Only these columns, in this order; with --table.")
@click.option("--wide", is_flag=True, help="Rows as records: the fields downwards.")
@click.option("--raw", is_flag=True, help="Below each value what stood in the response, where it is not the same.")
@click.option("--watch", "watched", is_flag=True, help="Again at every save of RULES, with what the save changed.")
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
    """Show the first rows that RULES give for FILE..., with their types, and what was rejected on the way.

    Reads no further than it has to, with --sample to the end. Writes nothing. Exit code 1 if a row that was read was
    rejected.
    """
    from mukret.documents import find_sources
    from mukret.errors import UsageError
    from mukret.rules import load_rules

    logger = set_up_logging(log, verbose)
    if table is None and (where or columns):
        raise UsageError("usage", "--where and --columns are about one table", hint="say which: --table T")
    if watched and (as_json or "-" in files):
        raise UsageError("usage", "--watch reads the files again and again, for a screen: no --json, no standard input")
    if raw and as_json:
        raise UsageError("usage", "--raw is for the screen: --json has no place for it")
    rejected = False

    def show() -> Rules:
        nonlocal rejected
        checked = load_rules(rules)
        own = known_table(checked, table) if table is not None else None
        names = [table] if table is not None else list(checked.tables)
        chosen = _columns(own, columns) if own and columns else None
        condition = where_option(dict(own.columns), where) if own and where else None
        from mukret.engine.run import Run

        run = Run(checked, find_sources(files), batch_bytes=SMALL_BATCH)
        take = Reservoir(sample, seed) if sample else First(rows)
        shown = [name for name in names if name in run.schemas]
        found, rejects, complete = _rows(run, shown, take, condition, raw=raw)
        if chosen:
            order = [*chosen, RAW] if raw else chosen
            found = {name: [{key: row[key] for key in order} for row in rows] for name, rows in found.items()}
        rejects = [reject for reject in rejects if reject.table in names or reject.table is None]
        rejected = bool(rejects)
        logger.info("%s: %d documents looked at", rules, run.tally.documents)
        if as_json:
            _print_json(checked, found, rejects)
        else:
            _print(run, names, found, rejects, complete, wide=wide)
            if complete and not quiet:
                from mukret.cli.console import print_notices

                print_notices(run.notices())
        return checked

    if not watched:
        show()
        ctx.exit(1 if rejected else 0)
    from mukret.cli.watch import watch

    watch(rules, show, lambda old, new: _print_changes(old, new, files))


def _print_changes(old: Rules, new: Rules, files: tuple[str, ...]) -> None:
    """What a save of the rules changed."""
    from mukret.cli.compare import print_comparison
    from mukret.documents import find_sources
    from mukret.engine.comparing import compare_rules

    click.secho("what the save changed", bold=True)
    print_comparison(compare_rules(old, new, find_sources(files)), new)


class First:
    """The first rows."""

    def __init__(self, wanted: int) -> None:
        self.wanted = wanted
        self.rows: dict[str, list[dict[str, Any]]] = {}

    def see(self, name: str, batch: Any, condition: Condition | None, raw: Raw | None) -> None:
        known = self.rows.setdefault(name, [])
        missing = self.wanted - len(known)
        if missing > 0:
            some = batch.slice(0, missing) if condition is None else batch
            rows = [(n, row) for n, row in enumerate(some.to_pylist()) if condition is None or condition(row)][:missing]
            known += [{**row, RAW: raw(number)} if raw else row for number, row in rows]

    @property
    def enough(self) -> bool:
        return all(len(rows) >= self.wanted for rows in self.rows.values())


class Reservoir:
    """So many rows out of all, each as likely as any other (Vitter's algorithm R)."""

    enough = False

    def __init__(self, wanted: int, seed: int) -> None:
        self.wanted = wanted
        self.draw = Random(seed)
        self.seen: Counter[str] = Counter()
        self.rows: dict[str, list[dict[str, Any]]] = {}

    def see(self, name: str, batch: Any, condition: Condition | None, raw: Raw | None) -> None:
        known = self.rows.setdefault(name, [])
        rows = batch.to_pylist() if condition else None
        for number in range(batch.num_rows):
            if condition and rows and not condition(rows[number]):
                continue
            self.seen[name] += 1
            place = len(known) if len(known) < self.wanted else self.draw.randrange(self.seen[name])
            if place < self.wanted:
                row = rows[number] if rows else batch.slice(number, 1).to_pylist()[0]
                known[place : place + 1] = [{**row, RAW: raw(number)} if raw else row]


Raw = Callable[[int], dict[str, str]]
"""What stood in the response for the fields of a row of a batch, by the row's number among those written."""
RAW = ""
"""Under this, which is no name of a field, a row holds it."""


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


def _rows(
    run: Run, names: list[str], take: First | Reservoir, condition: Condition | None, *, raw: bool
) -> tuple[dict[str, list[dict[str, Any]]], list[Reject], bool]:
    """Rows of each table and the rejects met on the way; whether all of the input was read."""
    take.rows = {name: [] for name in names}
    batches: list[BatchTables] = []
    if raw:
        run.observe = batches.append
    rejects: list[Reject] = []
    read = 0
    for output in run.batches():
        rejects += output.rejects
        for name in names:
            if name in output.tables:
                stood = partial(_stood, batches[-1].tables[name]) if raw else None
                take.see(name, output.tables[name], condition, stood)
        batches.clear()
        read += SMALL_BATCH
        if read >= ENOUGH_BYTES and take.enough:
            return take.rows, rejects, False
    return take.rows, rejects, True


def _stood(rows: TableBatch, number: int) -> dict[str, str]:
    """What stood in the response for each field that is read from it."""
    from mukret.engine.fates import Fate
    from mukret.engine.rejects import chosen_nodes
    from mukret.rules.model import At
    from mukret.values import shown_text

    row = [row for row in range(rows.count) if rows.fates[row] == Fate.WRITTEN][number]
    node = rows.locate(row)[1]
    found = {}
    for own in rows.table.fields:
        if isinstance(own.source, At):
            found[own.name] = ", ".join(shown_text(value) for _, value in chosen_nodes(own.source, node))
    return found


def _written(rules: Rules, name: str, row: dict[str, Any]) -> dict[str, str | None]:
    kinds = dict(rules.tables[name].columns)
    return {field: None if value is None else kinds[field].written(value) for field, value in row.items() if field}


def _print_json(rules: Rules, found: dict[str, list[dict[str, Any]]], rejects: list[Reject]) -> None:
    """Compact JSON with numbers digit for digit."""
    from mukret.values import json_text

    tables = {
        name: [{field: _json_value(value, text) for (field, value), text in _pairs(rules, name, row)} for row in rows]
        for name, rows in found.items()
    }
    click.echo(json_text({"tables": tables, "rejects": [reject.as_json() for reject in rejects]}))


def _pairs(rules: Rules, name: str, row: dict[str, Any]) -> Iterator[tuple[tuple[str, Any], str | None]]:
    return zip(row.items(), _written(rules, name, row).values(), strict=True)


def _json_value(value: Any, text: str | None) -> Any:
    from mukret.values import Number

    if value is None or isinstance(value, bool | int | str | list):
        return value
    return Number(text) if isinstance(value, float | Decimal) else text


def _print(
    run: Run,
    names: list[str],
    found: dict[str, list[dict[str, Any]]],
    rejects: list[Reject],
    complete: bool,
    *,
    wide: bool,
) -> None:
    from mukret.cli.console import screen

    console = screen()
    for name in names:
        table = run.rules.tables[name]
        counts = run.tally.tables[name]
        console.print(_title(name, counts, complete))
        if found.get(name):
            console.print(_grid(run.rules, table, found[name], 0 if wide else console.width, console.width))
        _print_rejects(console, [reject for reject in rejects if reject.table == name])
        console.print()
    _print_rejects(console, [reject for reject in rejects if reject.table is None])


def _title(name: str, counts: Any, complete: bool) -> str:
    parts = [f"{counts.rows_written:,} rows" if counts.rows_written != 1 else "1 row"]
    if counts.rows_rejected:
        parts.append(f"[yellow]{counts.rows_rejected:,} rejected[/yellow]")
    if counts.rows_filtered:
        parts.append(f"{counts.rows_filtered:,} filtered")
    more = "" if complete else " [dim]so far: only the beginning was read[/dim]"
    return f"[bold]{name}[/bold]  {', '.join(parts)}{more}"


def _grid(rules: Rules, table: Table, rows: list[dict[str, Any]], across: int, width: int) -> Any:
    """The rows as a grid; where they need more than `across`, one column per row and the fields downwards."""
    kinds = dict(table.columns)
    columns = [(name, kinds[name]) for name in rows[0] if name]
    cells = [
        [Cell(text, row.get(RAW, {}).get(name)) for name, text in _written(rules, table.name, row).items()]
        for row in rows
    ]
    heads = [(name, kind.name) for name, kind in columns]
    widths = [
        max(len(name), len(kind), *(min(WIDEST_CELL, row[index].width) for row in cells))
        for index, (name, kind) in enumerate(heads)
    ]
    return _across(columns, cells) if sum(widths) + 3 * len(widths) <= across else _down(heads, cells, width)


def _empty_grid() -> Any:
    from rich import box
    from rich.table import Table as Grid

    return Grid(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold", padding=(0, 1), show_edge=False)


class Cell(NamedTuple):
    """The text of a value, None for null, and what stood in the response, where that was asked for."""

    text: str | None
    raw: str | None

    @property
    def width(self) -> int:
        return max(len(_shown(self.text)), len(self.stood))

    @property
    def stood(self) -> str:
        return "" if self.raw is None or self.raw in (self.text, f'"{self.text}"') else self.raw


def _across(columns: list[tuple[str, ValueType]], cells: list[list[Cell]]) -> Any:
    from rich.markup import escape

    from mukret.types import DecimalType, Float, Integer

    grid = _empty_grid()
    for name, kind in columns:
        right = isinstance(kind, Integer | DecimalType | Float)
        grid.add_column(
            f"{name}\n[dim not bold]{escape(kind.name)}[/]",
            justify="right" if right else "left",
            no_wrap=True,
            max_width=WIDEST_CELL,
        )
    for row in cells:
        grid.add_row(*map(_marked, row))
    return grid


def _down(heads: list[tuple[str, str]], cells: list[list[Cell]], width: int) -> Any:
    from rich.markup import escape

    from mukret.text import counted

    grid = _empty_grid()
    grid.add_column("field", no_wrap=True)
    grid.add_column("type", no_wrap=True, style="dim", header_style="dim not bold")
    taken = sum(max(len(head[index]) for head in heads) + 2 for index in (0, 1))
    shown = max(1, min(len(cells), (width - taken) // (NARROWEST_CELL + 2)))
    each = max(NARROWEST_CELL, (width - taken) // shown - 2)
    for number in range(shown):
        grid.add_column(f"row {number + 1}", no_wrap=True, max_width=each)
    for index, (name, kind_name) in enumerate(heads):
        grid.add_row(name, escape(kind_name), *(_marked(row[index]) for row in cells[:shown]))
    if shown < len(cells):
        grid.caption = f"{counted(len(cells) - shown, 'more row')} not shown: a wider window, or --json, shows all"
    return grid


def _shown(text: str | None) -> str:
    from mukret.text import escaped

    return NULL if text is None else escaped(text)


def _marked(cell: Cell) -> str:
    """A cell in rich's markup: null is dim, which tells it from a text of these letters; so is what stood there."""
    from rich.markup import escape

    text = f"[dim]{NULL}[/dim]" if cell.text is None else escape(_shown(cell.text))
    return f"{text}\n[dim]{escape(cell.stood)}[/dim]" if cell.stood else text


def _print_rejects(console: Any, rejects: list[Reject]) -> None:
    """The first rejects in full; those that only went the way of the row above them are counted."""
    causes = [reject for reject in rejects if reject.problems[0].code != "parent-rejected"]
    for reject in causes[:MOST_REJECTS]:
        _print_reject(console, reject)
    if len(causes) > MOST_REJECTS:
        console.print(f"  [dim]… and {len(causes) - MOST_REJECTS} more rejected[/dim]")
    if len(causes) < len(rejects):
        console.print(f"  [yellow]rejected[/yellow] {len(rejects) - len(causes)} with the rows above them")


def _print_reject(console: Any, reject: Reject) -> None:
    from rich.markup import escape

    from mukret.cli.console import readable
    from mukret.text import escaped

    place = escaped(f"{reject.file}, document {reject.document}")
    path = escape(escaped(readable(reject.path) if reject.path else "document"))
    console.print(f"  [yellow]rejected[/yellow] {path}", soft_wrap=True)
    console.print(f"    [dim]in {escape(place)}[/dim]", soft_wrap=True)
    for problem in reject.problems:
        field = f"{problem.field}: " if problem.field else ""
        code = escape(f"[{problem.code}]")
        console.print(f"    {field}{escape(escaped(problem.message))} [dim]{code}[/dim]", soft_wrap=True)
