"""The rows of one table in one batch: raw columns → typed columns → derived columns → fates → a record batch."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import finished, repeated, row_mask, true_rows, with_values
from mukret.columns.expressions import evaluate_column
from mukret.columns.read import Column, read_column, read_lists
from mukret.columns.written import written
from mukret.documents import Batch
from mukret.engine.fates import Fate, SeenKeys
from mukret.engine.plan import TablePlan
from mukret.engine.rejects import (
    Fault,
    Reject,
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
from mukret.paths import Location
from mukret.rules.model import RESPONSE, At, Compute, Constant, Fact, Field, FoundRow
from mukret.types import Bad
from mukret.values import JsonValue


class TableBatch:
    """`parent` is None for the response, whose rows are the documents themselves."""

    def __init__(self, plan: TablePlan, batch: Batch, parent: TableBatch | None) -> None:
        self.plan = plan
        self.table = plan.table
        self.batch = batch
        self.parent = parent
        above: Sequence[JsonValue] = parent.rows if parent else batch.documents
        names: Sequence[str | None] = parent.names if parent else [None] * len(batch.documents)
        self.gathered = plan.gather(above, names)
        self.rows: list[JsonValue] = self.gathered.rows
        self.names: list[str | None] = self.gathered.names
        self.owners = self.gathered.owners
        self.count = len(self.rows)
        self.arrays: dict[str, Any] = {}
        self.broken: dict[str, set[int]] = {}
        self.faults: dict[int, list[Fault]] = {}
        self.fates = bytearray(self.count)
        self.nulled = 0
        self.unknown = 0
        self._siblings: dict[int, list[FoundRow]] = {}

    # ---- fields

    def fill(self) -> None:
        """Reads and derives all fields."""
        for item in self.table.inherit:
            self.inherit(item.name, item.origin)
        odd = set(self.gathered.odd) if self.parent and self.table.judges_shape else set()
        for row in odd:
            self.faults.setdefault(row, []).append(row_shape())
        for own in self.table.evaluation:
            self.settle(own, self.column(own), odd | self.tainted(own))

    def inherit(self, name: str, origin: str) -> None:
        source = self.ancestor(origin)
        owners = self.owners_in(origin)
        self.arrays[name] = source.arrays[name].take(owners)
        broken = source.broken.get(name)
        if not broken:
            return
        rank = self.plan.inherit_rank[name]
        for row, owner in enumerate(owners.to_pylist()):
            if owner in broken:
                self.broken.setdefault(name, set()).add(row)
                if origin == RESPONSE:
                    document = ((), source.rows[owner])
                    faults = [
                        Fault(rank, name, fault.bad, fault.field, document)
                        for fault in source.faults[owner]
                        if fault.name == name
                    ]
                    self.faults.setdefault(row, []).extend(faults)

    def ancestor(self, origin: str) -> TableBatch:
        found = self.parent
        while found is not None and found.table.name != origin:
            found = found.parent
        assert found is not None
        return found

    def owners_in(self, origin: str) -> Any:
        """For each row, the number of the row of an ancestor that it stands below."""
        assert self.parent is not None
        owners = self.owner_array
        if self.parent.table.name != origin:
            owners = self.parent.owners_in(origin).take(owners)
        return owners

    @cached_property
    def owner_array(self) -> Any:
        return pa.array(self.owners, pa.int32())

    def column(self, own: Field) -> Column:
        match own.source:
            case At():
                return self.read(own, own.source)
            case Compute():
                return evaluate_column(own.source.expression, self.arrays, self.count)
            case Constant():
                return Column(repeated(own.source.value, own.type, self.count))
            case Fact():
                facts: Sequence[JsonValue] = self.names if own.source.name == "name" else self.gathered.positions
                return read_column(own.reading, facts)

    def read(self, own: Field, at: At) -> Column:
        if own.name in self.plan.simple:
            return read_column(own.reading, self.gathered.columns[self.plan.simple[own.name]])
        nodes = self.plan.nodes[own.name](self.rows)
        if at.take == "all":
            return read_lists(own.reading, nodes)
        if at.take == "count":
            return read_column(own.reading, list(map(len, nodes)))
        many = {row: several(len(found)) for row, found in enumerate(nodes) if len(found) > 1 and at.take == "only"}
        column = read_column(
            own.reading, [found[0] if found and row not in many else None for row, found in enumerate(nodes)]
        )
        column.failures.update(many)
        return column

    def tainted(self, own: Field) -> set[int]:
        """The rows in which an expression reads a field that is bad."""
        if not isinstance(own.source, Compute):
            return set()
        return set().union(*(self.broken.get(name, ()) for name in own.source.expression.fields()))

    def settle(self, own: Field, column: Column, tainted: set[int]) -> None:
        """What the field's rules make of missing and bad values."""
        nulled: set[int] = set()
        rejected: set[int] = set()
        for row, bad in sorted(column.failures.items()):
            if row in tainted:
                continue
            if bad.nulled or own.bad == "null":
                nulled.add(row)
            else:
                rejected.add(row)
                self.fault(row, own, bad)
        self.nulled += len(nulled)
        array = with_values(column.array, dict.fromkeys(tainted)) if tainted else column.array
        if own.required or own.default is not None:
            missing = set(true_rows(pc.is_null(array))) - rejected - tainted
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
            location, node = self.locate(row)
            raise stopped(fault, location, node, self.place(row))
        self.faults.setdefault(row, []).append(fault)

    # ---- fates

    def decide(self, seen: SeenKeys) -> None:
        for name in self.table.key:
            for row in true_rows(pc.is_null(self.arrays[name])):
                if row not in self.broken.get(name, ()):
                    self.faults.setdefault(row, []).append(key_missing(name))
        passes = self.condition()
        for row in self.faults:
            self.fates[row] = Fate.REJECTED
        self.share_fate()
        if passes is not None:
            self.filter(passes)
        if self.table.key:
            self.deduplicate(seen)

    def condition(self) -> Any:
        """The values of `where`; an error is a fault of rows that have none so far."""
        if self.table.where is None:
            return None
        column = evaluate_column(self.table.where, self.arrays, self.count)
        broken = set().union(*self.broken.values()) if self.broken else set()
        for row, bad in column.failures.items():
            if row not in self.faults and row not in broken:
                self.faults[row] = [where_failed(bad)]
        return column.array

    def share_fate(self) -> None:
        """Rows that are not rejected for themselves go the way of the row above them."""
        parent = self.parent
        if parent is None or not any(parent.fates):
            return
        for row, owner in enumerate(self.owners):
            if not self.fates[row] and parent.fates[owner]:
                self.fates[row] = parent.fates[owner]
                if self.fates[row] == Fate.REJECTED:
                    self.faults[row] = [parent_rejected(parent.table.name)]

    def filter(self, passes: Any) -> None:
        for row in true_rows(pc.invert(pc.fill_null(passes, False))):
            if not self.fates[row]:
                self.fates[row] = Fate.FILTERED
                self.unknown += passes[row].as_py() is None

    def deduplicate(self, seen: SeenKeys) -> None:
        kinds = dict(self.table.columns) | {own.name: own.type for own in self.table.fields}
        keys = [written(self.arrays[name], kinds[name]).to_pylist() for name in self.table.key]
        for row, key in enumerate(zip(*keys, strict=True)):
            if not self.fates[row] and not seen.is_new(key):
                self.fates[row] = Fate.REJECTED
                self.faults[row] = [duplicate(dict(zip(self.table.key, key, strict=True)))]

    # ---- results

    def count_into(self, tally: TableTally) -> None:
        tally.rows_seen += self.count
        tally.rows_written += self.fates.count(Fate.WRITTEN)
        tally.rows_rejected += self.fates.count(Fate.REJECTED)
        tally.rows_filtered += self.fates.count(Fate.FILTERED)
        tally.rows_deduplicated += self.fates.count(Fate.DEDUPLICATED)
        tally.values_nulled += self.nulled
        tally.rows_filtered_unknown += self.unknown

    def written(self) -> Any:
        """The rows that are written, as a record batch."""
        columns = self.table.columns
        found = pa.RecordBatch.from_arrays(
            [finished(self.arrays[name], kind) for name, kind in columns], schema=self.plan.schema
        )
        if not any(self.fates):
            return found
        return found.filter(pc.invert(row_mask((row for row, fate in enumerate(self.fates) if fate), self.count)))

    def rejects(self) -> Iterable[tuple[int, Reject]]:
        """The rejected rows, each with the number of its document in the batch."""
        for row in sorted(self.faults):
            document = self.document(row)
            location, node = self.locate(row)
            source, number = self.batch.sources[document], self.batch.numbers[document]
            yield document, reject(source.name, number, self.table.name, location, node, self.faults[row])

    def document(self, row: int) -> int:
        return self.owners[row] if self.parent is None else self.parent.document(self.owners[row])

    def place(self, row: int) -> str:
        document = self.document(row)
        return f"{self.batch.sources[document].name}, document {self.batch.numbers[document]}"

    def locate(self, row: int) -> tuple[Location, JsonValue]:
        """Location and node of a row in its document: looked up again, since few rows are ever asked for."""
        if self.parent is None:
            return (), self.rows[row]
        owner = self.owners[row]
        above, parent_node = self.parent.locate(owner)
        if owner not in self._siblings:
            self._siblings[owner] = self.table.rows.find(parent_node)
        found = self._siblings[owner][row - bisect_left(self.owners, owner)]
        return (*above, *found.location), found.node
