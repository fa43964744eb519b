"""LIKE: patterns in which `%` stands for any characters and `_` for one."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

from mukret.expressions.values import no_result

# Patterns may come from data: their size is bounded, as the program that matches them grows with
# it.
LONGEST_PATTERN = 1_000


@lru_cache(maxsize=200)
def like_pattern(pattern: str, escape: str | None) -> str:
    """The same as a regular expression for RE2.

    Raises Bad where the escape stands before what it can't escape.
    """
    if len(pattern) > LONGEST_PATTERN:
        raise no_result(f"a pattern of more than {LONGEST_PATTERN:,} characters")
    parts = []
    characters = iter(pattern)
    for character in characters:
        if character == escape:
            following = next(characters, None)
            if following is None or following not in ("%", "_", escape):
                raise no_result(
                    "the escape character stands before none of %, _ and itself"
                )
            parts.append(_literal(following))
        else:
            # All else stands for itself, line breaks too: hence (?s).
            parts.append({"%": ".*", "_": "."}.get(character) or _literal(character))
    return f"(?s)^{''.join(parts)}$"


def _literal(character: str) -> str:
    return re.escape(character) if character.isascii() else character


@lru_cache(maxsize=200)
def _compiled(pattern: str, escape: str | None) -> Any:
    import re2

    return re2.compile(like_pattern(pattern, escape))


def is_like(text: str, pattern: str, escape: str | None) -> bool:
    """In time that grows with the text alone. Raises Bad."""
    return _compiled(pattern, escape).fullmatch(text) is not None
