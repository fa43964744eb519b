"""One row out of all, by its number, its key, a condition, or its number among the rejected."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from mukret.columns.written import written
from mukret.documents import BadDocument, Source, nothing_read, read_batches
from mukret.engine.batch_tables import BatchTables
from mukret.engine.fates import Fate, keys_of
from mukret.engine.reference import Document
from mukret.engine.run import Progress, Run
from mukret.engine.table_batch import TableBatch
from mukret.errors import ExpressionError
from mukret.expressions import evaluate
from mukret.expressions.check import compile_expression
from mukret.rules.model import Rules, Table
from mukret.rules.part import part_for
from mukret.types import Bad, Boolean, Reading, ValueType
from mukret.types.names import TypeNameError, parse_type


@dataclass(frozen=True)
class Picked:
    """A row: its document, its number among the rows of the table in it (from 0), and what became of it."""

    document: Document
    row: int
    fate: Fate


Wanted = Callable[[TableBatch, Sequence[int]], Sequence[int]]
"""Those of some rows of a batch that are asked for."""


def pick(
    rules: Rules,
    sources: Sequence[Source],
    table: str,
    wanted: Wanted,
    fate: Fate | None,
    nth: int = 1,
    *,
    progress: Progress | None = None,
) -> Picked | None:
    """The nth row of a table with this fate (None: any) among those that are wanted; None if there are not so many.

    Raises InputError as a run does.
    """
    part = part_for(rules, [table])
    try:
        return _pick(Run(part, sources, progress=progress), table, wanted, fate, nth, whole=part is rules)
    except _TooLittle:
        for source in sources:
            source.rewind()
        return _pick(Run(rules, sources, progress=progress), table, wanted, fate, nth, whole=True)


class _TooLittle(Exception):
    """A part of the rules can't tell what an embedded text that can't be read does."""


def _pick(run: Run, table: str, wanted: Wanted, fate: Fate | None, nth: int, *, whole: bool) -> Picked | None:
    run.settle()
    seen = keys_of(run.rules.tables.values(), run.last)
    before = documents = 0
    bad: BadDocument | None = None
    for batch in read_batches(run.sources, projection=run.projection):
        tables = run.decided(batch, seen)
        if tables.blamed and not whole:
            raise _TooLittle
        rows = tables.tables[table]
        chosen = wanted(rows, [row for row in range(rows.count) if fate in (None, rows.fates[row])])
        if before + len(chosen) >= nth:
            row = chosen[nth - 1 - before]
            return _picked(tables, rows, row)
        before += len(chosen)
        documents += len(tables.batch.documents)
        bad = bad or next(iter(tables.batch.bad), None)
        if run.progress:
            run.progress(batch.size)
    if bad is not None and not documents:
        raise nothing_read(bad.source.name, bad.finding)
    return None


def _picked(tables: BatchTables, rows: TableBatch, row: int) -> Picked:
    batch, number = tables.batch, rows.document(row)
    first = next(other for other in range(rows.count) if rows.document(other) == number)
    source = batch.sources[number]
    bad_texts = tables.bad_texts.get(number, [])
    document = Document(
        batch.whole(number), source.name, batch.numbers[number], batch.origins[number], bad_texts=bad_texts
    )
    return Picked(document, row - first, Fate(rows.fates[row]))


def all_rows(_: TableBatch, rows: Sequence[int]) -> Sequence[int]:
    return rows


def with_values(table: Table, values: Mapping[str, str]) -> Wanted:
    """Rows with these texts in these fields, as they are written."""

    def wanted(batch: TableBatch, rows: Sequence[int]) -> Sequence[int]:
        columns = {name: written(batch.arrays[name], table.types[name]).to_pylist() for name in values}
        return [row for row in rows if all(columns[name][row] == value for name, value in values.items())]

    return wanted


class Condition:
    """An SQL condition over fields of some types; what is unknown, or an error, is not met. Raises ExpressionError."""

    def __init__(self, types: Mapping[str, ValueType], text: str) -> None:
        self.expression = compile_expression(text, types, _reading)
        self.names = tuple(dict.fromkeys(self.expression.fields()))
        if not isinstance(self.expression.type, Boolean):
            kind = self.expression.type.name if self.expression.type else "null"
            message = f"a condition is wanted, but this is {kind}"
            raise ExpressionError("expression-type", message, text, 0, "compare it with something")

    def __call__(self, row: Mapping[str, Any]) -> bool:
        try:
            return evaluate(self.expression, row) is True
        except Bad:
            return False


def meeting(condition: Condition) -> Wanted:
    """Rows that meet a condition."""

    def wanted(batch: TableBatch, rows: Sequence[int]) -> Sequence[int]:
        columns = {name: batch.arrays[name] for name in condition.names}
        return [row for row in rows if condition({name: column[row].as_py() for name, column in columns.items()})]

    return wanted


def _reading(name: str) -> Reading:
    """What a CAST in a condition names."""
    kind = parse_type(name)
    if kind is None:
        raise TypeNameError(f"no type {name}")
    return Reading(kind)
