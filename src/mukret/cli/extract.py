"""`mukret extract`: the main job."""

from __future__ import annotations

import json
import logging
import sys
from functools import partial
from typing import TYPE_CHECKING

import click

from mukret.cli import completing
from mukret.cli.destination import Typed, destination_for, refuse_nonsense
from mukret.cli.options import (
    examples,
    files_argument,
    json_option,
    loaded_rules,
    newest_option,
    output_options,
    print_earlier,
    rules_argument,
    set_up_logging,
    sources_of,
)

if TYPE_CHECKING:
    from collections.abc import Iterator

    from mukret.destinations.deliver import RejectLimit
    from mukret.engine.run import Run
    from mukret.errors import Notice
    from mukret.rules import Rules


@click.command(
    "extract",
    short_help="Write clean tables: the main job.",
    epilog=examples(
        "mukret extract merrow-demo/merrow.rules.yaml merrow-demo/feed --to tables",
        "mukret extract merrow-demo/merrow.rules.yaml merrow-demo/feed --to - --format json --nested --table ports",
    ),
)
@rules_argument
@files_argument
@click.option(
    "--to",
    "target",
    metavar="DEST",
    required=True,
    shell_complete=completing.files,
    help="A folder, sqlite:///FILE, postgresql://HOST/DATABASE, or - for standard output.",
)
@click.option(
    "--format",
    "form",
    metavar="FORMAT",
    shell_complete=completing.formats,
    help="Format of the tables: csv (if it is not said), jsonl, json, parquet, arrow, xlsx.",
)
@click.option(
    "--mode",
    type=click.Choice(["create", "replace", "append", "upsert"]),
    help="What becomes of tables that are there; if it is not said those that Mukret made are made anew.",
)
@click.option("--widen", is_flag=True, help="Add new columns to tables of a database, with append and upsert.")
@click.option(
    "--skip-seen", is_flag=True, help="Pass over inputs whose content is there already, with append and upsert."
)
@click.option(
    "--table",
    metavar="T",
    shell_complete=completing.tables,
    help="With --to -: the table to write, if there is more than one.",
)
@click.option("--titles", is_flag=True, help="Head the columns of csv and xlsx with the titles of the fields.")
@click.option("--nested", is_flag=True, help="Put tables within into their parents' records, in json and jsonl.")
@click.option("--indent", metavar="N", type=click.IntRange(1, 8), help="Indent json by N blanks a level.")
@click.option(
    "--formulas-as-text",
    is_flag=True,
    help="Put a ' before each text of csv that a spreadsheet would take for a formula.",
)
@click.option(
    "--workers",
    metavar="N",
    type=click.IntRange(1, 64),
    help="Threads to share the work; as many as there are cores if the input is large.",
)
@click.option("--max-rejects", metavar="N|P%", help="So many rejects are clean; with more nothing is published.")
@click.option("--strict", is_flag=True, help="Warnings are findings too (exit code 1).")
@newest_option
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    rules: str,
    files: tuple[str, ...],
    target: str,
    form: str | None,
    mode: str | None,
    widen: bool,
    skip_seen: bool,
    table: str | None,
    titles: bool,
    nested: bool,
    indent: int | None,
    formulas_as_text: bool,
    workers: int | None,
    max_rejects: str | None,
    strict: bool,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Extract the tables of RULES from every FILE (a file, a folder, a glob, or - for standard input).

    A folder gets one file per table (xlsx: one workbook), rejects.jsonl with every row that was set aside and why, and
    run.json with what was read and counted; beside CSV also csv-metadata.json with types and keys. A database gets the
    tables, mukret_rejects and mukret_runs. All of it appears at once or not at all.

    With --to - --table T one table goes to standard output; --to - --format json gives all tables as one object. Exit
    code 0: clean; 1: done, with rejects.
    """
    from mukret.errors import UsageError, if_interrupted

    if target == "-" and as_json:
        raise UsageError(
            "usage", "--json and --to - both want standard output", hint="run.json of a folder has the same"
        )
    if table is not None and target != "-":
        hint = f"--to - --table {table} writes one table to standard output; --to FOLDER writes all"
        raise UsageError("usage", "--table goes with --to -", hint=hint)
    from mukret.destinations.contract import Options

    options = Options(titles, nested, indent, formulas_as_text)
    typed = Typed(target, form, table, mode, widen, skip_seen)
    refuse_nonsense(typed, options)
    from mukret.cli.progress import progress_bar
    from mukret.destinations.deliver import deliver

    limit = _limit(max_rejects)
    logger = set_up_logging(log, verbose)
    run = _run(rules, files, workers)
    destination = destination_for(typed, run.rules)
    if titles:
        _refuse_twins(run.rules)
    try:
        mixed = target == "-" and sys.stdout.isatty()  # rows and a bar on one screen
        told = partial(_so_far, run)
        with progress_bar(run.sources, quiet=quiet or mixed, told=told) as run.progress:
            record = deliver(run, destination, limit, options, skip_seen=skip_seen)
    except Exception as error:
        logger.error("%s", error)
        raise
    with if_interrupted(destination.outcome):
        notices = run.notices()
        _log(run, notices, logger)
        if as_json:
            click.echo(json.dumps(record, indent=2, ensure_ascii=False))
        elif not quiet:
            _report(run, notices, target, len(record.get("skipped", [])), verbose=verbose > 0)
    found = run.tally.findings and limit is None  # a limit that was kept makes them clean
    ctx.exit(1 if found or (strict and notices) else 0)


def _refuse_twins(rules: Rules) -> None:
    """Columns of a table with the same title can't be told apart by it."""
    from mukret.errors import UsageError

    for table in rules.tables.values():
        by_title: dict[str, str] = {}
        for name, title in table.titles.items():
            other = by_title.setdefault(title, name)
            if other != name:
                message = f"{table.name}: {other} and {name} would both be headed {title!r}"
                raise UsageError("usage", message, hint="give one of them another title, or leave out --titles")


def _limit(text: str | None) -> RejectLimit | None:
    from mukret.destinations.deliver import RejectLimit
    from mukret.errors import UsageError

    if text is None:
        return None
    try:
        return RejectLimit.parse(text)
    except ValueError:
        raise UsageError("usage", f"--max-rejects can't be {text!r}", hint="a number (12) or a share (0.5%)") from None


def _run(rules: str, files: tuple[str, ...], workers: int | None) -> Run:

    checked = loaded_rules(rules, files)
    from mukret.engine.ahead import sensible
    from mukret.engine.run import Run

    sources = sources_of(files)
    return Run(checked, sources, workers=sensible(sources) if workers is None else workers)


def _so_far(run: Run) -> str:
    """What a run that goes on has come to."""
    return f"{run.tally.rows_seen:,} rows, {run.tally.findings:,} rejects"


def _report(run: Run, notices: list[Notice], target: str, skipped: int, *, verbose: bool) -> None:
    """Says what was done."""
    from mukret.cli import console
    from mukret.text import counted, escaped

    documents = sum(source.documents for source in run.sources)
    click.echo(_headline(documents, len(run.sources), target), err=True)
    if skipped:
        click.echo(f"{counted(skipped, 'file')} passed over: taken before", err=True)
    print_earlier(run.sources)
    if verbose:
        for source in run.sources:
            packed = f", {source.compression}" if source.compression else ""
            size = f"{counted(source.documents, 'document')}, {counted(source.size, 'byte')}{packed}"
            over = f", passed over {passed}" if (passed := source.passed_over.total()) else ""
            click.echo(f"  {escaped(source.name)}: {size}{over}", err=True)
        for line in _ways(run):
            click.echo(f"  {line}", err=True)
    console.print_counts(run.tally)
    parents = {name: table.within for name, table in run.rules.tables.items()}
    console.print_reasons(run.tally, _where(target), parents)
    console.print_notices(notices)


def _where(target: str) -> str | None:
    """Where the rejects are."""
    if target == "-":
        return None
    return f"mukret_rejects of {target}" if "://" in target else f"{target.rstrip('/')}/rejects.jsonl"


def _ways(run: Run) -> Iterator[str]:
    """Which way the work was done, and why not a quicker one."""
    yield f"{run.workers} threads share the work" if run.workers > 1 else "one thread does the work"
    yield "documents are scanned for what the rules read" if run.plan.scan else "documents are decoded in full"
    long = run.plan.long
    if long.arrays:
        yield f"long documents are cut at the elements of {', '.join(array.path for array in long.arrays)}"
    for path, reason in long.whole.items():
        yield f"long documents are not cut at {path}: {reason}"
    for plan in run.plan.tables:
        yield f"{plan.table.name}: {', '.join(plan.slow) or 'scanned'}"


def _headline(documents: int, files: int, target: str) -> str:
    from mukret.text import counted

    to = "standard output" if target == "-" else target if "://" in target else f"{target.rstrip('/')}/"
    return f"{counted(documents, 'document')} in {counted(files, 'file')} → {click.style(to, bold=True)}"


def _log(run: Run, notices: list[Notice], logger: logging.Logger) -> None:
    for name, table in run.tally.tables.items():
        logger.info("%s: %s", name, table.as_json())
    for reason in run.tally.reasons.values():
        logger.warning(
            "%d × %s %s %s: %s", reason.count, reason.table, reason.field, reason.code, reason.example.message
        )
    for notice in notices:
        logger.warning("%s: %s", notice.code, notice.message)
