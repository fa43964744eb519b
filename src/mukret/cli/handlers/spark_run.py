"""A run on Spark, which must be installed where this module is imported."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from mukret.destinations.deliver import RejectLimit
from mukret.errors import if_interrupted
from mukret.rules import Rules
from mukret.spark.delivering import deliver
from mukret.spark.extracting import Extracted, extract_planned
from mukret.spark.jobs import cluster_errors
from mukret.spark.pieces import Input, find_inputs
from mukret.spark.planning import Planned, planned
from mukret.spark.remote import refuse_password
from mukret.spark.session import spark_session
from mukret.text import escaped
from mukret.values import JsonValue

if TYPE_CHECKING:
    from mukret.cli.handlers.extract import Request


@dataclass(frozen=True)
class SparkRun:
    """What was read, what came of it, and the record that was delivered with it."""

    plan: Planned
    extracted: Extracted
    record: dict[str, JsonValue]


def run_on_spark(request: Request, rules: Rules, limit: RejectLimit | None) -> SparkRun:
    """Extracts and delivers. Raises as `extract` does, and SparkError."""
    target = request.target
    # Before Spark starts, which takes seconds and writes its settings into logs.
    refuse_password(target)
    inputs = find_inputs(request.files, newest=request.newest)
    show_progress = sys.stderr.isatty() and not request.quiet
    started = spark_session(request.master, progress=show_progress)
    # Ctrl-C during a job leaves what was there: tables become visible with the record of the run.
    with if_interrupted("nothing was published"), started as spark, cluster_errors():
        plan = planned(spark, inputs)
        if not request.quiet:
            _print_what_differs(plan.in_one_go, target)
        extracted = extract_planned(spark, rules, plan)
        record = deliver(extracted, target, request.form or "parquet", limit)
    return SparkRun(plan, extracted, record)


def _print_what_differs(in_one_go: Sequence[Input], target: str) -> None:
    """What can't be the same as on one machine."""
    click.echo(
        "rows, rejects and counts are those of one machine; the order of rows in files is not "
        "promised",
        err=True,
    )
    # A compressed file has no places at which one could begin to read.
    for file in in_one_go:
        size = f"{file.size / 1e6:,.0f} MB"
        click.echo(
            f"{escaped(file.path)} is read by one task: {size} that can't be split",
            err=True,
        )
    # Object stores have no way to rename a folder in one step.
    if "://" in target:
        click.echo(
            f"{target} fills bit by bit: it is whole when run.json is there", err=True
        )
