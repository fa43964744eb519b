"""A checked rules file: frozen, complete, every name resolved and every expression typed."""

from __future__ import annotations

import re
from collections.abc import Callable, Container, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from fnmatch import fnmatchcase
from functools import cached_property
from pathlib import PurePath
from typing import Literal

from mukret.documents.origin import Origin
from mukret.expressions import Expression
from mukret.paths import Condition, Path
from mukret.rules.rows import Rows
from mukret.types import Enum, Reading, ValueType
from mukret.values import JsonValue

Take = Literal["only", "first", "last", "all", "count", "sum", "min", "max", "join"]
Policy = Literal["reject", "null", "stop"]
Duplicates = Literal["reject", "first", "last"]
RESPONSE = "response.fields"
"""The origin of fields that tables inherit from the document itself; with its point it can't be a table's name."""


@dataclass(frozen=True)
class At:
    """The first of `paths` that finds a value other than null; `take` says what of several nodes counts."""

    paths: tuple[Path, ...]
    take: Take
    separator: str = ", "


@dataclass(frozen=True)
class Compute:
    """An expression over the row's fields, conversion to the field's type included."""

    text: str
    expression: Expression


@dataclass(frozen=True)
class Constant:
    value: object


@dataclass(frozen=True)
class Fact:
    """What the run knows about a row or a document: one of ROW_FACTS, DOCUMENT_FACTS, or `request.NAME`."""

    name: str

    @property
    def of_row(self) -> bool:
        return self.name in ROW_FACTS


ROW_FACTS = ("name", "position", "path", "depth", "kind")
DOCUMENT_FACTS = ("document", "file", "page", "fetched_at", "url", "call")
REQUEST_FACT = "request."


@dataclass(frozen=True)
class Above:
    """A field of the row above, in a table that recurses; null at the top."""

    field: str


@dataclass(frozen=True)
class Rest:
    """The members of a row that no path goes through by name, as one JSON object."""

    touched: frozenset[str]


Answers = Mapping[tuple[object, ...], object]


@dataclass(frozen=True)
class Lookup:
    """The field `give` of the row of a table whose `key` equals the local fields `by`, of several the first: in the
    same document, or with `across_run` in any of the run.

    `table` is None for a reference, whose `answers` are ready. `forms` bring the values of a pair (local, key) to
    forms that are equal if the values are; None where they are so as they stand.
    """

    name: str
    table: str | None
    by: tuple[str, ...]
    key: tuple[str, ...]
    give: str
    forms: tuple[Callable[[object], object] | None, ...]
    across_run: bool = False
    answers: Answers = field(default_factory=dict, compare=False)

    def form(self, values: tuple[object, ...]) -> tuple[object, ...] | None:
        """Values of the local fields, or of the key, as they are compared; None if one is null: nothing equals it."""
        if None in values:
            return None
        return tuple(form(value) if form else value for form, value in zip(self.forms, values, strict=True))


Source = At | Compute | Constant | Fact | Above | Rest | Lookup


@dataclass(frozen=True)
class Field:
    name: str
    source: Source
    reading: Reading
    required: bool = False
    default: object = None
    bad: Policy = "reject"
    keep: bool = True
    note: str | None = None
    measured_in: str | None = None
    title: str | None = None
    """How its column is headed where people read it."""
    file: str = ""
    line: int = 0
    column: int = 0

    @property
    def type(self) -> ValueType:
        return self.reading.type

    @property
    def reads(self) -> tuple[str, ...]:
        """The fields of the same row that the value is made of."""
        match self.source:
            case Compute(expression=expression):
                return tuple(expression.fields())
            case Lookup(by=by):
                return by
        return ()


@dataclass(frozen=True)
class Inherited:
    """A field of an ancestor table, or of the response, copied into each row."""

    name: str
    origin: str
    field: Field

    @property
    def type(self) -> ValueType:
        return self.field.type


@dataclass(frozen=True)
class Table:
    """`fields` stand in the order of the file; `Rules.schedule` has them in the order in which they are evaluated."""

    name: str
    rows: Rows
    within: str | None
    inherit: tuple[Inherited, ...]
    fields: tuple[Field, ...]
    key: tuple[str, ...] = ()
    duplicates: Duplicates = "reject"
    where: Expression | None = None
    kind: str | None = None
    note: str | None = None
    file: str = ""
    line: int = 0
    column: int = 0

    @cached_property
    def columns(self) -> tuple[tuple[str, ValueType], ...]:
        """Name and type of each column that is written, in order."""
        return (
            *((inherited.name, inherited.type) for inherited in self.inherit),
            *((own.name, own.type) for own in self.fields if own.keep),
        )

    @property
    def titles(self) -> dict[str, str]:
        """The title of each column that is written, in order; its name if it has none."""
        kept = [*(item.field for item in self.inherit), *(own for own in self.fields if own.keep)]
        return {own.name: own.title or own.name for own in kept}

    @cached_property
    def types(self) -> dict[str, ValueType]:
        """The type of each field, inherited ones and those that are not written included."""
        return {
            **{inherited.name: inherited.type for inherited in self.inherit},
            **{own.name: own.type for own in self.fields},
        }

    @property
    def judges_shape(self) -> bool:
        """Whether a row that is no object is bad: there are paths, and all begin with a member name."""
        paths = [path for own in self.fields if isinstance(own.source, At) for path in own.source.paths]
        return bool(paths) and all(path.begins_with_name for path in paths)


@dataclass(frozen=True)
class Embedded:
    """Where texts stand that hold JSON text."""

    path: Path
    file: str
    line: int
    column: int


@dataclass(frozen=True)
class Kind:
    """One of several kinds of response that a rules file serves: all that is given must fit. `files` are patterns for
    the name of the file, one of which must; `when` is a condition on the document. `must_have`: what every document of
    the kind has. One that is not `described` is that of the call of its name."""

    name: str
    files: tuple[str, ...] = ()
    call: str | None = None
    when: Condition | None = None
    must_have: tuple[Path, ...] = ()
    described: bool = True

    def fits(self, document: JsonValue, file: str, call: str | None) -> bool:
        return self.came_by(file, call) and (self.when is None or self.when.holds(document, document))

    def came_by(self, file: str, call: str | None) -> bool:
        """Whether the file and the call that a document came by are those of the kind."""
        if self.files and not any(fnmatchcase(name, files) for name in file_names(file) for files in self.files):
            return False
        return self.call is None or self.call == call


def file_names(path: str) -> tuple[str, str]:
    """The name of a file without its folders, as it is and without the suffix of a compression."""
    name = PurePath(path).name
    return name, re.sub(r"\.(?:gz|zst|bz2|xz)$", "", name)


@dataclass(frozen=True)
class Example:
    """A document and what it must give: rows (the fields that are named, in order) or a number of rows per table.

    `input`, `document`, `origin` and `now` are the file, the number in it, the request and the time that the run knows.
    """

    shows: str
    response: JsonValue
    gives: Mapping[str, int | tuple[Mapping[str, object], ...]]
    rejected: int
    origin: Origin | None
    now: datetime | None
    document: int
    input: str
    file: str
    line: int
    column: int


@dataclass(frozen=True)
class Inherit:
    """A step of the schedule: an inherited field of all rows of a table."""

    table: str
    inherited: Inherited


@dataclass(frozen=True)
class Derive:
    """A step of the schedule: a field of all rows of a table is read, derived or looked up."""

    table: str
    field: Field


WHERE = "where "
"""Stands for the condition of a table among the names of its fields; with its space it can't be one."""


@dataclass(frozen=True)
class Survive:
    """A step of the schedule: which rows of a table are neither rejected nor filtered for themselves, so that lookups
    may see them. `without`: fields that themselves hang on the answer, and are left out of the judgement."""

    table: str
    without: frozenset[str] = frozenset()


Step = Inherit | Derive | Survive


@dataclass(frozen=True)
class Rules:
    file: str
    sha256: str
    title: str | None
    note: str | None
    enums: Mapping[str, Enum]
    response_fields: tuple[Field, ...]
    tables: Mapping[str, Table]
    schedule: tuple[Step, ...]
    examples: tuple[Example, ...] = field(default=())
    embedded: tuple[Embedded, ...] = ()
    must_have: tuple[Path, ...] = ()
    kinds: Mapping[str, Kind] = field(default_factory=dict)
    ignore: tuple[Path, ...] = ()
    included: Mapping[str, str] = field(default_factory=dict)
    """SHA-256 of each file that this one includes or refers to, by its path."""

    @cached_property
    def looks_ahead(self) -> bool:
        """Whether a row may hang on rows that come later, so that the input must be gone through before."""
        fields = [*self.response_fields, *(own for table in self.tables.values() for own in table.fields)]
        across = any(isinstance(own.source, Lookup) and own.source.across_run for own in fields)
        return across or any(table.duplicates == "last" for table in self.tables.values())

    def around(self, name: str, written: Container[str]) -> str | None:
        """The nearest table around a table that is among those that are written."""
        above = self.tables[name].within
        while above is not None and above not in written:
            above = self.tables[above].within
        return above

    def parents_first(self) -> list[Table]:
        """All tables, each after the one that it is within, otherwise in the order of the file."""
        ordered: list[Table] = []
        waiting = list(self.tables.values())
        while waiting:
            placed = {table.name for table in ordered}
            ready = [table for table in waiting if table.within is None or table.within in placed]
            ordered += ready
            waiting = [table for table in waiting if table not in ready]
        return ordered


def must_haves(rules: Rules) -> Iterator[Path]:
    """All that documents must have, of whatever kind."""
    yield from rules.must_have
    for kind in rules.kinds.values():
        yield from kind.must_have
