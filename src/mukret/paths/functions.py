"""The functions of RFC 9535, section 2.4: their types, and what they give."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from mukret.paths.comparing import NOTHING
from mukret.paths.regexps import Matcher, PatternError, found_in, matches
from mukret.values import JsonValue

FunctionType = Literal["value", "logical", "nodes"]


@dataclass(frozen=True)
class Function:
    """`call` takes a value (NOTHING included) or a list of values per parameter, as `parameters`
    say.
    """

    name: str
    parameters: tuple[FunctionType, ...]
    result: FunctionType
    call: Callable[..., JsonValue]
    example: str
    patterns: tuple[int, ...] = ()
    """The parameters that are regular expressions."""


def _length(value: JsonValue) -> JsonValue:
    """Of a string its number of code points, of an array or object how many it holds;
    else nothing.
    """
    return len(value) if type(value) in (str, list, dict) else NOTHING


def _count(nodes: Sequence[JsonValue]) -> int:
    return len(nodes)


def _value(nodes: Sequence[JsonValue]) -> JsonValue:
    """The value of the one node; nothing if there are none or several."""
    return nodes[0] if len(nodes) == 1 else NOTHING


def _by_pattern(matcher: Matcher) -> Callable[[JsonValue, JsonValue], bool]:
    def call(text: JsonValue, pattern: JsonValue) -> bool:
        """False if one of them is no string, or the pattern no I-Regexp, as the standard has it."""
        if type(text) is not str or type(pattern) is not str:
            return False
        try:
            return matcher(pattern, text)
        # That it is none was told when the path was parsed, if it stood there.
        except PatternError:
            return False

    return call


FUNCTIONS = {
    function.name: function
    for function in (
        Function("length", ("value",), "value", _length, "length(@.name) > 3"),
        Function("count", ("nodes",), "value", _count, "count(@.decks[*]) > 1"),
        Function(
            "match",
            ("value", "value"),
            "logical",
            _by_pattern(matches),
            "match(@.id, 'F[0-9]+')",
            (1,),
        ),
        Function(
            "search",
            ("value", "value"),
            "logical",
            _by_pattern(found_in),
            "search(@.note, 'swell')",
            (1,),
        ),
        Function("value", ("nodes",), "value", _value, "value(@..code) == 'OTV'"),
    )
}
