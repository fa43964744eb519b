"""`mukret draft`: a first rules file out of responses."""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    files_argument,
    newest_option,
    output_options,
)


@click.command(
    "draft",
    epilog=examples(
        "mukret draft merrow-demo/feed --out ferries.rules.yaml",
        "mukret draft merrow-demo/feed --add merrow-demo/merrow.rules.yaml",
    ),
)
@files_argument
@click.option(
    "--out",
    metavar="RULES",
    shell_complete=completing.files,
    help="The rules file to write, which must not exist; without it, to the screen.",
)
@click.option(
    "--add",
    "rules",
    metavar="RULES",
    shell_complete=completing.rules_files,
    help="Add to these rules what they do not read; all else stays.",
)
@click.option(
    "--path",
    metavar="PATH",
    help="Only what stands in the nodes that this JSONPath finds.",
)
@click.option(
    "--fields",
    metavar="NAMES",
    help="Only these fields, comma-separated: names of members, or of fields of the draft.",
)
@click.option(
    "--like",
    "likes",
    metavar="[TABLE=]CSV",
    multiple=True,
    shell_complete=completing.files,
    help="Instead of all that is there, the rules that give the rows typed in this file.",
)
@newest_option
@output_options
@handled
def command() -> None:
    """Draft rules for every FILE (a file, a folder, a glob, or - for standard input): tables for
    its lists of records, with keys, types and an example of each field, ready to be edited.

    The draft is tried on these files: it makes null of nothing, what is plainly a mistake among
    other values is left to be rejected (with a comment), and what no rule reads stands under
    `ignore`.

    With --like two or three rows of the wanted table are enough: a header and, as `extract` would
    write them, cells; ? is whatever there is, an empty cell null, a row that begins with - not
    wanted. Out come the rules that give them. Exit code 1 if a document could not be read.
    """
