"""Typing operators: arithmetic, comparison, logic, branches."""

from __future__ import annotations

from typing import cast

from lark import Tree

from mukret.codes import Code
from mukret.expressions import families
from mukret.expressions.parse import Syntax
from mukret.expressions.temporal import temporal_type
from mukret.expressions.tree import (
    BOOLEAN,
    Arithmetic,
    ArithmeticOperator,
    Case,
    Comparison,
    ComparisonOperator,
    Concatenation,
    Constant,
    Expression,
    Inversion,
    Logical,
    Negation,
    NullTest,
    Temporal,
)
from mukret.expressions.typing_basics import Basics
from mukret.text import did_you_mean
from mukret.types import (
    Boolean,
    Duration,
    Enum,
    Float,
    Integer,
    Text,
    ValueType,
)
from mukret.types.numbers import MAX_DIGITS


class Operators(Basics):
    # ---- operators

    def _identity(self, node: Syntax) -> Expression:
        [child] = self.children(node)
        return self.numeric(child, "+")

    def _negation(self, node: Syntax) -> Expression:
        [child] = self.children(node)
        operand = self.check(child)
        if not isinstance(operand.type, Duration):
            operand = self.numeric(child, "-")
        kind = operand.type or Integer()
        return Negation(kind, self.widened(operand, kind))

    def numeric(self, node: Syntax, operator: str) -> Expression:
        return self.as_number(self.check(node), node, operator)

    def as_number(
        self, expression: Expression, node: Syntax, operator: str
    ) -> Expression:
        if expression.type is not None and not families.is_numeric(expression.type):
            text_hint = (
                "cast it first: CAST(… AS decimal(12,2))"
                if families.is_textual(expression.type)
                else None
            )
            hint = (
                "texts are joined by ||"
                # Who comes from Python or JavaScript writes it so.
                if operator == "+" and families.is_textual(expression.type)
                else text_hint
            )
            raise self.fail(
                node,
                f"{operator} wants numbers, but this is {expression.type.name}",
                hint,
            )
        return expression

    def _arithmetic(self, node: Syntax) -> Expression:
        left_node, sign, right_node = node.children
        assert isinstance(left_node, Tree)
        assert isinstance(right_node, Tree)
        operator = cast(ArithmeticOperator, str(sign))
        left = self.check(left_node)
        if not families.is_timely(left.type):
            self.as_number(left, left_node, operator)
        right = self.check(right_node)
        if families.is_timely(left.type) or families.is_timely(right.type):
            return self.with_times(node, operator, left, right)
        self.as_number(right, right_node, operator)
        # A bare NULL is a number like the other operand.
        left_type = left.type or right.type or Integer()
        right_type = right.type or left_type
        result = families.arithmetic_type(operator, left_type, right_type)
        if result is None:
            message = (
                f"{left_type.name} * {right_type.name} would need more than {MAX_DIGITS} "
                "digits after the point"
            )
            raise self.fail(node, message, "cast one of them to fewer first")
        if isinstance(result, Float):
            left_type = right_type = result
        return Arithmetic(
            result,
            self.widened(left, left_type),
            self.widened(right, right_type),
            operator,
        )

    def with_times(
        self,
        node: Syntax,
        operator: ArithmeticOperator,
        left: Expression,
        right: Expression,
    ) -> Expression:
        """Arithmetic of which one side is a date, an instant or a duration."""
        # A bare NULL takes the type of the other side.
        left_type, right_type = left.type or right.type, right.type or left.type
        assert left_type is not None
        assert right_type is not None
        result = temporal_type(operator, left_type, right_type)
        if result is None:
            hint = "durations are written INTERVAL '90' MINUTE"
            if {families.family(left_type), families.family(right_type)} == {
                "timestamp",
                "datetime",
            }:
                hint = "AT TIME ZONE makes one out of the other"
            raise self.fail(
                node,
                f"{left_type.name} {operator} {right_type.name} means nothing",
                hint,
            )
        return Temporal(
            result,
            self.widened(left, left_type),
            self.widened(right, right_type),
            operator,
        )

    def _concatenation(self, node: Syntax) -> Expression:
        parts = []
        for child in self.children(node):
            part = self.check(child)
            # No silent cast: how a number is written as text is for the writer of the rules to say.
            if part.type is not None and not families.is_textual(part.type):
                raise self.fail(
                    child,
                    f"|| joins texts, but this is {part.type.name}",
                    "write CAST(… AS text)",
                )
            parts.append(part)
        return Concatenation(Text(), parts[0], parts[1])

    def _comparison(self, node: Syntax) -> Expression:
        left, operator, right = node.children
        assert isinstance(left, Tree)
        assert isinstance(right, Tree)
        return self.compared(left, cast(ComparisonOperator, str(operator)), right)

    def compared(
        self,
        left: Syntax,
        operator: ComparisonOperator,
        right: Syntax,
        *,
        distinct: bool = False,
    ) -> Expression:
        a, b = self.check(left), self.check(right)
        self.check_comparable(a, operator, b, right)
        self.check_word(a, b, right)
        self.check_word(b, a, left)
        left_type = a.type or b.type or Text()
        right_type = b.type or left_type
        # Floats and decimals are compared as floats, as SQL does: no decimal has the digits of
        # every float.
        if isinstance(left_type, Float) or isinstance(right_type, Float):
            left_type = right_type = Float()
        return Comparison(
            BOOLEAN,
            self.widened(a, left_type),
            self.widened(b, right_type),
            operator,
            distinct,
        )

    def check_comparable(
        self, a: Expression, operator: str, b: Expression, where: Syntax
    ) -> None:
        if a.type is None or b.type is None:
            return
        if not families.comparable(a.type, b.type):
            hint = None
            # A text beside a date is mostly a date that was written without its word.
            for literal, other in ((a, b), (b, a)):
                if (
                    isinstance(literal, Constant)
                    and isinstance(literal.type, Text)
                    and other.type
                ):
                    hint = self.literal_hint(str(literal.value), other.type)
            raise self.fail(
                where, f"{a.type.name} and {b.type.name} can't be compared", hint
            )
        if operator not in ("=", "<>") and (
            isinstance(a.type, Enum) or isinstance(b.type, Enum)
        ):
            raise self.fail(
                where,
                "enums have no order: only = and <> compare them",
                "give the values a rank and compare that",
            )

    @staticmethod
    def literal_hint(text: str, kind: ValueType) -> str | None:
        """How a literal of a type is written."""
        if families.is_numeric(kind):
            return "leave out the quotes around a number"
        # A text is compared with no date (SQL would cast it): a typo in it would be found in no
        # row.
        match families.family(kind):
            case "date":
                return f"write DATE '{text}'"
            case "timestamp" | "datetime":
                return f"write TIMESTAMP '{text}'"
            case "duration":
                return "write INTERVAL '90' MINUTE"
            case "time":
                return f"write CAST('{text}' AS time)"
        return None

    def check_word(self, enum: Expression, literal: Expression, where: Syntax) -> None:
        if (
            isinstance(enum.type, Enum)
            and isinstance(literal, Constant)
            and isinstance(literal.value, str)
        ):
            names = enum.type.names
            # It would be false for all rows, or true for all, and nobody would see why.
            if literal.value not in names:
                message = f"'{literal.value}' is no value of the enum {enum.type.name}"
                raise self.fail(
                    where,
                    message,
                    did_you_mean(literal.value, names),
                    Code.UNKNOWN_ENUM_VALUE,
                )

    def _is_distinct(self, node: Syntax) -> Expression:
        left, right = self.children(node)
        return self.compared(left, "<>", right, distinct=True)

    def _is_not_distinct(self, node: Syntax) -> Expression:
        left, right = self.children(node)
        return self.compared(left, "=", right, distinct=True)

    def _between(self, node: Syntax) -> Expression:
        value, low, high = self.children(node)
        return Logical(
            BOOLEAN,
            self.compared(value, ">=", low),
            self.compared(value, "<=", high),
            "AND",
        )

    def _not_between(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self._between(node))

    def _in_list(self, node: Syntax) -> Expression:
        value, *items = self.children(node)
        comparisons: list[Expression] = [
            self.compared(value, "=", item) for item in items
        ]
        while (
            len(comparisons) > 1
        ):  # in pairs, so that a long list makes a shallow tree
            pairs = zip(comparisons[::2], comparisons[1::2], strict=False)
            joined: list[Expression] = [
                Logical(BOOLEAN, left, right, "OR") for left, right in pairs
            ]
            comparisons = joined + comparisons[len(joined) * 2 :]
        return comparisons[0]

    def _not_in_list(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self._in_list(node))

    def _is_null(self, node: Syntax) -> Expression:
        return NullTest(BOOLEAN, self.checked(node)[0])

    def _is_not_null(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self._is_null(node))

    # ---- logic

    def condition(self, node: Syntax, role: str) -> Expression:
        expression = self.check(node)
        if expression.type is not None and not isinstance(expression.type, Boolean):
            raise self.fail(
                node,
                f"{role} wants a condition, but this is {expression.type.name}",
                "compare it with something",
            )
        return self.widened(expression, BOOLEAN)

    def _disjunction(self, node: Syntax) -> Expression:
        left, right = (self.condition(child, "OR") for child in self.children(node))
        return Logical(BOOLEAN, left, right, "OR")

    def _conjunction(self, node: Syntax) -> Expression:
        left, right = (self.condition(child, "AND") for child in self.children(node))
        return Logical(BOOLEAN, left, right, "AND")

    def _inversion(self, node: Syntax) -> Expression:
        return Inversion(BOOLEAN, self.condition(self.children(node)[0], "NOT"))

    # ---- branches

    def _searched_case(self, node: Syntax) -> Expression:
        branches, otherwise = self.split_case(self.children(node))
        conditions = [
            self.condition(self.children(branch)[0], "WHEN") for branch in branches
        ]
        return self.case(conditions, branches, otherwise)

    def _simple_case(self, node: Syntax) -> Expression:
        operand, *rest = self.children(node)
        branches, otherwise = self.split_case(rest)
        conditions = [
            self.compared(operand, "=", self.children(branch)[0]) for branch in branches
        ]
        return self.case(conditions, branches, otherwise)

    @staticmethod
    def split_case(nodes: list[Syntax]) -> tuple[list[Syntax], Syntax | None]:
        return [node for node in nodes if node.data == "when"], next(
            (node for node in nodes if node.data != "when"), None
        )

    def case(
        self,
        conditions: list[Expression],
        branches: list[Syntax],
        otherwise: Syntax | None,
    ) -> Expression:
        nodes = [self.children(branch)[1] for branch in branches]
        *results, last = self.unified(
            [*nodes, otherwise] if otherwise else nodes, extra_null=otherwise is None
        )
        return Case(last.type, tuple(zip(conditions, results, strict=True)), last)

    def unified(
        self, nodes: list[Syntax], *, extra_null: bool = False
    ) -> list[Expression]:
        """The expressions, all converted to their common type."""
        expressions = [self.check(node) for node in nodes]
        kind: ValueType | None = None
        for node, expression in zip(nodes, expressions, strict=True):
            try:
                # Branch by branch, so that the one that does not fit can be named.
                kind = families.common_type(kind, expression.type)
            except TypeError:
                assert kind is not None
                assert expression.type is not None
                raise self.fail(
                    node,
                    f"one branch gives {kind.name}, this one {expression.type.name}",
                    "cast one of them",
                ) from None
        if extra_null:
            expressions.append(Constant(None, None))
        return [self.widened(expression, kind or Text()) for expression in expressions]
