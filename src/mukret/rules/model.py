"""A checked rules file: frozen, complete, every name resolved and every expression typed."""

from __future__ import annotations

import re
from collections.abc import Container, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from fnmatch import fnmatchcase
from functools import cached_property
from pathlib import PurePath
from typing import Literal

from mukret.documents.origin import Origin
from mukret.expressions import Expression
from mukret.paths import Condition, Path
from mukret.rules.rows import RowRules
from mukret.rules.sources import Reads, ValueSource
from mukret.types import Enum, TypeSpec, ValueType
from mukret.values import JsonValue

Policy = Literal["reject", "null", "stop"]
Duplicates = Literal["reject", "first", "last"]
# The origin of fields that tables inherit from the document itself; with its point it can't be a
# table's name.
RESPONSE = "response.fields"


@dataclass(frozen=True)
class Field:
    name: str
    source: ValueSource
    reading: TypeSpec
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
    def reads(self) -> Reads:
        """What its values are made of."""
        return self.source.reads


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
    """`fields` stand in the order of the file; `Rules.schedule` has them in the order in which they
    are evaluated.
    """

    name: str
    rows: RowRules
    within: str | None
    inherit: tuple[Inherited, ...]
    fields: tuple[Field, ...]
    key: tuple[str, ...] = ()
    duplicates: Duplicates = "reject"
    where: Expression | None = None
    where_text: str | None = None
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
            *(
                (own_field.name, own_field.type)
                for own_field in self.fields
                if own_field.keep
            ),
        )

    @property
    def column_types(self) -> dict[str, str]:
        """The name of the type of each column that is written, in order."""
        return {name: kind.name for name, kind in self.columns}

    @property
    def titles(self) -> dict[str, str]:
        """The title of each column that is written, in order; its name if it has none."""
        kept = [
            *(item.field for item in self.inherit),
            *(own_field for own_field in self.fields if own_field.keep),
        ]
        return {own_field.name: own_field.title or own_field.name for own_field in kept}

    @cached_property
    def types(self) -> dict[str, ValueType]:
        """The type of each field, inherited ones and those that are not written included."""
        return {
            **{inherited.name: inherited.type for inherited in self.inherit},
            **{own_field.name: own_field.type for own_field in self.fields},
        }

    @property
    def judges_shape(self) -> bool:
        """Whether a row that is no object is bad: there are paths, and all begin with a member
        name.
        """
        paths = [path for own_field in self.fields for path in own_field.reads.paths]
        return bool(paths) and all(path.begins_with_name for path in paths)


@dataclass(frozen=True)
class Embedded:
    """Where texts stand that hold JSON text."""

    path: Path
    file: str
    line: int
    column: int


@dataclass(frozen=True)
class ResponseKind:
    """One of several kinds of response that a rules file serves: all that is given must fit.

    `files` are patterns for the name of the file, one of which must; `when` is a condition on the
    document. `must_have`: what every document of the kind has. One that is not `described` is that
    of the call of its name.
    """

    name: str
    files: tuple[str, ...] = ()
    call: str | None = None
    when: Condition | None = None
    must_have: tuple[Path, ...] = ()
    described: bool = True

    def fits(self, document: JsonValue, file: str, call: str | None) -> bool:
        return self.came_by(file, call) and (
            self.when is None or self.when.holds(document, document)
        )

    def came_by(self, file: str, call: str | None) -> bool:
        """Whether the file and the call that a document came by are those of the kind."""
        if self.files and not any(
            fnmatchcase(name, files)
            for name in file_names(file)
            for files in self.files
        ):
            return False
        return self.call is None or self.call == call


def file_names(path: str) -> tuple[str, str]:
    """The name of a file without its folders, as it is and without the suffix of a compression."""
    name = PurePath(path).name
    return name, re.sub(r"\.(?:gz|zst|bz2|xz)$", "", name)


@dataclass(frozen=True)
class Example:
    """A document and what it must give: rows (the fields that are named, in order) or a number of
    rows per table.

    `input`, `document`, `origin` and `now` are the file, the number in it, the request and the time
    that the run knows.
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


# Stands for the condition of a table among the names of its fields; with its space it can't be one.
WHERE = "where "


@dataclass(frozen=True)
class Survive:
    """A step of the schedule: which rows of a table are neither rejected nor filtered for
    themselves, so that lookups may see them. `without`: fields that themselves hang on the answer,
    and are left out of the judgement.
    """

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
    kinds: Mapping[str, ResponseKind] = field(default_factory=dict)
    ignore: tuple[Path, ...] = ()
    included: Mapping[str, str] = field(default_factory=dict)
    """SHA-256 of each file that this one includes or refers to, by its path."""

    @cached_property
    def looks_ahead(self) -> bool:
        """Whether a row may hang on rows that come later, so that the input must be gone through
        before.
        """
        across = any(own_field.reads.across_run for _, own_field in self.all_fields())
        return across or any(
            table.duplicates == "last" for table in self.tables.values()
        )

    def all_fields(self) -> Iterator[tuple[str, Field]]:
        """The fields of the response and of all tables, each with the table's name."""
        yield from ((RESPONSE, own_field) for own_field in self.response_fields)
        for table in self.tables.values():
            yield from ((table.name, own_field) for own_field in table.fields)

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
            # The order of the file where it can be kept: people find tables again where they wrote
            # them.
            ready = [
                table
                for table in waiting
                if table.within is None or table.within in placed
            ]
            ordered += ready
            waiting = [table for table in waiting if table not in ready]
        return ordered


def must_haves(rules: Rules) -> Iterator[Path]:
    """All that documents must have, of whatever kind."""
    yield from rules.must_have
    for kind in rules.kinds.values():
        yield from kind.must_have
