"""The fields of one table in one batch: typed columns, and the faults of rows for them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, field

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import true_rows, with_values
from mukret.columns.read import Column
from mukret.columns.types import stored
from mukret.engine.table_rows import TableRows
from mukret.rules.model import Field
from mukret.rules.sources import Lookup
from mukret.semantics.answers import Form
from mukret.semantics.rejects import Fault, required, stopped
from mukret.types import Bad, TypedValue


@dataclass(frozen=True)
class TypedColumn:
    """A field in all rows of a table, null where it has no value.

    `broken` are the rows in which something bad is the reason; `faults` are those of the field, by
    row; `nulled` counts the bad values that became null, as the rules say.
    """

    array: pa.Array
    broken: Set[int] = frozenset()
    faults: Mapping[int, Fault] = field(default_factory=dict)
    nulled: int = 0


@dataclass(frozen=True)
class TypedColumns:
    """All fields of a table.

    `prepared` is what expressions read besides: the time, and aggregates of tables within.

    `surviving`: the rows that lookups and aggregates see, if any of them looks here.
    """

    rows: TableRows
    columns: Mapping[str, TypedColumn]
    prepared: Mapping[str, pa.Array]
    surviving: Sequence[int]

    def array(self, name: str) -> pa.Array:
        return self.columns[name].array

    @property
    def arrays(self) -> dict[str, pa.Array]:
        """What expressions read, by name."""
        return {
            **self.prepared,
            **{name: column.array for name, column in self.columns.items()},
        }

    def broken_in_any(self, names: Set[str] | None = None) -> set[int]:
        """The rows in which one of these fields (None: of all) is broken."""
        some = (
            column.broken
            for name, column in self.columns.items()
            if names is None or name in names
        )
        return set().union(*some)

    @property
    def nulled(self) -> int:
        return sum(column.nulled for column in self.columns.values())

    @property
    def faults(self) -> dict[int, list[Fault]]:
        """The faults of rows so far: their own, and those of their fields."""
        faults_by_row = {row: list(faults) for row, faults in self.rows.faults.items()}
        for column in self.columns.values():
            for row, fault in column.faults.items():
                faults_by_row.setdefault(row, []).append(fault)
        return faults_by_row

    def lacking(self, name: str) -> list[int]:
        """The rows in which a field has no value, though nothing is bad there."""
        column = self.columns[name]
        return [
            row
            for row in true_rows(pc.is_null(column.array))
            if row not in column.broken
        ]

    def forms(self, lookup: Lookup) -> list[Form | None]:
        """For each row the values of a lookup's local fields, as they are compared; None if one is
        null.
        """
        columns = (self.array(name).to_pylist() for name in lookup.by)
        return [lookup.form(values) for values in zip(*columns, strict=True)]

    def answered(self, lookup: Lookup) -> Iterator[tuple[int, Form, object]]:
        """The surviving rows, as a lookup finds them: the number, the key, and the value that it
        takes.
        """
        keys = [self.array(name).to_pylist() for name in lookup.key]
        given = self.columns[lookup.give]
        values = given.array.to_pylist()
        # Rows that are left out answer nothing.
        for row in self.surviving:
            form = lookup.form(tuple(column[row] for column in keys))
            if form is not None and row not in given.broken:
                yield row, form, values[row]

    def record_batch(self) -> pa.RecordBatch:
        """All rows, whatever becomes of them; null where a value is bad."""
        plan = self.rows.plan
        columns = [
            stored(kind).finished(self.array(name)) for name, kind in plan.table.columns
        ]
        return pa.RecordBatch.from_arrays(columns, schema=plan.schema)

    def records(self, rows: Sequence[int]) -> list[dict[str, TypedValue]]:
        """Some rows, as values of Python by the name of the field."""
        records: list[dict[str, TypedValue]] = (
            self.record_batch().take(pa.array(rows, pa.int64())).to_pylist()
            if rows
            else []
        )
        return records


def with_policies(
    rows: TableRows, own_field: Field, column: Column, tainted: Set[int]
) -> TypedColumn:
    """What a field's rules make of missing and bad values.

    `tainted` are rows in which it is made of one that is bad.

    Raises StoppedError for `bad: stop`.
    """
    tainted = tainted - rows.placeholders
    untouched = tainted | rows.placeholders
    faults: dict[int, Fault] = {}
    nulled: set[int] = set()
    # In the order of rows, so that the first case that is shown is the first in the input.
    for row, bad in sorted(column.failures.items()):
        if row in untouched:
            continue
        if bad.nulled or own_field.bad == "null":
            nulled.add(row)
        else:
            faults[row] = _fault(rows, row, own_field, bad)
    array = (
        with_values(column.array, dict.fromkeys(untouched))
        if untouched
        else column.array
    )
    if own_field.required or own_field.default is not None:
        # A value that is missing is no failure of the type: it is looked for afterwards, among the
        # nulls.
        missing = set(true_rows(pc.is_null(array))) - faults.keys() - untouched
        if own_field.required:
            faults |= {
                row: _fault(rows, row, own_field, required()) for row in sorted(missing)
            }
        else:
            array = with_values(
                array, dict.fromkeys(missing - nulled, own_field.default)
            )
    return TypedColumn(array, faults.keys() | tainted, faults, len(nulled))


def _fault(rows: TableRows, row: int, own_field: Field, bad: Bad) -> Fault:
    fault = Fault(rows.plan.rank[own_field.name], own_field.name, bad, own_field)
    # At once: nothing that comes later could be published.
    if own_field.bad == "stop":
        place, node = rows.locate(row)
        raise stopped(
            fault, place, node, rows.place_in_input(row), rows.excuses_at(row)
        )
    return fault
