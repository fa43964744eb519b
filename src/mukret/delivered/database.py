"""What is read alike of both databases: which tables runs made in them, out of the records that the
runs left.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

from mukret.codes import Code
from mukret.delivered.contract import DeliveredReject, DeliveredTable, recorded_tables
from mukret.documents import decode
from mukret.errors import InputError
from mukret.values import JsonValue


def records_of_runs(target: str, texts: Iterable[str]) -> list[dict[str, JsonValue]]:
    """The records that runs left. Raises InputError if there is none."""
    records = [json.loads(text) for text in texts]
    if not records:
        hint = f"mukret extract … --to {target}"
        raise InputError(
            Code.NOT_OPENED, f"{target}: no run has written into it", hint=hint
        )
    return records


def rejects_of_rows(rows: Iterable[tuple[JsonValue, ...]]) -> Iterator[DeliveredReject]:
    """File, document, path, table and problems (as JSON), as they stand in a database."""
    for file, document, path, table, problems in rows:
        yield DeliveredReject(file, document, path, table, decode(problems.encode()))


def tables_of_runs(
    records: Iterable[Mapping[str, JsonValue]], there: Mapping[str, Iterable[str]]
) -> dict[str, DeliveredTable]:
    """The tables that runs have written, with the columns that they have now (`there`).

    What the last run that wrote a table says of it counts; a column that no run knows is read as a
    text.
    """
    tables: dict[str, DeliveredTable] = {}
    for record in records:
        for name, table in recorded_tables(record).items():
            before = tables.get(name)
            # A run that made the table anew has put away the columns of those before.
            earlier: Mapping[str, str] = (
                before.types if before is not None and not record.get("anew") else {}
            )
            tables[name] = replace(table, types={**earlier, **table.types}, rows=None)
    # A table that somebody dropped is no longer there, whatever runs have written.
    return {
        name: _as_it_is(table, there[name])
        for name, table in tables.items()
        if name in there
    }


def _as_it_is(table: DeliveredTable, there: Iterable[str]) -> DeliveredTable:
    """A table with the columns that are there; databases may have their names in other case."""
    by_name = {name.lower(): kind for name, kind in table.types.items()}
    return replace(
        table, types={name: by_name.get(name.lower(), "text") for name in there}
    )
