"""How a value came about: where it stood in the response, each step from there, and the values it was made of."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from mukret.engine.picking import Picked
from mukret.engine.reference import OneDocument, ReferenceRun, Row
from mukret.engine.rejects import chosen_path, sentence
from mukret.paths.locate import location_text
from mukret.paths.regexps import captured
from mukret.rules.model import RESPONSE, Above, At, Compute, Constant, Fact, Field, Lookup, Rest, Rules, Table
from mukret.text import shortened
from mukret.types import WHITE_SPACE, Reading
from mukret.types.taken import GATHERINGS
from mukret.values import JsonValue, shown_text

MOST_NODES = 5
MOST_ROWS = 5
BESIDE = 2
LONGEST = 40


@dataclass
class Traced:
    """A field of a row. `value` is its text as it is written, None for null; `problem` what is wrong with it. `steps`
    tell in words how it came about, `inner` are the fields that it was made of."""

    name: str
    type: str
    value: str | None
    problem: str | None = None
    steps: list[str] = field(default_factory=list)
    inner: list[Traced] = field(default_factory=list)

    def as_json(self) -> dict[str, JsonValue]:
        found: dict[str, JsonValue] = {"field": self.name, "type": self.type, "value": self.value}
        if self.problem:
            found["problem"] = self.problem
        return {**found, "steps": list(self.steps), "from": [one.as_json() for one in self.inner]}


@dataclass
class TracedRow:
    table: str
    file: str
    document: int
    path: str
    fate: str
    problems: list[str]
    fields: list[Traced]

    def as_json(self) -> dict[str, JsonValue]:
        return {**vars(self), "problems": list(self.problems), "fields": [one.as_json() for one in self.fields]}


def trace(rules: Rules, table: str, picked: Picked, only: str | None = None, now: datetime | None = None) -> TracedRow:
    """The fields of a row, or one of them with all that it was made of down to the response."""
    document = OneDocument(ReferenceRun(rules, now), picked.document)
    document.evaluate()
    row = document.rows[table][picked.row]
    tracer = _Tracer(rules, document, deep=only is not None)
    names = [only] if only else list(rules.tables[table].types)
    problems = [f"{fault.name or 'row'}: {sentence(fault.bad, None)} [{fault.bad.code}]" for fault in row.faults]
    return TracedRow(
        table,
        picked.document.file,
        picked.document.number,
        location_text(row.place.location),
        picked.fate.name.lower(),
        problems if picked.fate.name == "REJECTED" else [],
        [tracer.field(row, name) for name in names],
    )


class _Tracer:
    """`deep`: fields are shown with those that they were made of."""

    def __init__(self, rules: Rules, document: OneDocument, *, deep: bool) -> None:
        self.rules = rules
        self.document = document
        self.deep = deep

    def table(self, row: Row) -> Table:
        return self.rules.tables[row.origin]

    def field(self, row: Row, name: str) -> Traced:
        """One field of a row."""
        inherited = None if row.origin == RESPONSE else self.inherited(row, name)
        if inherited is not None:
            above, own = inherited
            found = self.started(row, own)
            found.steps.append(f"inherited from {_named(above)}")
            if self.deep:
                found.inner.append(self.field(above, name))
            return found
        fields = self.rules.response_fields if row.origin == RESPONSE else self.table(row).fields
        own = next(one for one in fields if one.name == name)
        found = self.started(row, own)
        found.steps += self.steps(row, own)
        if self.deep:
            found.inner += self.inner(row, own)
        if row.values[name] is not None and own.default is not None and row.values[name] == own.default:
            found.steps.append(f"nothing there: the default {own.type.written(own.default)}")
        return found

    def inherited(self, row: Row, name: str) -> tuple[Row, Field] | None:
        item = next((one for one in self.table(row).inherit if one.name == name), None)
        if item is None:
            return None
        assert row.parent is not None
        return row.parent.ancestor(item.origin), item.field

    def started(self, row: Row, own: Field) -> Traced:
        value = row.values[own.name]
        problem = next((fault.bad for fault in row.faults if fault.name == own.name), None)
        text = None if value is None else own.type.written(value)
        told = f"{sentence(problem, None)} [{problem.code}]" if problem else None
        return Traced(own.name, own.type.name, text, told)

    # ---- in words

    def steps(self, row: Row, own: Field) -> Iterator[str]:
        match own.source:
            case At():
                yield from self.found(row, own, own.source)
            case Compute(text=text):
                yield f"= {text}"
                names = dict.fromkeys(own.source.expression.fields())
                if names:
                    yield "with " + ", ".join(f"{name} = {self.written(row, name)}" for name in names)
            case Constant():
                yield "a constant of the rules"
            case Fact(name=name):
                fact = self.document.fact(row, name)
                yield f"the fact {name}: {shown_text(fact)}"
                yield from reading_steps(own.reading, fact)
            case Above(field=above):
                yield f"{above} of {_named(row.above)}" if row.above else "no row above it: null"
            case Rest():
                yield "what no path of the table reads"
            case Lookup():
                yield from self.looked_up(row, own.source)

    def written(self, row: Row, name: str) -> str:
        value = row.values.get(name)
        return "null" if value is None else self.table(row).types[name].written(value)

    def found(self, row: Row, own: Field, at: At) -> Iterator[str]:
        path = chosen_path(at, row.node)
        for other in at.paths[: at.paths.index(path)]:
            yield f"{other.text} finds nothing"
        nodes = path.nodes(row.node)
        if not nodes:
            yield f"{path.text} finds nothing"
            return
        for location, node in nodes[:MOST_NODES]:
            yield f"{path.text} finds {shown_text(node)} at {location_text(row.place.below(location))}"
            around = surroundings(row.node, location) if self.deep else ""
            if around:
                yield f"in {around}"
        if len(nodes) > MOST_NODES:
            yield f"and {len(nodes) - MOST_NODES:,} more"
        if at.take == "count":
            yield f"counted: {len(nodes)}"
        elif at.take in GATHERINGS or at.take == "all":
            yield f"taken together: {at.take}"
        else:
            values = [node for _, node in nodes if node is not None]
            if len(values) > 1:
                yield f"the {at.take} of them"
            if values:
                yield from reading_steps(own.reading, values[-1 if at.take == "last" else 0])

    def looked_up(self, row: Row, lookup: Lookup) -> Iterator[str]:
        pairs = zip(lookup.key, lookup.by, strict=True)
        wanted = " and ".join(f"{key} is {self.written(row, name)} ({name})" for key, name in pairs)
        yield f"{lookup.give} of the row of {lookup.name} whose {wanted}"
        if lookup.table is None:
            return
        found = self.row_of(row, lookup)
        yield f"found: {_named(found)}" if found else "there is none in this document: null"

    def row_of(self, row: Row, lookup: Lookup) -> Row | None:
        form = lookup.form(tuple(row.values[name] for name in lookup.by))
        if form is None or lookup.table is None:
            return None
        others = self.document.surviving.get(lookup.table, [])
        same = (other for other in others if lookup.form(tuple(other.values[name] for name in lookup.key)) == form)
        return next((other for other in same if lookup.give not in other.broken), None)

    # ---- inward

    def inner(self, row: Row, own: Field) -> Iterator[Traced]:
        match own.source:
            case Compute():
                for name in dict.fromkeys(own.source.expression.fields()):
                    yield self.field(row, name)
                for aggregate in own.source.expression.aggregates():
                    below = [other for other in self.document.surviving[aggregate.table] if other.parent is row]
                    what = f"{aggregate.function}({aggregate.table}{'.' + aggregate.field if aggregate.field else ''})"
                    group = Traced(what, aggregate.table, f"of {len(below):,} rows")
                    for other in below[:MOST_ROWS]:
                        value = self.written(other, aggregate.field) if aggregate.field else ""
                        group.steps.append(f"{_named(other)}: {value}".removesuffix(": "))
                    if len(below) > MOST_ROWS:
                        group.steps.append(f"and {len(below) - MOST_ROWS:,} more")
                    yield group
            case Above(field=name) if row.above is not None:
                yield self.field(row.above, name)
            case Lookup():
                for name in own.source.by:
                    yield self.field(row, name)
                found = self.row_of(row, own.source)
                if found is not None:
                    yield self.field(found, own.source.give)


def _named(row: Row) -> str:
    what = "the response" if row.origin == RESPONSE else f"the row of {row.origin}"
    return f"{what} at {location_text(row.place.location)}"


def surroundings(node: JsonValue, location: Sequence[str | int]) -> str:
    """The member or element at a place with what stands beside it; empty where nothing does."""
    for step in location[:-1]:
        node = node[step]
    if not location or type(node) not in (dict, list):
        return ""
    steps = list(node) if type(node) is dict else list(range(len(node)))
    place = steps.index(location[-1])
    first, last = max(0, place - BESIDE), place + BESIDE + 1
    shown = [_member(node, step) for step in steps[first:last]]
    parts = ["…"] * (first > 0) + shown + ["…"] * (last < len(steps))
    return f"{{{', '.join(parts)}}}" if type(node) is dict else f"[{', '.join(parts)}]"


def _member(node: JsonValue, step: str | int) -> str:
    value = shortened(shown_text(node[step]), LONGEST)
    return f"{shown_text(step)}: {value}" if type(node) is dict else value


def reading_steps(reading: Reading, value: JsonValue) -> Iterator[str]:
    """The steps of `Reading.read`, those that change something."""
    options, text = reading.options, value
    if type(text) is str:
        trimmed = text.strip(WHITE_SPACE) if reading.trims else text
        if trimmed != text:
            yield f"trimmed: {shown_text(trimmed)}"
        text = trimmed
        if text in reading.blanks:
            yield "blank: null"
            return
        if options.capture is not None:
            found = captured(options.capture, text)
            if found is None:
                yield f"does not match {options.capture}"
                return
            text = found.strip(WHITE_SPACE) if reading.trims else found
            yield f"captured by {options.capture}: {shown_text(text)}"
        if reading.strips and (stripped := reading.stripped(text)) != text:
            yield f"stripped of {', '.join(map(shown_text, reading.strips))}: {shown_text(stripped)}"
            text = stripped
    with_options = [
        f"{name} {shown_text(given)}"
        for name, given in (
            ("grouping", options.grouping),
            ("point", options.point if options.point != "." else None),
            ("zone", options.zone),
            ("format", ", ".join(options.format) if options.format != ("iso",) else None),
            ("unit", options.unit),
        )
        if given
    ]
    with_options += [name for name in ("percent", "accounting") if getattr(options, name)]
    read = f"read as {reading.type.name}"
    yield f"{read} ({', '.join(with_options)})" if with_options else read
