"""`mukret merge`: parts, extracted on several machines, into one delivery."""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    delivery_options,
    examples,
    json_option,
    output_options,
)


@click.command(
    "merge",
    epilog=examples(
        "mukret merge parts/1 parts/2 --to tables",
        "mukret merge parts/* --to sqlite:///ferries.db",
        note="on parts that `mukret extract … --part 1/2 --to parts/1` writes",
    ),
)
@click.argument(
    "parts", metavar="PART...", nargs=-1, required=True, shell_complete=completing.files
)
@delivery_options
@click.option(
    "--rules",
    metavar="RULES",
    shell_complete=completing.rules_files,
    help=(
        "The rules of the parts, where they are not at the place at which the first part read them."
    ),
)
@json_option
@output_options
@handled
def command() -> None:
    """Merge every PART (a folder that `extract --part` wrote; all of them must be named) into one
    delivery: the tables, rejects and counts that one run over all of the input gives, keys resolved
    across all parts.

    Exit code 0: clean; 1: done, with rejects.
    """
