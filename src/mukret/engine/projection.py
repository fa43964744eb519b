"""Decoding only what the rules touch: the type that a decoder makes of documents, out of the paths of the rules.

What is left out is skipped at the decoder's speed; what is there is held as in a full decode (dicts, lists, scalars),
so nothing that follows knows the difference. At every place each kind of value is allowed: a shape that surprises is
decoded in full, or (a number with a fraction where an object was meant) the whole document is.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, TypedDict

import msgspec

from mukret.engine.ways import Way, Ways
from mukret.paths import Filter, Index, Name, Path, Slice, Wildcard
from mukret.rules.model import At, Field, Rest, Rules, Table
from mukret.values import JsonValue, Number

_SCALARS = str | int | bool | None
_PRESENCE = ""
"""At the end of a way: something is counted there, its value is not read."""

_DIGITS = bytes.maketrans(b"0123456789", b"0" * 10)
_LONGEST_INTEGER = 4300
_TOO_LONG = b"0" * (_LONGEST_INTEGER + 1)


class Projection:
    """Decodes documents as far as some rules read them."""

    def __init__(self, wanted: Any) -> None:
        self.read = msgspec.json.Decoder(wanted, float_hook=Number).decode

    def decode(self, raw: bytes) -> JsonValue:
        """The document; ValueError where it must be decoded in full, which may also say that it is no JSON.

        The decoder does not look into what it skips: invalid UTF-8 and endless integers are looked for here.
        """
        _look_over(raw)
        return self.read(raw)

    def decode_all(self, block: bytes, texts: list[bytes]) -> list[JsonValue]:
        """The documents that are the lines of a block; ValueError where one must be decoded in full."""
        _look_over(block)
        return list(map(self.read, texts))


def _look_over(raw: bytes) -> None:
    """Raises ValueError for what the decoder does not see in what it skips."""
    if len(raw) > _LONGEST_INTEGER and _TOO_LONG in raw.translate(_DIGITS):
        raise ValueError
    if not raw.isascii():
        raw.decode()


def projection_for(rules: Rules) -> Projection | None:
    """None where the rules read documents as a whole."""
    if _looks_at_the_root(rules):
        return None
    ways = _Read(rules)
    wanted = _Types(ways).of(ways.closed(ways.of_document()))
    return None if wanted is Any else Projection(wanted)


def _looks_at_the_root(rules: Rules) -> bool:
    """Whether a condition may read any part of the document."""
    conditions = [table.rows.when for table in rules.tables.values()] + [kind.when for kind in rules.kinds.values()]
    texts = [condition.text for condition in conditions if condition is not None]
    filters = [
        selector.text
        for path in _paths(rules)
        for segment in path.segments
        for selector in segment.selectors
        if isinstance(selector, Filter)
    ]
    return any(kind.when for kind in rules.kinds.values()) or any("$" in text for text in (*texts, *filters))


def _paths(rules: Rules) -> Iterator[Path]:
    for fields in (rules.response_fields, *(table.fields for table in rules.tables.values())):
        for own in fields:
            if isinstance(own.source, At):
                yield from own.source.paths
    for table in rules.tables.values():
        yield from table.rows.named_paths


class _Read(Ways):
    """What is read: not what is ignored, and what is counted for its presence alone."""

    def of_document(self) -> Iterator[Way]:
        yield from self.of_fields(self.rules.response_fields)
        yield from self.to_rows(None)
        yield from (Way(item.path.segments) for item in self.rules.embedded)

    def of_row(self, table: Table) -> Iterator[Way]:
        if table.rows.recurse is not None or table.rows.header is not None or table.rows.when is not None:
            yield Way(())
        yield from self.of_fields(table.fields)
        yield from self.to_rows(table.name)

    def to_rows(self, within: str | None) -> Iterator[Way]:
        """All arrays of a zip are counted, those too of which nothing is read."""
        yield from super().to_rows(within)
        for table in self.rules.tables.values():
            if table.within == within and table.rows.zip is not None:
                yield from (Way(path.segments, _PRESENCE) for path in table.rows.zip.paths.values())

    def of_fields(self, fields: Iterable[Field]) -> Iterator[Way]:
        for own in fields:
            match own.source:
                case At(paths=paths, take=take):
                    yield from (Way(path.segments, _PRESENCE if take == "count" else None) for path in paths)
                case Rest():
                    yield Way(())


class _Types:
    """The type of each place; places from which the same goes on share one."""

    def __init__(self, ways: Ways) -> None:
        self.ways = ways
        self.known: dict[frozenset[Way], Any] = {}

    def of(self, ways: frozenset[Way]) -> Any:
        if ways not in self.known:
            self.known[ways] = self.made(ways)
        return self.known[ways]

    def made(self, ways: frozenset[Way]) -> Any:
        going_on = [way for way in ways if way.segments]
        if Way(()) in ways or any(way.segments[0].descend for way in going_on):
            return Any
        selectors = [selector for way in going_on for selector in way.segments[0].selectors]
        if any(isinstance(selector, Filter) for selector in selectors):
            return Any
        names = dict.fromkeys(selector.name for selector in selectors if isinstance(selector, Name))
        wild = any(isinstance(selector, Wildcard) for selector in selectors)
        if wild and names:
            return Any  # some members by name, and all of them
        if any(not name.isprintable() or '"' in name or "\\" in name for name in names):
            return Any
        elements = wild or any(isinstance(selector, Index | Slice) for selector in selectors)
        return self.of_object(going_on, list(names), wild=wild) | self.of_array(going_on, elements) | _SCALARS

    def of_object(self, ways: list[Way], names: list[str], *, wild: bool) -> Any:
        if wild:
            return dict[str, self.of(self.below(ways, Wildcard()))]  # type: ignore[misc]
        members = {name: self.of(self.below(ways, Name(name))) for name in names}
        return TypedDict("Members", members, total=False)  # type: ignore[operator]

    def of_array(self, ways: list[Way], elements: bool) -> Any:
        return list[self.of(self.below(ways, Index(0)))] if elements else list[Any]  # type: ignore[misc]

    def below(self, ways: list[Way], step: Name | Index | Wildcard) -> frozenset[Way]:
        """The ways that go on below a member, below any member, or below any element."""
        kinds = (Wildcard, Index, Slice) if isinstance(step, Index) else (Wildcard,)
        return self.ways.closed(
            Way(way.segments[1:], way.rows)
            for way in ways
            for selector in way.segments[0].selectors
            if (selector == step if isinstance(step, Name) else isinstance(selector, kinds))
        )
