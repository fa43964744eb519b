"""`mukret survey`: every path, what stands there, how often, and what it looks like."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from mukret.cli.options import (
    examples,
    files_argument,
    json_option,
    newest_option,
    output_options,
    set_up_logging,
    sources_of,
)

if TYPE_CHECKING:
    from mukret.paths import Path


@click.command(
    "survey",
    short_help="Say what is in responses: paths, kinds, looks, surprises.",
    epilog=examples(
        "mukret survey merrow-demo/feed",
        "mukret survey merrow-demo/feed --path '$.network.ports[*].sailings[*]'",
    ),
)
@files_argument
@click.option("--path", metavar="PATH", help="Look only at what this JSONPath finds in each document.")
@newest_option
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    files: tuple[str, ...],
    path: str | None,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Survey every FILE (a file, a folder, a glob, or - for standard input): which lists hold the records, what each
    record has and how often, what the values look like, and what surprises.

    Reads everything once, in memory that does not grow with the number of documents. Writes nothing. Exit code 1 if a
    document could not be read, or if --path finds nothing.
    """
    from mukret.cli.progress import progress_bar
    from mukret.survey import survey

    logger = set_up_logging(log, verbose)
    sources = sources_of(files)
    with progress_bar(sources, quiet=quiet) as progress:
        report = survey(sources, _parsed(path), progress=progress)
    logger.info("%d documents surveyed, %d not readable", report.documents, report.bad_documents)
    if as_json:
        from mukret.values import json_text

        click.echo(json_text(report.as_json()))
    else:
        from mukret.cli.survey_view import print_survey

        print_survey(report, files, quiet=quiet, details=verbose > 0)
    ctx.exit(1 if report.bad_documents or not report.roots else 0)


def _parsed(path: str | None) -> Path | None:
    if path is None:
        return None
    from mukret.paths import parse_path

    return parse_path(path)
