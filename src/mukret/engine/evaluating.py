"""The fields of all tables of a batch, each after what it needs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import true_rows
from mukret.columns.expressions import evaluate_column
from mukret.columns.read import Column, column_of, read_column
from mukret.columns.types import nulls, repeated, value_type
from mukret.engine.found_rows import FoundRows
from mukret.engine.reading import read_fact, read_field
from mukret.engine.table_rows import TableRows
from mukret.engine.typed_columns import TypedColumn, TypedColumns, with_policies
from mukret.expressions import NOW, Aggregate, Expression, aggregated
from mukret.rules.model import RESPONSE, WHERE, Derive, Field, Inherit, Inherited
from mukret.rules.sources import (
    At,
    Compute,
    ConstantValue,
    Fact,
    Lookup,
    ParentField,
    Rest,
)
from mukret.semantics.answers import Form, Known, Resolved
from mukret.semantics.rejects import Fault
from mukret.semantics.rests import rest_of
from mukret.types import TypedValue


@dataclass(frozen=True)
class EvaluatedRows:
    """Found rows with all their fields, by table."""

    found: FoundRows
    tables: Mapping[str, TypedColumns]


def evaluated(
    found_rows: FoundRows, now: datetime, resolved: Resolved
) -> EvaluatedRows:
    """`now` is what CURRENT_TIMESTAMP gives, `resolved` what lookups across the run find.

    Raises StoppedError.
    """
    evaluation = _Evaluation(found_rows, now, resolved)
    # Column by column in an order that was made with the rules: what a step needs is there.
    for step in found_rows.plan.rules.schedule:
        match step:
            case Inherit():
                evaluation.inherit(step.table, step.inherited)
            case Derive():
                evaluation.derive(step.table, step.field)
            case _:
                evaluation.see_who_survives(step.table, step.without)
    return EvaluatedRows(found_rows, evaluation.finished())


@dataclass
class _Table:
    """A table as far as it is evaluated."""

    rows: TableRows
    columns: dict[str, TypedColumn] = field(default_factory=dict)
    prepared: dict[str, pa.Array] = field(default_factory=dict)
    surviving: list[int] = field(default_factory=list)

    @property
    def so_far(self) -> TypedColumns:
        return TypedColumns(self.rows, self.columns, self.prepared, self.surviving)


class _Evaluation:
    def __init__(
        self, found_rows: FoundRows, now: datetime, resolved: Resolved
    ) -> None:
        self.found = found_rows
        self.now = now
        self.resolved = resolved
        self.tables = {name: _Table(rows) for name, rows in found_rows.tables.items()}

    def finished(self) -> dict[str, TypedColumns]:
        for name in self.found.new:
            self.prepare_condition(self.tables[name])
        return {name: table.so_far for name, table in self.tables.items()}

    # ---- what expressions read besides fields

    def prepare_condition(self, table: _Table) -> None:
        where = table.rows.table.where
        if where is not None:
            self.prepare(table, where)

    def prepare(self, table: _Table, expression: Expression) -> None:
        if expression.asks_the_time:
            table.prepared[NOW] = self.now
        for aggregate in expression.aggregates():
            # Two fields may count the same rows.
            if aggregate.key not in table.prepared:
                table.prepared[aggregate.key] = _aggregated(
                    aggregate, table.rows, self.tables[aggregate.table]
                )

    # ---- fields

    def inherit(self, name: str, inherited: Inherited) -> None:
        table, above = self.tables[name], self.tables[inherited.origin]
        owners = table.rows.owners_in(inherited.origin)
        column = above.columns[inherited.name]
        array = column.array.take(owners)
        # Inheriting is one gather by the numbers of the rows above; the loop is for what could not
        # be read there.
        if not column.broken:
            table.columns[inherited.name] = TypedColumn(array)
            return
        broken: set[int] = set()
        faults: dict[int, Fault] = {}
        rank = table.rows.plan.inherit_rank[inherited.name]
        for row, owner in enumerate(owners.to_pylist()):
            if owner in column.broken:
                broken.add(row)
                # A fact of the response has no row of its own that could be rejected: the rows that
                # inherit it are.
                fault = (
                    column.faults.get(owner) if inherited.origin == RESPONSE else None
                )
                if fault is not None:
                    origin = above.rows.locate(owner)
                    faults[row] = Fault(
                        rank, inherited.name, fault.bad, fault.field, origin
                    )
        table.columns[inherited.name] = TypedColumn(array, broken, faults)

    def derive(self, name: str, own_field: Field) -> None:
        """Reads, derives or looks up a field."""
        table = self.tables[name]
        tainted = table.rows.unreadable | _tainted(table, own_field)
        if isinstance(own_field.source, Lookup) and own_field.source.across_run:
            answers = self.resolved.get((name, own_field.name))
            column = _looked_up_across(table, own_field, own_field.source, answers)
            if answers is None:  # until they are known nothing is said of the values
                tainted = set(range(table.rows.count))
        else:
            column = self.column(table, own_field)
        table.columns[own_field.name] = with_policies(
            table.rows, own_field, column, tainted
        )

    def column(self, table: _Table, own_field: Field) -> Column:
        rows, source = table.rows, own_field.source
        match source:
            case At():
                return read_field(rows, own_field, source)
            case Compute():
                self.prepare(table, source.expression)
                return evaluate_column(
                    source.expression, table.so_far.arrays, rows.count
                )
            case ConstantValue():
                return Column(repeated(source.value, own_field.type, rows.count))
            case Fact():
                return read_fact(rows, own_field, source)
            case Rest():
                return read_column(
                    own_field.reading,
                    [rest_of(node, source.touched) for node in rows.nodes],
                )
            case ParentField():
                # A row at the top has none above; a null index gathers a null.
                indexes = pa.array(rows.gathered.above, pa.int64())
                none = pa.scalar(None, pa.int64())
                above = pc.if_else(pc.less(indexes, 0), none, indexes)
                return Column(table.columns[source.field].array.take(above))
            case Lookup():
                return self.looked_up(table, own_field, source)

    def looked_up(self, table: _Table, own_field: Field, lookup: Lookup) -> Column:
        forms = table.so_far.forms(lookup)
        # Reference files and answers across the run are known by key; within a document the answers
        # are those of its own rows.
        if lookup.table is None:
            values: list[object] = [None] * len(forms)
            for row, form in enumerate(forms):
                if form is not None:
                    values[row] = lookup.answers.get(form)
            return Column(pa.array(values, value_type(own_field.type)))
        target = self.tables[lookup.table]
        answers = _answers(target.so_far, lookup)
        rows: list[int | None] = [None] * len(forms)
        for row, document in enumerate(table.rows.documents):
            form = forms[row]
            if form is not None:
                rows[row] = answers.get((document, form))
        return Column(
            target.columns[lookup.give].array.take(pa.array(rows, pa.int64()))
        )

    # ---- which rows survive

    def see_who_survives(self, name: str, without: frozenset[str]) -> None:
        """Notes which rows are neither rejected nor filtered for themselves, as far as other fields
        than these say.
        """
        table = self.tables[name]
        columns = table.so_far
        # An aggregate may not hang on itself: what is decided by fields that are made of it is left
        # out.
        lost = set(table.rows.placeholders)
        for row, faults in columns.faults.items():
            if any(fault.name is None or fault.name not in without for fault in faults):
                lost.add(row)
        for key in table.rows.table.key:
            if key not in without:
                lost.update(columns.lacking(key))
        if table.rows.table.where is not None and WHERE not in without:
            lost |= self.filtered(table, table.rows.table.where, without)
        table.surviving = [row for row in range(table.rows.count) if row not in lost]

    def filtered(
        self, table: _Table, where: Expression, without: frozenset[str]
    ) -> set[int]:
        """The rows that a condition leaves out, or can't be evaluated for; none if it hangs on
        fields that are not to be looked at.
        """
        self.prepare_condition(table)
        # It can't be asked yet: these fields hang on the rows that survive.
        if not without.isdisjoint(where.fields()):
            return set()
        columns = table.so_far
        condition = evaluate_column(where, columns.arrays, table.rows.count)
        not_met = true_rows(pc.invert(pc.fill_null(condition.array, False)))
        broken = columns.broken_in_any(columns.columns.keys() - without)
        return {*condition.failures, *not_met} - broken


def _aggregated(aggregate: Aggregate, rows: TableRows, below: _Table) -> Column:
    """An aggregate over the surviving rows of a table directly within."""
    groups: defaultdict[int, list[TypedValue]] = defaultdict(list)
    array = below.columns[aggregate.field].array if aggregate.field else None
    values = array.to_pylist() if array is not None else [None] * below.rows.count
    for row in below.surviving:
        groups[below.rows.owners[row]].append(values[row])
    # Value by value, since sums must be exact and say which of them went wrong; kernels do
    # neither.
    return column_of(
        lambda row: aggregated(aggregate, groups.get(row, ())),
        range(rows.count),
        aggregate.type,
    )


def _looked_up_across(
    table: _Table, own_field: Field, lookup: Lookup, answers: Known | None
) -> Column:
    """What a lookup finds among the rows of all documents."""
    if answers is None:
        return Column(nulls(own_field.type, table.rows.count))
    return Column(
        pa.array(
            answers.get_all(table.so_far.forms(lookup)), value_type(own_field.type)
        )
    )


def _answers(target: TypedColumns, lookup: Lookup) -> dict[tuple[int, Form], int]:
    """The surviving rows by document and key; the first of several with a key counts."""
    rows_by_key: dict[tuple[int, Form], int] = {}
    for row, form, _ in target.answered(lookup):
        rows_by_key.setdefault((target.rows.documents[row], form), row)
    return rows_by_key


def _tainted(table: _Table, own_field: Field) -> set[int]:
    """The rows in which a value that the field is made of is bad."""
    tainted: set[int] = set()
    for name in own_field.reads.above:
        # Of fields that take from the row above: broken there is broken here.
        broken = table.columns[name].broken
        tainted |= (
            {
                row
                for row, above in enumerate(table.rows.gathered.above)
                if above in broken
            }
            if broken
            else set()
        )
    return tainted.union(
        *(table.columns[name].broken for name in own_field.reads.fields)
    )
