"""`mukret extract`: the main job."""

from __future__ import annotations

import json
import logging
import sys
from functools import partial
from typing import TYPE_CHECKING

import click

from mukret.cli.delivering import (
    delivery_options,
    headline,
    refuse_twins,
    reject_limit,
    where_rejects_are,
)
from mukret.cli.destination import Typed, destination_for, refuse_nonsense
from mukret.cli.options import (
    examples,
    files_argument,
    json_option,
    loaded_rules,
    newest_option,
    newest_wanted,
    output_options,
    print_earlier,
    rules_argument,
    set_up_logging,
    sources_of,
)

if TYPE_CHECKING:
    from collections.abc import Iterator

    from mukret.engine.run import Run
    from mukret.errors import Notice


@click.command(
    "extract",
    short_help="Write clean tables: the main job.",
    epilog=examples(
        "mukret extract merrow-demo/merrow.rules.yaml merrow-demo/feed --to tables",
        (
            "mukret extract merrow-demo/merrow.rules.yaml merrow-demo/feed --to - --format json "
            "--nested --table ports"
        ),
    ),
)
@rules_argument
@files_argument
@delivery_options
@click.option(
    "--skip-seen",
    is_flag=True,
    help="Pass over inputs whose content is there already, with append and upsert.",
)
@click.option(
    "--workers",
    metavar="N",
    type=click.IntRange(1, 64),
    help="Threads to share the work; as many as there are cores if the input is large.",
)
@click.option(
    "--part",
    metavar="K/N",
    help="Only the Kth of N shares of the files, into a folder for `mukret merge`.",
)
@click.option(
    "--on", "engine", type=click.Choice(["spark"]), help="Let a cluster do the work: Apache Spark."
)
@click.option(
    "--master",
    metavar="URL",
    help="With --on spark: the cluster, as Spark calls it (local[4], spark://HOST:7077, yarn).",
)
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
    part: str | None,
    engine: str | None,
    master: str | None,
    max_rejects: str | None,
    strict: bool,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Extract the tables of RULES from every FILE (a file, a folder, a glob, or - for standard
    input).

    A folder gets one file per table (xlsx: one workbook), rejects.jsonl with every row that was set
    aside and why, and run.json with what was read and counted; beside CSV also csv-metadata.json
    with types and keys. A database gets the tables, mukret_rejects and mukret_runs. All of it
    appears at once or not at all.

    With --to - --table T one table goes to standard output; --to - --format json gives all tables
    as one object. Exit code 0: clean; 1: done, with rejects.
    """
    from mukret.errors import UsageError, if_interrupted

    if engine is not None:
        _refuse_beside(ctx, _ON_SPARK, "is for one machine, and Spark shares the work itself")
        from mukret.cli.on_spark import extract_on_spark

        set_up_logging(log, verbose)
        code = extract_on_spark(
            rules,
            files,
            target,
            form,
            master,
            max_rejects,
            newest=newest_wanted(ctx),
            strict=strict,
            as_json=as_json,
            quiet=quiet,
        )
        ctx.exit(code)
    if part is not None:
        _refuse_beside(
            ctx, _OF_A_PART, "goes with `mukret merge`, which writes the tables of all parts"
        )
        set_up_logging(log, verbose)
        ctx.exit(_extract_part(rules, files, part, target, workers, as_json=as_json, quiet=quiet))
    if master is not None:
        raise UsageError(
            "usage", "--master goes with --on spark", hint="add --on spark, or leave it out"
        )
    if target == "-" and as_json:
        raise UsageError(
            "usage",
            "--json and --to - both want standard output",
            hint="run.json of a folder has the same",
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

    limit = reject_limit(max_rejects)
    logger = set_up_logging(log, verbose)
    run = _run(rules, files, workers)
    destination = destination_for(typed, run.rules)
    if titles:
        refuse_twins(run.rules)
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


_REPORT = frozenset({"rules", "files", "target", "as_json", "quiet", "verbose", "log"})
_OF_A_PART = _REPORT | {"workers", "part"}
_ON_SPARK = _REPORT | {"engine", "master", "form", "max_rejects", "strict"}


def _refuse_beside(ctx: click.Context, fitting: frozenset[str], why: str) -> None:
    """Raises UsageError for options that were typed and don't go with another."""
    from mukret.errors import UsageError

    for option in ctx.command.params:
        name = option.name or ""
        given = ctx.get_parameter_source(name) is click.core.ParameterSource.COMMANDLINE
        if given and option.expose_value and name not in fitting:
            raise UsageError("usage", f"{option.opts[0]} {why}", hint="leave it out here")


def _extract_part(
    rules: str,
    files: tuple[str, ...],
    part: str,
    target: str,
    workers: int | None,
    *,
    as_json: bool,
    quiet: bool,
) -> int:
    """A share of the files, into a folder; gives the exit code."""
    from mukret.cli import console
    from mukret.cli.progress import progress_bar
    from mukret.engine.ahead import sensible
    from mukret.engine.run import Run
    from mukret.errors import UsageError
    from mukret.parts.shares import Share, asks_the_time, refuse_streams, refuse_what_looks_across
    from mukret.parts.writing import extract_part
    from mukret.text import counted

    share = Share.parse(part)
    if target == "-" or "://" in target:
        raise UsageError(
            "usage", "a part goes into a folder", hint="--to parts/3, and then mukret merge parts/*"
        )
    checked = loaded_rules(rules, files)
    refuse_what_looks_across(checked)
    everything = sources_of(files)
    refuse_streams(everything)
    own = [everything[number] for number in share.taken(everything)]
    if asks_the_time(checked) and not quiet:
        click.echo(
            "CURRENT_TIMESTAMP is the time of each part: parts extracted at other times differ in "
            "it",
            err=True,
        )
    run = Run(checked, own, workers=sensible(own) if workers is None else workers, settles=False)
    with progress_bar(own, quiet=quiet, told=partial(_so_far, run)) as run.progress:
        record = extract_part(run, share, everything, target)
    if as_json:
        click.echo(json.dumps(record, indent=2, ensure_ascii=False))
    elif not quiet:
        documents = sum(source.documents for source in own)
        click.echo(headline(documents, len(own), target), err=True)
        click.echo(
            f"part {share.number} of {share.of}, of {counted(len(everything), 'file')}", err=True
        )
        console.print_counts(run.tally)
        click.echo("which keys came before is settled by `mukret merge PART… --to DEST`", err=True)
    return 1 if run.tally.findings else 0


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
    click.echo(headline(documents, len(run.sources), target), err=True)
    if skipped:
        click.echo(f"{counted(skipped, 'file')} passed over: taken before", err=True)
    print_earlier(run.sources)
    if verbose:
        for source in run.sources:
            packed = f", {source.compression}" if source.compression else ""
            size = (
                f"{counted(source.documents, 'document')}, {counted(source.size, 'byte')}{packed}"
            )
            over = f", passed over {passed}" if (passed := source.passed_over.total()) else ""
            click.echo(f"  {escaped(source.name)}: {size}{over}", err=True)
        for line in _ways(run):
            click.echo(f"  {line}", err=True)
    console.print_counts(run.tally)
    parents = {name: table.within for name, table in run.rules.tables.items()}
    console.print_reasons(run.tally, where_rejects_are(target), parents)
    console.print_notices(notices)


def _ways(run: Run) -> Iterator[str]:
    """Which way the work was done, and why not a quicker one."""
    yield f"{run.workers} threads share the work" if run.workers > 1 else "one thread does the work"
    yield (
        "documents are scanned for what the rules read"
        if run.plan.scan
        else "documents are decoded in full"
    )
    long = run.plan.long
    if long.arrays:
        yield (
            "long documents are cut at the elements of "
            f"{', '.join(array.path for array in long.arrays)}"
        )
    for path, reason in long.whole.items():
        yield f"long documents are not cut at {path}: {reason}"
    for plan in run.plan.tables:
        yield f"{plan.table.name}: {', '.join(plan.slow) or 'scanned'}"


def _log(run: Run, notices: list[Notice], logger: logging.Logger) -> None:
    for name, table in run.tally.tables.items():
        logger.info("%s: %s", name, table.as_json())
    for reason in run.tally.reasons.values():
        logger.warning(
            "%d × %s %s %s: %s",
            reason.count,
            reason.table,
            reason.field,
            reason.code,
            reason.example.message,
        )
    for notice in notices:
        logger.warning("%s: %s", notice.code, notice.message)
