"""`mukret describe`: what is handed over with the tables."""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    output_options,
    table_option,
)

FORMS = ("markdown", "json-schema", "csvw", "sql", "python")
DIALECTS = ("either", "postgresql", "sqlite")


@click.command(
    "describe",
    epilog=examples(
        "mukret describe merrow-demo/merrow.rules.yaml > merrow.md",
        "mukret describe merrow-demo/merrow.rules.yaml --as json-schema --table ports",
    ),
)
@click.argument(
    "rules", metavar="RULES", required=False, shell_complete=completing.rules_files
)
@click.option(
    "--as",
    "form",
    metavar="FORM",
    type=click.Choice(FORMS),
    default="markdown",
    show_default=True,
    help=f"{', '.join(FORMS[:-1])} or {FORMS[-1]}.",
)
@table_option("The JSON Schema of the records of this table, and of those within them.")
@click.option(
    "--dialect",
    metavar="NAME",
    type=click.Choice(DIALECTS),
    help=(
        "Of SQL: postgresql or sqlite, as `extract` makes tables there; or either, which both "
        "take (the default)."
    ),
)
@click.option(
    "--rules-schema",
    is_flag=True,
    help="The JSON Schema of rules files, for an editor; without RULES.",
)
@output_options
@handled
def command() -> None:
    """Print what goes along with the tables that RULES give:

    \b
    markdown     a data dictionary: tables, columns, where they come from, joins
    json-schema  JSON Schema 2020-12 of the records, as --format json and jsonl
    csvw         CSV on the Web metadata (W3C), as beside the CSV files
    sql          the statements that make the tables
    python       dataclasses, to read and write the records of --nested JSON
    """
