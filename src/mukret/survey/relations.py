"""What places have to do with each other: what refers to what, and records of several sorts in one
list.
"""

from __future__ import annotations

import operator
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mukret.survey.naming import named_like_an_id
from mukret.survey.places import Place
from mukret.values import JsonValue

MOST_TARGETS = 100
# So large a share of the values must be found at the other place.
NEARLY = 0.9
# Fewer different values must all be found.
FEWEST_VALUES = 10
# Whole numbers below this are in so many lists that they say nothing.
LARGE = 1000
MOST_SORTS = 12
# Members that not all records have; with more of them records are no longer of a few sorts.
MOST_VARYING = 300
_SORT_NAMES = ("type", "kind", "category", "class", "sort")
MOST_TELLING = 50
FEWEST_RECORDS = 6


@dataclass(frozen=True)
class PlaceReference:
    """The values of one place that are ids at another.

    `missing`: how many different ones are not there.
    """

    place: Place
    target: Place
    distinct: int
    missing: int


@dataclass(frozen=True)
class Sort:
    """Records of one sort in a list of several: the word that tells, how many of those looked at,
    and the members that only some sorts have.
    """

    word: str
    count: int
    members: tuple[str, ...]


@dataclass(frozen=True)
class Sorts:
    member: str
    looked_at: int
    sorts: tuple[Sort, ...]


# ---- references


def references(scalars: Sequence[Place], ids: Sequence[Place]) -> list[PlaceReference]:
    """For each place whose values are all, or nearly all, ids of another one: which.

    Of very many places with ids those are looked at that are named like one.
    """
    targets = sorted(ids, key=lambda target: not named_like_an_id(target.step))[
        :MOST_TARGETS
    ]
    return [best for place in scalars if (best := _best(place, targets)) is not None]


def _best(place: Place, ids: Sequence[Place]) -> PlaceReference | None:
    """Of the places where the values are found, the one whose name says so, with the fewest values
    missing; of several the smallest.
    """
    hashes = place.values.hashes
    if not hashes or len(hashes) < 2:
        return None
    references = (_reference(place, target, hashes) for target in ids)
    return max(filter(None, references), key=_rank, default=None)


def _rank(reference: PlaceReference) -> tuple[bool, int, int]:
    size = len(reference.target.values.hashes or ())
    return (_related(reference), -reference.missing, -size)


def _reference(place: Place, target: Place, hashes: set[int]) -> PlaceReference | None:
    theirs = target.values.hashes
    # A single id is found in many places by chance.
    if target is place or not theirs or len(theirs) < 2:
        return None
    common = len(hashes & theirs)
    fewest = len(hashes) if len(hashes) < FEWEST_VALUES else NEARLY * len(hashes)
    if common < fewest or not _comparable(place, target):
        return None
    reference = PlaceReference(place, target, len(hashes), len(hashes) - common)
    return reference if _telling(place) or _related(reference) else None


def _comparable(place: Place, target: Place) -> bool:
    """Not two names of one record, unless one may point at another record of its own list."""
    if _record(place) is _record(target):
        return place.values.distinct != place.values.count and named_like_an_id(
            place.step
        )
    return not (set(place.kinds) - {"null"}) - set(target.kinds)


def _record(place: Place) -> Place:
    """The list (or map, or document) whose records hold a place."""
    while place.parent is not None and place.step is not None:
        place = place.parent
    return place


def _telling(place: Place) -> bool:
    """Whether finding these values elsewhere says something: small numbers are everywhere."""
    if any(not str(value).isdigit() for value in place.values.examples):
        return True
    high = place.numbers.high
    return place.longest > 4 or (type(high) is int and high >= LARGE)


def _related(reference: PlaceReference) -> bool:
    """Whether a name says so: `vessel` or `vessel_id` for the ids in `vessels`."""
    named = [reference.target.step or ""]
    above = _record(reference.target)
    while above is not None and above.step is None and above.parent is not None:
        above = above.parent
    named.append(above.step or "")
    stem = _stem(reference.place.step or "")
    return bool(stem) and any(stem == _stem(name) for name in named if name)


def _stem(name: str) -> str:
    """A name without the ending that makes it plural, or an id."""
    bare = re.sub(
        r"[_-]?(?:ids?|code|key|ref|no)$|(?<=[a-z])(?:Ids?|ID|Code|Key|Ref|No)$",
        "",
        name,
    ).lower()
    if bare.endswith("ies"):
        return bare.removesuffix("ies") + "y"
    return bare.removesuffix("s")


# ---- several sorts


def sorts_of(place: Place) -> Sorts | None:
    """The sorts of record in a list, if a member of few words decides which other members there
    are.
    """
    records = place.sampled
    if len(records) < FEWEST_RECORDS or len(set(map(frozenset, records))) < 2:
        return None
    varying = _varying(records)
    if len(varying) > MOST_VARYING:
        return None
    always = [name for name in records[0] if name not in varying]
    told = {name: _told_by(name, records, varying) for name in always[:MOST_TELLING]}

    # Of several that say as much the one named like a sort.
    def telling(name: str) -> tuple[int, bool]:
        return len(told[name]), name in _SORT_NAMES

    # The member by which most others go.
    member = max(told, key=telling, default=None)
    if member is None or not told[member]:
        return None
    return Sorts(member, len(records), tuple(_sorts(member, records, told[member])))


def _told_by(
    member: str, records: Sequence[dict[str, JsonValue]], varying: Sequence[str]
) -> frozenset[str]:
    """Of the members that not all records have those that records with some words of this member
    all have and others never; none if most of them do not go by it.
    """
    words = [record.get(member) for record in records]
    if any(type(word) is not str for word in words):
        return frozenset()
    counts = Counter(words)
    if not 2 <= len(counts) <= MOST_SORTS or len(records) < 2 * len(counts):
        return frozenset()
    told = {name for name in varying if _goes_by(words, counts, records, name)}
    # One member could go by a word of one record by chance.
    by_chance = len(told) == 1 and min(counts.values()) == 1
    most = 2 * len(told) > len(varying)
    return frozenset(told) if most and not by_chance else frozenset()


def _goes_by(
    words: Sequence[JsonValue],
    counts: Counter[JsonValue],
    records: Sequence[dict[str, JsonValue]],
    name: str,
) -> bool:
    """Whether records have a member exactly if they have some of the words."""
    having = Counter(
        word for word, record in zip(words, records, strict=True) if name in record
    )
    always = [having[word] == count for word, count in counts.items()]
    never = [having[word] == 0 for word in counts]
    return any(never) and all(map(operator.or_, always, never))


def _sorts(
    member: str, records: Sequence[dict[str, JsonValue]], told: frozenset[str]
) -> Iterator[Sort]:
    for word in dict.fromkeys(record[member] for record in records):
        mine = [record for record in records if record[member] == word]
        yield Sort(word, len(mine), tuple(name for name in mine[0] if name in told))


def _varying(records: Sequence[dict[str, JsonValue]]) -> list[str]:
    """The members that some of the records have, but not all, in the order of their coming."""
    counts = Counter(name for record in records for name in record)
    return [name for name, count in counts.items() if count < len(records)]
