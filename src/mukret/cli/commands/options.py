"""Options that are the same word with the same meaning in every command."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from mukret.cli.commands import completing

Decorated = TypeVar("Decorated", bound=Callable[..., Any])

rules_argument = click.argument(
    "rules", metavar="RULES", shell_complete=completing.rules_files
)
files_argument = click.argument(
    "files", metavar="FILE...", nargs=-1, required=True, shell_complete=completing.files
)
newest_option = click.option(
    "--newest",
    is_flag=True,
    help="Of a folder that collect wrote, each address's newest answer alone.",
)
json_option = click.option(
    "--json", "as_json", is_flag=True, help="Print the report as JSON, for scripts."
)


def table_option(about: str) -> Callable[[Decorated], Decorated]:
    """`--table`; what it is for differs from command to command."""
    return click.option(
        "--table", metavar="T", shell_complete=completing.tables, help=about
    )


def output_options(function: Decorated) -> Decorated:
    """`-q`, `-v` and `--log`."""
    # Decorators apply from the last to the first: the help lists them the other way round.
    function = click.option(
        "--log",
        metavar="FILE",
        shell_complete=completing.files,
        help="Keep what happened in a file, with times and levels.",
    )(function)
    function = click.option(
        "-v",
        "--verbose",
        count=True,
        help="Say more; -vv adds the traceback of an error.",
    )(function)
    return click.option("-q", "--quiet", is_flag=True, help="Say nothing but errors.")(
        function
    )


def examples(*lines: str, note: str = "on the data that `mukret demo` writes") -> str:
    """The end of a help text: examples that work on the demo data."""
    return f"\b\nExamples, {note}:\n" + "\n".join(f"  {line}" for line in lines)


_DELIVERY = (
    click.option(
        "--to",
        "target",
        metavar="DEST",
        required=True,
        shell_complete=completing.files,
        help="A folder, sqlite:///FILE, postgresql://HOST/DATABASE, or - for standard output.",
    ),
    click.option(
        "--format",
        "form",
        metavar="FORMAT",
        shell_complete=completing.formats,
        help="Format of the tables: csv (if it is not said), jsonl, json, parquet, arrow, xlsx.",
    ),
    click.option(
        "--mode",
        type=click.Choice(["create", "replace", "append", "upsert"]),
        help=(
            "What becomes of tables that are there; if it is not said those that Mukret made are "
            "made anew."
        ),
    ),
    click.option(
        "--widen",
        is_flag=True,
        help="Add new columns to tables of a database, with append and upsert.",
    ),
    table_option("With --to -: the table to write, if there is more than one."),
    click.option(
        "--titles",
        is_flag=True,
        help="Head the columns of csv and xlsx with the titles of the fields.",
    ),
    click.option(
        "--nested",
        is_flag=True,
        help="Put tables within into their parents' records, in json and jsonl.",
    ),
    click.option(
        "--indent",
        metavar="N",
        type=click.IntRange(1, 8),
        help="Indent json by N blanks a level.",
    ),
    click.option(
        "--formulas-as-text",
        is_flag=True,
        help="Put a ' before each text of csv that a spreadsheet would take for a formula.",
    ),
    click.option(
        "--max-rejects",
        metavar="N|P%",
        help="So many rejects are clean; with more nothing is published.",
    ),
    click.option(
        "--strict", is_flag=True, help="Warnings are findings too (exit code 1)."
    ),
)


def delivery_options(function: Decorated) -> Decorated:
    """Where tables go, and how they are written."""
    for option in reversed(_DELIVERY):
        function = option(function)
    return function
