"""One row out of all, by its number, its key, a condition, or its number among the rejected."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa

from mukret.codes import Code
from mukret.columns.types import written
from mukret.documents import BadDocument, Source, nothing_read
from mukret.engine.decided import DecidedTable
from mukret.engine.run import Progress, Run
from mukret.errors import ExpressionError
from mukret.expressions import evaluate
from mukret.expressions.check import compile_expression
from mukret.rules.model import Rules, Table
from mukret.rules.part import part_for
from mukret.rules.sources import Lookup
from mukret.semantics.answers import Form
from mukret.semantics.outcomes import RowOutcome
from mukret.types import Bad, Boolean, TypeSpec, ValueType
from mukret.types.names import TypeNameError, parse_type


@dataclass(frozen=True)
class Picked:
    """A row of a table, by its number in a batch, and all tables of that batch."""

    tables: Mapping[str, DecidedTable]
    table: DecidedTable
    row: int

    @property
    def outcome(self) -> RowOutcome:
        return RowOutcome(self.table.outcomes.row_outcomes[self.row])

    @property
    def file(self) -> str:
        return self.table.rows.batch.sources[self.table.rows.document(self.row)].name

    @property
    def document(self) -> int:
        """The number of its document in the file."""
        return self.table.rows.batch.numbers[self.table.rows.document(self.row)]


# Those of some rows of a batch that are asked for.
RowFilter = Callable[[DecidedTable, Sequence[int]], Sequence[int]]


def pick(
    rules: Rules,
    sources: Sequence[Source],
    table: str,
    wanted: RowFilter,
    outcome: RowOutcome | None,
    nth: int = 1,
    *,
    progress: Progress | None = None,
) -> Picked | None:
    """The nth row of a table with this outcome (None: any) among those that are wanted; None if
    there are not so many.

    Raises InputError as a run does.
    """
    # Mostly the tables around it are enough, and the others cost their time.
    part = part_for(rules, [table])
    try:
        return _pick(
            Run(part, sources, progress=progress, whole=rules),
            table,
            wanted,
            outcome,
            nth,
            whole=part is rules,
        )
    except _TooLittle:
        # Something was needed that the part has not: once more from the beginning.
        for source in sources:
            source.rewind()
        return _pick(
            Run(rules, sources, progress=progress),
            table,
            wanted,
            outcome,
            nth,
            whole=True,
        )


class _TooLittle(Exception):
    """A part of the rules can't tell what an embedded text that can't be read does."""


def pick_answer(
    rules: Rules, sources: Sequence[Source], lookup: Lookup, form: Form
) -> Picked | None:
    """The row of which a lookup across the run takes a value: the first with this key.

    The sources are kept.
    """

    def wanted(table: DecidedTable, _: Sequence[int]) -> Sequence[int]:
        return [row for row, key, _ in table.columns.answered(lookup) if key == form]

    for source in sources:
        source.rewind()
    return pick(rules, sources, str(lookup.table), wanted, None)


def _pick(
    run: Run,
    table: str,
    wanted: RowFilter,
    outcome: RowOutcome | None,
    nth: int,
    *,
    whole: bool,
) -> Picked | None:
    before = documents = bad_documents = 0
    bad: BadDocument | None = None
    for rows in run.decided_rows():
        if rows.found.has_text_faults and not whole:
            raise _TooLittle
        here = next((decided for decided in rows.new if decided.name == table), None)
        if here is not None:  # else a part of a document in which it has none
            chosen = wanted(here, _with_outcome(here, outcome))
            if before + len(chosen) >= nth:
                return Picked(rows.tables, here, chosen[nth - 1 - before])
            before += len(chosen)
        documents += len(rows.batch.documents)
        bad_documents += len(rows.batch.bad)
        bad = bad or next(iter(rows.batch.bad), None)
        if run.progress:
            run.progress(rows.batch.size)
    if bad is not None and not documents:
        raise nothing_read(bad, bad_documents)
    return None


def _with_outcome(table: DecidedTable, outcome: RowOutcome | None) -> list[int]:
    """The numbers of the rows with an outcome, or of all."""
    outcomes = table.outcomes.row_outcomes
    return [row for row, known in enumerate(outcomes) if outcome in (None, known)]


def all_rows(_: DecidedTable, rows: Sequence[int]) -> Sequence[int]:
    return rows


def with_values(table: Table, values: Mapping[str, str]) -> RowFilter:
    """Rows with these texts in these fields, as they are written."""

    def wanted(decided: DecidedTable, rows: Sequence[int]) -> Sequence[int]:
        columns = {
            # Compared as it is written: what somebody types comes from a table that we wrote.
            name: written(decided.columns.array(name), table.types[name]).to_pylist()
            for name in values
        }
        picked = rows
        # One field after the other, each over the rows that are left.
        for name, value in values.items():
            picked = [row for row in picked if columns[name][row] == value]
        return picked

    return wanted


class RowCondition:
    """An SQL condition over fields of some types; what is unknown, or an error, is not met.

    Raises ExpressionError.
    """

    def __init__(self, types: Mapping[str, ValueType], text: str) -> None:
        self.expression = compile_expression(text, types, _reading)
        self.names = tuple(dict.fromkeys(self.expression.fields()))
        if not isinstance(self.expression.type, Boolean):
            kind = self.expression.type.name if self.expression.type else "null"
            message = f"a condition is wanted, but this is {kind}"
            raise ExpressionError(
                Code.EXPRESSION_TYPE, message, text, 0, "compare it with something"
            )

    def __call__(self, row: Mapping[str, object]) -> bool:
        try:
            return evaluate(self.expression, row) is True
        except Bad:
            return False


def meeting(condition: RowCondition) -> RowFilter:
    """Rows that meet a condition."""

    def wanted(table: DecidedTable, rows: Sequence[int]) -> Sequence[int]:
        # Only the fields of the condition are taken out of their columns, row by row.
        columns = {name: table.columns.array(name) for name in condition.names}
        return [row for row in rows if condition(_cells(columns, row))]

    return wanted


def _cells(columns: Mapping[str, pa.Array], row: int) -> dict[str, object]:
    return {name: column[row].as_py() for name, column in columns.items()}


def _reading(name: str) -> TypeSpec:
    """What a CAST in a condition names."""
    kind = parse_type(name)
    if kind is None:
        raise TypeNameError(f"no type {name}")
    return TypeSpec(kind)
