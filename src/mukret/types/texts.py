"""`text`: strings as they are, numbers by their JSON text, true and false."""

from __future__ import annotations

from dataclasses import dataclass

from mukret.codes import Code
from mukret.types.base import COMMON_OPTIONS, Bad, ReadingOptions, ValueType
from mukret.values import JsonValue, scalar_text


@dataclass(frozen=True)
class Text(ValueType):
    @property
    def name(self) -> str:
        return "text"

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"trim"}

    @property
    def always_trims(self) -> bool:
        return False

    @property
    def empty_is_null(self) -> bool:
        return False

    def convert(self, value: JsonValue, options: ReadingOptions) -> str:
        text = scalar_text(value)
        if text is None:
            raise Bad(Code.WRONG_KIND, 'a text, a number or true/false, such as "OTV"')
        return text
