"""How a value came about: where it stood in the response, each step from there, and the values it
was made of.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from mukret.columns.types import written
from mukret.engine.decided import DecidedTable
from mukret.expressions import Aggregate
from mukret.inspect.picking import Picked
from mukret.inspect.reading_steps import (
    MOST_NODES,
    each_of,
    element_steps,
    reading_steps,
)
from mukret.paths import normalized
from mukret.paths.locate import location_text, wanted_kind
from mukret.rules.model import RESPONSE, Field, Inherited, Table
from mukret.rules.rows import RowPlace
from mukret.rules.sources import (
    At,
    Compute,
    ConstantValue,
    Fact,
    Lookup,
    ParentField,
    Rest,
)
from mukret.semantics.answers import Form
from mukret.semantics.choosing import Attempt, attempts
from mukret.semantics.outcomes import RowOutcome
from mukret.semantics.rejects import Fault, sentence
from mukret.text import shortened
from mukret.types import Bad, TypeSpec
from mukret.types.lists import ListOf
from mukret.types.taken import GATHERINGS
from mukret.values import JsonValue, shown_text

MOST_ROWS = 5
BESIDE = 2
LONGEST = 40


@dataclass
class Traced:
    """A field of a row.

    `value` is its text as it is written, None for null; `problem` what is wrong with it. `steps`
    tell in words how it came about, `inner` are the fields that it was made of.
    """

    name: str
    type: str
    value: str | None
    problem: str | None = None
    steps: list[str] = field(default_factory=list)
    inner: list[Traced] = field(default_factory=list)

    def as_json(self) -> dict[str, JsonValue]:
        members: dict[str, JsonValue] = {
            "field": self.name,
            "type": self.type,
            "value": self.value,
        }
        if self.problem:
            members["problem"] = self.problem
        return {
            **members,
            "steps": list(self.steps),
            "from": [traced.as_json() for traced in self.inner],
        }


@dataclass
class TracedRow:
    table: str
    file: str
    document: int
    path: str
    outcome: str
    problems: list[str]
    fields: list[Traced]

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "table": self.table,
            "file": self.file,
            "document": self.document,
            "path": self.path,
            "fate": self.outcome,  # as scripts know it
            "problems": list(self.problems),
            "fields": [traced.as_json() for traced in self.fields],
        }


# Finds the row of which a lookup across the run takes its value, in whatever document.
Elsewhere = Callable[[Lookup, Form], Picked | None]


def trace(
    picked: Picked,
    only: str | None = None,
    elsewhere: Elsewhere = lambda lookup, form: None,
) -> TracedRow:
    """The fields of a row, or one of them with all that it was made of down to the response: for
    that, rows of other documents are found by `elsewhere`.
    """
    row = RowInBatch(picked.tables, picked.table, picked.row)
    # All that each of forty fields was made of would fill pages: only one that is named is told in
    # full.
    tracer = _Tracer(elsewhere, deep=only is not None)
    names = [only] if only else list(row.rules.types)
    problems = [f"{fault.name or 'row'}: {_told(fault)}" for fault in row.faults]
    return TracedRow(
        row.rules.name,
        picked.file,
        picked.document,
        location_text(row.place.location),
        picked.outcome.name.lower(),
        problems if picked.outcome == RowOutcome.REJECTED else [],
        [tracer.field(row, name) for name in names],
    )


@dataclass(frozen=True)
class RowInBatch:
    """A row of a table by its number in a batch, or a document with the fields of the response."""

    tables: Mapping[str, DecidedTable]
    table: DecidedTable
    number: int

    @property
    def rules(self) -> Table:
        return self.table.table

    @property
    def place(self) -> RowPlace:
        return self.table.rows.locate(self.number)[0]

    @property
    def node(self) -> JsonValue:
        return self.table.rows.locate(self.number)[1]

    @property
    def named(self) -> str:
        what = (
            "the response"
            if self.rules.name == RESPONSE
            else f"the row of {self.rules.name}"
        )
        return f"{what} at {location_text(self.place.location)}"

    @property
    def faults(self) -> list[Fault]:
        return sorted(
            self.table.outcomes.faults.get(self.number, ()),
            key=lambda fault: fault.rank,
        )

    @property
    def above(self) -> RowInBatch | None:
        """The row above it, in a table that recurses."""
        number = self.table.rows.gathered.above[self.number]
        return RowInBatch(self.tables, self.table, number) if number >= 0 else None

    def ancestor(self, origin: str) -> RowInBatch:
        return RowInBatch(
            self.tables,
            self.tables[origin],
            self.table.rows.owners_in(origin)[self.number].as_py(),
        )

    def value(self, name: str) -> object:
        return self.table.columns.array(name)[self.number].as_py()

    def text(self, name: str) -> str | None:
        """The value of a field as it is written."""
        value = self.table.columns.array(name).slice(self.number, 1)
        cell: str | None = written(value, self.rules.types[name])[0].as_py()
        return cell

    def fact(self, name: str) -> JsonValue:
        if name == "path":
            return normalized(self.place.location)
        known = (
            self.table.rows.facts(name)
            if Fact(name).of_row
            else self.table.rows.document_facts(name)
        )
        return known[self.number]

    def surviving(self, aggregate: Aggregate) -> list[RowInBatch]:
        """The rows of a table directly within that an aggregate goes over."""
        below = self.tables[aggregate.table]
        surviving, owners = below.columns.surviving, below.rows.owners
        return [
            RowInBatch(self.tables, below, row)
            for row in surviving
            if owners[row] == self.number
        ]

    def form(self, lookup: Lookup) -> Form | None:
        """What a lookup looks for."""
        return lookup.form(tuple(self.value(name) for name in lookup.by))

    def found_by(self, lookup: Lookup) -> RowInBatch | None:
        """The row of the same document of which a lookup takes its value."""
        form, target = self.form(lookup), self.tables[str(lookup.table)]
        document = self.table.rows.document(self.number)
        answered = target.columns.answered(lookup)
        # The first with the key counts, as it does for the lookup.
        same = (
            row
            for row, key, _ in answered
            if key == form and target.rows.document(row) == document
        )
        number = next(same, None)
        return None if number is None else RowInBatch(self.tables, target, number)


def _told(fault: Fault) -> str:
    return f"{sentence(fault.bad, None)} [{fault.bad.code}]"


class _Tracer:
    """`deep`: fields are shown with those that they were made of."""

    def __init__(self, elsewhere: Elsewhere, *, deep: bool) -> None:
        self.elsewhere = elsewhere
        self.deep = deep

    def field(self, row: RowInBatch, name: str) -> Traced:
        """One field of a row."""
        item = next((item for item in row.rules.inherit if item.name == name), None)
        if item is not None:
            return self.inherited(row, item)
        own_field = next(field for field in row.rules.fields if field.name == name)
        traced = self.started(row, own_field)
        # Found once, for the steps and for what is told below them.
        looked_up = None
        if isinstance(own_field.source, Lookup):
            looked_up = self.looked_up(row, own_field.source)
        traced.steps += self.steps(row, own_field, looked_up)
        if self.deep:
            traced.inner += self.inner(row, own_field, looked_up)
        if self.is_default(row, own_field, traced.value):
            traced.steps.append(f"nothing there: the default {traced.value}")
        return traced

    def inherited(self, row: RowInBatch, item: Inherited) -> Traced:
        """A field that the row has from one above it."""
        above = row.ancestor(item.origin)
        traced = self.started(row, item.field)
        traced.steps.append(f"inherited from {above.named}")
        # One field was asked for: what it is made of is told, too.
        if self.deep:
            traced.inner.append(self.field(above, item.name))
        return traced

    def is_default(self, row: RowInBatch, own_field: Field, value: str | None) -> bool:
        """Whether a value is the default of its field, and does not stand in the row as well."""
        if value is None or own_field.default is None:
            return False
        return value == own_field.type.written(
            own_field.default
        ) and not self.stands_there(row, own_field)

    @staticmethod
    def stands_there(row: RowInBatch, own_field: Field) -> bool:
        """Whether paths of a field found a value, so that its default was not needed: the response
        may hold the same one.
        """
        if not isinstance(own_field.source, At):
            return False
        excuses = row.table.rows.excuses_at(row.number).below(row.place)
        *_, last = attempts(own_field.source, row.node, excuses)
        return any(_is_read(own_field.reading, item.value) for item in last.found)

    @staticmethod
    def started(row: RowInBatch, own_field: Field) -> Traced:
        problem = next(
            (fault for fault in row.faults if fault.name == own_field.name), None
        )
        return Traced(
            own_field.name,
            own_field.type.name,
            row.text(own_field.name),
            _told(problem) if problem else None,
        )

    # ---- in words

    def steps(
        self, row: RowInBatch, own_field: Field, looked_up: RowInBatch | None
    ) -> Iterator[str]:
        match own_field.source:
            case At():
                yield from self.found(row, own_field, own_field.source)
            case Compute(text=text):
                yield f"= {text}"
                # Each once, in the order in which the expression has them.
                names = dict.fromkeys(own_field.source.expression.fields())
                if names:
                    yield "with " + ", ".join(
                        f"{name} = {_shown(row, name)}" for name in names
                    )
            case ConstantValue():
                yield "a constant of the rules"
            case Fact(name=name):
                fact = row.fact(name)
                yield f"the fact {name}: {shown_text(fact)}"
                yield from reading_steps(own_field.reading, fact)
            case ParentField(field=above):
                yield (
                    f"{above} of {row.above.named}"
                    if row.above
                    else "no row above it: null"
                )
            case Rest():
                yield "what no path of the table reads"
            case Lookup():
                yield from self.lookup_steps(
                    row, own_field, own_field.source, looked_up
                )

    def found(self, row: RowInBatch, field: Field, at: At) -> Iterator[str]:
        """What each path of a field led to, and what was made of the nodes that count."""
        place, node = row.place, row.node
        tried = list(
            attempts(at, node, row.table.rows.excuses_at(row.number).below(place))
        )
        for attempt in tried:
            yield from self.met(place, attempt)
            if attempt.found or not attempt.met:
                yield from self.nodes(place, node, attempt)
        if any(attempt.met for attempt in tried) and not tried[-1].succeeds:
            return
        # The paths are tried in order: the last one is the one that counts, if it found something.
        counting = tried[-1] if tried[-1].succeeds else tried[0]
        if at.take == "count":
            yield f"counted: {len(counting.found)}"
            return
        values = [item.value for item in counting.found if item.value is not None]
        yield from self.taken(field, at, values)

    def taken(self, field: Field, at: At, values: Sequence[JsonValue]) -> Iterator[str]:
        """What `take` makes of several nodes, and the type of the one, or of each."""
        if at.take == "all" and isinstance(field.type, ListOf):
            yield from element_steps(field.type, field.reading, values)
        # Each value is read alone before they are put together: any of them may be the one that
        # fails.
        elif at.take in GATHERINGS:
            yield from each_of(field.reading, values)
        elif values:
            if len(values) > 1:
                yield f"the {at.take} of them"
            yield from reading_steps(
                field.reading, values[-1 if at.take == "last" else 0]
            )
        if at.take == "all" or at.take in GATHERINGS:
            yield f"taken together: {at.take}"

    @staticmethod
    def met(place: RowPlace, attempt: Attempt) -> Iterator[str]:
        for item in attempt.met[:MOST_NODES]:
            assert item.step is not None
            there = location_text(place.below(item.location))
            yield (
                f"{attempt.path.text} meets {shown_text(item.value)} at {there}, but wants "
                f"{wanted_kind(item.step)}"
            )

    def nodes(
        self, place: RowPlace, node: JsonValue, attempt: Attempt
    ) -> Iterator[str]:
        if not attempt.found:
            yield f"{attempt.path.text} finds nothing"
        for item in attempt.found[:MOST_NODES]:
            yield (
                f"{attempt.path.text} finds {shown_text(item.value)} at "
                f"{location_text(place.below(item.location))}"
            )
            # What stands beside a value often says why it is another than was thought.
            around = surroundings(node, item.location) if self.deep else ""
            if around:
                yield f"in {around}"
        if len(attempt.found) > MOST_NODES:
            yield f"and {len(attempt.found) - MOST_NODES:,} more"

    # ---- lookups

    def looked_up(self, row: RowInBatch, lookup: Lookup) -> RowInBatch | None:
        """The row that a lookup takes its value from; None if there is none, or it was not looked
        for.
        """
        form = row.form(lookup)
        if form is None or lookup.table is None:
            return None
        if not lookup.across_run:
            return row.found_by(lookup)
        picked = self.elsewhere(lookup, form) if self.deep else None
        return RowInBatch(picked.tables, picked.table, picked.row) if picked else None

    def lookup_steps(
        self,
        row: RowInBatch,
        own_field: Field,
        lookup: Lookup,
        looked_up: RowInBatch | None,
    ) -> Iterator[str]:
        pairs = zip(lookup.key, lookup.by, strict=True)
        wanted = " and ".join(
            f"{key} is {_shown(row, name)} ({name})" for key, name in pairs
        )
        yield f"{lookup.give} of the row of {lookup.name} whose {wanted}"
        if row.form(lookup) is None:
            yield "nothing equals null: null"
        elif looked_up is not None:
            elsewhere = _elsewhere(looked_up) if lookup.across_run else ""
            yield f"found: {looked_up.named}{elsewhere}"
        # A reference file of the rules, and no table.
        elif lookup.table is None:
            yield (
                f"there is none in {lookup.name}: null"
                if row.value(own_field.name) is None
                else "found"
            )
        elif not lookup.across_run:
            yield "there is none in this document: null"
        elif row.value(own_field.name) is None:
            yield "in all documents of the run there is none, or it is null there"
        else:
            yield (
                "found in the run: --field says where"
                if not self.deep
                else "found in the run"
            )

    # ---- inward

    def inner(
        self, row: RowInBatch, own_field: Field, looked_up: RowInBatch | None
    ) -> Iterator[Traced]:
        match own_field.source:
            case Compute():
                for name in dict.fromkeys(own_field.source.expression.fields()):
                    yield self.field(row, name)
                for aggregate in own_field.source.expression.aggregates():
                    yield _aggregated(aggregate, row.surviving(aggregate))
            case ParentField(field=name) if row.above is not None:
                yield self.field(row.above, name)
            case Lookup():
                for name in own_field.source.by:
                    yield self.field(row, name)
                if looked_up is not None:
                    yield self.field(looked_up, own_field.source.give)


def _shown(row: RowInBatch, name: str) -> str:
    text = row.text(name)
    return "null" if text is None else text


def _elsewhere(row: RowInBatch) -> str:
    batch, document = row.table.rows.batch, row.table.rows.document(row.number)
    return f" in {batch.sources[document].name}, document {batch.numbers[document]}"


def _aggregated(aggregate: Aggregate, below: Sequence[RowInBatch]) -> Traced:
    over = ".".join(filter(None, (aggregate.table, aggregate.field)))
    what = f"{aggregate.function}({over})"
    group = Traced(what, aggregate.table, f"of {len(below):,} rows")
    # The first ones: the others are in the table.
    for row in below[:MOST_ROWS]:
        value = f": {_shown(row, aggregate.field)}" if aggregate.field else ""
        group.steps.append(f"{row.named}{value}")
    if len(below) > MOST_ROWS:
        group.steps.append(f"and {len(below) - MOST_ROWS:,} more")
    return group


def surroundings(node: JsonValue, location: Sequence[str | int]) -> str:
    """The member or element at a place with what stands beside it; empty where nothing does."""
    for step in location[:-1]:
        node = node[step]
    if not location or type(node) not in (dict, list):
        return ""
    steps = list(node) if type(node) is dict else list(range(len(node)))
    place = steps.index(location[-1])
    # A few on each side, with a sign where there are more.
    first, last = max(0, place - BESIDE), place + BESIDE + 1
    shown = [_member(node, step) for step in steps[first:last]]
    parts = ["…"] * (first > 0) + shown + ["…"] * (last < len(steps))
    return f"{{{', '.join(parts)}}}" if type(node) is dict else f"[{', '.join(parts)}]"


def _member(node: JsonValue, step: str | int) -> str:
    value = shortened(shown_text(node[step]), LONGEST)
    return f"{shown_text(step)}: {value}" if type(node) is dict else value


def _is_read(reading: TypeSpec, value: JsonValue) -> bool:
    try:
        return reading.read(value) is not None
    except Bad:
        return False
