"""What generated code meets at each place of a document that was decoded as far as the rules read it.

An object of which members are read by name is a record: a `msgspec.Struct` with a slot for each member that is read,
and no other. Records are decoded, read and given back in a fraction of a dict's time. All other nodes are as in a full
decode.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from msgspec import UNSET, Struct, defstruct

from mukret.paths import Index, Name, Path, Selector, Slice, Wildcard
from mukret.values import JsonValue


@dataclass(eq=False)
class Place:
    """`objects` is the type of objects here: a record's, or dict where any member may be read.

    `slots` has for each member that is read by name its slot in the record, and the place below; `member` is the place
    of any member of a dict, `element` that of the elements of an array. A place that is None is one from which on nodes
    stand as in a full decode.
    """

    objects: type = dict
    slots: dict[str, tuple[str, Place | None]] = field(default_factory=dict)
    member: Place | None = None
    element: Place | None = None


def objects_at(place: Place | None) -> type:
    """The type of objects at a place."""
    return dict if place is None else place.objects


def record_type(members: Mapping[str, Any]) -> tuple[type[Struct], dict[str, str]]:
    """A record with these members, each with the type that a decoder is to make of it; and the slot of each.

    A member that is not there leaves UNSET in its slot. Slots have names of their own: those of members could be those
    of methods. The collector of cycles need not know them: documents have none.
    """
    slots = {name: f"f{number}" for number, name in enumerate(members)}
    fields = [(slots[name], wanted, UNSET) for name, wanted in members.items()]
    renamed = {slot: name for name, slot in slots.items()}
    return defstruct("Record", fields, rename=renamed, gc=False, eq=False), slots


def converted(node: JsonValue, place: Place | None) -> JsonValue:
    """A node that was decoded in full as the projection would have decoded it."""
    if place is None:
        return node
    if type(node) is list:
        return [converted(element, place.element) for element in node]
    if type(node) is not dict:
        return node
    if place.objects is dict:
        return {name: converted(member, place.member) for name, member in node.items()}
    return place.objects(
        **{slot: converted(node[name], below) for name, (slot, below) in place.slots.items() if name in node}
    )


def place_after(path: Path, place: Place | None) -> Place | None:
    """The place to which a path leads; all nodes that it finds have the same one."""
    for segment in path.segments:
        if segment.descend:
            return None
        place = place_below(place, *segment.selectors)
    return place


def place_below(place: Place | None, *selectors: Selector) -> Place | None:
    """The place of all children that some selectors find."""
    if place is None or not selectors:
        return None
    places = {_chosen(place, selector) for selector in selectors}
    assert len(places) == 1, "what leads apart is decoded as dicts"
    return places.pop()


def _chosen(place: Place, selector: Selector) -> Place | None:
    match selector:
        case Name(name) if place.objects is not dict:
            return place.slots[name][1]
        case Name():
            return place.member
        case Index() | Slice() | Wildcard():
            return place.element
    return None
