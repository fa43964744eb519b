"""`mukret extract … --on spark`: the work is done by a cluster.

This module needs no Spark itself, so that what makes no sense is refused where there is none;
`spark_run` does.
"""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

import click

from mukret.cli.handlers.inputs import loaded_rules
from mukret.cli.views.delivery import headline, print_outcome
from mukret.cli.views.sources import print_earlier_answers
from mukret.cli.without_pandas import show_pandas
from mukret.codes import Code
from mukret.destinations.formats import FORMATS
from mukret.destinations.postgresql import without_password
from mukret.errors import UsageError
from mukret.text import counted

if TYPE_CHECKING:
    from mukret.cli.handlers.extract import Request

# Formats that are written by one machine.
ELSEWHERE = FORMATS.keys() - {"parquet"}
_HINT = (
    "--to FOLDER, in parquet; or share the work by --part, and mukret merge writes it as you "
    "like"
)


def extract_on_spark(request: Request) -> int:
    """Gives the exit code."""
    limit = request.reject_limit()
    _refuse_what_one_machine_writes(request.target, request.form)
    rules = loaded_rules(request.rules, request.files)
    show_pandas()  # Spark wants it
    try:
        from mukret.cli.handlers import spark_run
    except ImportError as error:
        raise UsageError(
            Code.MISSING_EXTRA, str(error), hint="pip install 'mukret[spark]'"
        ) from None
    done = spark_run.run_on_spark(request, rules, limit)
    notices = done.extracted.notices()
    if request.as_json:
        click.echo(json.dumps(done.record, indent=2, ensure_ascii=False))
    elif not request.quiet:
        documents = sum(file["documents"] for file in done.record["inputs"])
        click.echo(headline(documents, len(done.plan.inputs), request.target), err=True)
        click.echo(f"on Spark, in {counted(len(done.plan.pieces), 'piece')}", err=True)
        print_earlier_answers([file.source() for file in done.plan.inputs])
        rejects = f"{request.target.rstrip('/')}/rejects.jsonl"
        print_outcome(done.extracted.tally, rules, notices, rejects)
    findings = bool(done.extracted.tally.findings)
    return request.exit_code(findings=findings, warnings=bool(notices))


def _refuse_what_one_machine_writes(target: str, form: str | None) -> None:
    if target == "-" or target.partition("://")[0] in (
        "sqlite",
        "postgresql",
        "postgres",
    ):
        # The message stands in a terminal and in logs of a scheduler.
        shown = without_password(target) if target.startswith("postgres") else target
        raise UsageError(
            Code.NOT_SUPPORTED, f"--on spark writes folders, not {shown}", hint=_HINT
        )
    # Spark has no writer for these that gives the same bytes.
    if form in ELSEWHERE:
        message = f"--on spark writes parquet, or what else the cluster can write (orc), not {form}"
        raise UsageError(Code.NOT_SUPPORTED, message, hint=_HINT)
