"""The raw nodes that a path finds, as they stand, each with its place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from mukret.documents import BadDocument, Origin, Source, read_batches
from mukret.paths import Location, Path, normalized
from mukret.values import JsonValue, kind_of

SMALL_BATCH = 250_000
"""Bytes that are read at a time, so that the first nodes are there at once."""


@dataclass(frozen=True)
class Found:
    """A node with the document that it stands in and its location there."""

    source: Source
    document: int
    origin: Origin | None
    location: Location
    value: JsonValue

    @property
    def path(self) -> str:
        """The normalized path (RFC 9535)."""
        return normalized(self.location)

    @property
    def kind(self) -> str:
        return kind_of(self.value)

    def every(self) -> Iterator[Found]:
        """This node and all below it, in the order of the document."""
        todo = [self]
        while todo:
            found = todo.pop()
            yield found
            value = found.value
            steps = value.items() if type(value) is dict else enumerate(value) if type(value) is list else ()
            below = [
                Found(found.source, found.document, found.origin, (*found.location, step), child)
                for step, child in steps
            ]
            todo += reversed(below)


@dataclass
class Reading:
    """What was met while nodes were looked for: documents, those that can't be read, and the first ones whole, for a
    word about what stands nearest where nothing was found."""

    documents: int
    size: int
    bad: list[BadDocument]
    first: list[JsonValue]


def find_nodes(sources: Iterable[Source], path: Path) -> tuple[Reading, Iterator[Found]]:
    """The nodes of every document, in order, as they are asked for. Raises InputError while reading."""
    reading = Reading(0, 0, [], [])
    return reading, _nodes(sources, path, reading)


def _nodes(sources: Iterable[Source], path: Path, reading: Reading) -> Iterator[Found]:
    for batch in read_batches(sources, size=SMALL_BATCH):
        reading.bad += batch.bad
        reading.first += batch.documents[: 20 - len(reading.first)]
        for index, document in enumerate(batch.documents):
            reading.documents += 1
            for location, value in path.nodes(document):
                yield Found(batch.sources[index], batch.numbers[index], batch.origins[index], location, value)
        reading.size += batch.size
