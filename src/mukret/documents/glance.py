"""Documents decoded no further than a look at them wants: the way to one node, and how things begin
there; or nothing but whether they are JSON.

What is left out stands as null, so that sizes are right. The text is in memory as a whole; the
document is not.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import msgspec

from mukret.documents.decode import decode, look_over
from mukret.values import JsonValue

# Shorter documents are decoded in full.
LONG_BYTES = 1_000_000
# So many levels below the node are decoded in part.
LEVELS = 4

_anything = msgspec.json.Decoder(msgspec.Raw).decode
_objects = msgspec.json.Decoder(dict[str, msgspec.Raw]).decode
_arrays = msgspec.json.Decoder(list[msgspec.Raw]).decode


@dataclass(frozen=True)
class Glance:
    """Decodes the node at the end of these steps, and of each container at and below it the first
    `most` children.
    """

    steps: Sequence[str | int]
    most: int

    def decode(self, raw: bytes) -> JsonValue:
        """Raises ValueError where it is no JSON."""
        if len(raw) < LONG_BYTES:
            return decode(raw)
        look_over(raw)
        return self._on_the_way(raw, self.steps)

    def converted(self, document: JsonValue) -> JsonValue:
        return document

    def _on_the_way(self, raw: Any, steps: Sequence[str | int]) -> JsonValue:
        if not steps:
            return self._beginning(raw, LEVELS)
        children = _children(raw)
        if children is None:
            return _whole(raw)
        step = steps[0]
        if type(step) is int and type(children) is list:
            # Other children are left as null: they are only stepped over.
            step = step if step >= 0 else step + len(children)
        for place, child in _places(children):
            children[place] = (
                self._on_the_way(child, steps[1:]) if place == step else None
            )
        return children

    def _beginning(self, raw: Any, levels: int) -> JsonValue:
        children = _children(raw) if levels else None
        if children is None:
            return _whole(raw)
        for number, (place, child) in enumerate(_places(children)):
            children[place] = (
                # What is not looked at is null: it only has to be there.
                self._beginning(child, levels - 1) if number < self.most else None
            )
        return children


def _places(children: JsonValue) -> list[tuple[str | int, JsonValue]]:
    return list(children.items() if type(children) is dict else enumerate(children))


def _children(raw: Any) -> JsonValue:
    """The members or elements of a value as JSON texts; None of a scalar."""
    begin = bytes(memoryview(raw)[:64]).lstrip()[:1]
    return _objects(raw) if begin == b"{" else _arrays(raw) if begin == b"[" else None


def _whole(raw: Any) -> JsonValue:
    return decode(bytes(raw))


class Skim:
    """Sees whether documents are JSON; what is in them is left out."""

    def decode(self, raw: bytes) -> JsonValue:
        """Null. Raises ValueError where it is no JSON."""
        look_over(raw)
        _anything(raw)
        return None

    def converted(self, document: JsonValue) -> JsonValue:
        return None
