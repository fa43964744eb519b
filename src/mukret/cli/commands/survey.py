"""`mukret survey`: every path, what stands there, how often, and what it looks like."""

from __future__ import annotations

import click

from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    files_argument,
    json_option,
    newest_option,
    output_options,
)


@click.command(
    "survey",
    epilog=examples(
        "mukret survey merrow-demo/feed",
        "mukret survey merrow-demo/feed --path '$.network.ports[*].sailings[*]'",
    ),
)
@files_argument
@click.option(
    "--path",
    metavar="PATH",
    help="Look only at what this JSONPath finds in each document.",
)
@click.option(
    "--whole",
    is_flag=True,
    help="Show every place and every surprise, however many there are.",
)
@newest_option
@json_option
@output_options
@handled
def command() -> None:
    """Survey every FILE (a file, a folder, a glob, or - for standard input): which lists hold the
    records, what each record has and how often, what the values look like, and what surprises.

    Reads everything once, in memory that does not grow with the number of documents. Writes
    nothing. Exit code 1 if a document could not be read, or if --path finds nothing.
    """
