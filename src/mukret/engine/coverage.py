"""Which rules found nothing in all of the input, and what stands nearest to what they look for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import islice

import pyarrow.compute as pc

from mukret.columns.arrow import any_true
from mukret.engine.codegen import existence_function
from mukret.engine.plan import Plan
from mukret.engine.table_batch import TableBatch
from mukret.paths import Path, nearest_existing
from mukret.rules.model import RESPONSE, At
from mukret.values import JsonValue

KEPT_NODES = 200


@dataclass(frozen=True)
class Unmatched:
    """A rule that found nothing. `field` is None for the rows of a table; `hint` names what is there instead."""

    table: str
    field: str | None
    path: str
    line: int
    column: int
    hint: str | None

    def as_json(self) -> dict[str, JsonValue]:
        return {"table": self.table, "field": self.field, "path": self.path, "hint": self.hint}


@dataclass
class _Open:
    """A rule that has found nothing so far, and some nodes in which it looked."""

    paths: tuple[Path, ...]
    line: int
    column: int
    looked_in: list[JsonValue] = field(default_factory=list)

    @cached_property
    def finders(self) -> list[Callable[[Sequence[JsonValue]], bool]]:
        return [existence_function(path) for path in self.paths]


class Coverage:
    """A rule that has found something is never looked at again; only the others cost time."""

    def __init__(self, plan: Plan) -> None:
        self.open: dict[tuple[str, str | int], _Open] = {}
        """By table, and name of the field or number of the path to rows."""
        for table_plan in (plan.response, *plan.tables):
            table = table_plan.table
            if table.name != RESPONSE:
                for number, path in enumerate(table.rows.paths):
                    self.open[table.name, number] = _Open((path,), table.line, table.column)
            for own in table.fields:
                if isinstance(own.source, At):
                    self.open[table.name, own.name] = _Open(own.source.paths, own.line, own.column)

    def see(self, batch: TableBatch) -> None:
        name = batch.table.name
        if batch.parent is not None:
            paths = batch.table.rows.paths
            for number in range(len(paths)):
                if (name, number) in self.open:
                    found = batch.count > 0 and len(paths) == 1
                    self.look(name, number, batch.parent.rows, found=found)
        for own in batch.table.fields:
            if (name, own.name) in self.open:
                # a default fills the column whether or not anything was found
                found = own.default is None and any_true(pc.is_valid(batch.arrays[own.name]))
                self.look(name, own.name, batch.rows, found=found)

    def look(self, table: str, own: str | int, nodes: Sequence[JsonValue], *, found: bool) -> None:
        rule = self.open[table, own]
        if found or any(finds(nodes) for finds in rule.finders):
            del self.open[table, own]
        else:
            rule.looked_in += islice(nodes, KEPT_NODES - len(rule.looked_in))

    def unmatched(self) -> list[Unmatched]:
        """The rules that found nothing; fields of a table without rows are left out, their table says it all."""
        found = []
        for (table, own), rule in self.open.items():
            name = own if isinstance(own, str) else None
            if name is not None and not rule.looked_in:
                continue
            hint = nearest_existing(rule.paths[0], rule.looked_in) if rule.looked_in else None
            if name is None and not rule.looked_in:
                hint = "the table that it is within has no rows"
            found.append(Unmatched(table, name, rule.paths[0].text, rule.line, rule.column, hint))
        return found
