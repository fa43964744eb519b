"""Enums: a fixed set of words, each with the spellings that a service uses for it and facts
attached.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property
from types import MappingProxyType

from mukret.codes import Code
from mukret.text import nearest
from mukret.types.base import WHITE_SPACE, Bad, Elsewhere, ReadingOptions, ValueType
from mukret.values import JsonValue, scalar_text

Attribute = str | bool | int | Decimal | None


@dataclass(frozen=True)
class EnumValue:
    """A canonical name, the other strings that mean it, and its attributes."""

    name: str
    accept: tuple[str, ...] = ()
    attributes: Mapping[str, Attribute] = field(
        default_factory=lambda: MappingProxyType({})
    )

    def __hash__(self) -> int:
        return hash((self.name, self.accept))


@dataclass(frozen=True)
class Enum(ValueType):
    """`otherwise`: what an unknown word becomes: `bad`, a value's name, or None for null."""

    enum_name: str
    values: tuple[EnumValue, ...]
    otherwise: str | None = "bad"
    exact_case: bool = False
    attribute_types: Mapping[str, ValueType] = field(
        default_factory=lambda: MappingProxyType({}), compare=False
    )

    @property
    def name(self) -> str:
        return self.enum_name

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            {"base": "string", "dc:description": f"one of {', '.join(self.names)}"},
            json_schema={"type": "string", "enum": list(self.names)},
        )

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(value.name for value in self.values)

    def folded(self, word: str) -> str:
        """The form in which words are compared."""
        word = word.strip(WHITE_SPACE)
        return word if self.exact_case else word.casefold()

    @cached_property
    def words(self) -> dict[str, str]:
        """Folded word → canonical name."""
        return {
            self.folded(word): value.name
            for value in self.values
            for word in (value.name, *value.accept)
        }

    def convert(self, value: JsonValue, options: ReadingOptions) -> str | None:
        word = scalar_text(value)
        if word is None:
            raise Bad(Code.WRONG_KIND, f"one of {self.listing()}")
        known = self.words.get(self.folded(word))
        if known is not None:
            return known
        if self.otherwise != "bad" and self.otherwise is not None:
            return self.otherwise
        # Mostly a new spelling of a known word.
        near = nearest(word, self.words)
        hint = f"; nearest is {near}" if near else ""
        raise Bad(
            Code.UNKNOWN_WORD,
            f"one of {self.listing()}{hint}",
            nulled=self.otherwise is None,
        )

    def listing(self) -> str:
        names = self.names
        return ", ".join(names[:8]) + (", …" if len(names) > 8 else "")

    def attribute(self, word: str | None, name: str) -> Attribute:
        """The attribute of a canonical name; null if it has none."""
        return self.attributes_by_name.get(word or "", {}).get(name)

    @cached_property
    def attributes_by_name(self) -> dict[str, Mapping[str, Attribute]]:
        return {value.name: value.attributes for value in self.values}
