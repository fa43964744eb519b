"""What draws the report of a delivery; the extra `report` must be installed to import it."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING

import click

from mukret.delivered.contract import Delivered
from mukret.destinations.publish import rewrite
from mukret.report.as_json import report_as_json
from mukret.report.findings import weighed
from mukret.report.page import page
from mukret.report.plot import draw
from mukret.report.reading import Report, read_report
from mukret.report.words import VERDICTS, sentence

if TYPE_CHECKING:
    from mukret.cli.handlers.report import Request

MOST_FINDINGS = 3


def write_report(
    request: Request, delivered: Delivered, before: Delivered | None
) -> None:
    """Writes the page, prints the JSON, or both; `before` is an earlier delivery."""
    report = read_report(delivered, before)
    if request.out is not None:
        # Whole or not at all: a page may be open in a browser.
        rewrite(request.out, page(report))
    if request.as_json:
        click.echo(json.dumps(report_as_json(report), indent=2, ensure_ascii=False))
    elif not request.quiet:
        _print_verdict(report)
        click.echo(f"the page: {request.out}", err=True)


def _print_verdict(report: Report) -> None:
    verdict, findings = weighed(report)
    answer, _ = VERDICTS[verdict]
    click.echo(f"fit for use? {click.style(answer.lower(), bold=True)}", err=True)
    for finding in findings[:MOST_FINDINGS]:
        click.echo(f"  {sentence(finding)}", err=True)


def draw_column(delivered: Delivered, name: str, file: str, *, quiet: bool) -> None:
    """`name`: TABLE.COLUMN."""
    draw(delivered, name, file)
    if not quiet:
        click.echo(f"{name} → {file}", err=True)
