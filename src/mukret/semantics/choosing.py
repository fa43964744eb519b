"""Which nodes a field is made of: those of one of its paths, unless a step of them met another kind
than it takes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mukret.codes import Code
from mukret.paths import Location, Path, Reached, wanted_kind
from mukret.rules.rows import Excused, found_and_met
from mukret.rules.sources import At
from mukret.types import Bad
from mukret.values import JsonValue

Node = tuple[Location, JsonValue]


@dataclass(frozen=True)
class Chosen:
    """A path of a field, and the nodes that it finds, nulls among them."""

    path: Path
    reached: Sequence[Reached]

    @property
    def values(self) -> list[JsonValue]:
        """The values but null."""
        return [item.value for item in self.reached if item.value is not None]

    @property
    def nodes(self) -> list[Node]:
        """The nodes that are not null."""
        return [
            (item.location, item.value)
            for item in self.reached
            if item.value is not None
        ]


@dataclass(frozen=True)
class Attempt:
    """What one path of a field finds, and where a step of it met another kind."""

    path: Path
    found: list[Reached]
    met: list[Reached]

    @property
    def finds_a_value(self) -> bool:
        return any(item.value is not None for item in self.found)

    @property
    def succeeds(self) -> bool:
        return self.finds_a_value and not self.met


def attempts(
    at: At, node: JsonValue, excused: Excused | None = None
) -> Iterator[Attempt]:
    """The paths of a field one after the other, up to the first that succeeds."""
    for path in at.paths:
        reached = found_and_met(path, node, excused)
        nodes = [item for item in reached if item.step is None]
        attempt = Attempt(
            path, nodes, [item for item in reached if item.step is not None]
        )
        yield attempt
        # Later paths are alternatives, and not looked at (the contract of `at`).
        if attempt.succeeds:
            return


def choose(at: At, node: JsonValue, excused: Excused | None = None) -> Chosen:
    """The first path that finds a value other than null and meets no other kind on its way; else
    the first of all.

    Raises Bad (`other-kind`), with the place and value of what was met, where a path met another
    kind and no other can stand in for it.
    """
    tried = list(attempts(at, node, excused))
    if tried[-1].succeeds:
        return Chosen(tried[-1].path, tried[-1].found)
    met = [item for attempt in tried for item in attempt.met]
    # Another kind than the path goes through, as `$.a.b` where `a` is a text: a fault, unless
    # another path is for that kind.
    if met and not _all_go_on_elsewhere(tried, node):
        raise _other_kind(
            min(met, key=lambda item: _order(item.location, node))
            if len(met) > 1
            else met[0]
        )
    return Chosen(tried[0].path, tried[0].found)


def stood_there(
    at: At, node: JsonValue, excused: Excused | None = None
) -> list[JsonValue]:
    """The values that a field is made of; where a path met another kind, what it met."""
    try:
        return choose(at, node, excused).values
    except Bad as bad:
        return [bad.value]


def _other_kind(item: Reached) -> Bad:
    assert item.step is not None
    return Bad(
        Code.OTHER_KIND,
        wanted_kind(item.step),
        value=item.value,
        location=item.location,
    )


def _all_go_on_elsewhere(tried: Sequence[Attempt], node: JsonValue) -> bool:
    """Whether the path finds only null, and another path of the field goes on through what this one
    met: then that kind is expected.
    """
    if len(tried) == 1 or any(attempt.finds_a_value for attempt in tried):
        return False
    # `[$.port.code, $.port]` are for a port that is an object here and a text there: neither is a
    # fault.
    for attempt in tried:
        others = [other.path for other in tried if other is not attempt]
        for item in attempt.met:
            if not _one_takes_a_step(others, node, item.location):
                return False
    return True


def _one_takes_a_step(
    paths: Sequence[Path], node: JsonValue, location: Location
) -> bool:
    return any(_takes_a_step(path, node, location) for path in paths)


def _takes_a_step(path: Path, node: JsonValue, location: Location) -> bool:
    """Whether a path goes on from the node at a location, and can find something in a value of its
    kind.
    """
    for number, segment in enumerate(path.segments):
        before = Path(path.text, path.segments[:number])
        for at, value in _visited(before, node, location, descend=segment.descend):
            if at == location and type(value) in segment.takes:
                return True
    return False


def _visited(
    path: Path, node: JsonValue, location: Location, *, descend: bool
) -> Iterator[Node]:
    """The nodes of a path; with `descend` also the one at a location,
    if that is below one of them.
    """
    for at, value in path.nodes(node):
        yield at, value
        if descend and at == location[: len(at)]:
            for step in location[len(at) :]:
                value = value[step]
            yield location, value


def _order(location: Location, node: JsonValue) -> list[int]:
    """A sort key: the order of nodes in the document."""
    places: list[int] = []
    for step in location:
        places.append(step if isinstance(step, int) else list(node).index(step))
        node = node[step]
    return places
