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
        # The lexer knew no word that begins here; the caret stands at the character.
        at = error.pos_in_stream or 0
        character = text[at]
        message = f"{character!r} can't stand here"
        raise _syntax_error(message, text, at, _FOREIGN.get(character)) from None
    # The words are known, and can't stand in this order.
    assert isinstance(error, UnexpectedToken)
    token = error.token
    if token.type == "$END":
        message = "the expression ends too early"
        raise _syntax_error(message, text, len(text)) from None
    message = f"{str(token)!r} can't stand here"
    at = token.start_pos or 0
    raise _syntax_error(message, text, at, _hint(token, text)) from None


# What people bring from other languages, each with how it is written here.
_FOREIGN = {
    "'": "a text that begins here is never closed",
    '"': "a quoted name that begins here is never closed; texts stand in single quotes",
    "!": "unequal is <>",
    "`": 'odd names stand in double quotes: "name"',
    "&": "write AND",
    "|": "texts are joined by ||; the logical one is OR",
    ";": "leave it out: one expression, no statement",
    ":": "a cast is written CAST(x AS type)",
    "%": "texts stand in single quotes; a remainder is MOD(a, b)",
}


def _hint(token: Token, text: str) -> str | None:
    """What may have been meant by a word or sign where none can stand."""
    # A word of the language, as `end` or `order`, used as the name of a field.
    if token.type.startswith("_"):
        return f'a field of this name is written "{token}"'
    start = token.start_pos or 0
    before = text[:start].rstrip().upper()
    if token.type == "STRING" and before.endswith("INTERVAL"):
        return "the unit stands after the text: INTERVAL '90' MINUTE"
    if token == "=" and text[max(0, start - 1)] == "=":
        return "equality is a single ="
    return None


def _syntax_error(
    message: str, text: str, at: int, hint: str | None = None
) -> ExpressionError:
    return ExpressionError(Code.EXPRESSION_SYNTAX, message, text, at, hint)
