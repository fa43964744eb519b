"""Where the values of a field come from, and what each of these sources reads."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from mukret.expressions import Expression
from mukret.paths import Path

Take = Literal["only", "first", "last", "all", "count", "sum", "min", "max", "join"]


@dataclass(frozen=True)
class Reads:
    """What a value, or a condition, is made of.

    `paths` lead to nodes of the row; with `rest` all that stands in it may be taken. `fields` are
    of the same row, `above` of the row above in a table that recurses. `rows`: the tables whose
    surviving rows are looked at, each with the fields of these; in the same document, or with
    `across_run` in any of the run.
    """

    paths: tuple[Path, ...] = ()
    rest: bool = False
    fields: tuple[str, ...] = ()
    above: tuple[str, ...] = ()
    rows: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    across_run: bool = False


NOTHING = Reads()


def expression_reads(expression: Expression) -> Reads:
    rows: dict[str, tuple[str, ...]] = {}
    for aggregate in expression.aggregates():
        some = () if aggregate.field is None else (aggregate.field,)
        rows[aggregate.table] = (*rows.get(aggregate.table, ()), *some)
    return Reads(fields=tuple(expression.fields()), rows=rows)


@dataclass(frozen=True)
class At:
    """The first of `paths` that finds a value other than null; `take` says what of several nodes
    counts.
    """

    paths: tuple[Path, ...]
    take: Take
    separator: str = ", "

    @property
    def reads(self) -> Reads:
        return Reads(paths=self.paths)


@dataclass(frozen=True)
class Compute:
    """An expression over the row's fields, conversion to the field's type included."""

    text: str
    expression: Expression

    @property
    def reads(self) -> Reads:
        return expression_reads(self.expression)


@dataclass(frozen=True)
class ConstantValue:
    value: object

    @property
    def reads(self) -> Reads:
        return NOTHING


@dataclass(frozen=True)
class Fact:
    """What the run knows about a row or a document: one of ROW_FACTS, DOCUMENT_FACTS, or
    `request.NAME`.
    """

    name: str

    @property
    def of_row(self) -> bool:
        return self.name in ROW_FACTS

    @property
    def reads(self) -> Reads:
        return NOTHING


ROW_FACTS = ("name", "position", "path", "depth", "kind")
DOCUMENT_FACTS = ("document", "file", "page", "fetched_at", "url", "call")
REQUEST_FACT = "request."


@dataclass(frozen=True)
class ParentField:
    """A field of the row above, in a table that recurses; null at the top."""

    field: str

    @property
    def reads(self) -> Reads:
        return Reads(above=(self.field,))


@dataclass(frozen=True)
class Rest:
    """The members of a row that no path goes through by name, as one JSON object."""

    touched: frozenset[str]

    @property
    def reads(self) -> Reads:
        return Reads(rest=True)


Answers = Mapping[tuple[object, ...], object]


@dataclass(frozen=True)
class Lookup:
    """The field `give` of the row of a table whose `key` equals the local fields `by`, of several
    the first: in the same document, or with `across_run` in any of the run.

    `table` is None for a reference, whose `answers` are ready. `forms` bring the values of a pair
    (local, key) to forms that are equal if the values are; None where they are so as they stand.
    """

    name: str
    table: str | None
    by: tuple[str, ...]
    key: tuple[str, ...]
    give: str
    forms: tuple[Callable[[object], object] | None, ...]
    across_run: bool = False
    answers: Answers = field(default_factory=dict, compare=False)

    @property
    def reads(self) -> Reads:
        rows = {} if self.table is None else {self.table: (*self.key, self.give)}
        return Reads(fields=self.by, rows=rows, across_run=self.across_run)

    def form(self, values: tuple[object, ...]) -> tuple[object, ...] | None:
        """Values of the local fields, or of the key, as they are compared; None if one is null:
        nothing equals it.
        """
        if None in values:
            return None
        formed = []
        for form, value in zip(self.forms, values, strict=True):
            formed.append(form(value) if form else value)
        return tuple(formed)


ValueSource = At | Compute | ConstantValue | Fact | ParentField | Rest | Lookup
