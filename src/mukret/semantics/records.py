"""Rows as plain dicts with Python's types, flat and with those of the tables within them."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from mukret.codes import Code
from mukret.errors import UsageError
from mukret.rules.model import Rules
from mukret.text import did_you_mean
from mukret.types import Json

Record = dict[str, Any]


def parsed(rows: list[Record], rules: Rules, table: str) -> list[Record]:
    """Rows with what has the type `json` as the value that it is, its numbers with a fraction as
    Decimal.
    """
    for name, kind in rules.tables[table].columns:
        if isinstance(kind, Json):
            for row in rows:
                if row[name] is not None:
                    row[name] = json.loads(row[name], parse_float=Decimal)
    return rows


def nested(
    rules: Rules,
    records: Mapping[str, list[Record]],
    above: Mapping[str, Sequence[int]],
    name: str,
) -> list[Record]:
    """The records of a table, with those of each table within it as a list under the name of that
    table.

    `above` has for each record of a table the number of the record that it stands in.
    """
    own_records = records[name]
    for inner in records:
        if inner in above and rules.around(inner, records) == name:
            for record in own_records:
                # Also where there are none: a member that is missing would look like one that is
                # unknown.
                record[inner] = []
            for number, record in zip(
                above[inner], nested(rules, records, above, inner), strict=True
            ):
                own_records[number][inner].append(record)
    return own_records


def known(name: str, tables: Mapping[str, object]) -> str:
    """The name of a table that is there. Raises UsageError."""
    if name not in tables:
        raise UsageError(
            Code.UNKNOWN_TABLE, f"no table {name}", hint=did_you_mean(name, tables)
        )
    return name
