"""Where the rows of a table are, and the plain way of finding them below a document or a row of the
parent table.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sized
from dataclasses import dataclass
from itertools import zip_longest
from typing import Literal, NamedTuple

from mukret.codes import Code
from mukret.paths import (
    Condition,
    Index,
    Location,
    Name,
    Path,
    Reached,
    Segment,
    wanted_kind,
)
from mukret.text import counted, shortened, with_article
from mukret.types import Bad
from mukret.values import JsonValue, kind_of

Uneven = Literal["reject", "pad", "shortest"]
Members = Mapping[str, Location]
# Whether what stands at a location below a node is on record already, as a text that was to be JSON
# and is none: a step that meets it finds nothing, and nobody complains again.
Excused = Callable[[Location], bool]


class FoundRow(NamedTuple):
    """A row; its locations are below the node in which rows were looked for.

    `spread`: it is an element of an array that a path found, and stands under the name of that
    array. `members`: the row was put together, and its members stand at these places. `above`: the
    number of the row above it (`recurse`) among those found with it. `fault`: it can't be read at
    all. `is_placeholder`: it stands for the absence of rows (`outer`). `met`: it was not found, but
    stands where a step of a path met another kind.
    """

    location: Location
    node: JsonValue
    spread: bool = False
    position: int = 0
    depth: int = 0
    above: int | None = None
    members: Members | None = None
    fault: Bad | None = None
    is_placeholder: bool = False
    met: bool = False

    def name(self, of_parent: str | None) -> str | None:
        """The member name under which it stands;
        a row that is its parent's node has its parent's.
        """
        under = self.location[:-1] if self.spread else self.location
        if self.is_placeholder:
            return None
        if not under:
            return of_parent
        return under[-1] if isinstance(under[-1], str) else None


@dataclass(frozen=True)
class Refusal:
    """Rows that can't be told apart, `count` of them, refused as a whole."""

    bad: Bad
    count: int


@dataclass(frozen=True)
class RowsBelow:
    rows: list[FoundRow]
    refusal: Refusal | None = None


@dataclass(frozen=True)
class RowPlace:
    """Where a row stands in its document.

    Members of a row that was put together stand at places of their own.
    """

    location: Location = ()
    members: Members | None = None

    def below(self, inner: Location) -> Location:
        """The location in the document of what stands at `inner` in the row."""
        if self.members and inner and inner[0] in self.members:
            return (*self.members[inner[0]], *inner[1:])  # type: ignore[index]
        return (*self.location, *inner)

    def of(self, row: FoundRow) -> RowPlace:
        """The place of a row that was found in the row that stands here."""
        if row.members is not None:
            return RowPlace(
                self.below(row.location),
                {name: self.below(inner) for name, inner in row.members.items()},
            )
        return RowPlace(self.below(row.location)) if row.location else self


DOCUMENT = RowPlace()


@dataclass(frozen=True)
class Excuses:
    """Where in a document something stands that is on record already."""

    locations: frozenset[Location] = frozenset()

    def below(self, place: RowPlace) -> Excused | None:
        """Whether it stands at a location below the row at this place; None if there is nothing at
        all.
        """
        return (
            (lambda inner: place.below(inner) in self.locations)
            if self.locations
            else None
        )


NO_EXCUSES = Excuses()


def found_and_met(
    path: Path, root: JsonValue, excused: Excused | None = None
) -> list[Reached]:
    """The nodes that a path finds, and those at which it met another kind, but for those that are
    excused.
    """
    reached = path.explored(root)
    if excused is None:
        return reached
    return [item for item in reached if item.step is None or not excused(item.location)]


def met_instead(item: Reached) -> FoundRow:
    """What a step of a path to rows met in their stead: one row that can't be read."""
    assert item.step is not None
    return FoundRow(item.location, item.value, fault=met_fault(item.step), met=True)


def met_fault(step: Segment) -> Bad:
    """What is wrong where a step of a path to rows met another kind."""
    return Bad(Code.ROW_SHAPE, wanted_kind(step))


@dataclass(frozen=True)
class Zip:
    """Parallel arrays: row n is the object of the nth nodes of all paths."""

    paths: Mapping[str, Path]
    uneven: Uneven = "reject"

    def find(self, root: JsonValue, excused: Excused | None) -> RowsBelow:
        """The rows, and below them what was met instead of any of the arrays."""
        met: list[FoundRow] = []
        nodes: dict[str, list[tuple[Location, JsonValue]]] = {}
        for name, path in self.paths.items():
            reached = found_and_met(path, root, excused)
            met += [met_instead(item) for item in reached if item.step is not None]
            nodes[name] = [
                (item.location, item.value) for item in reached if item.step is None
            ]
        # One refusal for all of the rows: which of them belong together nobody knows.
        if self.uneven == "reject" and len(set(map(len, nodes.values()))) > 1:
            return RowsBelow(met, _refused_as_uneven(nodes))
        joined: Iterable[tuple[tuple[Location, JsonValue] | None, ...]]
        if self.uneven == "shortest":
            joined = zip(*nodes.values(), strict=False)
        else:
            joined = zip_longest(*nodes.values())
        rows = [
            self.row(dict(zip(nodes, together, strict=True))) for together in joined
        ]
        return RowsBelow([*rows, *met])

    def row(self, nodes: Mapping[str, tuple[Location, JsonValue] | None]) -> FoundRow:
        there = {name: node for name, node in nodes.items() if node is not None}
        location = next(iter(there.values()))[0]
        # Each member says where it stood, so that a bad value in it is found again.
        members = {name: would_stand(path) for name, path in self.paths.items()}
        members |= {name: place for name, (place, _) in there.items()}
        return FoundRow(
            location,
            {name: value for name, (_, value) in there.items()},
            members=members,
        )


@dataclass(frozen=True)
class Header:
    """Names for the elements of rows that are arrays.

    `path` leads to them, from where rows are looked for; None: the first row holds them and is no
    row itself.
    """

    path: Path | None

    def applied(self, rows: list[FoundRow], root: JsonValue) -> RowsBelow:
        """What was met instead of rows is no row and gets no header."""
        under = [row for row in rows if row.fault is None]
        if not under:
            return RowsBelow(rows)
        if self.path is None:
            # The first row that is one: what was met instead of rows names nothing.
            first = under.pop(0)
            names = first.node
            rows = [row for row in rows if row is not first]
        else:
            names = _only_array(self.path.values(root))
        wrong = self.wrong(names)
        if wrong:
            met = [row for row in rows if row.fault is not None]
            bad = Bad(Code.HEADER, wrong, told=True)
            return RowsBelow(met, Refusal(bad, len(under)) if under else None)
        return RowsBelow([_under(names, row) for row in rows])

    @staticmethod
    def wrong(names: JsonValue) -> str | None:
        """Why these are no column names."""
        if names is None:
            return "there is no header"
        if type(names) is not list:
            return f"the header is not an array of column names but {with_article(kind_of(names))}"
        # Two columns of one name would make one member of two cells.
        seen: set[str] = set()
        for number, name in enumerate(names, 1):
            if type(name) is not str:
                kind = with_article(kind_of(name))
                return f"column {number} of the header has no name but {kind}"
            if name in seen:
                return (
                    f"the column {shortened(repr(name), 80)} stands twice in the header"
                )
            seen.add(name)
        return None


def _only_array(nodes: list[JsonValue]) -> JsonValue:
    """The names of columns that a path leads to: one array of them, or a text for each; None where
    it leads to nothing.
    """
    if len(nodes) == 1 and type(nodes[0]) is not str:
        return nodes[0]
    return nodes or None


def _under(names: list[str], row: FoundRow) -> FoundRow:
    """A row that is an array as an object with these members; what was met instead of a row
    stays what it is.
    """
    if row.fault is not None:
        return row
    if type(row.node) is not list:
        return row._replace(
            fault=Bad(
                Code.ROW_SHAPE, "an array, one element for each column of the header"
            )
        )
    if len(row.node) > len(names):
        told = (
            f"{counted(len(row.node), 'element')} under a header of "
            f"{counted(len(names), 'column')}"
        )
        return row._replace(fault=Bad(Code.HEADER, told, told=True))
    # Cells keep their place in the array, by which rejects name them.
    members = {name: (*row.location, number) for number, name in enumerate(names)}
    return row._replace(node=dict(zip(names, row.node, strict=False)), members=members)


@dataclass(frozen=True)
class RowRules:
    """Where the rows of a table are: all nodes of the first path, then of the next, or those of a
    zip.

    With `spread` an array among them gives its elements, null no row. A node for which `when` does
    not hold is no row. `recurse` leads from a row to those below it. With `outer` there is one
    placeholder row where nothing is found.
    """

    paths: tuple[Path, ...] = ()
    when: Condition | None = None
    spread: bool = False
    zip: Zip | None = None
    header: Header | None = None
    recurse: Path | None = None
    outer: bool = False
    judges_shape: bool = False
    """Whether a row that is no object can't be read: all that its fields look for are members of an
    object.
    """

    @property
    def plain(self) -> bool:
        """Whether each row is a node that a path found, or stands for none."""
        return not (self.zip or self.header or self.recurse)

    @property
    def may_be_the_parent(self) -> bool:
        """Whether a row can be the very node in which rows are looked for."""
        return any(not path.segments for path in self.named_paths)

    @property
    def named_paths(self) -> tuple[Path, ...]:
        """All paths that look for rows, each of which should find something."""
        return (*self.paths, *(self.zip.paths.values() if self.zip else ()))

    @property
    def reads(self) -> tuple[Path, ...]:
        """All paths that are followed from the node in which rows are looked for."""
        return (
            *self.named_paths,
            *([self.header.path] if self.header and self.header.path else ()),
        )

    def find(
        self,
        root: JsonValue,
        *,
        is_placeholder: bool = False,
        excused: Excused | None = None,
    ) -> RowsBelow:
        """The rows below a document or a row of the parent table, in their order.

        Below a placeholder row there is nothing.
        """
        below = RowsBelow([]) if is_placeholder else self.within(root, excused)
        if self.outer and not below.rows and below.refusal is None:
            return RowsBelow([FoundRow((), None, is_placeholder=True)])
        return below

    def within(self, root: JsonValue, excused: Excused | None) -> RowsBelow:
        if self.zip is not None:
            zipped = self.zip.find(root, excused)
            return RowsBelow(self.meeting(zipped.rows, root), zipped.refusal)
        rows_found = [
            row for path in self.paths for row in self.candidates(path, root, excused)
        ]
        # Conditions come before the header: they look at arrays as they stand.
        if self.header is not None:
            headed = self.header.applied(self.meeting(rows_found, root), root)
            return RowsBelow(_numbered(headed.rows), headed.refusal)
        rows = self.judged(self.meeting(rows_found, root), excused)
        return RowsBelow(
            self.with_those_below(rows, self.recurse, excused) if self.recurse else rows
        )

    def candidates(
        self, path: Path, root: JsonValue, excused: Excused | None
    ) -> Iterator[FoundRow]:
        for item in found_and_met(path, root, excused):
            location, node = item.location, item.value
            if item.step is not None:
                yield met_instead(item)
            elif not self.spread:
                yield FoundRow(location, node)
            elif type(node) is list:
                yield from (
                    FoundRow((*location, number), element, True)
                    for number, element in enumerate(node)
                )
            # With `spread` a null is an empty list.
            elif node is not None:
                yield FoundRow(location, node)

    def meeting(self, rows: list[FoundRow], root: JsonValue) -> list[FoundRow]:
        """Those for which `when` holds, with their positions; it judges nodes that were found, not
        what was met instead of rows.
        """
        when = self.when
        return _numbered(
            row
            for row in rows
            if when is None or row.fault is not None or when.holds(row.node, root)
        )

    def judged(self, rows: list[FoundRow], excused: Excused | None) -> list[FoundRow]:
        """With those that can't be read since they are no objects."""
        if not self.judges_shape:
            return rows
        return [self.in_shape(row, excused) for row in rows]

    @staticmethod
    def in_shape(row: FoundRow, excused: Excused | None) -> FoundRow:
        if (
            row.fault is not None
            or type(row.node) is dict
            or (excused is not None and excused(row.location))
        ):
            return row
        return row._replace(fault=row_shape())

    def with_those_below(
        self, top: list[FoundRow], recurse: Path, excused: Excused | None
    ) -> list[FoundRow]:
        """Each row followed by those below it, depth first.

        A row that is itself what the first step meets is a leaf: it stands on record as a row.
        """
        rows: list[FoundRow] = []
        # A stack, since rows below rows may be deeper than Python goes; children in reverse, so
        # that they come off in their order.
        todo = top[::-1]
        while todo:
            row = todo.pop()
            here = _within(excused, row.location)
            below = self.judged(
                self.meeting(self.below(row, recurse, here), row.node), here
            )
            todo += (
                child._replace(
                    location=(*row.location, *child.location),
                    depth=row.depth + 1,
                    above=len(rows),
                )
                for child in reversed(below)
            )
            rows.append(row)
        return rows

    def below(
        self, row: FoundRow, recurse: Path, excused: Excused | None
    ) -> list[FoundRow]:
        """The rows directly below a row of the same table; none below one that can't be read."""
        if row.fault is not None:
            return []
        return [
            child
            for child in self.candidates(recurse, row.node, excused)
            if child.location or not child.fault
        ]


def _within(excused: Excused | None, location: Location) -> Excused | None:
    """The same of a node that stands further down."""
    return None if excused is None else lambda inner: excused((*location, *inner))


def row_shape() -> Bad:
    return Bad(Code.ROW_SHAPE, "an object with members")


def _numbered(rows: Iterable[FoundRow]) -> list[FoundRow]:
    numbered = []
    for position, row in enumerate(rows):
        # Most are right already, and a copy of each would cost more than all else here.
        numbered.append(
            row if row.position == position else row._replace(position=position)
        )
    return numbered


def would_stand(path: Path) -> Location:
    """Where a value that a path does not find would have stood, as far as that can be said."""
    steps: list[str | int] = []
    for segment in path.segments:
        step = segment.only
        if not (
            isinstance(step, Name) or (isinstance(step, Index) and step.index >= 0)
        ):
            # Behind a wildcard or a filter there are many places, or none.
            break
        steps.append(step.name if isinstance(step, Name) else step.index)
    return tuple(steps)


def _refused_as_uneven(nodes: Mapping[str, Sized]) -> Refusal:
    """The rows of arrays whose lengths differ, as many as the longest has elements."""
    lengths = {name: len(elements) for name, elements in nodes.items()}
    told = ", ".join(f"{name} {length}" for name, length in lengths.items())
    message = f"the arrays are of unequal length: {shortened(told, 200)}"
    return Refusal(Bad(Code.UNEVEN, message, told=True), max(lengths.values()))
