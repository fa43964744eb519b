"""`list(T)`: all nodes of a path, a JSON array, or a lone scalar as a list of one."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from mukret.codes import Code
from mukret.types.base import (
    WHITE_SPACE,
    Bad,
    Elsewhere,
    ReadingOptions,
    TypeSpec,
    ValueType,
)
from mukret.values import JsonValue


@dataclass(frozen=True)
class ListOf(ValueType):
    item: ValueType

    @property
    def name(self) -> str:
        return f"list({self.item.name})"

    @property
    def elsewhere(self) -> Elsewhere:
        item = self.item.elsewhere
        schema = {"type": "array", "items": dict(item.json_schema)}
        return Elsewhere(item.csvw, f"{item.postgresql}[]", json_schema=schema)

    @property
    def accepts_options(self) -> frozenset[str]:
        return self.item.accepts_options | {"split", "trim"}

    @property
    def always_trims(self) -> bool:
        return False

    def convert(self, value: JsonValue, options: ReadingOptions) -> list[object]:
        if type(value) is dict:
            raise Bad(Code.WRONG_KIND, "an array, or one scalar as a list of one")
        if type(value) is list:
            return self.convert_elements(value, options)
        whole = replace(options, capture=None, split=None)  # done to the whole value
        if type(value) is str and options.split is not None:
            return self.convert_elements(parts(value, options.split), whole)
        return self.convert_elements([value], whole)

    def convert_elements(
        self, elements: Iterable[JsonValue], options: ReadingOptions
    ) -> list[object]:
        """Each element read as the item type, nulls and blanks left out; texts are split where that
        is asked for. Raises Bad with the element's index.
        """
        reading = TypeSpec(self.item if options.split is None else self, options)
        items: list[object] = []
        for index, element in enumerate(elements):
            try:
                item = reading.read(element)
            except Bad as bad:
                raise bad.at_element(index, element) from None
            if item is not None:
                # A text that is split gives several elements.
                items += (
                    item
                    if options.split is not None and isinstance(item, list)
                    else [item]
                )
        return items

    def written(self, value: object) -> str:
        assert isinstance(value, list)
        return ";".join(_escaped(self.item.written(item)) for item in value)


def parts(text: str, separator: str) -> list[str]:
    """The parts of a text, trimmed, without those that are empty then."""
    trimmed = (part.strip(WHITE_SPACE) for part in text.split(separator))
    return [part for part in trimmed if part]


def _escaped(element: str) -> str:
    return element.replace("\\", "\\\\").replace(";", "\\;") if element else "\\e"
