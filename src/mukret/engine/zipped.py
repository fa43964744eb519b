"""Rows that are put together from parallel arrays which a scan found: row n is the object of the
nth elements.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import ClassVar

from mukret.columns.cells import values_of
from mukret.engine.scanned import ScannedRows
from mukret.plan.scanning import NodeSource, OfMember
from mukret.rules.sources import Take
from mukret.scan import Cells
from mukret.types import Bad
from mukret.values import JsonValue


class ZippedRows(ScannedRows):
    """`arrays` by the names of the members: as many rows of each, in the same rows above."""

    def __init__(self, arrays: Mapping[str, ScannedRows]) -> None:
        first = next(iter(arrays.values()))
        super().__init__(first.found, first.number, first.kept, first.owner_array)
        self.arrays = arrays
        self.parts = list(arrays.values())

    @classmethod
    def of(
        cls, arrays: Mapping[str, int], above: ScannedRows, without: Sequence[int]
    ) -> ZippedRows | None:
        """The rows in these tables of a scan, below some rows; None where some are uneven, or
        something else was met instead of an array: what becomes of that, the rules say.
        """
        parts = {
            name: above.all_below(number, without) for name, number in arrays.items()
        }
        first, *others = parts.values()
        # The plain finder says what it means, row by row.
        if any(part.scan.met(part.number) for part in parts.values()):
            return None
        if not all(part.owner_array.equals(first.owner_array) for part in others):
            return None
        return cls(parts)

    def nodes_of(self, source: NodeSource, take: Take) -> tuple[Cells, set[int]]:
        assert isinstance(source, OfMember)
        part = self.parts[source.array]
        if source.column is None:
            return part.node, set()
        return part.column(source.column), part.events(source.column)

    @cached_property
    def rows(self) -> Sequence[JsonValue]:
        columns = [values_of(part.node) for part in self.parts]
        return [
            dict(zip(self.arrays, nodes, strict=True))
            for nodes in zip(*columns, strict=True)
        ]

    def steps(self, row: int) -> None:
        return None

    @property
    def kinds(self) -> list[str]:
        return ["object"] * self.count

    @property
    def names(self) -> Sequence[str | None]:
        return [None] * self.count

    placeholders: ClassVar[set[int]] = set()
    faulty: ClassVar[Mapping[int, Bad]] = {}
    odd: ClassVar[Sequence[int]] = ()
