"""JSON and JSON Lines → the texts of their cells, by the engine itself: each column is a field read
at its member.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from mukret.codes import Code
from mukret.delivered.contract import DeliveredTable
from mukret.delivered.files import Tables, typed_texts
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import InputError
from mukret.paths.locate import location_text
from mukret.rules import parse_rules

if TYPE_CHECKING:
    import pyarrow as pa


def line_texts(
    path: Path, table: DeliveredTable, _: Tables
) -> Iterator[pa.RecordBatch]:
    return _read(path, [_alone(table)], lines=True)


def array_texts(
    path: Path, table: DeliveredTable, _: Tables
) -> Iterator[pa.RecordBatch]:
    return _read(path, [_alone(table)], lines=False)


def nested_line_texts(
    path: Path, table: DeliveredTable, tables: Tables
) -> Iterator[pa.RecordBatch]:
    return _read(path, _chain(table, tables), lines=True)


def nested_array_texts(
    path: Path, table: DeliveredTable, tables: Tables
) -> Iterator[pa.RecordBatch]:
    return _read(path, _chain(table, tables), lines=False)


def _alone(table: DeliveredTable) -> DeliveredTable:
    return replace(table, within=None)


def _chain(table: DeliveredTable, tables: Tables) -> list[DeliveredTable]:
    """The tables around a table, from the outermost on, and the table itself."""
    chain = [table]
    while chain[0].within is not None:
        chain.insert(0, tables[chain[0].within])
    return chain


def _read(
    path: Path, chain: list[DeliveredTable], *, lines: bool
) -> Iterator[pa.RecordBatch]:
    """The rows of the last table of a chain, each of which stands in the one before it."""
    if not os.path.getsize(path):  # no lines at all
        return
    wanted = chain[-1]
    rules = {
        "mukret": 1,
        "tables": {table.name: _table(table, lines=lines) for table in chain},
    }
    run = Run(parse_rules(json.dumps(rules), str(path)), find_sources([path]))
    for output in run.batches():
        if output.rejects:
            problem = output.rejects[0].problems[0]
            where = f"{path}, {output.rejects[0].path or 'a document'}"
            hint = "it is not as the run wrote it"
            raise InputError(
                Code.NOT_OPENED,
                f"{where}: {problem.field or wanted.name}: {problem.message}",
                hint=hint,
            )
        if wanted.name in output.tables:
            yield typed_texts(output.tables[wanted.name], wanted)


def _table(table: DeliveredTable, *, lines: bool) -> dict[str, object]:
    # The delivery is read by our own engine: these are rules for what our own writer writes.
    fields = {
        name: {"at": location_text((name,)), "type": kind.name}
        for name, kind in table.columns.items()
    }
    if table.within is not None:
        return {
            "within": table.within,
            "rows": f"{location_text((table.name,))}[*]",
            "fields": fields,
        }
    return {"rows": "$" if lines else "$[*]", "fields": fields}
