"""`mukret survey`: what is in responses."""

from __future__ import annotations

from dataclasses import dataclass

import click

from mukret.cli.handlers.request import Talk
from mukret.cli.views.progress import progress_bar
from mukret.cli.views.sources import print_earlier_answers
from mukret.cli.views.survey import print_addresses, print_survey
from mukret.documents import find_sources
from mukret.paths import parse_path
from mukret.survey import survey
from mukret.survey.addresses import addresses_at
from mukret.values import json_text


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret survey`."""

    files: tuple[str, ...]
    path: str | None
    whole: bool
    newest: bool
    as_json: bool


def handle(request: Request) -> int:
    logger = request.start_log()
    sources = find_sources(request.files, newest=request.newest)
    path = parse_path(request.path) if request.path is not None else None
    with progress_bar(sources, quiet=request.quiet) as progress:
        report = survey(sources, path, progress=progress)
    logger.info(
        "%d documents surveyed, %d not readable", report.documents, report.bad_documents
    )
    if request.as_json:
        click.echo(json_text(report.as_json()))
    else:
        details = request.verbose > 0
        print_survey(
            report,
            request.files,
            quiet=request.quiet,
            details=details,
            whole=request.whole,
        )
        if not request.quiet:
            print_earlier_answers(sources)
            urls = [
                source.origin.url
                for source in sources
                if source.origin and source.origin.url
            ]
            # Below a path there is only a part of what the service sent.
            if urls and path is None:
                print_addresses(addresses_at(report, urls), urls, request.files[0])
    return 1 if report.bad_documents or not report.roots else 0
