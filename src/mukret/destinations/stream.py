"""A stream, such as standard output: one table, or all together in a format that can; what was
written before an error stays.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import BinaryIO

from mukret.codes import Code
from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.destinations.formats import FORMATS, Writer
from mukret.errors import UsageError
from mukret.rules.model import Rules
from mukret.semantics.rejects import Reject
from mukret.values import JsonValue


class Stream:
    """`table`: the one that is written; None: all of them."""

    target = "standard output"

    def __init__(
        self, stream: BinaryIO, form: str = "csv", table: str | None = None
    ) -> None:
        self.stream = stream
        self.format = FORMATS[form]
        self.linked = False
        self.table = table
        self.writer: Writer | None = None
        self.whole = False

    @property
    def outcome(self) -> str:
        return "the output is whole" if self.whole else "the output is cut short"

    def open(self, delivery: Delivery) -> None:
        self.linked = delivery.options.nested
        schemas = delivery.schemas
        if self.table is not None:
            if self.table not in schemas:
                known = ", ".join(schemas)
                message = f"no table {self.table} to write"
                raise UsageError(
                    Code.UNKNOWN_TABLE, message, hint=f"tables of these rules: {known}"
                )
            # With --nested the tables within it come along, in its records.
            below = descendants(delivery.rules, self.table) if self.linked else set()
            schemas = {
                name: schema
                for name, schema in schemas.items()
                if name in {self.table, *below}
            }
        self.names = frozenset(schemas)
        wanted = Delivery(delivery.rules, schemas, delivery.options, streaming=True)
        self.writer = self.format.open(
            wanted, lambda name: self.stream, together=self.table is None
        )

    def taken(self) -> set[str]:
        return set()

    def write(self, rows: RowsToWrite) -> None:
        tables = {
            name: batch for name, batch in rows.tables.items() if name in self.names
        }
        assert self.writer is not None
        self.writer.write(RowsToWrite(tables, rows.above))
        self.stream.flush()

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        """They are counted, no more."""

    def publish(self, record: dict[str, JsonValue]) -> None:
        assert self.writer is not None
        self.writer.close()
        self.stream.flush()
        self.whole = True

    def abort(self) -> None:
        """What was written is gone already."""
        if self.writer is not None:
            self.writer.abandon()


def descendants(rules: Rules, name: str) -> set[str]:
    """The tables within a table, and those within them."""
    names = {name}
    for table in rules.parents_first():
        if table.within in names:
            names.add(table.name)
    return names - {name}
