"""Fields that are made of several nodes of a row, where a scan found these: without a value for
each in Python.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import pyarrow as pa

from mukret.columns.cells import read_cells, values_of
from mukret.columns.read import Column, read_column
from mukret.columns.types import value_type
from mukret.engine.scanned import ScannedRows
from mukret.plan.scanning import ByList
from mukret.rules.sources import At
from mukret.scan import Kind
from mukret.types import ListOf, TypeSpec
from mukret.values import JsonValue


def read_listed(
    reading: TypeSpec, at: At, rows: ScannedRows, source: ByList
) -> Column | None:
    """The values of a field; None where each has to be looked at."""
    if at.take == "count":
        return _counted(reading, rows, source)
    if (
        at.take == "all"
        and isinstance(reading.type, ListOf)
        # What is split changes the number of elements.
        and reading.options.split is None
    ):
        return _lists(reading, reading.type, rows, source)
    return None


def listed(at: At, rows: ScannedRows, source: ByList) -> list[list[JsonValue]]:
    """For each row the values of its nodes, but for nulls."""
    below, cells = rows.listed(source)
    lists: list[list[JsonValue]] = [[] for _ in range(rows.count)]
    for owner, value in zip(below.owners, values_of(cells), strict=True):
        if value is not None:
            lists[owner].append(value)
    return lists


def _counted(reading: TypeSpec, rows: ScannedRows, source: ByList) -> Column:
    """Nulls are nodes, too."""
    below, cells = rows.listed(source)
    numbers = Counter(below.owners)
    if source.column is not None:
        there = cells.rows_without(Kind.MISSING)
        numbers = Counter(below.owners[row] for row in there)
    return read_column(reading, [numbers[row] for row in range(rows.count)])


def _lists(
    reading: TypeSpec, kind: ListOf, rows: ScannedRows, source: ByList
) -> Column | None:
    """Lists of items that are all good; nulls and blanks are left out."""
    below, cells = rows.listed(source)
    items = read_cells(replace(reading, type=kind.item), cells)
    if items.failures:
        return None
    # Elements that are null or blank are gone: how many are left of each row gives the offsets of
    # the lists.
    numbers = Counter(below.owner_array.filter(items.array.is_valid()).to_pylist())
    offsets = [0]
    for row in range(rows.count):
        offsets.append(offsets[-1] + numbers[row])
    lists = pa.ListArray.from_arrays(
        pa.array(offsets, pa.int32()), items.array.drop_null()
    )
    return Column(lists.cast(value_type(kind)))
