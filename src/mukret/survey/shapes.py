"""Objects whose member names are data, and places that hold themselves.

Both would make a tree of places that grows with the data; here many places become one.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from mukret.survey.forms import NumberForm, form_of
from mukret.survey.places import Place
from mukret.values import JsonValue, kind_of

DATA_KINDS = frozenset(
    {"date", "timestamp", "time", "number", "uuid", "mail", "address"}
)
# Fewer names than these are taken for members, unless each of them is a date, a number or the like.
FEW_NAMES = 5
ALIKE = 0.5
MUCH_ALIKE = 0.75
# Of fewer arrays it can't be told that their length is always the same.
FEWEST_POINTS = 3
_CODE_NAME = re.compile(
    r"(?=.*[A-Z0-9])[A-Z0-9][A-Z0-9_.:/-]*|(?=.*\d)(?=.*[-:/])[\w.:/-]+"
)


def fold_names_that_are_data(root: Place) -> None:
    """Decides, once all is counted, which objects have data for names, and merges what stands below
    them.
    """
    # From the top down: what is merged above decides what stands below it. With a list of what is
    # left, not by recursion: a feed of replies to replies is deeper than Python goes.
    todo = [root]
    while todo:
        place = todo.pop()
        if place.members is None and names_are_data(place):
            make_map(place)
        if place.columns and not _are_rows(place):
            _forget_rows(place)
        _fold_members(place)
        todo += reversed(list(place.below()))


def names_are_data(place: Place) -> bool:
    """Whether the member names of the objects at a place are data: dates, codes, ids."""
    # No single question tells: `{"2031-03-28": …}` is told by its names, `{"fo": {"language":
    # "fo"}}` by its values, `{"STC": {…}, "KPH": {…}}` by members that are alike. The sure signs
    # come first; what is left is decided by how alike the members are and how seldom each is there.
    # Questions one after the other, and no score over all of them: the one that decided can be told
    # to somebody whose names it got wrong.
    names = list(place.children)
    children = list(place.children.values())
    if not names or not place.objects:
        return False
    if _hold_others_of_its_name(place, children):
        return True
    if all(map(_is_data, names)):
        return len(names) > 1 or form_of(names[0]).kind != "number"
    if _repeat_their_name(children):
        return True
    if len(names) < FEW_NAMES or not alike_places(children):
        return False
    return all(map(_CODE_NAME.fullmatch, names)) or _are_entries(place, children)


def _hold_others_of_its_name(place: Place, children: Sequence[Place]) -> bool:
    """Whether each member has a member that is named as the place is: a tree under names."""
    step = place.step
    return step is not None and all(_holds_another(child, step) for child in children)


def _are_entries(place: Place, children: Sequence[Place]) -> bool:
    """Whether members that are alike are rather entries of one table than members of a record."""
    many = len(children) >= 2 * FEW_NAMES
    if many and all(child.kinds.keys() <= {"array"} for child in children):
        # Lists of equal length are rather columns.
        return len({child.lengths.total for child in children}) > 1
    if place.objects >= 3:
        often = sum(child.nodes for child in children) / (len(children) * place.objects)
        return many and often < ALIKE
    return all(map(_holds_records, children)) and any(map(_have_much_in_them, children))


def _have_much_in_them(place: Place) -> bool:
    """Whether records have several members, or one whose name is data itself."""
    names = inner_names(place)
    return len(names) > 1 or all(map(_is_data, names))


def _holds_records(place: Place) -> bool:
    return place.objects > 0 or (
        place.elements is not None and place.elements.objects > 0
    )


def _is_data(name: str) -> bool:
    """Whether a name is a date, a number or the like; `1. open` and `3h` are names with a number in
    them.
    """
    form = form_of(name)
    return form.kind in DATA_KINDS and not (
        isinstance(form, NumberForm) and (form.before or form.after)
    )


def _holds_another(child: Place, name: str) -> bool:
    """Whether a record holds, under the name of the object that it stands in, an object of records
    like itself.
    """
    members, again = frozenset(child.children), child.children.get(name)
    if again is None or not again.objects:
        return False
    inner = [frozenset(record.children) for record in again.children.values()]
    return all(names and len(names & members) >= ALIKE * len(names) for names in inner)


def _repeat_their_name(children: Sequence[Place]) -> bool:
    """Whether each is a record that says again under which name it stands: `{"fo": {"language":
    "fo", …}, …}`.
    """
    if len(children) < 2 or any(child.kinds.keys() - {"object"} for child in children):
        return False
    common = frozenset.intersection(*(frozenset(child.children) for child in children))
    return any(_all_say(children, name) for name in common)


def _all_say(children: Sequence[Place], name: str) -> bool:
    """Whether the member of this name says under which name each child stands."""
    return all(_says(child.children[name], child.step) for child in children)


def _says(place: Place, word: str | None) -> bool:
    return place.values.counted is not None and place.values.counted.keys() == {word}


def alike_places(places: Sequence[Place]) -> bool:
    """Whether the places could be one: of the same kinds, and where they are objects with much the
    same members.
    """
    inner = [names for place in places if (names := inner_names(place))]
    if not _are_of_one_kind(places, holding_records=len(inner)):
        return False
    if inner:
        return _overlap(inner) >= ALIKE
    families = Counter(_main_form(place) for place in places if place.forms)
    return len(families) <= 1 or max(families.values()) >= 0.9 * families.total()


def _are_of_one_kind(places: Sequence[Place], *, holding_records: int) -> bool:
    kinds = {frozenset(place.kinds) - {"null"} for place in places} - {frozenset()}
    if len(kinds) == 1:
        return True
    # One record, or a list of such records, where there are several.
    return holding_records == len(places) and all(
        kind <= {"object", "array"} for kind in kinds
    )


def _main_form(place: Place) -> str:
    return max(place.forms, key=lambda form: place.forms[form].count).kind


def alike_values(values: Sequence[JsonValue]) -> bool:
    """The same question about nodes."""
    kinds = {kind_of(value) for value in values} - {"null"}
    if len(kinds) != 1:
        return False
    inner = [frozenset(value) for value in values if type(value) is dict and value]
    return not inner or _overlap(inner) >= ALIKE


def _overlap(sets: Sequence[frozenset[str]]) -> float:
    """How much of all the names the average set holds."""
    union = frozenset().union(*sets)
    return sum(map(len, sets)) / (len(sets) * len(union)) if union else 1.0


def inner_names(place: Place | None) -> frozenset[str]:
    """The member names of the records at a place, through arrays and through objects whose names
    are data.
    """
    while place is not None:
        if place.children:
            return frozenset(place.children)
        place = place.members or place.elements
    return frozenset()


def make_map(place: Place) -> None:
    """Merges all members of the objects at a place into one place, their names into values."""
    place.names.see(
        Counter({name: child.nodes for name, child in place.children.items()})
    )
    children = list(place.children.values())
    place.children = {}
    place.parallel = {}
    place.signatures = None
    place.sampled = []
    if children:
        first, *others = children
        first.step = None
        place.members = first
        for other in others:
            first.merge(other)
        # Ids of one member may come again in the next.
        first.unique_in_list = False


def fold_target(place: Place, name: str, values: Sequence[JsonValue]) -> Place | None:
    """The place further up that a new member belongs to, where a structure holds itself: a list of
    replies to a reply.

    It has the same name, and the records in it have much the same members; where it does not stand
    in these records themselves, but in some object of theirs, both have: `data` in
    `data[*].relationships.port` is something else.
    """
    if not any(type(value) in (dict, list) for value in values):
        return None
    sample = [names for value in values[:50] if (names := _names_in(value))]
    for above in place.upward():
        if above.step != name:
            continue
        if not sample:
            # Empty lists so far: taken for the same where they stand directly in its records.
            direct = place in (above, above.elements)
            return above if direct and not any(map(_holds_scalars, values)) else None
        names = frozenset().union(*sample)
        if _has_such_records(
            above, names, itself=place in (above, above.elements, above.members)
        ):
            return above
    return None


def _has_such_records(above: Place, names: frozenset[str], *, itself: bool) -> bool:
    known = inner_names(above)
    common = len(names & known)
    if not known:
        return False
    return common >= (ALIKE * len(names) if itself else MUCH_ALIKE * len(names | known))


def _holds_scalars(value: JsonValue) -> bool:
    """Whether a value is a list that has something else than objects and lists."""
    return type(value) is list and any(
        type(element) not in (dict, list) for element in value
    )


def _names_in(value: JsonValue) -> frozenset[str]:
    while type(value) is list and value:
        value = value[0]
    return frozenset(value) if type(value) is dict else frozenset()


def _fold_members(place: Place) -> None:
    """A member that turned out, once names were known to be data, to be what stands further up."""
    # One at a time: folding may turn the members themselves into data.
    while place.members is None:
        fold = next(_folds(place), None)
        if fold is None:
            return
        child, above = fold
        del place.children[child.step or ""]
        if child.members is None and child.children:
            make_map(child)
        above.merge(child)
        above.recursive = True


def _folds(place: Place) -> Iterator[tuple[Place, Place]]:
    """Members, each with the place above that has the records it holds."""
    for child in place.children.values():
        for above in place.upward():
            is_map = above.step == child.step and above.members is not None
            if is_map and _same_records(above, child):
                yield child, above


def _same_records(above: Place, child: Place) -> bool:
    known = inner_names(above)
    if not known:
        return False
    if child.members is not None and child.members.children:
        names = frozenset(child.members.children)
    else:
        names = frozenset().union(*map(inner_names, child.children.values()))
    return len(names & known) >= ALIKE * len(names) if names else child.objects > 0


def in_array(place: Place) -> bool:
    """Whether the nodes of a place are elements of an array."""
    return place.parent is not None and place.parent.elements is place


def _are_rows(place: Place) -> bool:
    """Whether what was counted by position so far is a table, a series of coordinates, or unlike
    parts, to the end.
    """
    if place.elements is not None or place.lengths.shortest != place.lengths.longest:
        return False
    kinds = [set(column.kinds) - {"null"} for column in place.columns]
    if in_array(place):
        return True
    numbers = all(column.kinds.keys() == {"number"} for column in place.columns)
    return unlike_parts(kinds) or (numbers and place.lengths.lists >= FEWEST_POINTS)


def unlike_parts(kinds: Sequence[set[str]]) -> bool:
    """Whether each element of an array has a kind of its own, and one at least is a list beside
    something else; two objects are rather records of a list. `kinds` are those that came at each
    position, without null.
    """
    if any(len(of_part) > 1 for of_part in kinds):
        return False
    parts = [next(iter(of_part), None) for of_part in kinds]
    return "array" in parts and parts.count("object") <= 1 and len(set(parts)) > 1


def _forget_rows(place: Place) -> None:
    """Rows that are of several lengths after all, or too few to tell: their elements are taken
    together.
    """
    for column in place.columns:
        column.position = None
        if place.elements is None:
            place.elements = column
        else:
            place.elements.merge(column)
    place.columns = []
