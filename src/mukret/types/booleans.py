"""`boolean`: true and false, the words that people use for them, and the numbers 1 and 0."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from mukret.codes import Code
from mukret.types.base import Bad, Elsewhere, ReadingOptions, ValueType
from mukret.values import JsonValue, Number

WORDS: dict[str, bool] = {
    **dict.fromkeys(("true", "yes", "y", "t", "on", "1"), True),
    **dict.fromkeys(("false", "no", "n", "f", "off", "0"), False),
}


@dataclass(frozen=True)
class Boolean(ValueType):
    @property
    def name(self) -> str:
        return "boolean"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            {"base": "boolean", "format": "true|false"},
            "boolean",
            "INTEGER",
            {"type": "boolean"},
        )

    def convert(self, value: JsonValue, options: ReadingOptions) -> bool:
        kind = type(value)
        if kind is bool:
            return bool(value)
        if kind is str:
            word = WORDS.get(value.lower())
            if word is not None:
                return word
        elif kind is int or kind is Number:
            # 1.0 and 0e0 are one and nought; of a long number that is not worth finding out.
            if (kind is int or len(value) < 20) and Decimal(value) in (0, 1):
                return bool(Decimal(value))
        else:
            raise Bad(Code.WRONG_KIND, "true or false")
        raise Bad(Code.NOT_A_BOOLEAN, "true/false, yes/no, y/n, t/f, on/off or 1/0")

    def written(self, value: object) -> str:
        return "true" if value else "false"
