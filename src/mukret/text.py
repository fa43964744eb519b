"""Small helpers for the texts that people read."""

from __future__ import annotations

import difflib
import unicodedata
from bisect import bisect_left
from collections.abc import Iterable

SHOWN = 60


def escaped(text: str) -> str:
    """The text with control, format and surrogate characters as escapes, so that data can't move
    the cursor.
    """
    if text.isprintable():
        return text
    return "".join(map(_harmless, text))


def _harmless(character: str) -> str:
    return character if character.isprintable() else _escape(character)


def _escape(character: str) -> str:
    short = {"\n": "\\n", "\r": "\\r", "\t": "\\t"}.get(character)
    if short:
        return short
    code = ord(character)
    if unicodedata.category(character) == "Zs":
        return character
    if code < 0x10000:
        return f"\\u{code:04x}"
    high, low = divmod(code - 0x10000, 0x400)
    # As JSON writes it, so that what is shown can be pasted.
    return f"\\u{0xD800 + high:04x}\\u{0xDC00 + low:04x}"


def shortened(text: str, limit: int = SHOWN) -> str:
    """The text cut to `limit` characters, with `…` where something was cut."""
    return text if len(text) <= limit else text[: limit - 1] + "…"


LONGEST_NAME = 200
MOST_COMPARED = 200


def nearest(name: str, known: Iterable[str]) -> str | None:
    """The known name that was most likely meant: the same but for case, or a few letters off."""
    candidates = list(known)
    for candidate in candidates:
        if candidate.lower() == name.lower():
            return candidate
    if len(name) > LONGEST_NAME:
        return None
    if (
        len(candidates) > MOST_COMPARED
    ):  # of very many those that begin alike: each comparison has its price
        candidates.sort()
        at = bisect_left(candidates, name)
        candidates = candidates[
            max(0, at - MOST_COMPARED // 2) : at + MOST_COMPARED // 2
        ]
    close = difflib.get_close_matches(name, candidates, n=1, cutoff=0.6)
    return close[0] if close else None


def did_you_mean(name: str, known: Iterable[str]) -> str | None:
    """A hint that names the nearest known name, or else the known names if they are few."""
    names = list(known)
    near = nearest(name, names)
    if near:
        return f"did you mean {near}?"
    return f"known here: {', '.join(names)}" if 0 < len(names) <= 12 else None


def counted(number: int, singular: str, plural: str | None = None) -> str:
    """`1 row`, `1,200 rows`."""
    return f"{number:,} {singular if number == 1 else plural or singular + 's'}"


def with_article(kind: str) -> str:
    """A JSON kind in a sentence: `an array`, `a number`, `null`."""
    if kind == "null":
        return kind
    return f"an {kind}" if kind[0] in "aeo" else f"a {kind}"
