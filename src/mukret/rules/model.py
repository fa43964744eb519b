"""A checked rules file: frozen, complete, every name resolved and every expression typed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Literal

from mukret.expressions import Expression
from mukret.paths import Condition, Location, Path
from mukret.types import Enum, Reading, ValueType
from mukret.values import JsonValue

Take = Literal["only", "first", "all", "count"]
Policy = Literal["reject", "null", "stop"]
RESPONSE = "response.fields"
"""The origin of fields that tables inherit from the document itself; with its point it can't be a table's name."""


@dataclass(frozen=True)
class At:
    """The first of `paths` that finds a value other than null; `take` says what of several nodes counts."""

    paths: tuple[Path, ...]
    take: Take


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
    """What the run knows about a row: `name` or `position`."""

    name: Literal["name", "position"]


@dataclass(frozen=True)
class Field:
    name: str
    source: At | Compute | Constant | Fact
    reading: Reading
    required: bool = False
    default: object = None
    bad: Policy = "reject"
    keep: bool = True
    note: str | None = None
    measured_in: str | None = None
    line: int = 0
    column: int = 0

    @property
    def type(self) -> ValueType:
        return self.reading.type


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
class FoundRow:
    """`location` is below the node in which rows were looked for; `spread`: it is an element of an array that
    a path found, and stands under the name of that array."""

    location: Location
    node: JsonValue
    spread: bool = False


@dataclass(frozen=True)
class Rows:
    """Where the rows of a table are: all nodes of the first path, then of the next. With `spread` an array among them
    gives its elements, null no row. A node for which `when` does not hold is no row."""

    paths: tuple[Path, ...]
    when: Condition | None = None
    spread: bool = False

    def find(self, root: JsonValue) -> list[FoundRow]:
        """The rows below a document or a row of the parent table, in their order."""
        found = [row for path in self.paths for row in self.candidates(path, root)]
        return [row for row in found if self.when is None or self.when.holds(row.node, root)]

    def candidates(self, path: Path, root: JsonValue) -> Iterator[FoundRow]:
        for location, node in path.nodes(root):
            if not self.spread:
                yield FoundRow(location, node)
            elif type(node) is list:
                yield from (FoundRow((*location, number), element, True) for number, element in enumerate(node))
            elif node is not None:
                yield FoundRow(location, node)

    @property
    def may_be_the_parent(self) -> bool:
        """Whether a row can be the very node in which rows are looked for."""
        return any(not path.segments for path in self.paths)


@dataclass(frozen=True)
class Table:
    """`fields` stand in the order of the file, `evaluation` in an order in which expressions find their operands."""

    name: str
    rows: Rows
    within: str | None
    inherit: tuple[Inherited, ...]
    fields: tuple[Field, ...]
    evaluation: tuple[Field, ...]
    key: tuple[str, ...] = ()
    where: Expression | None = None
    note: str | None = None
    line: int = 0
    column: int = 0

    @property
    def columns(self) -> tuple[tuple[str, ValueType], ...]:
        """Name and type of each column that is written, in order."""
        return (
            *((inherited.name, inherited.type) for inherited in self.inherit),
            *((own.name, own.type) for own in self.fields if own.keep),
        )

    @property
    def judges_shape(self) -> bool:
        """Whether a row that is no object is bad: there are paths, and all begin with a member name."""
        paths = [path for own in self.fields if isinstance(own.source, At) for path in own.source.paths]
        return bool(paths) and all(path.begins_with_name for path in paths)


@dataclass(frozen=True)
class Example:
    """A document and what it must give: rows (the fields that are named, in order) or a number of rows per table."""

    shows: str
    response: JsonValue
    gives: Mapping[str, int | tuple[Mapping[str, object], ...]]
    rejected: int
    line: int
    column: int


@dataclass(frozen=True)
class Rules:
    file: str
    sha256: str
    title: str | None
    note: str | None
    enums: Mapping[str, Enum]
    response_fields: tuple[Field, ...]
    response_evaluation: tuple[Field, ...]
    tables: Mapping[str, Table]
    examples: tuple[Example, ...] = field(default=())

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
