"""`mukret report`: whether a delivery is fit for use, as a page."""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import examples, json_option, output_options


@click.command(
    "report",
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
@handled
def command() -> None:
    """Read the delivery DEST (a folder that `extract` wrote, sqlite:///…, postgresql://…) and draw
    a page: fit for use or not, and why; where rows went; what each column holds; what was refused
    and never read; how tables join.

    The page is one file that asks for nothing, for a browser, a phone or paper. Large tables are
    read once, in bounded memory; pictures of them are of a sample, and say so.
    """
