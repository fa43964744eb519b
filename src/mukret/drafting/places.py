"""Questions about the places of a survey that decide what becomes rows, and what fields."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain, islice

from mukret.drafting.meanings import is_about_the_answer
from mukret.paths.locate import path_text
from mukret.survey.naming import named_like_an_id, words_of_name
from mukret.survey.places import Place

FEWEST_FACTS = 4
"""An object with fewer scalars is no record."""
_NAMING = (["id"], ["name"], ["title"])
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


def always_empty(place: Place) -> bool:
    """Whether nothing stands there but null, empty texts, empty arrays and empty objects."""
    below = place.children or place.columns or place.members or (place.elements is not None and place.elements.nodes)
    return not below and not place.longest and set(place.kinds) <= {"null", "string", "array", "object"}


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


def is_record(place: Place) -> bool:
    """Whether an object beside the lists is a record itself, and these are its own: it has a name or an id, and more to
    say than how it was asked for."""
    told = [
        child
        for child in place.children.values()
        if (child.values.count or child.count("boolean")) and not is_about_the_answer(child)
    ]
    named = any(words_of_name(child.step or "")[-1:] in _NAMING for child in told)
    return len(told) >= FEWEST_FACTS and (
        named or any(named_like_an_id(child.step) and child.step for child in told[:1])
    )


def is_nested(place: Place, inner: Place) -> bool:
    """Whether what is in a list, or under names that are data, are lists and such objects again. Lists of lists of
    scalars are values."""
    below = inner.members or inner.elements
    if below is None or (inner.members is None and inner.objects):
        return False
    return place.members is not None or inner.members is not None or bool(below.objects)


def scalars_of(place: Place) -> Iterator[Place]:
    """Scalars of a record, those in objects within it included."""
    for child in place.children.values():
        if child.values.count or child.count("boolean"):
            yield child
        elif child.children and child.members is None and child.elements is None:
            yield from scalars_of(child)


def facts_of(place: Place) -> Iterator[Place]:
    """Scalars beside the lists, also in the unlike parts of an array; not those of records with lists of their own."""
    for child in (*place.children.values(), *place.columns):
        plain = child.children and child.members is None and child.elements is None
        if child.values.count or child.count("boolean"):
            yield child
        elif plain and not (is_record(child) and holds_lists(child)):
            yield from facts_of(child)


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
