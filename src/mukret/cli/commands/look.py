"""`mukret look`: the raw nodes of a path, as they stand."""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    json_option,
    newest_option,
    output_options,
)


@click.command(
    "look",
    epilog=examples(
        "mukret look merrow-demo/feed '$.network.ports[*].sailings[*]' --nth 3",
        "mukret look merrow-demo/feed/timetable-2031-03-28.json '$.vessels[0]' --every",
    ),
)
@click.argument("file", metavar="FILE", shell_complete=completing.files)
@click.argument("path", metavar="[PATH]", default="$")
@click.option(
    "--nth",
    metavar="N",
    type=click.IntRange(1),
    help="Show the Nth node alone, counted from 1 over all of FILE.",
)
@click.option(
    "--named",
    metavar="NAME",
    help="Members of this name, wherever they stand below PATH.",
)
@click.option(
    "--every", is_flag=True, help="List every node below, with its kind, as a table."
)
@click.option(
    "--values",
    is_flag=True,
    help="Bare values, a line each: texts without quotes, all else as JSON.",
)
@click.option("--whole", is_flag=True, help="Cut nothing.")
@newest_option
@json_option
@output_options
@handled
def command() -> None:
    """Show what a JSONPath (RFC 9535) finds in FILE (a file, a folder, a glob, or - for standard
    input), as it stands.

    Each node has its normalized path above it, to paste into other commands. Text is cut to the
    screen. PATH is $, the whole document, unless given. Reads no further than it has to. Exit code
    1 if nothing is found.
    """
