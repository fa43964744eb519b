"""`mukret collect`: asks a service for responses and keeps each as it came."""

from __future__ import annotations

import json
import logging
from dataclasses import dataclass

import click

from mukret.cli.handlers.collect_given import (
    Given,
    destinations,
    follow_also,
    size_of,
    with_constants,
)
from mukret.cli.handlers.inputs import loaded_rules
from mukret.cli.handlers.request import Talk
from mukret.cli.main import main
from mukret.cli.views.collect import CollectView, none_kept
from mukret.cli.views.collect_plan import print_plan
from mukret.cli.views.screen import next_step
from mukret.codes import Code
from mukret.collect import (
    Answer,
    Bounds,
    Calls,
    CaptureFolder,
    Collection,
    CollectionReport,
    Manner,
    write_calls,
)
from mukret.collect.masking import Masker
from mukret.errors import UsageError, if_interrupted
from mukret.values import JsonValue


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret collect`."""

    source: str
    targets: tuple[str, ...]
    headers: tuple[str, ...]
    query: tuple[str, ...]
    header_from: tuple[tuple[str, str], ...]
    query_from: tuple[tuple[str, str], ...]
    basic: tuple[str, str] | None
    bearer: str | None
    pages: str | None
    follow: tuple[str, ...]
    constants: tuple[str, ...]
    since_last: bool
    go_on: bool
    anew: bool
    dry_run: bool
    then: str | None
    timeout: float | None
    max_body: str
    max_time: float
    save_calls: str | None
    as_json: bool

    def calls(self) -> Calls:
        """The calls of the file, or those that an address and options stand for."""
        given = Given(
            self.headers,
            self.query,
            self.header_from,
            self.query_from,
            self.basic,
            self.bearer,
            self.pages,
        )
        # Options are made into the same calls that a file would hold, so that there is one way to
        # ask.
        return follow_also(
            with_constants(given.calls(self.source), self.constants), self.follow
        )

    def manner(self, calls: Calls) -> Manner:
        """How to collect: anew or going on, and the name by which a later run recognises this
        round.
        """
        if self.go_on and self.anew:
            raise UsageError(Code.USAGE, "--go-on and --anew exclude each other")
        if calls.by_hand:
            # Addresses may hold secrets, and the name of a round is kept.
            name = Masker().url(self.source)
        else:
            name = self.source.replace("\\", "/").rpartition("/")[2]
        return Manner(name, self.since_last, self.anew, self.go_on)


def handle(request: Request) -> int:
    logger = request.start_log()
    calls = request.calls()
    if request.dry_run:
        if request.save_calls is not None:
            write_calls(calls, request.save_calls)
        print_plan(calls, as_json=request.as_json)
        return 0
    target, tables = destinations(request.targets, request.then, request.source)
    if request.then is not None:
        loaded_rules(
            request.then
        )  # what is wrong with them is told before anything is asked
    timeout = request.timeout or calls.limits.timeout
    bounds = Bounds(size_of(request.max_body), request.max_time, timeout)
    folder = CaptureFolder(target)
    if request.save_calls is not None:
        write_calls(calls, request.save_calls)
    code = _collect(request, calls, folder, bounds, logger)
    if request.then is not None and tables is not None:
        code = max(code, _extract(request.then, target, tables, quiet=request.quiet))
    return code


def _collect(
    request: Request,
    calls: Calls,
    folder: CaptureFolder,
    bounds: Bounds,
    logger: logging.Logger,
) -> int:
    """Collects, prints what came, and gives the exit code."""
    view = CollectView(
        calls,
        str(folder.path),
        logger,
        quiet=request.quiet or request.as_json,
        verbose=request.verbose > 0,
    )
    manner = request.manner(calls)
    collection = Collection(calls, folder, bounds=bounds, manner=manner, watcher=view)
    outcome = f"what is whole stays in {folder.path}; the same command goes on there"
    with if_interrupted(outcome):
        try:
            answers = _answers(
                collection, view, keep_all=request.as_json or calls.by_hand
            )
        except Exception as error:
            # The log has the error, too; whoever reads it next morning has no terminal.
            logger.error("%s", error)
            view.print_report(collection.report, ended=False)
            raise
    report = collection.report
    if request.as_json:
        click.echo(json.dumps(_as_json(report, answers), indent=2, ensure_ascii=False))
    # Nothing was kept: an error says why, in the place of a report.
    _refuse_nothing(report, answers, folder)
    view.print_report(report, ended=True)
    view.print_next(
        folder, report, answers, request.save_calls, then=request.then is not None
    )
    return 1 if report.findings else 0


def _answers(
    collection: Collection, view: CollectView, *, keep_all: bool
) -> list[Answer]:
    """Shows each answer as it comes; gives all of them, or those alone that are no data: a service
    may have millions.
    """
    kept = []
    with view.progress(collection.report):
        for answer in collection:
            view.answered(answer)
            if keep_all or answer.problem:
                kept.append(answer)
    return kept


def _refuse_nothing(
    report: CollectionReport, answers: list[Answer], folder: CaptureFolder
) -> None:
    """Raises InputError where none of the answers is data."""
    apart = [answer for answer in answers if answer.problem and not answer.ends_list]
    if apart and not report.pages:
        raise none_kept(apart, str(folder.path))


def _as_json(report: CollectionReport, answers: list[Answer]) -> dict[str, JsonValue]:
    return {
        **report.as_json(),
        "answers": [answer.record(report.round) for answer in answers],
    }


def _extract(rules: str, target: str, tables: str, *, quiet: bool) -> int:
    """Runs `extract` on the newest answers, as it would be typed; gives its exit code."""
    arguments = ["extract", rules, target, "--newest", "--to", tables]
    if not quiet:
        click.echo(err=True)
        next_step(*arguments)
    typed = [*arguments, "--quiet"] if quiet else arguments
    # As a command of its own, which somebody will type the next day.
    code = main.main(typed, standalone_mode=False, prog_name="mukret")
    return code if isinstance(code, int) else 0
