"""`mukret extract … --on spark`: the work is done by a cluster."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from mukret.cli.delivering import headline, reject_limit
from mukret.cli.options import loaded_rules, print_earlier
from mukret.cli.without_pandas import show_pandas

if TYPE_CHECKING:
    from mukret.spark.pieces import Input

ELSEWHERE = ("csv", "jsonl", "json", "arrow", "xlsx")
"""Formats that are written by one machine."""


def extract_on_spark(
    rules: str,
    files: Sequence[str],
    target: str,
    form: str | None,
    master: str | None,
    max_rejects: str | None,
    *,
    newest: bool,
    strict: bool,
    as_json: bool,
    quiet: bool,
) -> int:
    """Gives the exit code."""
    from mukret.cli import console
    from mukret.errors import UsageError, if_interrupted
    from mukret.text import counted

    limit = reject_limit(max_rejects)
    _refuse_what_one_machine_writes(target, form)
    checked = loaded_rules(rules, files)
    show_pandas()  # Spark wants it
    try:
        from mukret.spark import delivering, extracting, jobs, pieces, planning, remote, session
    except ImportError as error:
        raise UsageError("missing-extra", str(error), hint="pip install 'mukret[spark]'") from None
    remote.refuse_password(target)
    inputs = pieces.find_inputs(files, newest=newest)
    started = session.spark_session(master, progress=sys.stderr.isatty() and not quiet)
    with if_interrupted("nothing was published"), started as spark, jobs.cluster_errors():
        plan = planning.planned(spark, inputs)
        if not quiet:
            _say_before(plan.in_one_go, target)
        found = extracting.extract_planned(spark, checked, plan)
        record = delivering.deliver(found, target, form or "parquet", limit)
    notices = found.notices()
    if as_json:
        click.echo(json.dumps(record, indent=2, ensure_ascii=False))
    elif not quiet:
        documents = sum(one["documents"] for one in record["inputs"])
        click.echo(headline(documents, len(plan.inputs), target), err=True)
        click.echo(f"on Spark, in {counted(len(plan.pieces), 'piece')}", err=True)
        print_earlier([one.source() for one in plan.inputs])
        console.print_counts(found.tally)
        parents = {name: table.within for name, table in checked.tables.items()}
        console.print_reasons(found.tally, f"{target.rstrip('/')}/rejects.jsonl", parents)
        console.print_notices(notices)
    clean = not found.tally.findings or limit is not None
    return 0 if clean and not (strict and notices) else 1


def _refuse_what_one_machine_writes(target: str, form: str | None) -> None:
    from mukret.destinations.postgresql import without_password
    from mukret.errors import UsageError

    hint = (
        "--to FOLDER, in parquet; or share the work by --part, and mukret merge writes it as "
        "you like"
    )
    if target == "-" or target.partition("://")[0] in ("sqlite", "postgresql", "postgres"):
        shown = without_password(target) if target.startswith("postgres") else target
        raise UsageError("not-supported", f"--on spark writes folders, not {shown}", hint=hint)
    if form in ELSEWHERE:
        message = f"--on spark writes parquet, or what else the cluster can write (orc), not {form}"
        raise UsageError("not-supported", message, hint=hint)


def _say_before(in_one_go: Sequence[Input], target: str) -> None:
    """What can't be the same as on one machine."""
    from mukret.text import escaped

    click.echo(
        "rows, rejects and counts are those of one machine; the order of rows in files is not "
        "promised",
        err=True,
    )
    for one in in_one_go:
        size = f"{one.size / 1e6:,.0f} MB"
        click.echo(f"{escaped(one.path)} is read by one task: {size} that can't be split", err=True)
    if "://" in target:
        click.echo(f"{target} fills bit by bit: it is whole when run.json is there", err=True)
