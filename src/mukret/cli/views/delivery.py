"""What is printed when a delivery is done."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence

import click

from mukret.cli.views.counts import print_counts, print_reasons
from mukret.cli.views.problems import print_notices
from mukret.cli.views.sources import print_earlier_answers
from mukret.documents import Source
from mukret.engine.run import Run
from mukret.errors import Notice
from mukret.rules import Rules
from mukret.semantics.tally import Tally
from mukret.text import counted, escaped


def headline(documents: int, files: int, target: str) -> str:
    """`12 documents in 3 files → tables/`"""
    read = f"{counted(documents, 'document')} in {counted(files, 'file')}"
    return f"{read} → {click.style(_shown_target(target), bold=True)}"


def _shown_target(target: str) -> str:
    if target == "-":
        return "standard output"
    return target if "://" in target else f"{target.rstrip('/')}/"


def where_rejects_are(target: str) -> str | None:
    """The file or table in which all rejects of a delivery stand; None if there is none."""
    if target == "-":
        return None
    if "://" in target:
        return f"mukret_rejects of {target}"
    return f"{target.rstrip('/')}/rejects.jsonl"


def print_outcome(
    tally: Tally, rules: Rules, notices: Sequence[Notice], rejects: str | None
) -> None:
    """Counts, reasons of rejects and warnings; `rejects` is where all of them stand."""
    print_counts(tally)
    parents = {name: table.within for name, table in rules.tables.items()}
    print_reasons(tally, rejects, parents)
    print_notices(notices)


def print_run(
    run: Run, notices: Sequence[Notice], target: str, *, skipped: int, verbose: bool
) -> None:
    """What a run read, and what came of it; `skipped` files had been taken before."""
    documents = sum(source.documents for source in run.sources)
    click.echo(headline(documents, len(run.sources), target), err=True)
    if skipped:
        click.echo(f"{counted(skipped, 'file')} passed over: taken before", err=True)
    # Before the counts: it explains why there are more rows than somebody expects.
    print_earlier_answers(run.sources)
    if verbose:
        for line in (*map(_source_line, run.sources), *_plan_lines(run)):
            click.echo(f"  {line}", err=True)
    print_outcome(run.tally, run.rules, notices, where_rejects_are(target))


def _source_line(source: Source) -> str:
    documents, size = (
        counted(source.documents, "document"),
        counted(source.size, "byte"),
    )
    packed = f", {source.compression}" if source.compression else ""
    passed = source.passed_over.total()
    over = f", passed over {passed}" if passed else ""
    return f"{escaped(source.name)}: {documents}, {size}{packed}{over}"


def _plan_lines(run: Run) -> Iterator[str]:
    """How the work was done, and why not in a faster way."""
    yield (
        f"{run.workers} threads share the work"
        if run.workers > 1
        else "one thread does the work"
    )
    if run.plan.scan:
        yield "documents are scanned for what the rules read"
    else:
        yield "documents are decoded in full"
    long = run.plan.long
    if long.arrays:
        arrays = ", ".join(array.path for array in long.arrays)
        yield f"long documents are cut at the elements of {arrays}"
    # What can't be cut is held in memory whole: worth knowing before a document of gigabytes.
    for path, reason in long.whole.items():
        yield f"long documents are not cut at {path}: {reason}"
    for plan in run.plan.tables:
        yield f"{plan.table.name}: {', '.join(plan.slow) or 'scanned'}"


def so_far(run: Run) -> str:
    """The counts of a run so far."""
    return f"{run.tally.rows_seen:,} rows, {run.tally.findings:,} rejects"


def log_outcome(
    tally: Tally, notices: Sequence[Notice], logger: logging.Logger
) -> None:
    for name, table in tally.tables.items():
        counts = (f"{key}={count}" for key, count in table.as_json().items())
        logger.info("%s: %s", name, " ".join(counts))
    # Each kind with its first case: all rejects are on record elsewhere.
    for reason in tally.reasons.values():
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
