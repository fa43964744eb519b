"""Rules compiled once: what a scan looks for, and for each table the plain way of finding its rows and values."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from mukret.columns.arrow import column_type
from mukret.paths import Path, parse_path
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
from mukret.plan.scanning import ScanPlan, TableScan, need_names, scan_plan
from mukret.rules.model import RESPONSE, At, Fact, Field, Rules, Table
from mukret.rules.rows import Rows
from mukret.semantics.acceptance import Acceptance


@dataclass(frozen=True)
class Surroundings:
    """What finding the rows of a table hangs on besides its rules. `names`: of members are wanted. `embedded`: texts
    that can't be read may stand in the way. `may_stand_in_hollow`: a row could be taken to be the very node of a parent
    row that has none."""

    names: bool = False
    embedded: bool = False
    may_stand_in_hollow: bool = False


class TablePlan:
    """How the rows and values of a table are found: by the scan where that can be (`scan`), else in nodes that are
    decoded, by functions that are made when they are first needed. `simple` are the fields whose raw values the
    function for rows gathers, by their column there."""

    def __init__(self, table: Table, around: Surroundings, scan: TableScan | None) -> None:
        self.table = table
        self.around = around
        self.scan = scan
        simple = [own for own in table.fields if _is_simple(own)]
        self.simple = {own.name: number for number, own in enumerate(simple)}
        self.simple_paths = [own.source.paths[0] for own in simple if isinstance(own.source, At)]
        self.rank = {own.name: number for number, own in enumerate(table.fields)}
        self.inherit_rank = {item.name: number - len(table.inherit) for number, item in enumerate(table.inherit)}
        self._nodes: dict[str, Nodes] = {}
        self.slow = tuple(_slow(table, scan))
        """Why rows, or some of the fields, are not found by the scan; none if all are."""

    @cached_property
    def gather(self) -> Gather:
        return gather_function(
            self.table.rows,
            self.simple_paths,
            positions=any(own.source == Fact("position") for own in self.table.fields),
            names=self.around.names,
            below_hollow=self.around.may_stand_in_hollow,
        )

    @cached_property
    def gather_plainly(self) -> Gather | None:
        """The same by the plain way of finding rows, where texts that can't be read may stand in the way."""
        if not self.around.embedded:
            return None
        return general_gather(self.table.rows, self.simple_paths, names=self.around.names)

    def nodes(self, own: Field) -> Nodes:
        """The function for a field that looks at nodes."""
        if own.name not in self._nodes:
            assert isinstance(own.source, At)
            self._nodes[own.name] = nodes_function(own.source.paths, with_nulls=own.source.take == "count")
        return self._nodes[own.name]

    @cached_property
    def schema(self) -> object:
        import pyarrow as pa

        return pa.schema([pa.field(name, column_type(kind)) for name, kind in self.table.columns])


@dataclass
class Plan:
    """The response (the documents as rows of a table of its own), and the tables, each after its parent."""

    rules: Rules
    response: TablePlan
    tables: list[TablePlan]
    embedded: tuple[Path, ...]
    scan: ScanPlan | None
    """What is looked for in the bytes of documents; None where they are decoded as a whole."""
    long: LongDocuments
    acceptance: Acceptance
    first_look: FirstLook


def make_plan(rules: Rules, whole: Rules | None = None) -> Plan:
    """`whole`: the rules of which these are a part; which documents can be read they tell."""
    document = Table(RESPONSE, Rows((parse_path("$"),)), None, (), rules.response_fields)
    tables = rules.parents_first()
    named = need_names(tables)
    hollow = {table.name for table in tables if table.rows.outer}
    acceptance = Acceptance(whole or rules)
    scan = scan_plan(rules, acceptance)
    scanned = scan.tables if scan else {}
    plans = [
        TablePlan(
            table,
            Surroundings(
                names=table.name in named,
                embedded=bool(rules.embedded),
                may_stand_in_hollow=table.within in hollow and table.rows.may_be_the_parent,
            ),
            scanned.get(table.name),
        )
        for table in (document, *tables)
    ]
    return Plan(
        rules,
        plans[0],
        plans[1:],
        tuple(item.path for item in rules.embedded),
        scan,
        long_documents(rules),
        acceptance,
        FirstLook(acceptance, scan),
    )


def _slow(table: Table, scan: TableScan | None) -> Iterator[str]:
    rows = table.rows
    words = {"zip": rows.zip, "header": rows.header, "recurse": rows.recurse}
    yield from (f"rows one by one ({word})" for word, given in words.items() if given)
    if scan is None and rows.plain:
        yield "rows one by one, out of nodes that are decoded"
    for own in table.fields:
        if isinstance(own.source, At) and (scan is None or own.name not in scan.fields):
            yield f"{own.name} one by one"


def _is_simple(own: Field) -> bool:
    source = own.source
    return (
        isinstance(source, At)
        and len(source.paths) == 1
        and source.paths[0].singular
        and is_compilable(source.paths[0])
        and source.take in ("only", "first", "last")
    )
