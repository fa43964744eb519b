"""The typed tree of an expression. A node's `type` is None only for a bare NULL."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from mukret.types import Boolean, Enum, TypeSpec, ValueType

# The key under which a row holds the one instant of the run.
NOW = "CURRENT_TIMESTAMP"

ArithmeticOperator = Literal["+", "-", "*", "/"]
ComparisonOperator = Literal["=", "<>", "<", "<=", ">", ">="]


@dataclass(frozen=True)
class Expression:
    type: ValueType | None

    @property
    def parts(self) -> tuple[Expression, ...]:
        """The expressions directly below this one."""
        return ()

    def fields(self) -> Iterator[str]:
        """The names of the fields that are read, as often as they stand there."""
        for part in self.parts:
            yield from part.fields()

    def aggregates(self) -> Iterator[Aggregate]:
        """The aggregates over rows of other tables."""
        for part in self.parts:
            yield from part.aggregates()

    @property
    def asks_the_time(self) -> bool:
        return any(part.asks_the_time for part in self.parts)


@dataclass(frozen=True)
class Constant(Expression):
    value: object


def null_of(kind: ValueType | None) -> Constant:
    """NULL, of a type where that is known."""
    return Constant(kind, None)


@dataclass(frozen=True)
class FieldValue(Expression):
    name: str

    def fields(self) -> Iterator[str]:
        yield self.name


@dataclass(frozen=True)
class EnumAttribute(Expression):
    name: str
    enum: Enum
    attribute: str

    def fields(self) -> Iterator[str]:
        yield self.name


@dataclass(frozen=True)
class Now(Expression):
    """CURRENT_TIMESTAMP: one instant for the whole run."""

    @property
    def asks_the_time(self) -> bool:
        return True


@dataclass(frozen=True)
class Aggregate(Expression):
    """Over a field of the surviving rows of a table directly within; COUNT without a field counts
    the rows.
    """

    function: str
    table: str
    field: str | None
    separator: str = ""

    @property
    def key(self) -> str:
        """Under which a row holds the value; no field has such a name."""
        return f"{self.function}({self.table}.{self.field}, {self.separator!r})"

    def aggregates(self) -> Iterator[Aggregate]:
        yield self


@dataclass(frozen=True)
class FunctionCall(Expression):
    """A function of `mukret.expressions.functions`, its arguments of the types that it wants."""

    function: str
    arguments: tuple[Expression, ...]

    @property
    def parts(self) -> tuple[Expression, ...]:
        return self.arguments


@dataclass(frozen=True)
class Binary(Expression):
    left: Expression
    right: Expression

    @property
    def parts(self) -> tuple[Expression, ...]:
        return self.left, self.right


@dataclass(frozen=True)
class Arithmetic(Binary):
    """Both operands are integers, or decimals, or floats; `type` is the result's."""

    operator: ArithmeticOperator


@dataclass(frozen=True)
class Temporal(Binary):
    """Arithmetic with dates, instants or durations."""

    operator: ArithmeticOperator


@dataclass(frozen=True)
class Concatenation(Binary):
    pass


@dataclass(frozen=True)
class Comparison(Binary):
    """Operands of one family.

    With `distinct`, nulls compare like values (IS [NOT] DISTINCT FROM).
    """

    operator: ComparisonOperator
    distinct: bool = False


@dataclass(frozen=True)
class Logical(Binary):
    operator: Literal["AND", "OR"]


@dataclass(frozen=True)
class Unary(Expression):
    operand: Expression

    @property
    def parts(self) -> tuple[Expression, ...]:
        return (self.operand,)


@dataclass(frozen=True)
class Negation(Unary):
    pass


@dataclass(frozen=True)
class Inversion(Unary):
    """NOT."""


@dataclass(frozen=True)
class NullTest(Unary):
    """IS NULL."""


@dataclass(frozen=True)
class Extraction(Unary):
    """EXTRACT: `part` in capitals."""

    part: str


@dataclass(frozen=True)
class AtZone(Unary):
    """A datetime from a timestamp, a timestamp from a datetime."""

    zone: str


@dataclass(frozen=True)
class Like(Binary):
    """`escape` is one character, or none."""

    escape: str | None = None


@dataclass(frozen=True)
class Conversion(Unary):
    """To `target`: exactly, unless `target` says round.

    `lenient`: texts go through all the reading options (a field's `type`), blank ones included;
    else (CAST) through the type alone.
    """

    target: TypeSpec
    lenient: bool = False


@dataclass(frozen=True)
class Case(Expression):
    """The first result whose condition is true, evaluated alone; else `otherwise`."""

    branches: tuple[tuple[Expression, Expression], ...]
    otherwise: Expression

    @property
    def parts(self) -> tuple[Expression, ...]:
        return (*(part for branch in self.branches for part in branch), self.otherwise)


@dataclass(frozen=True)
class Coalesce(Expression):
    """The first value that is not null, what follows it not evaluated."""

    items: tuple[Expression, ...]

    @property
    def parts(self) -> tuple[Expression, ...]:
        return self.items


BOOLEAN = Boolean()
