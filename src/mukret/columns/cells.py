"""Cells of a scan → typed Arrow columns, with exactly the values refused that the plain reading
refuses.

The kernels of the scanner read from the bytes what surely means one thing. What they refuse is read
by the type itself (`TypeSpec.read`), once for each different text, and so are types that have no
kernel.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import pyarrow as pa

from mukret.columns.arrow import with_values
from mukret.columns.read import Column, read_column, read_strings, spread, tried
from mukret.columns.stored import CellKernel
from mukret.columns.types import nulls, stored
from mukret.columns.words import strings_of
from mukret.documents.decode import decode
from mukret.scan import Cells
from mukret.scan.kinds import NOTHING, TEXTS
from mukret.types import (
    Bad,
    Json,
    ListOf,
    TypeSpec,
)
from mukret.values import JsonValue

# Up to so many different values are read once each; of more it does not pay to look for those that
# are the same.
MOST_DIFFERENT = 4096

# So many texts of a field are remembered, and none that are longer.
MOST_KNOWN, LONGEST_KNOWN = 20_000, 200
_UNKNOWN = object()


def value_of(cells: Cells, row: int) -> JsonValue:
    """A value as it stands in the document; None where there is none."""
    raw = cells.raw(row)
    return value_in(raw) if raw else None


def value_in(raw: bytes) -> JsonValue:
    """The value of a JSON text that was scanned.

    A text without escapes, as most are, needs no decoder.
    """
    if raw.startswith(b'"') and b"\\" not in raw:
        return raw[1:-1].decode()
    return decode(raw)


def values_of(cells: Cells) -> list[JsonValue]:
    if cells.kinds_seen() <= TEXTS | NOTHING:
        texts: list[JsonValue] = strings_of(cells)[0].to_pylist()
        return texts
    return [value_of(cells, row) for row in range(cells.count)]


class ReadBefore:
    """What was read of some texts, so that each is read once in a run; the texts of one field."""

    def __init__(self) -> None:
        self.outcomes: dict[bytes, object] = {}

    def outcome(self, reading: TypeSpec, raw: bytes) -> object:
        """The typed value of a JSON text, or what is wrong with it."""
        outcome = self.outcomes.get(raw, _UNKNOWN)
        if outcome is _UNKNOWN:
            if len(self.outcomes) > MOST_KNOWN:
                # Begun anew: what comes often is soon known again.
                self.outcomes.clear()
            outcome = tried(reading.read, value_in(raw)) if raw else None
            if len(raw) <= LONGEST_KNOWN:
                self.outcomes[raw] = outcome
        return outcome


def read_cells(
    reading: TypeSpec, cells: Cells, known: ReadBefore | None = None
) -> Column:
    """Cells as a typed column. `known`: what was read of other cells of the same field."""
    kinds = cells.kinds_seen()
    if kinds <= NOTHING:
        return Column(nulls(reading.type, cells.count))
    known = known or ReadBefore()
    kernel = kernel_for(reading)
    if kernel is not None:
        array, refused = kernel(cells)
        return _completed(reading, array, refused, cells, known)
    # Without a kernel each different cell is read once: codes and words repeat, and reading one in
    # Python costs microseconds.
    column = _by_different(reading, cells, known)
    if column is not None:
        return column
    if isinstance(reading.type, ListOf | Json):
        return read_column(reading, values_of(cells))
    if kinds <= TEXTS | NOTHING:
        return read_strings(reading, strings_of(cells)[0], reading.read)
    return read_column(reading, values_of(cells))


@lru_cache(maxsize=10_000)
def kernel_for(reading: TypeSpec) -> CellKernel | None:
    """The kernel that reads a type with these options; None if there is none."""
    return stored(reading.type).of_cells(reading)


def _completed(
    reading: TypeSpec,
    array: pa.Array,
    refused: Sequence[int],
    cells: Cells,
    known: ReadBefore,
) -> Column:
    """Reads what a kernel refused and puts it in."""
    column = Column(array)
    values: dict[int, object] = {}
    for row in refused:
        # The same few texts are refused again and again: each is read once in a run.
        outcome = known.outcome(reading, cells.raw(row))
        if isinstance(outcome, Bad):
            column.failures[row] = outcome
        elif outcome is not None:
            values[row] = outcome
    column.array = with_values(array, values)
    return column


def _by_different(reading: TypeSpec, cells: Cells, known: ReadBefore) -> Column | None:
    """Each different value is read once; None if there are too many of them."""
    # With more different ones than that the detour costs more than it saves.
    different = cells.different(min(MOST_DIFFERENT, max(64, cells.count // 2)))
    if different is None:
        return None
    codes, rows = different
    outcomes = [known.outcome(reading, cells.raw(row)) for row in rows]
    numbers = pa.Array.from_buffers(
        pa.int32(), cells.count, [None, pa.py_buffer(codes)]
    )
    return spread(outcomes, numbers, reading.type)
