"""From the text of an expression to its syntax tree (lark),
with errors that point at a character.
"""

from __future__ import annotations

from functools import lru_cache
from typing import NoReturn

from lark import Lark, Token, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from mukret.codes import Code
from mukret.errors import ExpressionError
from mukret.expressions.parser_tables import parser

Syntax = Tree[Token]


@lru_cache(maxsize=1)
def _grammar() -> Lark:
    return parser()


def parse_expression(text: str) -> Syntax:
    """The syntax tree of an expression.

    Raises ExpressionError with the position of the first wrong character.
    """
    if not text.strip():
        raise ExpressionError(Code.EXPRESSION_SYNTAX, "an empty expression", text, 0)
    try:
        tree = _grammar().parse(text)
    except UnexpectedInput as error:
        _explain(error, text)
    return tree if isinstance(tree, Tree) else Tree("start", [tree])


def _explain(error: UnexpectedInput, text: str) -> NoReturn:
    if isinstance(error, UnexpectedCharacters):
        character = text[error.pos_in_stream or 0]
        # What people bring from other languages, each with how it is written here.
        hint = {
            "'": "a text that begins here is never closed",
            '"': "a quoted name that begins here is never closed; texts stand in single quotes",
            "!": "unequal is <>",
            "`": 'odd names stand in double quotes: "name"',
            "&": "write AND",
            "|": "texts are joined by ||; the logical one is OR",
            ";": "leave it out: one expression, no statement",
            ":": "a cast is written CAST(x AS type)",
            "%": "texts stand in single quotes; a remainder is MOD(a, b)",
        }.get(character)
        raise ExpressionError(
            Code.EXPRESSION_SYNTAX,
            f"{character!r} can't stand here",
            text,
            error.pos_in_stream or 0,
            hint,
        ) from None
    assert isinstance(error, UnexpectedToken)
    token = error.token
    if token.type == "$END":
        raise ExpressionError(
            Code.EXPRESSION_SYNTAX,
            "the expression ends too early",
            text,
            len(text),
            None,
        ) from None
    hint = (
        "equality is a single ="
        if token == "=" and text[max(0, token.start_pos - 1)] == "="
        else None
    )
    if token.type == "STRING" and text[: token.start_pos].rstrip().upper().endswith(
        "INTERVAL"
    ):
        hint = "the unit stands after the text: INTERVAL '90' MINUTE"
    if token.type.startswith("_"):
        hint = f'a field of this name is written "{token}"'
    raise ExpressionError(
        Code.EXPRESSION_SYNTAX,
        f"{str(token)!r} can't stand here",
        text,
        token.start_pos or 0,
        hint,
    ) from None
