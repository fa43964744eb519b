"""`mukret collect`: ask a service for responses and keep each as it came."""

from __future__ import annotations

import json
import logging
from typing import TYPE_CHECKING

import click

from mukret.cli.options import examples, json_option, loaded_rules, output_options, set_up_logging

if TYPE_CHECKING:
    from mukret.collect import Answer, Bounds, Calls, CaptureFolder, Collection, Report


@click.command(
    "collect",
    short_help="Ask a service for responses, and keep each as it came.",
    epilog=examples(
        "mukret collect merrow-demo/service.calls.yaml --to kept",
        (
            "mukret collect http://127.0.0.1:8431/v2/ports --bearer FERRY_PASS --follow "
            "'$..sailings_url' --to kept"
        ),
        note="of the service that `mukret standin` starts",
    ),
)
@click.argument("source", metavar="URL|CALLS.yaml")
@click.option(
    "--to",
    "targets",
    metavar="DIR",
    multiple=True,
    help=("The folder that keeps the responses; with --then a second one is the tables' DEST."),
)
@click.option(
    "--header",
    "headers",
    metavar="'NAME: VALUE'",
    multiple=True,
    help="Send this header; may be repeated.",
)
@click.option(
    "--query",
    "query",
    metavar="NAME=VALUE",
    multiple=True,
    help="Add to the query; may be repeated.",
)
@click.option(
    "--header-from",
    metavar="NAME VARIABLE",
    nargs=2,
    multiple=True,
    help="A header whose value is in the environment.",
)
@click.option(
    "--query-from",
    metavar="NAME VARIABLE",
    nargs=2,
    multiple=True,
    help="A query member from the environment.",
)
@click.option(
    "--basic",
    metavar="VARIABLE VARIABLE",
    nargs=2,
    help="Sign in with user and password (RFC 7617).",
)
@click.option("--bearer", metavar="VARIABLE", help="Sign in with a token (RFC 6750).")
@click.option(
    "--pages",
    "pages",
    metavar="HOW",
    help=("How URL goes on, as a calls file has it: '{cursor: \"$.next_cursor\", as: cursor}' …"),
)
@click.option(
    "--follow",
    metavar="PATH",
    multiple=True,
    help="Ask also for addresses that stand there in answers, at the same service.",
)
@click.option(
    "--with",
    "constants",
    metavar="NAME=VALUE",
    multiple=True,
    help="The value of a variable of CALLS.yaml, instead of the one that stands there.",
)
@click.option(
    "--since-last",
    is_flag=True,
    help="Have only that sent which has changed (ETag, Last-Modified).",
)
@click.option(
    "--go-on",
    is_flag=True,
    help="Go on with the last round, though it ended: ask only for what is missing.",
)
@click.option(
    "--anew", is_flag=True, help="Begin a new round, though the last one was interrupted."
)
@click.option(
    "--dry-run", is_flag=True, help="Show what would be asked, secrets masked; send nothing."
)
@click.option(
    "--then", metavar="RULES", help="Extract what was collected by these rules, to a second --to."
)
@click.option(
    "--timeout",
    metavar="SECONDS",
    type=click.FloatRange(0.1),
    help="For connecting, and for each silence of the service; 30 if it is not said.",
)
@click.option(
    "--max-body",
    metavar="SIZE",
    default="1GB",
    show_default=True,
    help="No answer may be larger, unpacked: 500MB, 2GB …",
)
@click.option(
    "--max-time",
    metavar="SECONDS",
    type=click.FloatRange(0.1),
    default=3600.0,
    show_default=True,
    help="No answer may take longer as a whole.",
)
@click.option(
    "--save-calls",
    metavar="FILE",
    help="Write a calls file to go on from; secrets stay in the environment.",
)
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    source: str,
    targets: tuple[str, ...],
    headers: tuple[str, ...],
    query: tuple[str, ...],
    header_from: tuple[tuple[str, str], ...],
    query_from: tuple[tuple[str, str], ...],
    basic: tuple[str, str] | None,
    bearer: str | None,
    pages: str | None,
    follow: tuple[str, ...],
    constants: tuple[str, ...],
    since_last: bool,
    go_on: bool,
    anew: bool,
    dry_run: bool,
    then: str | None,
    timeout: float | None,
    max_body: str,
    max_time: float,
    save_calls: str | None,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Ask URL, or the calls of CALLS.yaml (page by page, and once per record of earlier answers),
    and keep every response byte for byte in DIR/pages, with a line in DIR/capture.jsonl about where
    it came from and when. DIR can then be given to any other command.

    VARIABLE is the name of an environment variable: secrets are never typed, printed or kept. What
    was interrupted goes on where it stopped when the same is typed again; after that, later answers
    stand beside earlier ones.

    An answer that is no data (its status is not 2xx, or its body is not JSON) is kept apart in
    DIR/apart. Exit code 0: all is kept; 1: some answers were kept apart, or a list did not come to
    its end; 3: none is data, or the service was not reached.
    """
    from mukret.cli.collect_given import Given, destinations, follow_also, size_of, with_constants
    from mukret.collect import Bounds, CaptureFolder, write_calls

    logger = set_up_logging(log, verbose)
    given = Given(headers, query, header_from, query_from, basic, bearer, pages)
    calls = follow_also(with_constants(given.calls(source), constants), follow)
    if dry_run:
        from mukret.cli.collect_plan import print_plan

        if save_calls is not None:
            write_calls(calls, save_calls)
        print_plan(calls, as_json=as_json)
        return
    target, tables = destinations(targets, then, source)
    if then is not None:
        loaded_rules(then)  # what is wrong with them is told before anything is asked
    bounds = Bounds(size_of(max_body), max_time, timeout or calls.limits.timeout)
    folder = CaptureFolder(target)
    if save_calls is not None:
        write_calls(calls, save_calls)
    how = _Run(calls, folder, bounds, source, logger, since_last=since_last, go_on=go_on, anew=anew)
    code = how.collect(
        save_calls, then=then is not None, quiet=quiet, as_json=as_json, verbose=verbose
    )
    if then is not None and tables is not None:
        code = max(code, _extracted(then, target, tables, quiet=quiet))
    ctx.exit(code)


class _Run:
    """One collection for the command line."""

    def __init__(
        self,
        calls: Calls,
        folder: CaptureFolder,
        bounds: Bounds,
        source: str,
        logger: logging.Logger,
        *,
        since_last: bool,
        go_on: bool,
        anew: bool,
    ) -> None:
        from mukret.collect import Manner
        from mukret.collect.masking import Masker
        from mukret.errors import UsageError

        if go_on and anew:
            raise UsageError("usage", "--go-on and --anew exclude each other")
        self.calls = calls
        self.folder = folder
        self.bounds = bounds
        self.logger = logger
        self.source = (
            Masker().url(source) if calls.by_hand else source.replace("\\", "/").rpartition("/")[2]
        )
        self.manner = Manner(self.source, since_last, anew, go_on)

    def collect(
        self, save_calls: str | None, *, then: bool, quiet: bool, as_json: bool, verbose: int
    ) -> int:
        """Collects, prints what came, and gives the exit code."""
        from mukret.cli.collect_view import View
        from mukret.collect import Collection
        from mukret.errors import if_interrupted

        view = View(
            self.calls,
            str(self.folder.path),
            self.logger,
            quiet=quiet or as_json,
            verbose=verbose > 0,
        )
        collection = Collection(
            self.calls, self.folder, bounds=self.bounds, manner=self.manner, watcher=view
        )
        outcome = f"what is whole stays in {self.folder.path}; the same command goes on there"
        answers: list[Answer] = []
        with if_interrupted(outcome):
            try:
                with view.progress(collection.report):
                    for answer in collection:
                        view.answered(answer)
                        if as_json or self.calls.by_hand or answer.problem:
                            answers.append(answer)
            except Exception as error:
                self.logger.error("%s", error)
                view.print_report(collection.report, ended=False)
                raise
        report = collection.report
        if as_json:
            click.echo(json.dumps(_as_json(report, answers), indent=2, ensure_ascii=False))
        self.refuse_nothing(collection, answers)
        view.print_report(report, ended=True)
        view.print_next(self.folder, report, answers, save_calls, then=then)
        return 1 if report.findings else 0

    def refuse_nothing(self, collection: Collection, answers: list[Answer]) -> None:
        """Raises InputError where none of the answers is data."""
        from mukret.cli.collect_view import none_kept

        apart = [answer for answer in answers if answer.problem and not answer.ends_list]
        if apart and not collection.report.pages:
            raise none_kept(apart, str(self.folder.path))


def _as_json(report: Report, answers: list[Answer]) -> dict[str, object]:
    return {**report.as_json(), "answers": [answer.record(report.round) for answer in answers]}


def _extracted(rules: str, target: str, tables: str, *, quiet: bool) -> int:
    """Runs `extract` on the newest answers, as it would be typed."""
    from mukret.cli.console import next_step
    from mukret.cli.main import main

    arguments = ["extract", rules, target, "--newest", "--to", tables]
    if not quiet:
        click.echo(err=True)
        next_step(*arguments)
    code = main.main(
        [*arguments, *(["--quiet"] if quiet else [])], standalone_mode=False, prog_name="mukret"
    )
    return code if isinstance(code, int) else 0
