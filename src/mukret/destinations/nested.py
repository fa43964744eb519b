"""Records with the records of the tables within them as lists, under the names of these tables."""

from __future__ import annotations

import json

import pyarrow as pa

from mukret.codes import Code
from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.destinations.json_objects import objects
from mukret.errors import UsageError


class Nesting:
    """`roots` are the tables that stand in no other that is written; `inside` those that stand in
    each.
    """

    def __init__(self, delivery: Delivery) -> None:
        """Raises UsageError where a table and a column of the table around it have one name."""
        self.rules = delivery.rules
        self.inside: dict[str, list[str]] = {name: [] for name in delivery.schemas}
        self.roots: list[str] = []
        for name in delivery.schemas:
            above = delivery.rules.around(name, delivery.schemas)
            if above is None:
                self.roots.append(name)
                continue
            self.inside[above].append(name)
            # In the record of the row above both would be a member of that name.
            if name in {column for column, _ in delivery.rules.tables[above].columns}:
                message = (
                    f"a column of {above} and the table within it are both named {name}"
                )
                raise UsageError(
                    Code.USAGE,
                    message,
                    hint="give one of them another name, or leave out --nested",
                )

    def records(self, rows: RowsToWrite) -> dict[str, pa.Array]:
        """The records of the roots as JSON texts, in string arrays."""
        return {
            name: pa.array(self._records(name, rows), pa.string())
            for name in self.roots
            if name in rows.tables
        }

    def _records(self, name: str, rows: RowsToWrite) -> list[str]:
        batch = rows.tables[name]
        if not batch.num_rows:
            return []
        # Left open at their ends, so that what lies below is put in as text, once.
        records: list[str] = objects(
            batch, self.rules.tables[name].columns, closed=False
        ).to_pylist()
        for inner in self.inside[name]:
            below: list[list[str]] = [[] for _ in records]
            if inner in rows.tables:
                for above, record in zip(
                    rows.above[inner], self._records(inner, rows), strict=True
                ):
                    below[above].append(record)
            member = f",{json.dumps(inner, ensure_ascii=False)}:["
            records = [
                f"{record}{member}{','.join(inner_records)}]"
                for record, inner_records in zip(records, below, strict=True)
            ]
        return [f"{record}}}" for record in records]
