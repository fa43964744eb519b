"""Decoding only what the rules touch: the type that a decoder makes of documents, out of the paths of the rules.

What is left out is skipped at the decoder's speed. Objects are held as records (`places.py`) where generated code reads
them; where rows are found the general way what is there is held as in a full decode. At every place each kind of value
is allowed, so a shape that surprises is a value to be judged like any other.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, TypedDict

import msgspec

from mukret.documents.decode import look_over
from mukret.paths import Filter, Index, Name, Path, Slice, Wildcard
from mukret.paths.filters import looks_at_the_root
from mukret.plan.codegen import is_compilable
from mukret.plan.places import Place, converted, record_type
from mukret.plan.ways import PRESENCE, ByFirstStep, Way, Ways
from mukret.rules.model import At, Field, Rest, Rules, Table, must_haves
from mukret.values import JsonValue, Number

_SCALARS = str | int | bool | None
_DICTS = "{}"
"""At the end of a way: what stands there is read the general way, which knows dicts."""


class Projection:
    """Decodes documents as far as some rules read them; `place` says what is made of their root."""

    def __init__(self, wanted: Any, place: Place | None) -> None:
        self.read = msgspec.json.Decoder(wanted, float_hook=Number).decode
        self.place = place

    def decode(self, raw: bytes) -> JsonValue:
        """The document; ValueError where it must be decoded in full, which may also say that it is no JSON.

        The decoder does not look into what it skips: invalid UTF-8 and endless integers are looked for here.
        """
        look_over(raw)
        return self.read(raw)

    def decode_all(self, block: bytes, texts: list[bytes]) -> list[JsonValue]:
        """The documents that are the lines of a block; ValueError where one must be decoded in full."""
        look_over(block)
        return list(map(self.read, texts))

    def converted(self, document: JsonValue) -> JsonValue:
        """A document that was decoded in full, as this would have decoded it."""
        return converted(document, self.place)


def projection_for(rules: Rules) -> Projection | None:
    """None where the rules read documents as a whole, or go deeper than a decoder can be made for."""
    if _looks_at_the_root(rules):
        return None
    ways = _Read(rules)
    try:
        wanted, place = _Types(ways).of(ways.closed(ways.of_document()))
    except RecursionError:
        return None
    return None if wanted is Any else Projection(wanted, place)


def _looks_at_the_root(rules: Rules) -> bool:
    """Whether a condition may read any part of the document."""
    if any(kind.when for kind in rules.kinds.values()):
        return True
    conditions = [table.rows.when.logical for table in rules.tables.values() if table.rows.when is not None]
    filters = [
        selector.logical
        for path in _paths(rules)
        for segment in path.segments
        for selector in segment.selectors
        if isinstance(selector, Filter)
    ]
    return any(looks_at_the_root(logical) for logical in (*conditions, *filters))


def _paths(rules: Rules) -> Iterator[Path]:
    for fields in (rules.response_fields, *(table.fields for table in rules.tables.values())):
        for own in fields:
            if isinstance(own.source, At):
                yield from own.source.paths
    for table in rules.tables.values():
        yield from table.rows.named_paths
    yield from must_haves(rules)


class _Read(Ways):
    """What is read: not what is ignored, and what is counted for its presence alone."""

    def of_document(self) -> Iterator[Way]:
        yield from self.of_fields(self.rules.response_fields)
        yield from self.to_rows(None)
        for path in must_haves(self.rules):
            yield Way(path.segments, PRESENCE)
            if not is_compilable(path):
                yield Way((), _DICTS)
        for item in self.rules.embedded:
            yield Way(item.path.segments)
            yield Way((), _DICTS)

    def of_row(self, table: Table) -> Iterator[Way]:
        if table.rows.recurse is not None or table.rows.header is not None or table.rows.when is not None:
            yield Way(())
        yield from self.of_fields(table.fields)
        yield from self.to_rows(table.name)

    def to_rows(self, within: str | None) -> Iterator[Way]:
        """All arrays of a zip are counted, those too of which nothing is read. Rows that stand at several places, as
        those of a zip, under a header or below each other do, are dicts."""
        yield from super().to_rows(within)
        for table in self.rules.tables.values():
            if table.within != within:
                continue
            rows = table.rows
            if rows.zip is not None:
                yield from (Way(path.segments, PRESENCE) for path in rows.zip.paths.values())
            if not rows.plain or rows.spread or len(rows.paths) > 1 or not is_compilable(rows.paths[0]):
                yield Way((), _DICTS)

    def through(self, member: str, path: Path, table: Table) -> Iterator[Way]:
        """A filter looks at the whole of a member."""
        yield from super().through(member, path, table)
        for way in self.closed(self.of_row(table)):
            if way.segments and any(isinstance(selector, Filter) for selector in way.segments[0].selectors):
                yield Way(path.segments)

    def of_fields(self, fields: Iterable[Field]) -> Iterator[Way]:
        for own in fields:
            match own.source:
                case At(paths=paths, take=take):
                    yield from (Way(path.segments, PRESENCE if take == "count" else None) for path in paths)
                    if not all(map(is_compilable, paths)):
                        yield Way((), _DICTS)
                case Rest():
                    yield Way(())


Made = tuple[Any, Place | None]
"""The type that a decoder makes at a place, and what generated code meets there."""


class _Types:
    """What is made of each place; places from which the same goes on share one."""

    def __init__(self, ways: Ways) -> None:
        self.ways = ways
        self.known: dict[tuple[frozenset[Way], bool], Made] = {}

    def of(self, ways: frozenset[Way], *, dicts: bool = False) -> Made:
        dicts = dicts or Way((), _DICTS) in ways
        if (ways, dicts) not in self.known:
            self.known[ways, dicts] = self.made(ways, dicts)
        return self.known[ways, dicts]

    def made(self, ways: frozenset[Way], dicts: bool) -> Made:
        going_on = [way for way in ways if way.segments]
        if Way(()) in ways or any(way.segments[0].descend for way in going_on):
            return Any, None
        selectors = [selector for way in going_on for selector in way.segments[0].selectors]
        if any(isinstance(selector, Filter) for selector in selectors):
            return Any, None
        names = list(dict.fromkeys(selector.name for selector in selectors if isinstance(selector, Name)))
        wild = any(isinstance(selector, Wildcard) for selector in selectors)
        elements = wild or any(isinstance(selector, Index | Slice) for selector in selectors)
        if elements and names:
            return Any, None  # some members by name, and all of them; or whichever of an object and an array is there
        dicts = dicts or any(_leads_apart(way) for way in going_on)
        if not all(_can_be_told(name, dicts=dicts) for name in names):
            return Any, None
        place = Place()
        objects: Any = dict[str, Any]  # one in the stead of an array: whether it holds something must be known
        if wild or names or not elements:
            objects = self.of_objects(going_on, names, wild, dicts, place)
        arrays: Any = list[Any]
        if elements:
            below, place.element = self.of(self.below(going_on, Index(0)), dicts=dicts)
            arrays = list[below]  # type: ignore[valid-type]
        scalars = (
            _SCALARS if dicts else _SCALARS | float
        )  # where a number stands that nobody reads, digits do not count
        return objects | arrays | scalars, None if dicts else place

    def of_objects(self, ways: list[Way], names: list[str], wild: bool, dicts: bool, place: Place) -> Any:
        if wild:
            below, place.member = self.of(self.below(ways, Wildcard()), dicts=dicts)
            return dict[str, below]  # type: ignore[valid-type]
        by_first_step = ByFirstStep(ways)
        members = {name: self.of(self.below(by_first_step.candidates(name), Name(name)), dicts=dicts) for name in names}
        types = {name: below for name, (below, _) in members.items()}
        if dicts:
            return TypedDict("Members", types, total=False)  # type: ignore[operator]
        place.objects, slots = record_type(types)
        place.slots = {name: (slots[name], below) for name, (_, below) in members.items()}
        return place.objects

    def below(self, ways: list[Way], step: Name | Index | Wildcard) -> frozenset[Way]:
        """The ways that go on below a member; or below any member and any element, which are alike."""
        kinds = (Wildcard,) if isinstance(step, Name) else (Wildcard, Index, Slice)
        return self.ways.closed(
            Way(way.segments[1:], way.rows)
            for way in ways
            for selector in way.segments[0].selectors
            if selector == step or isinstance(selector, kinds)
        )


def _can_be_told(name: str, *, dicts: bool) -> bool:
    """Whether the decoder can be told to look for a member: not by a name with an escape in it, nor, where objects are
    dicts, by one with letters beyond ASCII, which it never finds."""
    return name.isprintable() and '"' not in name and "\\" not in name and (name.isascii() or not dicts)


def _leads_apart(way: Way) -> bool:
    """Whether the next step goes to several places: all nodes that generated code finds in one step are alike."""
    selectors = way.segments[0].selectors
    return len(selectors) > 1 and any(isinstance(selector, Name) for selector in selectors)
