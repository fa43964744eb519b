"""Members that come twice in one object: the fast decoder takes the last without a word, so some
documents are read again by one that tells.
"""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from functools import lru_cache

from mukret.documents.batches import Batch
from mukret.documents.cutting import Names
from mukret.paths import Location, normalized
from mukret.scan import Program, Scan
from mukret.scan.program import DOCUMENT, State, TableShape
from mukret.values import JsonValue

FIRST, EVERY = 20, 1000
MOST_BYTES = 8_000_000


def is_sampled(number: int) -> bool:
    """Whether the document with this number in the run (from 0) is looked at in full: the first,
    and some all along.
    """
    return number < FIRST or number % EVERY == 0


@dataclass(frozen=True)
class Doubled:
    """A member that came twice in one object; the last one counted."""

    file: str
    document: int
    path: str


@dataclass
class DoubledMembers:
    """Those found in the documents of which batches kept the bytes, within a budget."""

    found: list[Doubled] = field(default_factory=list)
    bytes_left: int = MOST_BYTES

    def see(self, batch: Batch, array: Names | None = None) -> None:
        """Looks at all documents of a batch of which the bytes are kept; of a part of one only at
        the array of which it has some elements.
        """
        for index, raw in batch.raw.items():
            # So many bytes of a run are looked at: it is slow, and doubled members are mostly in
            # every document or in none.
            self.bytes_left -= len(raw)
            if self.bytes_left > 0 and not surely_once(raw):
                for location in doubled_members(raw):
                    if array is not None:
                        if location[: len(array)] != array:
                            continue
                        location = batch.part.in_document(location, len(array))
                    place = normalized(location)
                    self.found.append(
                        Doubled(batch.sources[index].name, batch.numbers[index], place)
                    )


class _Members(list[tuple[str, JsonValue]]):
    """The members of an object, those that came twice included."""


@lru_cache(maxsize=1)
def _every_member() -> Program:
    """Reads all members of all objects, and so gives up where one comes twice."""
    return Program([State(any_member=0, any_element=0)], [TableShape(DOCUMENT, 0)])


def surely_once(raw: bytes) -> bool:
    """Whether surely no member comes twice in one object; False if that can't be told quickly."""
    return Scan(_every_member(), raw).document(0, len(raw))


def doubled_members(raw: bytes) -> list[Location]:
    """The places of members whose name came before in the same object."""
    try:
        # The one decoder that gives all members, also those whose name came before.
        document = json.loads(raw, object_pairs_hook=_Members)
    except (ValueError, RecursionError):
        return []
    doubled: list[Location] = []
    todo: list[tuple[Location, JsonValue]] = [((), document)]
    while todo:
        location, node = todo.pop()
        if isinstance(node, _Members):
            seen: set[str] = set()
            for name, member in node:
                if name in seen:
                    doubled.append((*location, name))
                seen.add(name)
                todo.append(((*location, name), member))
        elif isinstance(node, list):
            todo += [
                ((*location, index), element) for index, element in enumerate(node)
            ]
    return doubled
