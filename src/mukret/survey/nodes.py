"""The raw nodes that a path finds, as they stand, each with its place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from mukret.documents import BadDocument, Batch, Origin, Source, read_batches
from mukret.documents.glance import Glance
from mukret.paths import Index, Location, Name, Path, normalized
from mukret.survey.parts import long_array, nodes_of
from mukret.values import JsonValue, kind_of

# Bytes that are read at a time, so that the first nodes are there at once.
SMALL_BATCH = 250_000
# So many documents are kept for a word about what stands nearest.
MOST_FIRST = 20


@dataclass(frozen=True)
class FoundNode:
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

    def every(self) -> Iterator[FoundNode]:
        """This node and all below it, in the order of the document."""
        todo = [self]
        while todo:
            node = todo.pop()
            yield node
            todo += reversed(list(node._below()))

    def _below(self) -> Iterator[FoundNode]:
        steps: Iterable[tuple[str | int, JsonValue]] = ()
        if type(self.value) is dict:
            steps = self.value.items()
        elif type(self.value) is list:
            steps = enumerate(self.value)
        for step, child in steps:
            location = (*self.location, step)
            yield FoundNode(self.source, self.document, self.origin, location, child)


@dataclass
class NodeSearch:
    """What was met while nodes were looked for: documents, those that can't be read, and the first
    ones whole, for a word about what stands nearest where nothing was found. `in_pieces`: the
    document that is being read is long, and comes a piece at a time.
    """

    documents: int = 0
    size: int = 0
    bad: list[BadDocument] = field(default_factory=list)
    first: list[JsonValue] = field(default_factory=list)
    in_pieces: bool = False

    def begin(self, batch: Batch) -> None:
        """Notes the documents of a batch, before their nodes are looked at."""
        self.bad += batch.bad
        self.in_pieces = batch.part.array is not None
        if batch.part.first == 0 and not (batch.part.around and self.first):
            self.first += batch.documents[: MOST_FIRST - len(self.first)]


def find_nodes(
    sources: Iterable[Source], path: Path, most: int | None = None
) -> tuple[NodeSearch, Iterator[FoundNode]]:
    """The nodes of every document, in order, as they are asked for.

    With `most` so many members and elements of a node, and of what stands in it, are enough: others
    may be null. Raises InputError while reading.
    """
    reading = NodeSearch()
    return reading, _nodes(sources, path, reading, most)


def _nodes(
    sources: Iterable[Source], path: Path, reading: NodeSearch, most: int | None
) -> Iterator[FoundNode]:
    names = long_array(path)
    arrays = [] if names is None else [names]
    glance = None if names is not None or most is None else _glance(path, most)
    batches = read_batches(
        sources, size=SMALL_BATCH, partly=glance, arrays=arrays, as_it_comes=True
    )
    last: tuple[str, int] | None = None
    for batch in batches:
        reading.begin(batch)
        for index, document in enumerate(batch.documents):
            source, number = batch.sources[index], batch.numbers[index]
            # A document in parts comes several times, and is counted once.
            if last != (source.path, number):
                last = (source.path, number)
                reading.documents += 1
            for location, value in nodes_of(
                document, path, batch.part, len(names or ())
            ):
                yield FoundNode(source, number, batch.origins[index], location, value)
        reading.size += batch.size


def _glance(path: Path, most: int) -> Glance | None:
    """Decodes what a path to one node wants."""
    # For others all of the document is needed.
    if not path.singular:
        return None
    steps: list[str | int] = []
    for segment in path.segments:
        match segment.only:
            case Name(name):
                steps.append(name)
            case Index(index):
                steps.append(index)
    return Glance(steps, most)
