"""`mukret preview`: typed rows on the screen, rejected ones with their reasons."""

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
    "preview",
    epilog=examples(
        "mukret preview merrow-demo/merrow.rules.yaml merrow-demo/feed --table sailings",
        "mukret preview merrow-demo/merrow.rules.yaml merrow-demo/feed --rows 3",
    ),
)
@rules_argument
@files_argument
@table_option("Show this table alone.")
@click.option(
    "--rows",
    metavar="N",
    type=click.IntRange(0),
    default=10,
    show_default=True,
    help="Rows of each table.",
)
@click.option(
    "--sample",
    metavar="N",
    type=click.IntRange(1),
    help="N rows from anywhere in the input, not the first.",
)
@click.option(
    "--seed",
    metavar="S",
    type=int,
    default=0,
    show_default=True,
    help="The same seed takes the same sample.",
)
@click.option(
    "--where", metavar="SQL", help="Only rows of a table that meet this condition."
)
@click.option(
    "--columns",
    metavar="A,B,…",
    shell_complete=completing.listed_fields,
    help="Only these columns of a table, in this order.",
)
@click.option("--wide", is_flag=True, help="Rows as records: the fields downwards.")
@click.option(
    "--raw",
    is_flag=True,
    help="Below each value what stood in the response, where it is not the same.",
)
@click.option(
    "--watch",
    "watched",
    is_flag=True,
    help="Again at every save of RULES, with what the save changed.",
)
@newest_option
@json_option
@output_options
@handled
def command() -> None:
    """Show the first rows that RULES give for FILE..., with their types, rejected ones in place
    with their reasons.

    Reads the beginning of the input alone (20 MB at the most); with --where as far as it has to,
    with --sample, or with
    --where and --rows 0, which counts, to the end. Writes nothing. Exit code 1 if a row that was
    read was rejected.
    """
