"""`json`: anything, as compact JSON text (RFC 8259), numbers digit for digit."""

from __future__ import annotations

import json
from dataclasses import dataclass

from mukret.types.base import Elsewhere, ReadingOptions, ValueType
from mukret.values import JsonValue, json_text


@dataclass(frozen=True)
class Json(ValueType):
    @property
    def name(self) -> str:
        return "json"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere("json", "json", json_schema={})

    @property
    def accepts_options(self) -> frozenset[str]:
        return frozenset({"blank"})

    @property
    def always_trims(self) -> bool:
        return False

    @property
    def empty_is_null(self) -> bool:
        return False

    def convert(self, value: JsonValue, options: ReadingOptions) -> str:
        return json_text(value)


def json_as_text(text: str) -> str:
    """The text of a JSON value that is kept as JSON text: a string's own, without quotes and
    escapes.
    """
    if not text.startswith('"'):
        return text
    value: str = json.loads(text)
    return value
