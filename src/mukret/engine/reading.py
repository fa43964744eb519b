"""The values of a field in the rows of a table: nodes that the scan or the plain way finds → a
typed column.
"""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from mukret.columns.arrow import with_values
from mukret.columns.cells import read_cells
from mukret.columns.read import Column, read_column, read_lists
from mukret.columns.types import value_type
from mukret.engine.listed import listed, read_listed
from mukret.engine.scanned import Nodes, ScannedRows
from mukret.engine.table_rows import TableRows
from mukret.plan.plainly import nodes_of
from mukret.plan.scanning import ByList
from mukret.rules.model import Field
from mukret.rules.sources import At, Fact
from mukret.semantics.choosing import choose
from mukret.semantics.rejects import several
from mukret.semantics.taking import taken, taken_from
from mukret.types import Bad, TypeSpec
from mukret.types.taken import GATHERINGS
from mukret.values import JsonValue


def read_field(rows: TableRows, field: Field, at: At) -> Column:
    """The values that stand in the rows.

    Where a path met another kind, what that means is decided row by row.
    """
    if isinstance(rows.gathered, ScannedRows):
        column, suspects = _scanned(rows, rows.gathered, field, at)
    else:
        column, suspects = _plainly(rows, field, at)
    return _read_again(
        # Rows that are unreadable themselves have no values to look at.
        rows,
        field.reading,
        at,
        column,
        suspects - rows.unreadable - rows.placeholders,
    )


def read_fact(rows: TableRows, field: Field, fact: Fact) -> Column:
    """What is known of the rows, or of the documents that they stand in."""
    facts = rows.facts(fact.name) if fact.of_row else rows.document_facts(fact.name)
    if isinstance(facts, Nodes):  # the names of members that were scanned
        column = read_cells(field.reading, facts.cells)
    else:
        column = read_column(field.reading, facts)
    return Column(
        column.array,
        {row: bad.about(facts[row]) for row, bad in column.failures.items()},
    )


def _scanned(
    rows: TableRows, scanned: ScannedRows, field: Field, at: At
) -> tuple[Column, set[int]]:
    """The values of rows that were scanned, and the rows that have to be read again: in them a path
    met another kind, or found several nodes.
    """
    assert rows.plan.scan is not None
    sources = rows.plan.scan.fields.get(field.name)
    if sources is None:
        return _plainly(rows, field, at)
    # Several nodes of a row: their elements are rows of a table of their own, by which they are
    # gathered again.
    if at.take not in ("only", "first", "last"):
        (source,) = sources
        assert isinstance(source, ByList)
        column = read_listed(field.reading, at, scanned, source)
        return column or _of_nodes(
            field.reading, at, listed(at, scanned, source)
        ), scanned.events(source.source)
    cells, suspects = scanned.nodes_of(sources[0], at.take)
    # Paths in order: what the first did not find is taken from the next.
    for source in sources[1:]:
        others, doubtful = scanned.nodes_of(source, at.take)
        cells, suspects = cells.or_else(others), suspects | doubtful
    return read_cells(field.reading, cells, rows.plan.known(field)), suspects


def _plainly(rows: TableRows, field: Field, at: At) -> tuple[Column, set[int]]:
    nodes, met = nodes_of(at.paths, rows.nodes, with_nulls=at.take == "count")
    return _of_nodes(field.reading, at, nodes), met


def _read_again(
    rows: TableRows, reading: TypeSpec, at: At, column: Column, suspects: set[int]
) -> Column:
    """The column, some of its rows read the plain way."""
    values: dict[int, object] = {}
    failures = {row: bad for row, bad in column.failures.items() if row not in suspects}
    # In these a path met something of another kind, and whether that is a fault only the plain way
    # knows.
    for row in suspects:
        place, node = rows.locate(row)
        try:
            values[row] = taken(
                at, reading, choose(at, node, rows.excuses_at(row).below(place))
            )
        except Bad as bad:
            values[row] = None
            failures[row] = bad.alone()
    return Column(with_values(column.array, values), failures)


def _of_nodes(reading: TypeSpec, at: At, nodes: Sequence[list[JsonValue]]) -> Column:
    """The values of a field that looks at several nodes of each row."""
    if at.take == "all":
        return read_lists(reading, nodes)
    if at.take == "count":
        return read_column(reading, list(map(len, nodes)))
    if at.take in GATHERINGS:
        return _one_by_one(reading, at, nodes)
    # Several where one was wanted: a reject with its number of nodes, and null in the column.
    many = {
        row: several(len(nodes_of_row))
        for row, nodes_of_row in enumerate(nodes)
        if len(nodes_of_row) > 1 and at.take == "only"
    }
    which = -1 if at.take == "last" else 0
    wanted: list[JsonValue] = [None] * len(nodes)
    for row, nodes_of_row in enumerate(nodes):
        if nodes_of_row and row not in many:
            wanted[row] = nodes_of_row[which]
    column = read_column(reading, wanted)
    return Column(column.array, column.failures | many)


def _one_by_one(reading: TypeSpec, at: At, nodes: Sequence[list[JsonValue]]) -> Column:
    values: list[object] = []
    failures: dict[int, Bad] = {}
    for row, nodes_of_row in enumerate(nodes):
        try:
            values.append(taken_from(at, reading, nodes_of_row))
        except Bad as bad:
            values.append(None)
            # Without what it was raised from: failures are kept for a while.
            failures[row] = bad.alone()
    return Column(pa.array(values, value_type(reading.type)), failures)
