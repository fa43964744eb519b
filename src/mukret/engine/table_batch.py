"""The fields of one table in one batch: raw columns → typed columns → derived columns → a record batch."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import Any, Self

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import finished, nulls, repeated, row_mask, true_rows, value_type, with_values
from mukret.columns.cells import read_cells
from mukret.columns.expressions import evaluate_column
from mukret.columns.read import Column, read_column, read_lists
from mukret.documents import Batch
from mukret.engine.batch_rows import BatchRows, Belongs
from mukret.engine.listed import listed, read_listed
from mukret.engine.scanned import Nodes, ScannedRows
from mukret.expressions import NOW, Aggregate, Expression, aggregated
from mukret.plan.compiled import TablePlan
from mukret.plan.plainly import nodes_of
from mukret.plan.scanning import ByList
from mukret.rules.model import RESPONSE, Above, At, Compute, Constant, Fact, Field, Inherited, Lookup, Rest
from mukret.rules.rows import Excuses, row_shape
from mukret.semantics.answers import Form, Known, Resolved
from mukret.semantics.choosing import choose
from mukret.semantics.facts import document_fact
from mukret.semantics.rejects import Fault, required, several, stopped, unreadable
from mukret.semantics.rests import rest_of
from mukret.semantics.taking import taken, taken_from
from mukret.types import Bad, Reading
from mukret.types.taken import GATHERINGS
from mukret.values import JsonValue

Answers = dict[tuple[int, Form], int]
"""By document and key, the row of a table that a lookup finds."""


class TableBatch(BatchRows):
    """Columns by name in `arrays`; where a value is bad the row is in `broken` of the field, and mostly in `faults`."""

    def __init__(
        self,
        plan: TablePlan,
        batch: Batch,
        parent: Self | None,
        belongs: Belongs | None = None,
        excuses: Mapping[int, Excuses] = MappingProxyType({}),
    ) -> None:
        super().__init__(plan, batch, parent, belongs, excuses)
        self.arrays: dict[str, Any] = {}
        self.broken: dict[str, set[int]] = {}
        self.faults: dict[int, list[Fault]] = {}
        self.fates = bytearray(self.count)
        self.nulled = 0
        self.unknown = 0
        self.surviving: list[int] = []
        """Rows that lookups may see, once that was asked for."""
        odd = self.gathered.odd if parent and self.table.judges_shape else ()
        for row, bad in (*((row, row_shape()) for row in odd), *self.gathered.faulty.items()):
            self.blame(row, unreadable(bad), readable=False)

    def blame(self, row: int, fault: Fault, *, readable: bool = True) -> None:
        self.faults.setdefault(row, []).append(fault)
        if not readable:
            self.unreadable.add(row)

    # ---- fields

    def inherit(self, inherited: Inherited) -> None:
        name = inherited.name
        source = self.ancestor(inherited.origin)
        owners = self.owners_in(inherited.origin)
        self.arrays[name] = source.arrays[name].take(owners)
        broken = source.broken.get(name)
        if not broken:
            return
        rank = self.plan.inherit_rank[name]
        for row, owner in enumerate(owners.to_pylist()):
            if owner in broken:
                self.broken.setdefault(name, set()).add(row)
                if inherited.origin == RESPONSE:
                    for fault in source.faults.get(owner, ()):
                        if fault.name == name:
                            origin = source.locate(owner)
                            self.blame(row, Fault(rank, name, fault.bad, fault.field, origin))

    def prepare(self, expression: Expression, tables: Mapping[str, Self], now: datetime) -> None:
        """Puts what an expression reads besides fields where it looks for it."""
        if expression.asks_the_time:
            self.arrays[NOW] = now
        for aggregate in expression.aggregates():
            if aggregate.key not in self.arrays:
                self.arrays[aggregate.key] = self.aggregate(aggregate, tables[aggregate.table])

    def aggregate(self, aggregate: Aggregate, below: Self) -> Column:
        """Over the rows of a table directly within that survive."""
        groups: dict[int, list[Any]] = {}
        values = below.arrays[aggregate.field].to_pylist() if aggregate.field else [None] * below.count
        for row in below.surviving:
            groups.setdefault(below.owners[row], []).append(values[row])
        found: list[Any] = []
        failures: dict[int, Bad] = {}
        for row in range(self.count):
            try:
                found.append(aggregated(aggregate, groups.get(row, ())))
            except Bad as bad:
                found.append(None)
                failures[row] = bad.alone()
        return Column(pa.array(found, value_type(aggregate.type)), failures)

    def derive(self, own: Field, tables: Mapping[str, Self], now: datetime, resolved: Resolved) -> None:
        """Reads, derives or looks up a field."""
        if isinstance(own.source, Compute):
            self.prepare(own.source.expression, tables, now)
        if isinstance(own.source, Lookup) and own.source.across_run:
            self.look_up_across(own, own.source, resolved.get((self.table.name, own.name)))
            return
        self.settle(own, self.column(own, tables), self.unreadable | self.tainted(own))

    def look_up_across(self, own: Field, lookup: Lookup, answers: Known | None) -> None:
        """What a lookup finds among the rows of all documents. Until that is known nothing is said of the values."""
        tainted = self.unreadable | self.tainted(own)
        if answers is None:
            self.settle(own, Column(nulls(own.type, self.count)), set(range(self.count)))
            return
        found = answers.get_all(self.forms(lookup))
        self.settle(own, Column(pa.array(found, value_type(own.type))), tainted)

    def column(self, own: Field, tables: Mapping[str, Self]) -> Column:
        match own.source:
            case At():
                return self.read(own, own.source)
            case Compute():
                return evaluate_column(own.source.expression, self.arrays, self.count)
            case Constant():
                return Column(repeated(own.source.value, own.type, self.count))
            case Fact():
                facts = self.facts(own.source.name) if own.source.of_row else self.document_facts(own.source.name)
                if isinstance(facts, Nodes):  # the names of members that were scanned
                    column = read_cells(own.reading, facts.cells)
                else:
                    column = read_column(own.reading, facts)
                column.failures = {row: bad.about(facts[row]) for row, bad in column.failures.items()}
                return column
            case Rest():
                touched = own.source.touched
                return read_column(own.reading, [rest_of(node, touched) for node in self.rows])
            case Above():
                above = pa.array([row if row >= 0 else None for row in self.gathered.above], pa.int64())
                return Column(self.arrays[own.source.field].take(above))
            case Lookup():
                return self.look_up(own.source, own.reading, tables)

    def read(self, own: Field, at: At) -> Column:
        """The values that stand in the rows. Where a path met another kind, what that means is settled row by row."""
        if isinstance(self.gathered, ScannedRows):
            column, suspects = self.read_scanned(self.gathered, own, at)
        else:
            column, suspects = self.read_plainly(own, at)
        self.read_again(own.reading, at, column, suspects - self.unreadable - self.hollow)
        return column

    def read_scanned(self, found: ScannedRows, own: Field, at: At) -> tuple[Column, set[int]]:
        """The values of rows that were scanned, and the rows that have to be read again: in them a path met another
        kind, or found several nodes."""
        assert self.plan.scan is not None
        sources = self.plan.scan.fields.get(own.name)
        if sources is None:
            return self.read_plainly(own, at)
        if at.take not in ("only", "first", "last"):
            (source,) = sources
            assert isinstance(source, ByList)
            column = read_listed(own.reading, at, found, source)
            return column or self.read_nodes(own.reading, at, listed(at, found, source)), found.events(source.source)
        cells, suspects = found.nodes_of(sources[0], at.take)
        for source in sources[1:]:
            others, doubtful = found.nodes_of(source, at.take)
            cells, suspects = cells.or_else(others), suspects | doubtful
        return read_cells(own.reading, cells, self.plan.known(own)), suspects

    def read_plainly(self, own: Field, at: At) -> tuple[Column, set[int]]:
        nodes, met = nodes_of(at.paths, self.rows, with_nulls=at.take == "count")
        return self.read_nodes(own.reading, at, nodes), met

    def read_again(self, reading: Reading, at: At, column: Column, rows: set[int]) -> None:
        """Reads some rows the plain way."""
        values: dict[int, object] = {}
        for row in rows:
            column.failures.pop(row, None)
            place, node = self.locate(row)
            try:
                values[row] = taken(at, reading, choose(at, node, self.excuses_at(row).below(place)))
            except Bad as bad:
                values[row] = None
                column.failures[row] = bad.alone()
        column.array = with_values(column.array, values)

    def read_nodes(self, reading: Reading, at: At, nodes: Sequence[list[JsonValue]]) -> Column:
        """The values of a field that looks at several nodes of each row."""
        if at.take == "all":
            return read_lists(reading, nodes)
        if at.take == "count":
            return read_column(reading, list(map(len, nodes)))
        if at.take in GATHERINGS:
            return _one_by_one(reading, at, nodes)
        many = {row: several(len(found)) for row, found in enumerate(nodes) if len(found) > 1 and at.take == "only"}
        which = -1 if at.take == "last" else 0
        column = read_column(
            reading, [found[which] if found and row not in many else None for row, found in enumerate(nodes)]
        )
        column.failures.update(many)
        return column

    def document_facts(self, name: str) -> list[JsonValue]:
        batch = self.batch
        known = [
            document_fact(name, source.name, number, origin)
            for source, number, origin in zip(batch.sources, batch.numbers, batch.origins, strict=True)
        ]
        return [known[document] for document in self.documents]

    def forms(self, lookup: Lookup) -> list[Form | None]:
        """For each row the values of a lookup's local fields, as they are compared; None if one is null."""
        columns = (self.arrays[name].to_pylist() for name in lookup.by)
        return [lookup.form(values) for values in zip(*columns, strict=True)]

    def answered(self, lookup: Lookup) -> Iterator[tuple[int, Form, object]]:
        """The surviving rows, as a lookup finds them: the number, the key, and the value that it takes."""
        keys = [self.arrays[name].to_pylist() for name in lookup.key]
        values = self.arrays[lookup.give].to_pylist()
        broken = self.broken.get(lookup.give, ())
        for row in self.surviving:
            form = lookup.form(tuple(column[row] for column in keys))
            if form is not None and row not in broken:
                yield row, form, values[row]

    def look_up(self, lookup: Lookup, reading: Reading, tables: Mapping[str, Self]) -> Column:
        forms = self.forms(lookup)
        if lookup.table is None:
            found = [None if form is None else lookup.answers.get(form) for form in forms]
            return Column(pa.array(found, value_type(reading.type)))
        target = tables[lookup.table]
        answers = target.answers(lookup)
        rows = [
            None if form is None else answers.get((document, form))
            for document, form in zip(self.documents, forms, strict=True)
        ]
        return Column(target.arrays[lookup.give].take(pa.array(rows, pa.int64())))

    def answers(self, lookup: Lookup) -> Answers:
        """The surviving rows by their keys; the first of several with a key counts."""
        found: Answers = {}
        for row, form, _ in self.answered(lookup):
            found.setdefault((self.documents[row], form), row)
        return found

    def tainted(self, own: Field) -> set[int]:
        """The rows in which the field would be made of one that is bad."""
        if isinstance(own.source, Above):
            broken = self.broken.get(own.source.field, set())
            return {row for row, above in enumerate(self.gathered.above) if above in broken} if broken else set()
        return set().union(*(self.broken.get(name, ()) for name in own.reads))

    def settle(self, own: Field, column: Column, tainted: set[int]) -> None:
        """What the field's rules make of missing and bad values."""
        nulled: set[int] = set()
        rejected: set[int] = set()
        tainted = tainted - self.hollow
        untouched = tainted | self.hollow
        for row, bad in sorted(column.failures.items()):
            if row in untouched:
                continue
            if bad.nulled or own.bad == "null":
                nulled.add(row)
            else:
                rejected.add(row)
                self.fault(row, own, bad)
        self.nulled += len(nulled)
        array = with_values(column.array, dict.fromkeys(untouched)) if untouched else column.array
        if own.required or own.default is not None:
            missing = set(true_rows(pc.is_null(array))) - rejected - untouched
            if own.required:
                for row in sorted(missing):
                    self.fault(row, own, required())
                rejected |= missing
            else:
                array = with_values(array, dict.fromkeys(missing - nulled, own.default))
        self.arrays[own.name] = array
        if rejected or tainted:
            self.broken[own.name] = rejected | tainted

    def fault(self, row: int, own: Field, bad: Bad) -> None:
        fault = Fault(self.plan.rank[own.name], own.name, bad, own)
        if own.bad == "stop":
            place, node = self.locate(row)
            raise stopped(fault, place, node, self.place_in_input(row), self.excuses_at(row))
        self.blame(row, fault)

    # ---- results

    def written(self) -> Any:
        """The rows that are written, as a record batch."""
        found = self.record_batch()
        if not any(self.fates):
            return found
        return found.filter(pc.invert(row_mask((row for row, fate in enumerate(self.fates) if fate), self.count)))

    def record_batch(self) -> Any:
        """All rows, whatever becomes of them; null where a value is bad."""
        columns = [finished(self.arrays[name], kind) for name, kind in self.table.columns]
        return pa.RecordBatch.from_arrays(columns, schema=self.plan.schema)

    def records(self, rows: Sequence[int]) -> list[dict[str, Any]]:
        """Some rows, as values of Python by the name of the field."""
        found: list[dict[str, Any]] = self.record_batch().take(pa.array(rows, pa.int64())).to_pylist() if rows else []
        return found


def _one_by_one(reading: Reading, at: At, nodes: Sequence[list[JsonValue]]) -> Column:
    values: list[object] = []
    failures: dict[int, Bad] = {}
    for row, found in enumerate(nodes):
        try:
            values.append(taken_from(at, reading, found))
        except Bad as bad:
            values.append(None)
            failures[row] = bad.alone()
    return Column(pa.array(values, value_type(reading.type)), failures)
