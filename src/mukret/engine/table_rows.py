"""The rows of one table in one batch: where they are, below what, and in which document."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Mapping, Sequence, Set
from functools import cached_property
from types import MappingProxyType
from typing import Self

import pyarrow as pa

from mukret.documents import Batch
from mukret.engine.scanned import ScannedBatch, ScannedRows
from mukret.engine.zipped import ZippedRows
from mukret.paths import normalized
from mukret.plan.compiled import TablePlan
from mukret.plan.plainly import Gathered, Parents, gathered
from mukret.rules.rows import (
    DOCUMENT,
    NO_EXCUSES,
    Excused,
    Excuses,
    FoundRow,
    Refusal,
    RowPlace,
    row_shape,
)
from mukret.semantics.facts import document_fact
from mukret.semantics.rejects import Fault, unreadable
from mukret.values import JsonValue, kind_of

# Whether a table reads the document with this number in the batch.
Belongs = Callable[[int], bool]


class TableRows:
    """`parent` is None for the response, whose rows are the documents themselves.

    `nodes` are what stands in the rows.

    `placeholders` are the rows of parents that have none (`outer`). Of `unreadable` rows no field
    of the table can be read, nor rows within; `faults` has those of rows themselves.
    """

    def __init__(
        self,
        plan: TablePlan,
        batch: Batch,
        parent: Self | None,
        *,
        belongs: Belongs | None = None,
        excuses: Mapping[int, Excuses] = MappingProxyType({}),
        cut_at: int | None = None,
    ) -> None:
        """`cut_at`: of a part of a document, at which step of a row's location the numbers of
        elements count from the part on.
        """
        self.plan = plan
        self.excuses = excuses
        self.table = plan.table
        self.batch = batch
        self.parent = parent
        self.belongs = belongs
        self.cut_at = cut_at
        self.gathered = self.found()
        self.nodes: Sequence[JsonValue] = self.gathered.rows
        self.placeholders: Set[int] = self.gathered.placeholders
        self.refusals: Sequence[tuple[int, Refusal]] = self.gathered.refusals
        self.count = len(self.nodes)
        odd = self.gathered.odd if parent and self.table.judges_shape else ()
        bad = [*((row, row_shape()) for row in odd), *self.gathered.faulty.items()]
        self.unreadable = {row for row, _ in bad}
        self.faults: dict[int, list[Fault]] = {}
        for row, why in bad:
            self.faults.setdefault(row, []).append(unreadable(why))
        self._siblings: dict[int, list[FoundRow]] = {}
        # The row above that was located last.
        self._above: tuple[int, tuple[RowPlace, JsonValue]] | None = None
        self._place_above: tuple[int, RowPlace] | None = None

    def found(self) -> Gathered | ScannedRows:
        """The rows as the scan found them, or gathered out of the nodes above."""
        if isinstance(self.batch, ScannedBatch) and self.plan.scan is not None:
            # Rows that the scan numbered below a parent are taken over; others are gathered out of
            # nodes.
            if self.parent is None:
                return self.batch.rows()
            above = self.parent.gathered
            assert isinstance(above, ScannedRows)
            without = self.parent.unreadable
            if self.belongs is not None:
                without = {
                    number for number in range(above.count) if not self.belongs(number)
                }
            if not self.plan.scan.arrays:
                return above.below(self.plan.scan.number, without, self.table.rows)
            zipped = ZippedRows.of(self.plan.scan.arrays, above, sorted(without))
            if zipped is not None:
                return zipped
        return self.gather()

    @cached_property
    def names(self) -> Sequence[str | None]:
        return self.gathered.names

    @cached_property
    def owners(self) -> Sequence[int]:
        return self.gathered.owners

    def gather(self) -> Gathered:
        """The rows below all that may have some, by the plain way."""
        above: Sequence[JsonValue] = (
            self.parent.nodes if self.parent else self.batch.documents
        )
        names: Sequence[str | None] = [None] * len(above)
        if self.parent is not None and self.parent.plan.named:
            names = self.parent.names
        if self.parent is None:
            return gathered(self.table.rows, Parents(above, names))
        if self.belongs is None:
            unreadable = self.parent.unreadable
            return gathered(
                self.table.rows,
                Parents(
                    above,
                    names,
                    self.parent.placeholders,
                    unreadable,
                    self.excused_below,
                ),
            )
        chosen = [number for number in range(len(above)) if self.belongs(number)]
        nodes = [above[number] for number in chosen]
        excused = lambda owner: self.excused_below(chosen[owner])  # noqa: E731
        rows_below = gathered(
            self.table.rows, Parents(nodes, [None] * len(chosen), excused=excused)
        )
        rows_below.owners = [chosen[owner] for owner in rows_below.owners]
        rows_below.refusals = [
            (chosen[owner], refusal) for owner, refusal in rows_below.refusals
        ]
        return rows_below

    def excused_below(self, owner: int) -> Excused | None:
        """What is on record already below a row of the parent."""
        if not self.excuses or self.parent is None:
            return None
        return self.parent.excuses_at(owner).below(self.parent.locate(owner)[0])

    def excuses_at(self, row: int) -> Excuses:
        """What is on record already in the document of a row."""
        return (
            self.excuses.get(self.document(row), NO_EXCUSES)
            if self.excuses
            else NO_EXCUSES
        )

    @property
    def recursive(self) -> bool:
        return self.table.rows.recurse is not None

    def owners_in(self, origin: str) -> pa.Array:
        """For each row, the number of the row of an ancestor that it stands below."""
        assert self.parent is not None
        owners = self.owner_array
        if self.parent.table.name != origin:
            owners = self.parent.owners_in(origin).take(owners)
        return owners

    @cached_property
    def owner_array(self) -> pa.Array:
        if isinstance(self.gathered, ScannedRows):
            return self.gathered.owner_array
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
        return (
            self.owners[row]
            if self.parent is None
            else self.parent.document(self.owners[row])
        )

    def place_in_input(self, row: int) -> str:
        document = self.document(row)
        return f"{self.batch.sources[document].name}, document {self.batch.numbers[document]}"

    def locate(self, row: int) -> tuple[RowPlace, JsonValue]:
        """Place and node of a row in its document: looked up again, since few rows are ever asked
        for.
        """
        if self.parent is None:
            return DOCUMENT, self.batch.whole(row)
        place = self.scanned_place(row)
        return (place, self.nodes[row]) if place is not None else self.found_again(row)

    def place(self, row: int) -> RowPlace:
        """The place of a row in its document."""
        if self.parent is None:
            return DOCUMENT
        return self.scanned_place(row) or self.found_again(row)[0]

    def scanned_place(self, row: int) -> RowPlace | None:
        """The same where the scan tells it."""
        steps = (
            self.gathered.steps(row) if isinstance(self.gathered, ScannedRows) else None
        )
        if steps is None:
            return None
        assert self.parent is not None
        owner = self.owners[row]
        # Rejects come in the order of rows: the place of the row above is mostly that of the one
        # before.
        if self._place_above is None or self._place_above[0] != owner:
            self._place_above = (owner, self.parent.place(owner))
        return self.counted_from_the_first(
            RowPlace((*self._place_above[1].location, *steps))
        )

    def found_again(self, row: int) -> tuple[RowPlace, JsonValue]:
        """Place and node of a row, by finding all that stand with it."""
        assert self.parent is not None
        owner = self.owners[row]
        if (
            self._above is None or self._above[0] != owner
        ):  # rows below one row are mostly asked for together
            self._above = (owner, self.parent.locate(owner))
        above, parent_node = self._above[1]
        if owner not in self._siblings:
            excused = self.parent.excuses_at(owner).below(above)
            placeholders = owner in self.parent.placeholders
            self._siblings[owner] = self.table.rows.find(
                parent_node, is_placeholder=placeholders, excused=excused
            ).rows
        sibling = self._siblings[owner][row - bisect_left(self.owners, owner)]
        return self.counted_from_the_first(above.of(sibling)), sibling.node

    def counted_from_the_first(self, place: RowPlace) -> RowPlace:
        """A place in a part of a document as it is in all of it."""
        if self.cut_at is None:
            return place
        location = place.location
        # In a part elements are counted from 0; people count in the whole document.
        number = location[self.cut_at]
        assert isinstance(number, int)
        return RowPlace(
            (
                *location[: self.cut_at],
                number + self.batch.part.first,
                *location[self.cut_at + 1 :],
            )
        )

    def facts(self, name: str) -> Sequence[JsonValue]:
        """A fact of each row (ROW_FACTS) as raw values."""
        if name == "kind":
            return (
                self.gathered.kinds
                if isinstance(self.gathered, ScannedRows)
                else list(map(kind_of, self.nodes))
            )
        if name == "name":
            return self.names
        if name == "position":
            # Positions go on where the part before ended.
            before = 0 if self.cut_at is None else self.batch.part.first
            return [position + before for position in self.gathered.positions]
        if name == "depth":
            return self.gathered.depths or [0] * self.count
        return [normalized(self.locate(row)[0].location) for row in range(self.count)]

    def document_facts(self, name: str) -> list[JsonValue]:
        """A fact of the document that each row stands in, as raw values."""
        batch = self.batch
        known = [
            document_fact(name, source.name, number, origin)
            for source, number, origin in zip(
                batch.sources, batch.numbers, batch.origins, strict=True
            )
        ]
        # Worked out once for a document, not for each of its rows.
        return [known[document] for document in self.documents]
