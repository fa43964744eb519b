"""Rules compiled once: what a scan looks for, and for each table the plain way of finding its rows
and values.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from mukret.columns.cells import ReadBefore
from mukret.columns.types import stored
from mukret.paths import Path, parse_path
from mukret.plan.first_look import FirstLook
from mukret.plan.long_documents import LongDocuments, long_documents
from mukret.plan.scanning import ScanPlan, TableScan, need_names, scan_plan
from mukret.rules.model import RESPONSE, Field, Rules, Table
from mukret.rules.rows import RowRules
from mukret.rules.sources import At
from mukret.semantics.acceptance import Acceptance


class TablePlan:
    """How the rows and values of a table are found: by the scan where that can be (`scan`), else in
    nodes that are decoded. `named`: its rows must know their member name.
    """

    def __init__(self, table: Table, scan: TableScan | None, *, named: bool) -> None:
        self.table = table
        self.scan = scan
        self.named = named
        self.rank = {field.name: number for number, field in enumerate(table.fields)}
        self.inherit_rank = {
            item.name: number - len(table.inherit)
            for number, item in enumerate(table.inherit)
        }
        # Why rows, or some of the fields, are not found by the scan; none if all are.
        self.slow = tuple(_slow(table, scan))
        self._known: dict[str, ReadBefore] = {}

    def known(self, field: Field) -> ReadBefore:
        """What was read of the texts of a field so far."""
        return self._known.setdefault(field.name, ReadBefore())

    @cached_property
    def schema(self) -> object:
        import pyarrow as pa

        return pa.schema(
            [
                pa.field(name, stored(kind).handed_over)
                for name, kind in self.table.columns
            ]
        )


@dataclass
class Plan:
    """The response (the documents as rows of a table of its own), and the tables, each after its
    parent.
    """

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
    # The response is a table of one row per document: so its fields are read, and inherited, as all
    # others.
    document = Table(
        RESPONSE, RowRules((parse_path("$"),)), None, (), rules.response_fields
    )
    tables = rules.parents_first()
    named = need_names(tables)
    acceptance = Acceptance(whole or rules)
    scan = scan_plan(rules, acceptance)
    scanned = scan.tables if scan else {}
    plans = [
        TablePlan(table, scanned.get(table.name), named=table.name in named)
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
    words = {
        "zip": rows.zip if scan is None else None,
        "header": rows.header,
        "recurse": rows.recurse,
    }
    yield from (f"rows one by one ({word})" for word, given in words.items() if given)
    # Told by `-v`, for somebody who wonders where the time goes.
    if scan is None:
        if rows.plain:
            yield "rows one by one, out of nodes that are decoded"
        return
    for field in table.fields:
        if isinstance(field.source, At) and field.name not in scan.fields:
            yield f"{field.name} one by one"
