"""The raw nodes that a path finds, as they stand, each with its place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from mukret.documents import BadDocument, Origin, Source, read_batches
from mukret.documents.glance import Glance
from mukret.paths import Index, Location, Name, Path, normalized
from mukret.survey.parts import long_array, nodes_of
from mukret.values import JsonValue, kind_of

SMALL_BATCH = 250_000
"""Bytes that are read at a time, so that the first nodes are there at once."""
MOST_FIRST = 20
"""So many documents are kept for a word about what stands nearest."""


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
            steps = (
                value.items()
                if type(value) is dict
                else enumerate(value)
                if type(value) is list
                else ()
            )
            below = [
                Found(found.source, found.document, found.origin, (*found.location, step), child)
                for step, child in steps
            ]
            todo += reversed(below)


@dataclass
class Reading:
    """What was met while nodes were looked for: documents, those that can't be read, and the first
    ones whole, for a word about what stands nearest where nothing was found. `in_pieces`: the
    document that is being read is long, and comes a piece at a time.
    """

    documents: int = 0
    size: int = 0
    bad: list[BadDocument] = field(default_factory=list)
    first: list[JsonValue] = field(default_factory=list)
    in_pieces: bool = False


def find_nodes(
    sources: Iterable[Source], path: Path, most: int | None = None
) -> tuple[Reading, Iterator[Found]]:
    """The nodes of every document, in order, as they are asked for.

    With `most` so many members and elements of a node, and of what stands in it, are enough: others
    may be null. Raises InputError while reading.
    """
    reading = Reading()
    return reading, _nodes(sources, path, reading, most)


def _nodes(
    sources: Iterable[Source], path: Path, reading: Reading, most: int | None
) -> Iterator[Found]:
    names = long_array(path)
    arrays = [] if names is None else [names]
    glance = None if names is not None or most is None else _glance(path, most)
    last: tuple[str, int] | None = None
    for batch in read_batches(
        sources, size=SMALL_BATCH, partly=glance, arrays=arrays, as_it_comes=True
    ):
        reading.bad += batch.bad
        part = batch.part
        reading.in_pieces = part.array is not None
        if part.first == 0 and not (part.around and reading.first):
            reading.first += batch.documents[: MOST_FIRST - len(reading.first)]
        for index, document in enumerate(batch.documents):
            source, number = batch.sources[index], batch.numbers[index]
            if last != (source.path, number):
                last = (source.path, number)
                reading.documents += 1
            for location, value in nodes_of(document, path, part, len(names or ())):
                yield Found(source, number, batch.origins[index], location, value)
        reading.size += batch.size


def _glance(path: Path, most: int) -> Glance | None:
    """Decodes what a path to one node wants."""
    if not path.singular:
        return None
    selectors = [segment.only for segment in path.segments]
    steps = [
        one.name if isinstance(one, Name) else one.index
        for one in selectors
        if isinstance(one, Name | Index)
    ]
    return Glance(steps, most)
