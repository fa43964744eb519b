"""`mukret extract`: the main job, by this machine, as a part of several, or by a cluster."""

from __future__ import annotations

import json
import logging
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial

import click

from mukret.cli.handlers.delivering import DeliveryRequest
from mukret.cli.handlers.inputs import loaded_rules
from mukret.cli.views.delivery import log_outcome, print_run, so_far
from mukret.cli.views.part import print_part, warn_of_the_time
from mukret.cli.views.progress import progress_bar
from mukret.codes import Code
from mukret.destinations.deliver import deliver
from mukret.documents import Source, find_sources
from mukret.engine.ahead import sensible
from mukret.engine.run import Run
from mukret.errors import UsageError, if_interrupted
from mukret.parts.shares import (
    Share,
    asks_the_time,
    refuse_streams,
    refuse_what_looks_across,
)
from mukret.parts.writing import extract_part

_REPORT = frozenset(
    {"rules", "files", "newest", "target", "as_json", "quiet", "verbose", "log"}
)
_OF_A_PART = _REPORT | {"workers", "part"}
_ON_SPARK = _REPORT | {"engine", "master", "form", "max_rejects", "strict"}


@dataclass(frozen=True, kw_only=True)
class Request(DeliveryRequest):
    """What was typed after `mukret extract`."""

    rules: str
    files: tuple[str, ...]
    workers: int | None
    part: str | None
    engine: str | None
    master: str | None
    newest: bool

    def threads(self, sources: Sequence[Source]) -> int:
        return sensible(sources) if self.workers is None else self.workers


def handle(request: Request) -> int:
    if request.engine is not None:
        return _extract_on_spark(request)
    if request.part is not None:
        return _extract_part(request, request.part)
    return _extract(request)


def _extract(request: Request) -> int:
    _refuse_nonsense(request)
    request.refuse_nonsense()
    limit = request.reject_limit()
    logger = request.start_log()
    rules = loaded_rules(request.rules, request.files)
    sources = find_sources(request.files, newest=request.newest)
    run = Run(rules, sources, workers=request.threads(sources))
    destination = request.destination(rules)
    # Rows and a bar on one screen would be in each other's way.
    no_bar = request.quiet or (request.is_stream and sys.stdout.isatty())
    with (
        _errors_logged(logger),
        progress_bar(sources, no_bar, partial(so_far, run)) as progress,
    ):
        run.progress = progress
        record = deliver(
            run, destination, limit, request.options, skip_seen=request.skip_seen
        )
    with if_interrupted(destination.outcome):
        notices = run.notices()
        log_outcome(run.tally, notices, logger)
        if request.as_json:
            click.echo(json.dumps(record, indent=2, ensure_ascii=False))
        elif not request.quiet:
            skipped = len(record.get("skipped", []))
            print_run(
                run,
                notices,
                request.target,
                skipped=skipped,
                verbose=request.verbose > 0,
            )
    return request.exit_code(findings=bool(run.tally.findings), warnings=bool(notices))


@contextmanager
def _errors_logged(logger: logging.Logger) -> Iterator[None]:
    """Errors go on, and stand in the log too."""
    try:
        yield
    except Exception as error:
        logger.error("%s", error)
        raise


def _refuse_nonsense(request: Request) -> None:
    """Raises UsageError."""
    if request.master is not None:
        hint = "add --on spark, or leave it out"
        raise UsageError(Code.USAGE, "--master goes with --on spark", hint=hint)
    # A program could not tell the tables from the record of the run.
    if request.is_stream and request.as_json:
        hint = "run.json of a folder has the same"
        raise UsageError(
            Code.USAGE, "--json and --to - both want standard output", hint=hint
        )
    if request.table is not None and not request.is_stream:
        to_stream = (
            f"--to - --table {request.table} writes one table to standard output"
        )
        raise UsageError(
            Code.USAGE,
            "--table goes with --to -",
            hint=f"{to_stream}; --to FOLDER writes all",
        )


def _refuse_beside(fitting: frozenset[str], why: str) -> None:
    """Raises UsageError for an option that was typed and is not one of those that fit."""
    # click knows what was typed, and what is only a default.
    context = click.get_current_context()
    for option in context.command.params:
        name = option.name or ""
        source = context.get_parameter_source(name)
        if source is click.core.ParameterSource.COMMANDLINE and name not in fitting:
            raise UsageError(
                Code.USAGE, f"{option.opts[0]} {why}", hint="leave it out here"
            )


def _extract_part(request: Request, part: str) -> int:
    """A share of the files, into a folder."""
    _refuse_beside(
        _OF_A_PART, "goes with `mukret merge`, which writes the tables of all parts"
    )
    request.start_log()
    share = Share.parse(part)
    if request.is_stream or request.is_database:
        hint = "--to parts/3, and then mukret merge parts/*"
        raise UsageError(Code.USAGE, "a part goes into a folder", hint=hint)
    rules = loaded_rules(request.rules, request.files)
    refuse_what_looks_across(rules)
    everything = find_sources(request.files, newest=request.newest)
    refuse_streams(everything)
    # By all files that there are, so that all machines share them alike.
    sources = [everything[number] for number in share.taken(everything)]
    # Each part asks a clock of its own, and the rows of one run would differ.
    if asks_the_time(rules) and not request.quiet:
        warn_of_the_time()
    run = Run(rules, sources, workers=request.threads(sources), resolves_keys=False)
    with progress_bar(sources, request.quiet, partial(so_far, run)) as progress:
        run.progress = progress
        record = extract_part(run, share, everything, request.target)
    if request.as_json:
        click.echo(json.dumps(record, indent=2, ensure_ascii=False))
    elif not request.quiet:
        print_part(run, share, len(everything), request.target)
    return 1 if run.tally.findings else 0


def _extract_on_spark(request: Request) -> int:
    """The work is done by a cluster."""
    _refuse_beside(_ON_SPARK, "is for one machine, and Spark shares the work itself")
    from mukret.cli.handlers import on_spark

    request.start_log()
    return on_spark.extract_on_spark(request)
