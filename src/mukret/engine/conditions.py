"""Which rows of a scan fulfil conditions: filters and `when`, asked once for each different
combination of cells.

The conditions are asked of nodes that hold no more than what they look at, so the meaning is that
of the plain evaluator.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.cells import MOST_DIFFERENT
from mukret.documents.decode import decode
from mukret.paths import Index, Name, Segment
from mukret.plan.scanning import ScannedCondition
from mukret.scan import Cells
from mukret.values import JsonValue

# Stands for a node of which nothing is there that a condition looks at.
NOWHERE = object()


def passing(
    judgement: ScannedCondition, column: Callable[[int], Cells], count: int
) -> pa.Array:
    """A boolean array: which of so many rows fulfil all conditions.

    `column` gives the cells of a column.
    """
    columns = [column(number) for number in judgement.columns.values()]
    combinations = _combined(columns, count)
    paths_of_columns = list(judgement.columns)
    # Too many different ones: each row is asked.
    if combinations is None:
        answers = [
            _fulfils(judgement, paths_of_columns, columns, row) for row in range(count)
        ]
        return pa.array(answers, pa.bool_())
    numbers, firsts = combinations
    answers = [_fulfils(judgement, paths_of_columns, columns, row) for row in firsts]
    return pa.array(answers, pa.bool_()).take(numbers)


def _combined(
    columns: Sequence[Cells], count: int
) -> tuple[pa.Array, list[int]] | None:
    """For each row the number of its combination of cells, and a row for each of these; None if
    there are many.
    """
    together: pa.Array = None
    firsts: list[int] = []
    for cells in columns:
        different = cells.different(MOST_DIFFERENT)
        if different is None:
            return None
        codes, firsts = different
        numbers = pa.Array.from_buffers(
            pa.int32(), count, [None, pa.py_buffer(codes)]
        ).cast(pa.int64())
        # Numbers of two columns become one number, as digits do, and are numbered anew at once, so
        # that they stay small however many columns there are.
        if together is None:
            together = numbers
            continue
        together = (
            pc.add(pc.multiply(together, len(firsts)), numbers)
            .dictionary_encode()
            .indices.cast(pa.int64())
        )
        firsts = _first_rows(together)
    return (together, firsts) if columns else None


def _first_rows(numbers: pa.Array) -> list[int]:
    """The first row of each number; numbers count from 0 in the order of their first rows."""
    rows = pa.table(
        {"number": numbers, "row": pa.array(range(len(numbers)), pa.int64())}
    )
    first = (
        rows.group_by("number", use_threads=False)
        .aggregate([("row", "min")])
        # Grouping promises no order.
        .sort_by("number")
    )
    first_rows: list[int] = first["row_min"].to_pylist()
    return first_rows


def _fulfils(
    judgement: ScannedCondition,
    paths_of_columns: Sequence[tuple[Segment, ...]],
    columns: Sequence[Cells],
    row: int,
) -> bool:
    node: JsonValue = NOWHERE
    for segments, cells in zip(paths_of_columns, columns, strict=True):
        raw = cells.raw(row)
        if raw:
            node = _with(node, segments, decode(raw))
    # Nothing is there, and the condition is asked of an object without members.
    node = {} if node is NOWHERE else node
    return all(logical.holds(node, node) for logical in judgement.logicals)


def _with(node: JsonValue, segments: Sequence[Segment], value: JsonValue) -> JsonValue:
    """A node that also has a value at the end of some steps."""
    if not segments:
        return value
    step = segments[0].only
    if isinstance(step, Name):
        members: Mapping[str, JsonValue] = node if type(node) is dict else {}
        return {
            **members,
            step.name: _with(members.get(step.name, NOWHERE), segments[1:], value),
        }
    assert isinstance(step, Index)
    # An index says that there are elements before it: they are null, which no condition takes for a
    # value.
    elements = list(node) if type(node) is list else []
    elements += [None] * (step.index + 1 - len(elements))
    below = NOWHERE if elements[step.index] is None else elements[step.index]
    elements[step.index] = _with(below, segments[1:], value)
    return elements
