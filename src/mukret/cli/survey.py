"""`mukret survey`: every path, what stands there, how often, and what it looks like."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from mukret.cli.console import next_step
from mukret.cli.options import (
    examples,
    files_argument,
    json_option,
    newest_option,
    output_options,
    print_earlier,
    set_up_logging,
    sources_of,
)
from mukret.text import escaped, shortened

if TYPE_CHECKING:
    from collections.abc import Sequence

    from mukret.documents import Source
    from mukret.paths import Path
    from mukret.survey.report import SurveyReport

MOST_ADDRESSES = 8


@click.command(
    "survey",
    short_help="Say what is in responses: paths, kinds, looks, surprises.",
    epilog=examples(
        "mukret survey merrow-demo/feed",
        "mukret survey merrow-demo/feed --path '$.network.ports[*].sailings[*]'",
    ),
)
@files_argument
@click.option(
    "--path", metavar="PATH", help="Look only at what this JSONPath finds in each document."
)
@click.option(
    "--whole", is_flag=True, help="Show every place and every surprise, however many there are."
)
@newest_option
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    files: tuple[str, ...],
    path: str | None,
    whole: bool,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Survey every FILE (a file, a folder, a glob, or - for standard input): which lists hold the
    records, what each record has and how often, what the values look like, and what surprises.

    Reads everything once, in memory that does not grow with the number of documents. Writes
    nothing. Exit code 1 if a document could not be read, or if --path finds nothing.
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

        print_survey(report, files, quiet=quiet, details=verbose > 0, whole=whole)
        if not quiet:
            print_earlier(sources)
            _print_addresses(report, sources, files)
    ctx.exit(1 if report.bad_documents or not report.roots else 0)


def _print_addresses(report: SurveyReport, sources: Sequence[Source], files: Sequence[str]) -> None:
    """Says which places lead on at the service that the documents came from, and what to type."""
    from mukret.survey.addresses import addresses_at

    urls = [source.origin.url for source in sources if source.origin and source.origin.url]
    places = addresses_at(report, urls) if urls and report.path is None else []
    if not places:
        return
    click.echo("\nAddresses at the same service, to be asked for as well:", err=True)
    for place in places[:MOST_ADDRESSES]:
        click.echo(f"  {escaped(place.path)}: {shortened(escaped(place.example))}", err=True)
    if len(places) > MOST_ADDRESSES:
        click.echo(f"  … and {len(places) - MOST_ADDRESSES} more places", err=True)
    url = urls[0] if len(set(urls)) == 1 else "URL"
    next_step("collect", url, "--follow", places[0].path, "--to", files[0])


def _parsed(path: str | None) -> Path | None:
    if path is None:
        return None
    from mukret.paths import parse_path

    return parse_path(path)
