"""Paths → the program of a scan: a state for each set of paths that may go on at a value.

A scan goes through a document once. At each value it is in a state, which says what begins or ends
there and which state waits for each member and element. Paths that share their first steps share
states; those that meet (`$.a[*]` and `$.a[0]`) are followed at once, as a regular expression's
automaton does (subset construction).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from mukret.paths import Index, Name, Path, Segment, Wildcard
from mukret.scan._scanner import Program

# Of states: nobody reads what stands there.
NOTHING = -1
# The scanner's flags for the types that a step takes.
TAKES: dict[type, int] = {dict: 1, list: 2}
# The number of the table that has the documents as its rows.
DOCUMENT = 0


@dataclass(frozen=True)
class RowEnd:
    """At the end of a path stands a row of a table.

    `spread`: an array there gives its elements, null no row.
    """

    table: int
    spread: bool = False


@dataclass(frozen=True)
class CellEnd:
    """At the end of a path stands the value of a column."""

    table: int
    column: int


@dataclass(frozen=True)
class Noted:
    """A step that meets another kind is noted: which `source` of which table it belongs to."""

    table: int
    source: int


@dataclass(frozen=True)
class Met:
    """A step that meets another kind gives a row that can't be read."""

    table: int


@dataclass(frozen=True)
class Route:
    """A path that a scan follows from the rows of a table.

    `otherwise`: what is done where a step meets a value of a kind that it does not take; None:
    nothing.
    """

    origin: int
    segments: tuple[Segment, ...]
    end: RowEnd | CellEnd
    otherwise: Noted | Met | None = None


@dataclass(frozen=True)
class TableShape:
    """A table of a scan: the one that its rows stand in, and so many columns.

    `named`: the names of members are kept. `outer`: there is a row that stands for none where none
    is found.
    """

    parent: int
    columns: int
    named: bool = False
    outer: bool = False


@dataclass
class State:
    """What is done with a value (see `_scanner.pyx`); other states by their number."""

    members: dict[bytes, int] = field(default_factory=dict)
    any_member: int = NOTHING
    indexes: dict[int, int] = field(default_factory=dict)
    any_element: int = NOTHING
    if_array: int = NOTHING
    if_null: int = NOTHING
    cells: list[tuple[int, int]] = field(default_factory=list)
    rows: list[int] = field(default_factory=list)
    steps: list[tuple[int, int, int]] = field(default_factory=list)
    met: list[tuple[int, int, int]] = field(default_factory=list)
    lends_name: bool = False


def can_be_scanned(path: Path) -> bool:
    """Whether a scan can follow a path: names, indexes that count from the beginning, and
    wildcards.
    """
    return all(_is_plain(segment) for segment in path.segments)


def _is_plain(segment: Segment) -> bool:
    match segment.only:
        case Index(index):
            return index >= 0
        case Name() | Wildcard():
            return True
    return False


@dataclass(frozen=True, order=True)
class _At:
    """How far a route has come.

    Behind its last step it ends, but for one that is spread: that ends one step further, in the
    elements; `in_array` it waits for them. `no_row`: it begins where it ends, at a null, which is
    no row.
    """

    route: int
    step: int
    in_array: bool = False
    no_row: bool = False


_Reached = frozenset[_At]


def compiled(shapes: Sequence[TableShape], routes: Sequence[Route]) -> Program:
    """The program for some tables, each after the one that it stands in; the first is that of the
    documents.
    """
    return Program(_Compiler(routes).states(), list(shapes))


class _Compiler:
    def __init__(self, routes: Sequence[Route]) -> None:
        self.routes = [Route(DOCUMENT, (), RowEnd(DOCUMENT)), *routes]
        self.numbers: dict[_Reached, int] = {}
        self.waiting: list[_Reached] = []

    @cached_property
    def from_table(self) -> dict[int, list[int]]:
        """The numbers of the routes that begin at the rows of each table."""
        routes: dict[int, list[int]] = {}
        for number, route in enumerate(self.routes[1:], 1):
            routes.setdefault(route.origin, []).append(number)
        return routes

    def states(self) -> list[State]:
        self.some_number(frozenset({_At(0, 0)}))
        made: list[State] = []
        while len(made) < len(self.waiting):  # which grows meanwhile
            made.append(self.state(self.waiting[len(made)]))
        return made

    def number(self, reached: _Reached) -> int:
        """The state for all that has come to a value; none where nothing has."""
        return self.some_number(reached) if reached else NOTHING

    def some_number(self, reached: _Reached) -> int:
        if reached not in self.numbers:
            self.numbers[reached] = len(self.waiting)
            self.waiting.append(reached)
        return self.numbers[reached]

    def state(self, reached: _Reached) -> State:
        state = State()
        spread = frozenset(
            at
            for at in self.closed(reached, beyond_spread=False)
            if self.may_be_spread(at)
        )
        # What a row is hangs on the kind of value here: an array is gone into, null is no row.
        if spread:
            elements = frozenset(_At(at.route, at.step, in_array=True) for at in spread)
            nothing = frozenset(
                _At(at.route, at.step, no_row=True) for at in spread - reached
            )
            state.if_array = self.some_number(reached - spread | elements)
            state.if_null = self.some_number(reached - spread | nothing)
        everywhere = sorted(self.closed(reached))
        self.add_ends(state, everywhere)
        self.add_steps(state, everywhere)
        return state

    def may_be_spread(self, at: _At) -> bool:
        """Whether a row stands here, or an array of rows."""
        end, segments = self.routes[at.route].end, self.routes[at.route].segments
        if not isinstance(end, RowEnd) or not end.spread:
            return False
        return at.step == len(segments) and not at.in_array and not at.no_row

    def ends(self, at: _At) -> bool:
        return (
            not at.in_array
            and not at.no_row
            and at.step >= len(self.routes[at.route].segments)
        )

    def closed(self, reached: _Reached, *, beyond_spread: bool = True) -> set[_At]:
        """With all that begins at rows that stand here, but for routes of which it is known already
        what stands here. Not `beyond_spread`: nor with what begins at rows that stand here only if
        it is no array and not null.
        """
        known = {
            at.route for at in reached if at.step == 0 and (at.in_array or at.no_row)
        }
        closure: set[_At] = set()
        todo = list(reached)
        while todo:
            at = todo.pop()
            # Routes may begin at each other's rows: each is followed once.
            if at in closure:
                continue
            closure.add(at)
            if beyond_spread or not self.may_be_spread(at):
                todo += (
                    _At(number, 0)
                    for number in self.begun_at(at)
                    if number not in known
                )
        return closure

    def begun_at(self, at: _At) -> Sequence[int]:
        """The routes that begin at the rows whose own route ends here."""
        end = self.routes[at.route].end
        if not self.ends(at) or not isinstance(end, RowEnd):
            return ()
        return self.from_table.get(end.table, ())

    def add_ends(self, state: State, everywhere: Sequence[_At]) -> None:
        for at in everywhere:
            end = self.routes[at.route].end
            if not self.ends(at):
                continue
            if isinstance(end, RowEnd):
                state.rows.append(end.table)
            else:
                state.cells.append((end.table, end.column))
        state.rows.sort()  # each after the one that it stands in

    def add_steps(self, state: State, everywhere: Sequence[_At]) -> None:
        """The states that follow, member by member and element by element."""
        # As a set of places in the routes becomes one state (the subset construction for automata):
        # a member that several rules name leads to all that any of them asks for below it.
        going_on = [at for at in everywhere if not self.ends(at) and not at.no_row]
        state.lends_name = any(at.in_array for at in going_on)
        for at in going_on:
            self.add_judgement(state, at)
        by_step: defaultdict[Name | Index | Wildcard, set[_At]] = defaultdict(set)
        for at in going_on:
            for selector, after in self.following(at):
                by_step[selector].add(after)
        below_any = frozenset(by_step.pop(Wildcard(), ()))
        in_arrays = frozenset(
            _At(at.route, at.step + 1) for at in going_on if at.in_array
        )
        elements = in_arrays | below_any
        state.any_member, state.any_element = (
            self.number(below_any),
            self.number(elements),
        )
        for selector, after_it in by_step.items():
            if isinstance(selector, Name):
                state.members[_bytes(selector.name)] = self.number(below_any | after_it)
            elif isinstance(selector, Index):
                state.indexes[selector.index] = self.number(elements | after_it)

    def following(self, at: _At) -> Iterator[tuple[Name | Index | Wildcard, _At]]:
        segments = self.routes[at.route].segments
        if not at.in_array:
            selector = segments[at.step].only
            assert isinstance(selector, Name | Index | Wildcard)
            yield selector, _At(at.route, at.step + 1)

    def add_judgement(self, state: State, at: _At) -> None:
        """What is done with a value in which the next step can find nothing."""
        route = self.routes[at.route]
        # It was judged one level up, where the array stands.
        if at.in_array:
            return
        takes = sum(TAKES[kind] for kind in route.segments[at.step].takes)
        match route.otherwise:
            case Noted(table, source):
                state.steps.append((table, source, takes))
            case Met(table):
                state.met.append((table, at.step, takes))


def _bytes(name: str) -> bytes:
    """UTF-8; what no response can hold, half a surrogate pair, stays something that none does."""
    return name.encode("utf-8", "surrogatepass")
