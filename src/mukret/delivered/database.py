"""What is read alike of both databases: which tables runs made in them, out of the records that the runs left."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any

from mukret.delivered.contract import DeliveredTable, recorded_tables
from mukret.errors import InputError


def tables_of_runs(
    target: str, records: Iterable[str], there: Mapping[str, Iterable[str]]
) -> dict[str, DeliveredTable]:
    """The tables that runs have written, with the columns that they have now (`there`). What the last run that wrote a
    table says of it counts; a column that no run knows is read as a text. Raises InputError if there is no table."""
    found: dict[str, DeliveredTable] = {}
    runs = 0
    for text in records:
        record: dict[str, Any] = json.loads(text)
        for name, table in recorded_tables(record).items():
            before = found.get(name)
            earlier: Mapping[str, str] = before.types if before is not None and not record.get("anew") else {}
            found[name] = replace(table, types={**earlier, **table.types}, rows=None)
        runs += 1
    if not runs:
        hint = f"mukret extract … --to {target}"
        raise InputError("not-opened", f"{target}: no run has written into it", hint=hint)
    return {name: _as_it_is(table, there[name]) for name, table in found.items() if name in there}


def _as_it_is(table: DeliveredTable, there: Iterable[str]) -> DeliveredTable:
    """A table with the columns that are there; databases may have their names in other case."""
    by_name = {name.lower(): kind for name, kind in table.types.items()}
    return replace(table, types={name: by_name.get(name.lower(), "text") for name in there})
