"""The plain reading of the rules: a document, a row, a value at a time.

Short and obvious, not fast. What it gives is what the rules mean; the engine must give the same (a property test holds
them together). `check` runs examples through it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from mukret.engine.fates import Fate, SeenKeys
from mukret.engine.rejects import (
    Fault,
    Reject,
    chosen_nodes,
    chosen_path,
    duplicate,
    key_missing,
    parent_rejected,
    reject,
    required,
    row_shape,
    several,
    stopped,
    where_failed,
)
from mukret.engine.tally import TableTally
from mukret.expressions import evaluate
from mukret.paths import Location
from mukret.rules.model import RESPONSE, At, Compute, Constant, Fact, Field, Rules, Table
from mukret.types import Bad
from mukret.types.base import ValueType
from mukret.values import JsonValue


@dataclass
class Row:
    """A row of a table, or (with an empty location) a document with the fields of `response`.

    `broken` are fields whose value is bad: expressions that read them are not evaluated.
    """

    node: JsonValue
    location: Location
    position: int
    parent: Row | None
    origin: str
    values: dict[str, object] = field(default_factory=dict)
    broken: set[str] = field(default_factory=set)
    faults: list[Fault] = field(default_factory=list)
    nulled: int = 0
    fate: Fate = Fate.WRITTEN
    unknown: bool = False
    spread: bool = False

    @property
    def name(self) -> str | None:
        """The member name under which the row, or the array that it is spread from, stands."""
        under = self.location[:-1] if self.spread else self.location
        if self.parent is not None and under == self.parent.location:
            return self.parent.name
        last = under[-1] if under else None
        return last if isinstance(last, str) else None

    def ancestor(self, origin: str) -> Row:
        row = self
        while row.origin != origin:
            assert row.parent is not None
            row = row.parent
        return row


class ReferenceRun:
    """Evaluates documents one after the other; keys are remembered over the whole run."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self.tables = rules.parents_first()
        self.seen = {table.name: SeenKeys() for table in self.tables}
        self.tally = {name: TableTally() for name in rules.tables}

    def document(
        self, document: JsonValue, file: str = "-", number: int = 1
    ) -> tuple[dict[str, list[Row]], list[Reject]]:
        """All rows of a document by table, and the records of those rejected. Raises StoppedError for `bad: stop`."""
        response = Row(document, (), 0, None, RESPONSE)
        place = f"{file}, document {number}"
        for item in self.rules.response_evaluation:
            self.read(response, item, place)
        rows: dict[str, list[Row]] = {}
        rejects: list[Reject] = []
        for table in self.tables:
            parents = rows[table.within] if table.within else [response]
            rows[table.name] = [row for parent in parents for row in self.below(table, parent, place)]
            self.count(table.name, rows[table.name])
            for row in rows[table.name]:
                if row.fate == Fate.REJECTED:
                    rejects.append(reject(file, number, table.name, row.location, row.node, row.faults))
        return {name: rows[name] for name in self.rules.tables}, rejects

    def count(self, name: str, rows: list[Row]) -> None:
        tally = self.tally[name]
        fates = [row.fate for row in rows]
        tally.rows_seen += len(rows)
        tally.rows_written += fates.count(Fate.WRITTEN)
        tally.rows_rejected += fates.count(Fate.REJECTED)
        tally.rows_filtered += fates.count(Fate.FILTERED)
        tally.rows_deduplicated += fates.count(Fate.DEDUPLICATED)
        tally.values_nulled += sum(row.nulled for row in rows)
        tally.rows_filtered_unknown += sum(row.unknown for row in rows)

    def below(self, table: Table, parent: Row, place: str) -> Iterator[Row]:
        for position, found in enumerate(table.rows.find(parent.node)):
            location = (*parent.location, *found.location)
            row = Row(found.node, location, position, parent, table.name, spread=found.spread)
            self.fill(row, table, place)
            self.decide(row, table)
            yield row

    # ---- one row

    def fill(self, row: Row, table: Table, place: str) -> None:
        for rank, inherited in enumerate(table.inherit):
            self.inherit(row, inherited.name, inherited.origin, rank - len(table.inherit))
        if table.judges_shape and type(row.node) is not dict:
            row.faults.append(row_shape())
            row.broken |= {own.name for own in table.fields}
            row.values.update({own.name: None for own in table.fields})
            return
        for own in table.evaluation:
            self.read(row, own, place)

    def inherit(self, row: Row, name: str, origin: str, rank: int) -> None:
        assert row.parent is not None
        source = row.parent.ancestor(origin)
        row.values[name] = source.values[name]
        if name in source.broken:
            row.broken.add(name)
            if origin == RESPONSE:
                row.faults += [
                    Fault(rank, name, fault.bad, fault.field, (source.location, source.node))
                    for fault in source.faults
                    if fault.name == name
                ]

    def read(self, row: Row, own: Field, place: str) -> None:
        """One field of one row: its value, or what is wrong with it."""
        row.values[own.name] = None
        if isinstance(own.source, Compute) and row.broken & set(own.source.expression.fields()):
            row.broken.add(own.name)
            return
        nulled = False
        try:
            row.values[own.name] = self.value(row, own)
        except Bad as bad:
            nulled = bad.nulled or own.bad == "null"
            row.nulled += nulled
            if not nulled:
                self.bad(row, own, bad, place)
                return
        if row.values[own.name] is None:
            if own.required:
                self.bad(row, own, required(), place)
            elif not nulled:
                row.values[own.name] = own.default

    def bad(self, row: Row, own: Field, bad: Bad, place: str) -> None:
        fault = Fault(self.rank(row, own), own.name, bad, own)
        if own.bad == "stop":
            raise stopped(fault, row.location, row.node, place)
        row.broken.add(own.name)
        row.faults.append(fault)

    def rank(self, row: Row, own: Field) -> int:
        fields = self.rules.response_fields if row.origin == RESPONSE else self.rules.tables[row.origin].fields
        return fields.index(own)

    def value(self, row: Row, own: Field) -> object:
        match own.source:
            case At():
                return self.at(row.node, own.source, own)
            case Compute():
                return evaluate(own.source.expression, row.values)
            case Constant():
                return own.source.value
            case Fact():
                return own.reading.read(row.name if own.source.name == "name" else row.position)

    def at(self, node: JsonValue, at: At, own: Field) -> object:
        values = [value for _, value in chosen_nodes(at, node)]
        match at.take:
            case "all":
                return own.reading.read_nodes(values)
            case "count":
                return own.reading.read(len(chosen_path(at, node).values(node)))
            case "only" if len(values) > 1:
                raise several(len(values))
        return own.reading.read(values[0]) if values else None

    # ---- what becomes of it

    def decide(self, row: Row, table: Table) -> None:
        for name in table.key:
            if row.values[name] is None and name not in row.broken:
                row.faults.append(key_missing(name))
        passes: object = True
        if table.where is not None and not row.faults and not row.broken:
            try:
                passes = evaluate(table.where, row.values)
            except Bad as bad:
                row.faults.append(where_failed(bad))
        if row.faults:
            row.fate = Fate.REJECTED
        elif row.parent is not None and row.parent.fate != Fate.WRITTEN:
            row.fate = row.parent.fate
            if row.fate == Fate.REJECTED:
                row.faults.append(parent_rejected(row.parent.origin))
        elif not passes:
            row.fate = Fate.FILTERED
            row.unknown = passes is None
        elif table.key and not self.seen[table.name].is_new(row.values[name] for name in table.key):
            row.fate = Fate.REJECTED
            row.faults.append(duplicate(self.key(row, table)))

    def key(self, row: Row, table: Table) -> dict[str, JsonValue]:
        types: dict[str, ValueType] = {own.name: own.type for own in table.fields}
        types.update({inherited.name: inherited.type for inherited in table.inherit})
        return {name: types[name].written(row.values[name]) for name in table.key}
