"""`mukret describe`: what is handed over with the tables."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from mukret.cli import completing
from mukret.cli.options import examples, known_table, loaded_rules, output_options, set_up_logging

if TYPE_CHECKING:
    from mukret.rules import Rules

FORMS = ("markdown", "json-schema", "csvw", "sql", "python")
DIALECTS = ("either", "postgresql", "sqlite")


@click.command(
    "describe",
    short_help="Say what the tables are: dictionary, schemas, SQL, Python.",
    epilog=examples(
        "mukret describe merrow-demo/merrow.rules.yaml > merrow.md",
        "mukret describe merrow-demo/merrow.rules.yaml --as json-schema --table ports",
    ),
)
@click.argument("rules", metavar="RULES", required=False, shell_complete=completing.rules_files)
@click.option(
    "--as",
    "form",
    metavar="FORM",
    type=click.Choice(FORMS),
    default="markdown",
    show_default=True,
    help=f"{', '.join(FORMS[:-1])} or {FORMS[-1]}.",
)
@click.option(
    "--table",
    metavar="T",
    shell_complete=completing.tables,
    help="The JSON Schema of the records of this table, and of those within them.",
)
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
def command(
    rules: str | None,
    form: str,
    table: str | None,
    dialect: str | None,
    rules_schema: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Print what goes along with the tables that RULES give:

    \b
    markdown     a data dictionary: tables, columns, where they come from, joins
    json-schema  JSON Schema 2020-12 of the records, as --format json and jsonl
    csvw         CSV on the Web metadata (W3C), as beside the CSV files
    sql          the statements that make the tables
    python       dataclasses, to read and write the records of --nested JSON
    """
    from mukret.errors import UsageError

    set_up_logging(log, verbose)
    if rules_schema:
        _refuse_beside_rules_schema(rules, table, dialect)
        from mukret.describe.rules_schema import rules_schema as schema_of_rules

        _print_json(schema_of_rules())
        return
    if rules is None:
        hint = "mukret describe RULES, or mukret describe --rules-schema"
        raise UsageError("usage", "which rules file?", hint=hint)
    for option, given, wanted in (("--table", table, "json-schema"), ("--dialect", dialect, "sql")):
        if given is not None and form != wanted:
            raise UsageError("usage", f"{option} goes with --as {wanted}", hint="leave it out")
    _print(loaded_rules(rules), form, table, dialect or "either")


def _refuse_beside_rules_schema(*given: str | None) -> None:
    from mukret.errors import UsageError

    if any(given):
        raise UsageError(
            "usage",
            "--rules-schema goes alone: it is the same for all rules",
            hint="leave the rest out",
        )


def _print(rules: Rules, form: str, table: str | None, dialect: str) -> None:
    match form:
        case "json-schema":
            from mukret.describe.json_schema import json_schema

            _print_json(
                json_schema(rules, known_table(rules, table).name if table is not None else None)
            )
        case "csvw":
            from mukret.destinations.csv_metadata import csv_metadata

            _print_json(csv_metadata(rules))
        case "sql":
            from mukret.destinations.ddl import DIALECTS as KNOWN
            from mukret.destinations.ddl import schema

            click.echo(schema(rules, KNOWN[dialect]), nl=False)
        case "python":
            from mukret.describe.python_records import python_records

            click.echo(python_records(rules), nl=False)
        case _:
            from mukret.describe.dictionary import dictionary

            click.echo(dictionary(rules), nl=False)


def _print_json(document: object) -> None:
    import json

    click.echo(json.dumps(document, indent=2, ensure_ascii=False))
