"""Rules compiled once: for each table the generated row code, and what is left for the general way."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from mukret.columns.arrow import column_type
from mukret.paths import Filter, Path, parse_path
from mukret.plan.codegen import (
    Gather,
    Nodes,
    gather_function,
    general_gather,
    is_compilable,
    nodes_function,
)
from mukret.plan.first_look import FirstLook
from mukret.plan.long_documents import LongDocuments, long_documents
from mukret.plan.places import Place, place_after
from mukret.plan.projection import Projection, projection_for
from mukret.rules.model import RESPONSE, At, Fact, Field, Rules, Table
from mukret.rules.rows import Rows
from mukret.semantics.acceptance import Acceptance


@dataclass
class TablePlan:
    """`simple` are the fields whose raw values the generated function gathers, by their column there; `nodes` are
    functions for the fields that look at several nodes."""

    table: Table
    gather: Gather
    gather_plainly: Gather | None
    """The same by the plain way of finding rows, where texts that can't be read may stand in the way."""
    simple: dict[str, int]
    nodes: dict[str, Nodes]
    rank: dict[str, int]
    inherit_rank: dict[str, int]
    schema: object
    place: Place | None = None
    """What generated code meets at the rows."""
    slow: tuple[str, ...] = ()
    """Why rows, or some of the fields, are not gathered by generated code; none if all are."""


@dataclass
class Plan:
    """The response (the documents as rows of a table of its own), and the tables, each after its parent."""

    rules: Rules
    response: TablePlan
    tables: list[TablePlan]
    embedded: tuple[Path, ...]
    projection: Projection | None
    """How documents are decoded: None if in full."""
    long: LongDocuments
    acceptance: Acceptance
    first_look: FirstLook


def make_plan(rules: Rules, whole: Rules | None = None) -> Plan:
    """`whole`: the rules of which these are a part; which documents can be read they tell."""
    document = Table(RESPONSE, Rows((parse_path("$"),)), None, (), rules.response_fields)
    tables = rules.parents_first()
    named = _need_names(tables)
    hollow = {table.name for table in tables if table.rows.outer}
    projection = projection_for(rules)
    place = projection.place if projection else None
    response = _table_plan(document, place, names=RESPONSE in named, embedded=bool(rules.embedded))
    plans = {RESPONSE: response}
    for table in tables:
        plans[table.name] = _table_plan(
            table,
            plans[table.within or RESPONSE].place,
            names=table.name in named,
            embedded=bool(rules.embedded),
            may_stand_in_hollow=table.within in hollow and table.rows.may_be_the_parent,
        )
    embedded = tuple(item.path for item in rules.embedded)
    long = long_documents(rules, in_part=projection is not None)
    acceptance = Acceptance(whole or rules)
    first_look = FirstLook(acceptance, place)
    return Plan(
        rules,
        response,
        [plans[table.name] for table in tables],
        embedded,
        projection,
        long,
        acceptance,
        first_look,
    )


def _need_names(tables: Sequence[Table]) -> set[str]:
    """The tables whose rows must know their member name: for a field, or for a child that is the same node."""
    needed: set[str] = set()
    for table in reversed(tables):
        if table.name in needed or any(own.source == Fact("name") for own in table.fields):
            needed.add(table.name)
            if table.rows.may_be_the_parent:
                needed.add(table.within or RESPONSE)
    return needed


def _table_plan(
    table: Table, above: Place | None, *, names: bool, embedded: bool, may_stand_in_hollow: bool = False
) -> TablePlan:
    """`above` is the place of the parent's rows. `may_stand_in_hollow`: a row could be taken to be the very node of a
    parent row that has none."""
    simple = [own for own in table.fields if _is_simple(own)]
    general = [own for own in table.fields if isinstance(own.source, At) and not _is_simple(own)]
    paths = [own.source.paths[0] for own in simple if isinstance(own.source, At)]
    positions = any(own.source == Fact("position") for own in table.fields)
    place = place_after(table.rows.paths[0], above) if above is not None else None
    gather = gather_function(
        table.rows, paths, positions=positions, names=names, below_hollow=may_stand_in_hollow, place=above
    )
    return TablePlan(
        table,
        gather,
        general_gather(table.rows, paths, names=names) if embedded else None,
        {own.name: number for number, own in enumerate(simple)},
        {
            own.name: nodes_function(own.source.paths, with_nulls=own.source.take == "count", place=place)
            for own in general
            if isinstance(own.source, At)
        },
        {own.name: number for number, own in enumerate(table.fields)},
        {item.name: number - len(table.inherit) for number, item in enumerate(table.inherit)},
        _schema(table),
        place,
        tuple(_slow(table)),
    )


def _slow(table: Table) -> Iterator[str]:
    rows = table.rows
    words = {"zip": rows.zip, "header": rows.header, "recurse": rows.recurse}
    yield from (f"rows one by one ({word})" for word, given in words.items() if given)
    if not all(map(is_compilable, rows.paths)):
        yield "rows one by one (a path that is too long)"
    if rows.when is not None:
        yield "a condition for each node (when)"
    if any(_is_interpreted(path) for path in rows.paths):
        yield "rows by the plain way of a path (a filter, or ..)"
    for own in table.fields:
        if isinstance(own.source, At) and any(map(_is_interpreted, own.source.paths)):
            yield f"{own.name} by the plain way of a path (a filter, or ..)"


def _is_interpreted(path: Path) -> bool:
    return any(segment.descend or any(isinstance(s, Filter) for s in segment.selectors) for segment in path.segments)


def _is_simple(own: Field) -> bool:
    source = own.source
    return (
        isinstance(source, At)
        and len(source.paths) == 1
        and source.paths[0].singular
        and is_compilable(source.paths[0])
        and source.take in ("only", "first", "last")
    )


def _schema(table: Table) -> object:
    import pyarrow as pa

    return pa.schema([pa.field(name, column_type(kind)) for name, kind in table.columns])
