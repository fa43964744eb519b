"""Questions about the places of a survey that decide what becomes rows, and what fields."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain, islice

from mukret.paths.locate import path_text
from mukret.survey.naming import named_like_an_id, words_of_name
from mukret.survey.places import Place

_POSITION = ("longitude", "latitude", "altitude")
_OWN_IDS = (["id"], ["uid"], ["uuid"], ["guid"])


def path(place: Place, base: Place) -> str:
    """The path to a place from one above it."""
    return path_text(place.segments()[len(base.segments()) :])


def steps_of(place: Place) -> list[str]:
    """The names of the members on the way to a place; empty for elements and for names that are data."""
    steps = []
    while place.parent is not None:
        steps.append(place.step or "")
        place = place.parent
    return steps[::-1]


def has_scalars(place: Place) -> bool:
    return bool(set(place.kinds) - {"object", "array", "null"})


def holds_lists(place: Place) -> bool:
    """Whether records or rows stand below a place in lists, or under names that are data."""
    todo = [place]
    while todo:
        one = todo.pop()
        inner = one.elements
        if one.members is not None or (inner is not None and (inner.objects or inner.columns or inner.elements)):
            return True
        todo += [*one.children.values(), *one.columns]
    return False


def is_nested(place: Place, inner: Place) -> bool:
    """Whether what is in a list, or under names that are data, are lists and such objects again. Lists of lists of
    scalars are values."""
    below = inner.members or inner.elements
    if below is None or (inner.members is None and inner.objects):
        return False
    return place.members is not None or inner.members is not None or bool(below.objects)


def scalars_of(place: Place, *, columns: bool = False) -> Iterator[Place]:
    """Scalars of a record, those in objects within it included; also in the unlike parts of an array, if `columns`."""
    for child in (*place.children.values(), *(place.columns if columns else ())):
        if child.values.count or child.count("boolean"):
            yield child
        elif child.children and child.members is None and child.elements is None:
            yield from scalars_of(child, columns=columns)


def key_rank(place: Place) -> int:
    """The id of a record comes before what else tells them apart."""
    words = words_of_name(place.step or "")
    return 0 if words in _OWN_IDS else 1 if named_like_an_id(place.step) else 2


def names_its_parent(place: Place) -> bool:
    return (place.step or "").lower().startswith("parent") or "parent" in words_of_name(place.step or "")


def column_names(place: Place) -> list[list[str]]:
    """What the names of the elements of an array have more than that of the array has, or instead of it: their numbers,
    from 1; nothing for the only list among unlike parts. The position of a point (RFC 7946) has names."""
    above = [place.step] if place.step is not None else []
    kind = place.parent.children.get("type") if place.parent and place.step == "coordinates" else None
    if kind is not None and kind.values.counted == {"Point": kind.nodes}:
        return [[name] for name in islice(chain(_POSITION, "4"), len(place.columns))]
    parts = [column.kinds.keys() & {"array", "object"} for column in place.columns]
    lists = sum("array" in found for found in parts)
    return [
        above if "array" in found and lists == 1 else [*above, str(number)]
        for number, found in enumerate(parts, start=1)
    ]
