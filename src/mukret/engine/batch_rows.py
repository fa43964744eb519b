"""The rows of one table in one batch: where they are, below what, and in which document."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from typing import Any, Self

import pyarrow as pa

from mukret.documents import Batch
from mukret.engine.plan import TablePlan
from mukret.paths import normalized
from mukret.rules.rows import DOCUMENT, FoundRow, Place, Refusal
from mukret.values import JsonValue

Belongs = Callable[[int], bool]
"""Whether a table reads the document with this number in the batch."""


class BatchRows:
    """`parent` is None for the response, whose rows are the documents themselves."""

    def __init__(self, plan: TablePlan, batch: Batch, parent: Self | None, belongs: Belongs | None = None) -> None:
        self.plan = plan
        self.table = plan.table
        self.batch = batch
        self.parent = parent
        self.belongs = belongs
        self.hollow: set[int] = set()
        above: Sequence[JsonValue] = parent.rows if parent else batch.documents
        names: Sequence[str | None] = parent.names if parent else [None] * len(above)
        if belongs is None:
            self.gathered = plan.gather(above, names, parent.hollow if parent else ())
        else:
            self.gathered = self.of_some(above, [number for number in range(len(above)) if belongs(number)])
        self.rows: list[JsonValue] = self.gathered.rows
        self.names: list[str | None] = self.gathered.names
        self.owners = self.gathered.owners
        self.hollow = self.gathered.hollow
        self.refusals: list[tuple[int, Refusal]] = self.gathered.refusals
        self.count = len(self.rows)
        self._siblings: dict[int, list[FoundRow]] = {}
        self._above: tuple[int, tuple[Place, JsonValue]] | None = None
        """The row above that was located last."""
        self.cut_at: int | None = None
        """Of a part of a document: at which step of a row's location the numbers of elements count from the part on."""

    def of_some(self, above: Sequence[JsonValue], chosen: list[int]) -> Any:
        """The rows below some of the documents."""
        found = self.plan.gather([above[number] for number in chosen], [None] * len(chosen), ())
        found.owners = [chosen[owner] for owner in found.owners]
        found.refusals = [(chosen[owner], refusal) for owner, refusal in found.refusals]
        return found

    @property
    def recursive(self) -> bool:
        return self.table.rows.recurse is not None

    def ancestor(self, origin: str) -> Self:
        found = self.parent
        while found is not None and found.table.name != origin:
            found = found.parent
        assert found is not None
        return found

    def owners_in(self, origin: str) -> Any:
        """For each row, the number of the row of an ancestor that it stands below."""
        assert self.parent is not None
        owners = self.owner_array
        if self.parent.table.name != origin:
            owners = self.parent.owners_in(origin).take(owners)
        return owners

    @cached_property
    def owner_array(self) -> Any:
        return pa.array(self.owners, pa.int32())

    @cached_property
    def documents(self) -> Sequence[int]:
        """For each row, the number in the batch of the document that it stands in."""
        if self.parent is None:
            return range(self.count)
        if self.parent.parent is None:
            return self.owners
        above = self.parent.documents
        return [above[owner] for owner in self.owners]

    def document(self, row: int) -> int:
        return self.owners[row] if self.parent is None else self.parent.document(self.owners[row])

    def place_in_input(self, row: int) -> str:
        document = self.document(row)
        return f"{self.batch.sources[document].name}, document {self.batch.numbers[document]}"

    def locate(self, row: int) -> tuple[Place, JsonValue]:
        """Place and node of a row in its document: looked up again, since few rows are ever asked for."""
        if self.parent is None:
            return DOCUMENT, self.batch.whole(row)
        owner = self.owners[row]
        if self._above is None or self._above[0] != owner:  # rows below one row are mostly asked for together
            self._above = (owner, self.parent.locate(owner))
        above, parent_node = self._above[1]
        if owner not in self._siblings:
            self._siblings[owner] = self.table.rows.find(parent_node, hollow=owner in self.parent.hollow).rows
        found = self._siblings[owner][row - bisect_left(self.owners, owner)]
        place = above.of(found)
        if self.cut_at is not None:
            before, number, after = (
                place.location[: self.cut_at],
                place.location[self.cut_at],
                place.location[self.cut_at + 1 :],
            )
            assert isinstance(number, int)
            place = Place((*before, number + self.batch.part.first, *after))
        return place, found.node

    def facts(self, name: str) -> Sequence[JsonValue]:
        """A fact of each row (ROW_FACTS) as raw values."""
        gathered: Mapping[str, Sequence[JsonValue]] = {
            "name": self.names,
            "position": self.gathered.positions
            if self.cut_at is None
            else [position + self.batch.part.first for position in self.gathered.positions],
            "depth": self.gathered.depths or [0] * self.count,
        }
        if name != "path":
            return gathered[name]
        return [normalized(self.locate(row)[0].location) for row in range(self.count)]
