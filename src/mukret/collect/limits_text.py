"""The section `limits` of a calls file."""

from __future__ import annotations

import math
from dataclasses import dataclass

from mukret.codes import Code
from mukret.collect.calls import Limits
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Node, Scalar
from mukret.values import JsonValue


@dataclass(frozen=True)
class _Range:
    least: float
    most: float
    whole: bool = False


# What each limit may be.
RANGES = {
    "per_second": _Range(0.001, 10_000),
    "at_once": _Range(1, 64, whole=True),
    "tries": _Range(1, 100, whole=True),
    "timeout": _Range(0.1, 86_400),
    "pages": _Range(1, 10_000_000, whole=True),
    "pause": _Range(0.001, 3_600),
    "longest_wait": _Range(0, 86_400),
}


def read_limits(reader: Reader, node: Node | None) -> Limits | None:
    """The limits, as far as they are given; what is wrong with them is noted."""
    mapping = reader.mapping(node, "limits", keys(" ".join(RANGES)))
    if mapping is None:
        return None
    given: dict[str, JsonValue] = {}
    for name, (_, value) in mapping.entries.items():
        scalar = reader.scalar(value, name)
        # Unknown names were noted with the mapping, with what was meant.
        if scalar is not None and name in RANGES:
            number = _number(reader, name, scalar)
            given |= {name: number} if number is not None else {}
    return Limits(**given)


def _number(reader: Reader, name: str, scalar: Scalar) -> float | int | None:
    wanted = RANGES[name]
    try:
        number: float | int = int(scalar.text) if wanted.whole else float(scalar.text)
    except ValueError:
        # No number is in no range: one message for what is no number and for what is too large.
        number = math.nan
    if wanted.least <= number <= wanted.most:
        return number
    kind = "a whole number" if wanted.whole else "a number"
    hint = f"from {wanted.least:g} to {wanted.most:g}"
    reader.add(Code.WRONG_VALUE, f"{name} is {kind}, not {scalar.text!r}", scalar, hint)
    return None
