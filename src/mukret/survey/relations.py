"""What places have to do with each other: what refers to what, and records of several sorts in one
list.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mukret.survey.naming import named_like_an_id
from mukret.survey.places import Place
from mukret.values import JsonValue

MOST_TARGETS = 100
NEARLY = 0.9
"""So large a share of the values must be found at the other place."""
FEWEST_VALUES = 10
"""Fewer different values must all be found."""
LARGE = 1000
"""Whole numbers below this are in so many lists that they say nothing."""
MOST_SORTS = 12
MOST_VARYING = 300
"""Members that not all records have; with more of them records are no longer of a few sorts."""
MOST_TELLING = 50
FEWEST_RECORDS = 6


@dataclass(frozen=True)
class Reference:
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


def references(scalars: Sequence[Place], ids: Sequence[Place]) -> list[Reference]:
    """For each place whose values are all, or nearly all, ids of another one: which.

    Of very many places with ids those are looked at that are named like one.
    """
    targets = sorted(ids, key=lambda target: not named_like_an_id(target.step))[:MOST_TARGETS]
    return [best for place in scalars if (best := _best(place, targets)) is not None]


def _best(place: Place, ids: Sequence[Place]) -> Reference | None:
    hashes = place.values.hashes
    if not hashes or len(hashes) < 2:
        return None
    found = [
        reference for target in ids if (reference := _reference(place, target, hashes)) is not None
    ]
    return max(
        found,
        key=lambda one: (_related(one), -one.missing, -len(one.target.values.hashes or ())),
        default=None,
    )


def _reference(place: Place, target: Place, hashes: set[int]) -> Reference | None:
    theirs = target.values.hashes
    if target is place or not theirs or len(theirs) < 2:
        return None
    if hashes <= theirs:
        common = len(hashes)
    elif len(hashes) < FEWEST_VALUES:
        return None
    else:
        common = len(hashes & theirs)
    if common < NEARLY * len(hashes) or not _comparable(place, target):
        return None
    reference = Reference(place, target, len(hashes), len(hashes) - common)
    return reference if _telling(place) or _related(reference) else None


def _comparable(place: Place, target: Place) -> bool:
    """Not two names of one record, unless one may point at another record of its own list."""
    if _record(place) is _record(target):
        return place.values.distinct != place.values.count and named_like_an_id(place.step)
    return not (set(place.kinds) - {"null"}) - set(target.kinds)


def _record(place: Place) -> Place:
    """The list (or map, or document) whose records hold a place."""
    while place.parent is not None and place.step is not None:
        place = place.parent
    return place


def _telling(place: Place) -> bool:
    """Whether finding these values elsewhere says something: small numbers are everywhere."""
    values = [value for value in place.values.examples if not str(value).isdigit()]
    return (
        bool(values)
        or (type(place.numbers.high) is int and place.numbers.high >= LARGE)
        or place.longest > 4
    )


def _related(reference: Reference) -> bool:
    """Whether a name says so: `vessel` or `vessel_id` for the ids in `vessels`."""
    named = [reference.target.step or ""]
    above = _record(reference.target)
    while above is not None and above.step is None and above.parent is not None:
        above = above.parent
    named.append(above.step or "")
    own = _stem(reference.place.step or "")
    return bool(own) and any(own == _stem(name) for name in named if name)


def _stem(name: str) -> str:
    """A name without the ending that makes it plural, or an id."""
    bare = re.sub(
        r"[_-]?(?:ids?|code|key|ref|no)$|(?<=[a-z])(?:Ids?|ID|Code|Key|Ref|No)$", "", name
    )
    return (
        re.sub(r"(?:ies|y)$", "y", bare.lower())
        if bare.lower().endswith("ies")
        else bare.lower().removesuffix("s")
    )


# ---- several sorts


def sorts_of(place: Place) -> Sorts | None:
    """The sorts of record in a list, if a member of few words decides which other members there
    are.
    """
    records = place.sampled
    if len(records) < FEWEST_RECORDS or len({frozenset(record) for record in records}) < 2:
        return None
    names = {name: None for record in records for name in record}
    varying = [name for name in names if any(name not in record for record in records)]
    if len(varying) > MOST_VARYING:
        return None
    telling = [name for name in records[0] if name not in varying][:MOST_TELLING]
    found = [
        (len(told), name, told) for name in telling if (told := _told_by(name, records, varying))
    ]
    if not found:
        return None
    _, member, told = max(
        found, key=lambda item: (item[0], item[1] in ("type", "kind", "category", "class", "sort"))
    )
    return Sorts(member, len(records), tuple(_sorts(member, records, told)))


def _told_by(
    member: str, records: Sequence[dict[str, JsonValue]], varying: Sequence[str]
) -> frozenset[str]:
    """Of the members that not all records have those that records with some words of this member
    all have and others never; none if most of them do not go by it.
    """
    words = [record.get(member) for record in records]
    if any(type(word) is not str for word in words):
        return frozenset()
    counts = {word: words.count(word) for word in set(words)}
    if not 2 <= len(counts) <= MOST_SORTS or len(records) < 2 * len(counts):
        return frozenset()
    told = set()
    for name in varying:
        having = dict.fromkeys(counts, 0)
        for word, record in zip(words, records, strict=True):
            having[word] += name in record
        if (
            all(having[word] in (0, count) for word, count in counts.items())
            and 0 in having.values()
        ):
            told.add(name)
    enough = 2 * len(told) > len(varying) and (len(told) > 1 or min(counts.values()) > 1)
    return frozenset(told) if enough else frozenset()


def _sorts(
    member: str, records: Sequence[dict[str, JsonValue]], told: frozenset[str]
) -> Iterator[Sort]:
    for word in dict.fromkeys(record[member] for record in records):
        mine = [record for record in records if record[member] == word]
        yield Sort(word, len(mine), tuple(name for name in mine[0] if name in told))
