"""`mukret describe`: what is handed over with the tables."""

from __future__ import annotations

import json
from dataclasses import dataclass

import click

from mukret.cli.handlers.inputs import known_table, loaded_rules
from mukret.cli.handlers.request import Talk
from mukret.codes import Code
from mukret.describe.dictionary import dictionary
from mukret.describe.json_schema import json_schema
from mukret.describe.python_records import python_records
from mukret.describe.rules_schema import rules_schema
from mukret.destinations import ddl
from mukret.destinations.csv_metadata import csv_metadata
from mukret.errors import UsageError
from mukret.rules import Rules


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret describe`."""

    rules: str | None
    form: str
    table: str | None
    dialect: str | None
    rules_schema: bool


def handle(request: Request) -> int:
    request.start_log()
    # The schema is that of all rules files, and is made without any.
    if request.rules_schema:
        if request.rules or request.table or request.dialect:
            message = "--rules-schema goes alone: it is the same for all rules"
            raise UsageError(Code.USAGE, message, hint="leave the rest out")
        click.echo(_json(rules_schema()), nl=False)
        return 0
    if request.rules is None:
        hint = "mukret describe RULES, or mukret describe --rules-schema"
        raise UsageError(Code.USAGE, "which rules file?", hint=hint)
    _refuse_elsewhere("--table", request.table, "json-schema", request.form)
    _refuse_elsewhere("--dialect", request.dialect, "sql", request.form)
    click.echo(_description(loaded_rules(request.rules), request), nl=False)
    return 0


def _refuse_elsewhere(
    option: str, given: str | None, belongs_to: str, form: str
) -> None:
    """Raises UsageError for an option of another form."""
    if given is not None and form != belongs_to:
        raise UsageError(
            Code.USAGE, f"{option} goes with --as {belongs_to}", hint="leave it out"
        )


def _description(rules: Rules, request: Request) -> str:
    match request.form:
        # One table has a schema of its own records; all of them share one.
        case "json-schema":
            table = (
                known_table(rules, request.table).name
                if request.table is not None
                else None
            )
            return _json(json_schema(rules, table))
        case "csvw":
            return _json(csv_metadata(rules))
        case "sql":
            return ddl.schema(rules, ddl.DIALECTS[request.dialect or "either"])
        case "python":
            return python_records(rules)
    return dictionary(rules)


def _json(document: object) -> str:
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"
