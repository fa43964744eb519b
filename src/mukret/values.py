"""JSON values as Mukret holds them in memory.

Objects are `dict`, arrays `list`, strings `str`, true and false `bool`, null `None`, and whole
numbers without fraction and exponent `int`. Every other number, and `-0`, is a `Number`: its JSON
text, so that no digit and no sign is lost on the way. Look at `type(value)`, not `isinstance`: a
`Number` is a `str` (which lets it go into a column of texts as it is) and a `bool` is an `int`.
"""

from __future__ import annotations

from json.encoder import encode_basestring
from typing import Any

from mukret.text import SHOWN, escaped, shortened

JsonValue = (
    Any  # None | bool | int | Number | str | list[JsonValue] | dict[str, JsonValue]
)


class Number(str):
    """A JSON number with fraction or exponent, as the text that stood in the response."""

    __slots__ = ()

    def __repr__(self) -> str:
        return f"Number({str.__repr__(self)})"


NEGATIVE_ZERO = Number("-0")

KINDS: dict[type, str] = {
    type(None): "null",
    bool: "boolean",
    int: "number",
    Number: "number",
    float: "number",
    str: "string",
    list: "array",
    dict: "object",
}


def kind_of(value: JsonValue) -> str:
    """The JSON kind of a value: null, boolean, number, string, array or object."""
    return KINDS[type(value)]


def holds_nothing(value: JsonValue) -> bool:
    """Whether it is null, an empty text, an empty array or an empty object."""
    return value is None or (not value and type(value) in (str, list, dict))


def scalar_text(value: JsonValue) -> str | None:
    """The JSON text of a number or boolean, a string as it is, None for null,
    arrays and objects.
    """
    kind = type(value)
    if kind is str or kind is Number:
        return str(value)
    if kind is bool:
        return "true" if value else "false"
    return str(value) if kind is int or kind is float else None


class _Literal(str):
    """A piece of JSON text that is ready."""

    __slots__ = ()


def json_text(
    value: JsonValue, limit: int | None = None, *, spaced: bool = False
) -> str:
    """Compact JSON text of any value, numbers digit for digit (RFC 8259); `spaced`: with a space
    after `,` and `:`.

    With a limit, the work ends once so many characters are there. Without recursion, since
    responses may be nested more deeply than Python's stack goes.
    """
    comma, colon = (_Literal(", "), ": ") if spaced else (_Literal(","), ":")
    parts: list[str] = []
    length = 0
    todo: list[JsonValue] = [value]
    # A stack in place of recursion, from the end: documents may be as deep as they like.
    while todo and (limit is None or length <= limit):
        item = todo.pop()
        kind = type(item)
        if kind is dict:
            text = "{"
            todo.append(_Literal("}"))
            for name in reversed(item):
                todo += (item[name], _Literal(encode_basestring(name) + colon), comma)
            _drop_comma(todo, item)
        # Tuples stand in results of our own, where lists could be changed.
        elif kind is list or kind is tuple:
            text = "["
            todo.append(_Literal("]"))
            for element in reversed(item):
                todo += (element, comma)
            _drop_comma(todo, item)
        else:
            text = _scalar_json(item)
        parts.append(text)
        length += len(text)
    return "".join(parts)


def _scalar_json(value: JsonValue) -> str:
    if value is None:
        return "null"
    if type(value) is _Literal:
        return str(value)
    # A code is a text, too.
    if isinstance(value, str) and type(value) is not Number:
        return encode_basestring(value)
    text = scalar_text(value)
    if text is None:
        raise TypeError(f"{type(value).__name__} is no JSON value")
    return text


def shown_text(value: JsonValue) -> str:
    """A value for a person: JSON text, shortened, control characters escaped."""
    return shortened(escaped(json_text(value, SHOWN)))


def _drop_comma(todo: list[JsonValue], items: JsonValue) -> None:
    if items:
        todo.pop()
