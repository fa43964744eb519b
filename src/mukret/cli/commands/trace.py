"""`mukret trace`: how the values of one row came about."""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    files_argument,
    json_option,
    newest_option,
    output_options,
    rules_argument,
    table_option,
)


@click.command(
    "trace",
    epilog=examples(
        "mukret trace merrow-demo/merrow.rules.yaml merrow-demo/feed --table sailings --key "
        "sailing_no=1003",
        (
            "mukret trace merrow-demo/merrow.rules.yaml merrow-demo/feed --table bookings --nth 2 "
            "--field per_seat"
        ),
    ),
)
@rules_argument
@files_argument
@table_option("The table of the row, if there is more than one.")
@click.option(
    "--nth",
    metavar="N",
    type=click.IntRange(1),
    help="The Nth row that is written (or of those chosen).",
)
@click.option(
    "--key",
    "keys",
    metavar="FIELD=VALUE",
    multiple=True,
    shell_complete=completing.keys,
    help="Rows with this value; may be given again.",
)
@click.option("--where", metavar="SQL", help="Rows that meet this condition.")
@click.option(
    "--reject",
    metavar="N",
    type=click.IntRange(1),
    help="The Nth row of the table that is rejected.",
)
@click.option(
    "--field",
    metavar="F",
    shell_complete=completing.fields,
    help="This field alone, with all that it was made of.",
)
@newest_option
@json_option
@output_options
@handled
def command() -> None:
    """Explain one row that RULES give for FILE... (or for the input of a run, if FILE is the folder
    that it wrote): where each value stood in the response, and each step from there to what is
    written.

    Exit code 1 if there is no such row.
    """
