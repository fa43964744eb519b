"""`list(T)`: all nodes of a path, a JSON array, or a lone scalar as a list of one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from mukret.types.base import Bad, Options, Reading, ValueType
from mukret.values import JsonValue


@dataclass(frozen=True)
class ListOf(ValueType):
    item: ValueType

    @property
    def name(self) -> str:
        return f"list({self.item.name})"

    @property
    def accepts_options(self) -> frozenset[str]:
        return self.item.accepts_options

    @property
    def always_trims(self) -> bool:
        return False

    def convert(self, value: JsonValue, options: Options) -> list[object]:
        if type(value) is dict:
            raise Bad("wrong-kind", "an array, or one scalar as a list of one")
        if type(value) is list:
            return self.convert_elements(value, options)
        return self.convert_elements([value], replace(options, strip=()))  # the whole value was stripped already

    def convert_elements(self, elements: Iterable[JsonValue], options: Options) -> list[object]:
        """Each element read as the item type, nulls and blanks left out. Raises Bad with the element's index."""
        reading = Reading(self.item, options)
        found = []
        for index, element in enumerate(elements):
            try:
                item = reading.read(element)
            except Bad as bad:
                raise bad.at_element(index, element) from None
            if item is not None:
                found.append(item)
        return found

    def written(self, value: object) -> str:
        assert isinstance(value, list)
        return ";".join(_escaped(self.item.written(item)) for item in value)


def _escaped(element: str) -> str:
    return element.replace("\\", "\\\\").replace(";", "\\;") if element else "\\e"
