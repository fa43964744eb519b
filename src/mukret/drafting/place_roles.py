"""Questions about the places of a survey that decide what becomes rows, and what fields."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from itertools import chain, islice

from mukret.drafting.meanings import is_about_the_answer
from mukret.paths.locate import path_text
from mukret.survey.forms import EMPTY
from mukret.survey.naming import named_like_an_id, words_of_name
from mukret.survey.places import Place
from mukret.survey.shapes import MUCH_ALIKE, inner_names

# An object with fewer scalars is no record.
FEWEST_FACTS = 4
# Of fewer documents it can't be told that what they say differs.
FEWEST_DOCUMENTS = 3
FEWEST_SCATTERED = 3
# A list of no more scalars than these beside the records is no table: corners of a map, words on
# the response.
FEWEST_VALUES = 6
_NAMING = (["id"], ["name"], ["title"])
_POSITION = ("longitude", "latitude", "altitude")
_OWN_IDS = (["id"], ["uid"], ["uuid"], ["guid"])


def path(place: Place, base: Place) -> str:
    """The path to a place from one above it."""
    return path_text(place.segments()[len(base.segments()) :])


def steps_of(place: Place) -> list[str]:
    """The names of the members on the way to a place; empty for elements and for names that are
    data.
    """
    steps = []
    while place.parent is not None:
        steps.append(place.step or "")
        place = place.parent
    return steps[::-1]


def always_empty(place: Place) -> bool:
    """Whether nothing stands there but null, empty texts, empty arrays and empty objects."""
    # An empty text counts as nothing, as elsewhere in a draft.
    below = (
        place.children
        or place.columns
        or place.members
        or (place.elements is not None and place.elements.nodes)
    )
    return (
        not below
        and not place.longest
        and set(place.kinds) <= {"null", "string", "array", "object"}
    )


def told_kinds(place: Place) -> set[str]:
    """The kinds of what stands at a place; null says nothing, nor does the empty text beside
    objects and lists.
    """
    kinds = set(place.kinds) - {"null"}
    empty = EMPTY in place.forms and place.forms[EMPTY].count == place.count("string")
    return kinds - {"string"} if empty and kinds & {"array", "object"} else kinds


def has_scalars(place: Place) -> bool:
    """Whether scalars stand there, as many as records or lists at least: what is rarer has strayed
    there.
    """
    kinds = told_kinds(place)
    scalars = sum(place.count(kind) for kind in kinds - {"object", "array"})
    lists = place.count("object") + place.count("array")
    return scalars >= lists if lists else scalars > 0


def holds_lists(place: Place) -> bool:
    """Whether records or rows stand below a place in lists, or under names that are data."""
    todo = [place]
    while todo:
        below = todo.pop()
        inner = below.elements
        if below.members is not None or (
            inner is not None and (inner.objects or inner.columns or inner.elements)
        ):
            return True
        # Lists in lists are found on the way.
        todo += [*below.children.values(), *below.columns]
    return False


def is_record(place: Place) -> bool:
    """Whether an object beside the lists is a record itself, and these are its own: it has a name
    or an id, and more to say than how it was asked for.
    """
    told = [child for child in place.children.values() if _is_told(child)]
    naming = [child for child in told if _names_something(child)]
    if place.objects >= FEWEST_DOCUMENTS and sum(map(_differs, told)) > 1:
        # Each document, or each of a list, is one of many.
        in_all = [child for child in naming if child.nodes == place.objects]
        return any(map(_differs, in_all))
    if len(told) < FEWEST_FACTS:
        return False
    return bool(naming) or named_like_an_id(told[0].step)


def _names_something(place: Place) -> bool:
    """Whether a member is called an id, a name or a title, alone or at the end."""
    return words_of_name(place.step or "")[-1:] in _NAMING


def _differs(place: Place) -> bool:
    """Whether its values differ; assumed if there are too many to count."""
    return (place.values.distinct or FEWEST_DOCUMENTS) > 1


def _is_told(place: Place) -> bool:
    """Whether a place holds scalars that say something of the record, and not of the answer."""
    scalars = place.values.count or place.count("boolean")
    return bool(scalars) and not is_about_the_answer(place)


def holders(place: Place) -> set[str]:
    """The names of objects around a value that hold one thing, or are the one thing that another
    holds.
    """
    names: set[str] = set()
    above = place.parent
    while above is not None and above.step is not None:
        around = above.parent
        alone = (
            around is not None and around.step is not None and len(around.children) == 1
        )
        # Its name adds nothing to the one that it holds.
        if len(above.children) == 1 or alone:
            names.add(above.step)
        above = around
    return names


def unwrapped(place: Place) -> tuple[Place, tuple[str, ...]]:
    """What is left when objects that hold a single member are taken off, and the names of these
    members.
    """
    names: list[str] = []
    while (
        place.members is None
        and len(place.children) == 1
        and set(place.kinds) == {"object"}
    ):
        ((name, child),) = place.children.items()
        # Null now and then: then the wrapper says whether there is anything.
        if set(child.kinds) != {"object"} or child.nodes < place.nodes:
            break
        place = child
        names.append(name)
    return place, tuple(names)


def is_nested(place: Place, inner: Place) -> bool:
    """Whether what is in a list, or under names that are data, are lists and such objects again.

    Lists of lists of scalars are values.
    """
    below = inner.members or inner.elements
    if below is None or (inner.members is None and inner.objects):
        return False
    return place.members is not None or inner.members is not None or bool(below.objects)


def scattered(root: Place) -> list[list[Place]]:
    """Lists of like records that have one name and stand in objects at several depths, wherever
    that name is.
    """
    by_name: dict[str, list[Place]] = {}
    for place in root.everything():
        # Elements have no name of their own: their lists are compared.
        if place.step is not None:
            by_name.setdefault(place.step, []).append(place)
    return [
        places
        for places in by_name.values()
        if len(places) >= FEWEST_SCATTERED and _are_scattered(places)
    ]


def _are_scattered(places: list[Place]) -> bool:
    names = [
        inner_names(place.elements)
        for place in places
        if place.elements is not None and place.elements.objects
    ]
    if len(names) < len(places) or len({place.depth for place in places}) < 2:
        return False
    union = frozenset().union(*names)
    alike = all(len(inner) >= MUCH_ALIKE * len(union) for inner in names)
    return alike and all(map(_is_below_objects_alone, places))


def _is_below_objects_alone(place: Place) -> bool:
    """Whether the way to a place leads through members alone, through no element."""
    return all(
        above.step is not None for above in place.upward() if above.parent is not None
    )


def is_one_or_several(inner: Place) -> bool:
    """Whether records stand there, alone or in lists of like ones."""
    below = inner.elements
    return bool(
        inner.objects and inner.members is None and below is not None and below.objects
    ) and bool(inner_names(below) & frozenset(inner.children))


def scalars_of(place: Place) -> Iterator[Place]:
    """Scalars of a record, those in objects within it included."""
    for child in place.children.values():
        if child.values.count or child.count("boolean"):
            yield child
        elif child.children and child.members is None and child.elements is None:
            yield from scalars_of(child)


def facts_of(place: Place) -> Iterator[Place]:
    """Scalars beside the lists, also in the unlike parts of an array; not those of records with
    lists of their own.
    """
    for child in (*place.children.values(), *place.columns):
        plain = child.children and child.members is None and child.elements is None
        if (child.values.count or child.count("boolean")) and not told_kinds(child) & {
            "object",
            "array",
        }:
            yield child
        # A record with lists is a table; its members are not facts of the response.
        elif plain and not (is_record(child) and holds_lists(child)):
            yield from facts_of(child)


def holds_itself(place: Place, inner: Place) -> Place | None:
    """The list, in records, of further records like them: a tree whose first level has another
    name.
    """
    names = inner_names(inner)
    for child in inner.children.values():
        below = child.elements
        if (
            child.recursive
            and below is not None
            and below.objects
            and place is not child
        ):
            same = inner_names(below) | {
                child.step or ""
            }  # which leads back to the list itself
            if len(names & same) >= MUCH_ALIKE * len(names | same):
                return child
    return None


def key_rank(place: Place) -> int:
    """The id of a record comes before what else tells them apart."""
    words = words_of_name(place.step or "")
    return 0 if words in _OWN_IDS else 1 if named_like_an_id(place.step) else 2


def names_its_parent(place: Place) -> bool:
    return (place.step or "").lower().startswith("parent") or "parent" in words_of_name(
        place.step or ""
    )


def column_names(place: Place) -> list[list[str]]:
    """What the names of the elements of an array have more than that of the array has, or instead
    of it: their numbers, from 1; nothing for the only list among unlike parts. The position of a
    point (RFC 7946) has names.
    """
    if _are_positions(place):
        return [[name] for name in islice(chain(_POSITION, "4"), len(place.columns))]
    above = [place.step] if place.step is not None else []
    are_lists = [bool(column.kinds.keys() & {"array"}) for column in place.columns]
    names = [[*above, str(number)] for number in range(1, len(are_lists) + 1)]
    if sum(are_lists) == 1:
        names[are_lists.index(True)] = above
    return names


def _are_positions(place: Place) -> bool:
    """Whether arrays are coordinates of GeoJSON, and always those of a point."""
    if place.parent is None or place.step != "coordinates":
        return False
    kind = place.parent.children.get("type")
    return kind is not None and kind.values.counted == {"Point": kind.nodes}


def is_container(place: Place, kinds: Collection[str]) -> bool:
    """Whether a place is a list, or an object whose member names are data, throughout: where
    scalars stand among them it is one field, whatever they are.
    """
    scalars = has_scalars(place) and not set(kinds) <= {"array", "object"}
    if place.members is not None and not scalars and "array" not in kinds:
        return True
    if place.elements is None:
        return False
    return len(kinds) <= 1 or (not scalars and place.elements.objects > 0)


def holds_lists_or_maps(place: Place, inner: Place) -> bool:
    """Whether the elements of a list, or the members of a map, are lists or maps again."""
    return (
        not place.header
        and not has_scalars(inner)
        and is_nested(place, inner)
        and not is_one_or_several(inner)
    )


def are_rows(place: Place, inner: Place) -> bool:
    """Whether each element, or each member of a map, is a row: a record, or a value by its name."""
    if inner.objects and inner.members is None and not has_scalars(inner):
        return True
    return place.members is not None and not inner.elements and inner.values.count > 0


def is_long(place: Place) -> bool:
    """Whether a list of values outside any table is rather a table than a fact of the document."""
    return place.lengths.longest > FEWEST_VALUES or place.parent is None


def are_scalars(inner: Place) -> bool:
    """Whether the elements of a list fit into one field: scalars alone."""
    return bool(inner.values.count) and not inner.kinds.keys() & {"array", "object"}
