"""`mukret report`: whether a delivery is fit for use, as a page."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from mukret.cli import completing
from mukret.cli.options import examples, json_option, output_options, set_up_logging
from mukret.cli.without_pandas import show_pandas

if TYPE_CHECKING:
    from mukret.delivered.contract import Delivered


@click.command(
    "report",
    short_help="Draw a page that says whether a delivery is fit for use.",
    epilog=examples(
        "mukret report merrow-demo/tables --out page.html",
        "mukret report merrow-demo/tables --plot sailings.departs_at departures.png",
    ),
)
@click.argument("delivery", metavar="DEST", shell_complete=completing.files)
@click.option(
    "--out",
    metavar="PAGE",
    shell_complete=completing.files,
    help="The page to write, one file of HTML.",
)
@click.option(
    "--against",
    metavar="DEST",
    shell_complete=completing.files,
    help="An earlier delivery: what grew, shrank and changed since.",
)
@click.option(
    "--plot",
    metavar="TABLE.COLUMN FILE",
    nargs=2,
    help="One picture instead of a page, of one column (png, svg or pdf).",
)
@json_option
@output_options
def command(
    delivery: str,
    out: str | None,
    against: str | None,
    plot: tuple[str, str] | None,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Read the delivery DEST (a folder that `extract` wrote, sqlite:///…, postgresql://…) and draw
    a page: fit for use or not, and why; where rows went; what each column holds; what was refused
    and never read; how tables join.

    The page is one file that asks for nothing, for a browser, a phone or paper. Large tables are
    read once, in bounded memory; pictures of them are of a sample, and say so.
    """
    from mukret.errors import UsageError

    set_up_logging(log, verbose)
    if plot is not None and (out is not None or against is not None or as_json):
        raise UsageError(
            "usage",
            "--plot draws one picture and nothing else",
            hint="leave out what goes with a page",
        )
    if out is None and plot is None and not as_json:
        hint = "--out page.html, --plot TABLE.COLUMN FILE.png, or --json"
        raise UsageError("usage", "a page, a picture or JSON?", hint=hint)
    show_pandas()  # what draws looks for it
    from mukret.delivered.opening import open_delivered

    delivered = open_delivered(delivery)
    before = None
    try:
        before = open_delivered(against) if against is not None else None
        if plot is not None:
            _draw(delivered, *plot, quiet=quiet)
        else:
            _write(delivered, before, out, as_json=as_json, quiet=quiet)
    finally:
        delivered.close()
        if before is not None:
            before.close()


def _write(
    delivered: Delivered, before: Delivered | None, out: str | None, *, as_json: bool, quiet: bool
) -> None:
    import json

    from mukret.destinations.publish import rewrite

    try:
        from mukret.report.as_json import report_as_json
        from mukret.report.findings import weighed
        from mukret.report.page import page
        from mukret.report.reading import read_report
        from mukret.report.words import VERDICTS, sentence
    except ImportError as error:
        raise _missing(error) from None
    report = read_report(delivered, before)
    if out is not None:
        rewrite(out, page(report))
    if as_json:
        click.echo(json.dumps(report_as_json(report), indent=2, ensure_ascii=False))
    elif not quiet:
        verdict, findings = weighed(report)
        answer, _ = VERDICTS[verdict]
        click.echo(f"fit for use? {click.style(answer.lower(), bold=True)}", err=True)
        for finding in findings[:3]:
            click.echo(f"  {sentence(finding)}", err=True)
        click.echo(f"the page: {out}", err=True)


def _draw(delivered: Delivered, name: str, file: str, *, quiet: bool) -> None:
    try:
        from mukret.report.plot import draw
    except ImportError as error:
        raise _missing(error) from None
    draw(delivered, name, file)
    if not quiet:
        click.echo(f"{name} → {file}", err=True)


def _missing(error: ImportError) -> Exception:
    from mukret.errors import UsageError

    hint = "pip install 'mukret[report]'"
    return UsageError(
        "missing-extra", f"pictures and pages need {error.name}, which is not installed", hint=hint
    )
