"""Types an expression before any data is read: syntax tree in, typed tree out, or an error at a
character.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import cast

from lark import Token, Tree

from mukret.codes import Code
from mukret.errors import ExpressionError
from mukret.expressions.parse import Syntax, parse_expression
from mukret.expressions.tree import (
    Conversion,
    Expression,
)
from mukret.expressions.typing_basics import Children, TypeNames, unquoted
from mukret.expressions.typing_calls import AGGREGATES, Calls
from mukret.types import (
    TypeSpec,
    ValueType,
)
from mukret.types.base import PLAIN


def compile_expression(
    text: str,
    fields: Mapping[str, ValueType],
    types: TypeNames,
    children: Children | None = None,
) -> Expression:
    """Parse and type an expression over fields of the given types, and over the rows of tables
    directly within.

    Raises ExpressionError.
    """
    try:
        return Calls(text, fields, types, children or {}).check(parse_expression(text))
    # Some ten thousand parentheses: nobody writes them, but a generator of rules may.
    except RecursionError:
        raise ExpressionError(
            Code.EXPRESSION_SYNTAX,
            "nested too deeply",
            text,
            0,
            "split it into several fields",
        ) from None


def names_in(text: str) -> list[tuple[str, int]]:
    """The fields of the row that an expression mentions, each with its position.

    Raises ExpressionError.
    """
    tree = parse_expression(text)
    over = {id(node) for node in _aggregated(tree)}
    return [
        (unquoted(token), token.start_pos or 0)
        for node in tree.iter_subtrees()
        if node.data in ("field", "attribute") and id(node) not in over
        for token in [cast(Token, node.children[0])]
    ]


def aggregates_in(text: str) -> list[tuple[str, str | None]]:
    """The tables over which an expression aggregates, each with the field, if it names one.

    Raises ExpressionError.
    """
    return list(map(_table_and_field, _aggregated(parse_expression(text))))


def _table_and_field(node: Syntax) -> tuple[str, str | None]:
    # By the tree alone, before anything has a type: which tables come first hangs on it.
    table = unquoted(cast(Token, node.children[0]))
    if node.data != "attribute":
        return table, None
    return table, unquoted(cast(Token, node.children[1]))


def _aggregated(tree: Syntax) -> list[Syntax]:
    """What stands in the parentheses of aggregates: a table, or a field of one."""
    calls = [
        node
        # Wherever they stand in the expression.
        for node in tree.iter_subtrees()
        if node.data == "call" and str(node.children[0]).upper() in AGGREGATES
    ]
    return [
        argument
        for node in calls
        for argument in node.children[1:2]
        if isinstance(argument, Tree) and argument.data in ("field", "attribute")
    ]


def converted(expression: Expression, target: TypeSpec) -> Expression:
    """The expression followed by the conversion that a field's `type` asks for."""
    same = expression.type == target.type and target.options == PLAIN
    return (
        expression
        if same
        else Conversion(target.type, expression, target, lenient=True)
    )
