"""What a scan found in a block: its documents as a batch, and the rows and cells of each table."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Self, overload

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import row_mask
from mukret.columns.cells import value_of, values_of
from mukret.documents import Batch
from mukret.engine.conditions import passing
from mukret.paths import Index, Name, Segment
from mukret.plan.scanning import ByColumn, ByList, NodeSource, ScanPlan
from mukret.rules.rows import Refusal, RowRules, met_fault
from mukret.rules.sources import Take
from mukret.scan import Cells, Kind, Scan
from mukret.scan.program import DOCUMENT
from mukret.types import Bad
from mukret.values import JsonValue

KIND_WORDS: Mapping[int, str] = {
    Kind.MISSING: "null",
    Kind.NULL: "null",
    Kind.FALSE: "boolean",
    Kind.TRUE: "boolean",
    Kind.INTEGER: "number",
    Kind.NUMBER: "number",
    Kind.TEXT: "string",
    Kind.ESCAPED: "string",
    Kind.ARRAY: "array",
    Kind.OBJECT: "object",
}


class Nodes(Sequence[JsonValue]):
    """The values of cells, decoded when somebody looks at them."""

    def __init__(self, cells: Cells) -> None:
        self.cells = cells

    @cached_property
    def all(self) -> list[JsonValue]:
        return values_of(self.cells)

    def __len__(self) -> int:
        return self.cells.count

    @overload
    def __getitem__(self, index: int) -> JsonValue: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[JsonValue]: ...
    def __getitem__(self, index: int | slice) -> JsonValue:
        if "all" in self.__dict__ or isinstance(index, slice):
            return self.all[index]
        return value_of(self.cells, index if index >= 0 else index + len(self))

    def __iter__(self) -> Iterator[JsonValue]:
        return iter(self.all)


@dataclass(frozen=True)
class ScanResult:
    """What a program found in a block, and what it was made for."""

    scan: Scan
    plan: ScanPlan


@dataclass
class ScannedBatch(Batch):
    """Documents that were scanned.

    `kept`: the numbers of those that are left, among all that the scan found; None: all are.
    """

    found: ScanResult | None = None
    kept: Sequence[int] | None = None

    @property
    def scan(self) -> Scan:
        assert self.found is not None
        return self.found.scan

    @property
    def plan(self) -> ScanPlan:
        assert self.found is not None
        return self.found.plan

    def only(self, kept: Sequence[int]) -> Self:
        """The batch with these documents alone."""
        before = self.kept if self.kept is not None else range(len(self.documents))
        chosen = [before[number] for number in kept]
        left = replace(self, kept=chosen)
        left.documents = left.rows().rows  # type: ignore[assignment]
        return left

    def rows(self) -> ScannedRows:
        """The documents as rows."""
        assert self.found is not None
        return ScannedRows.of_documents(self.found, self.kept)


class ScannedRows:
    """The rows of a table of a scan, or some of them: `kept` are their numbers there, None: all.

    `owner_array` has for each the number of its parent's row, among those that are left of the
    parent's.
    """

    def __init__(
        self,
        result: ScanResult,
        number: int,
        kept: Any,
        owners: pa.Array,
        rules: RowRules | None = None,
    ) -> None:
        self.found = result
        self.scan = result.scan
        self.number = number
        self.kept = kept
        self.owner_array = owners
        self.rules = rules
        # Of rows with a condition only those that met it.
        self.count: int = len(kept) if kept is not None else result.scan.count(number)

    @classmethod
    def of_documents(
        cls, result: ScanResult, kept: Sequence[int] | None
    ) -> ScannedRows:
        chosen = None if kept is None else pa.array(kept, pa.uint32())
        count = result.scan.count(DOCUMENT) if kept is None else len(kept)
        return cls(result, DOCUMENT, chosen, pa.array(range(count), pa.int32()))

    def below(
        self, number: int, without: Iterable[int] = (), rules: RowRules | None = None
    ) -> ScannedRows:
        """The rows of a table within, but for those in some of these rows."""
        rows = self.all_below(number, sorted(without), rules)
        judgement = self.found.plan.judged.get(number)
        if judgement is None:
            return rows
        mask = passing(judgement, rows.column, rows.count)
        if rows.met:  # they are none, but stand instead of rows
            mask = pc.or_(mask, row_mask(rows.met, rows.count))
        return rows.only(mask)

    def all_below(
        self, number: int, without: Sequence[int], rules: RowRules | None = None
    ) -> ScannedRows:
        """The same, whether or not they fulfil what rows of that table must."""
        count = self.scan.count(number)
        owners = _numbers(self.scan.owners(number), count)
        if self.kept is None and not without:
            return ScannedRows(self.found, number, None, owners.view(pa.int32()), rules)
        # The scan numbered rows before conditions left some of them out: owners are mapped to the
        # numbers of those that are left.
        left: list[int | None] = [None] * self.scan.count(self.number)
        gone = set(without)
        for now, before in enumerate(
            self.kept.to_pylist() if self.kept is not None else range(self.count)
        ):
            left[before] = None if now in gone else now
        mapped = pa.array(left, pa.int32()).take(owners)
        valid = mapped.is_valid()
        return ScannedRows(
            self.found,
            number,
            pc.indices_nonzero(valid).cast(pa.uint32()),
            mapped.filter(valid),
            rules,
        )

    def only(self, mask: pa.Array) -> ScannedRows:
        """Those of these rows at which a boolean array is true."""
        rows = pc.indices_nonzero(mask).cast(pa.uint32())
        kept = rows if self.kept is None else self.kept.take(rows)
        return ScannedRows(
            self.found, self.number, kept, self.owner_array.take(rows), self.rules
        )

    # ---- cells

    @cached_property
    def node(self) -> Cells:
        return self.cells(self.scan.nodes(self.number))

    @cached_property
    def name(self) -> Cells:
        return self.cells(self.scan.names(self.number))

    def column(self, number: int) -> Cells:
        return self.cells(self.scan.column(self.number, number))

    def nodes_of(self, source: NodeSource, take: Take) -> tuple[Cells, set[int]]:
        """Of each row the first node that is not null, or the last; and the rows that have to be
        looked at again, since a step of the path met another kind, or since there are several nodes
        where one alone is taken.
        """
        if isinstance(source, ByColumn):
            return self.column(source.column), self.events(source.column)
        assert isinstance(source, ByList)
        below, cells = self.listed(source)
        owners = below.owner_array.buffers()[1] if below.count else b""
        # In C: the cells of all rows stand behind each other.
        chosen, several = cells.chosen(owners, self.count, take == "last")
        return chosen, self.events(source.source).union(
            several if take == "only" else ()
        )

    def listed(self, source: ByList) -> tuple[ScannedRows, Cells]:
        """The nodes of a field that takes several: they are rows of a table of their own in the
        scan.
        """
        below = self.below(source.table)
        return below, below.node if source.column is None else below.column(
            source.column
        )

    def cells(self, arrays: tuple[pa.Array, pa.Array, pa.Array]) -> Cells:
        kinds, starts, lengths = arrays
        if self.kept is None:
            return Cells(self.scan.buffer, kinds, starts, lengths, self.count)
        count = self.scan.count(self.number)
        if not self.count:
            return Cells(self.scan.buffer, b"", b"", b"", 0)
        # Three flat arrays (kind, start, length of each cell), of which only the rows that were
        # kept are taken.
        arrays_left = [
            _bytes(kinds, count),
            _numbers(starts, count),
            _numbers(lengths, count),
        ]
        kinds, starts, lengths = (
            array.take(self.kept).buffers()[1] for array in arrays_left
        )
        return Cells(self.scan.buffer, kinds, starts, lengths, self.count)

    def events(self, source: int) -> set[int]:
        """The rows in which a step of the path to a source met a value of another kind."""
        return self.now(self.noted.get(source, ()))

    @cached_property
    def noted(self) -> dict[int, list[int]]:
        """The rows of `events`, by source, with their numbers in the scan.

        Once for all, since there may be thousands of sources.
        """
        noted: dict[int, list[int]] = {}
        for row, source in self.scan.events(self.number):
            noted.setdefault(source, []).append(row)
        return noted

    def now(self, rows: Iterable[int]) -> set[int]:
        """For each row of the scan its number among those that are left."""
        if self.kept is None:
            return set(rows)
        return {self.place[row] for row in rows if row in self.place}

    @cached_property
    def place(self) -> dict[int, int]:
        return {before: now for now, before in enumerate(self.kept.to_pylist())}

    # ---- where they are

    def steps(self, row: int) -> tuple[str | int, ...] | None:
        """The steps from the row above to a row;
        None where only the document itself can tell them.
        """
        if self.steps_alike is None or row in self.placeholders:
            return None
        steps, one_of_several = self.steps_alike
        before = self.raw(row)
        # A row met instead of others stands where the way broke off.
        if before in self.steps_met:
            return steps[: self.steps_met[before]]
        if not one_of_several:
            return steps
        name = self.names[row] if self.named else None
        return (*steps, name if name is not None else before - self.first_raw(before))

    @cached_property
    def steps_alike(self) -> tuple[tuple[str | int, ...], bool] | None:
        """The steps that lead to all rows, and whether another follows, to one of several; None
        where those differ before the last, and where an array may stand for its elements.
        """
        if self.rules is None or self.rules.spread:
            return None
        segments = self.rules.paths[0].segments
        # A wildcard further up: rows have ways of their own.
        if not all(segment.singular for segment in segments[:-1]):
            return None
        steps = tuple(_step(segment) for segment in segments if segment.singular)
        return steps, len(steps) < len(segments)

    def raw(self, row: int) -> int:
        """The number of a row among all that the scan found."""
        number: int = row if self.kept is None else self.kept[row].as_py()
        return number

    def first_raw(self, number: int) -> int:
        """The number of the first row below the same one."""
        owners = memoryview(self.scan.owners(self.number)).cast("I")
        return bisect_left(owners, owners[number])

    @property
    def named(self) -> bool:
        return self.found.plan.named[self.number]

    @cached_property
    def steps_met(self) -> dict[int, int]:
        """By the number in the scan of a row that stands instead of rows, the step that met
        it.
        """
        return dict(self.scan.met(self.number))

    # ---- as rows that were gathered

    @cached_property
    def rows(self) -> Sequence[JsonValue]:
        return Nodes(self.node)

    @cached_property
    def names(self) -> Sequence[str | None]:
        if self.number == DOCUMENT:
            return [None] * self.count
        return Nodes(self.name)

    @cached_property
    def owners(self) -> list[int]:
        owners: list[int] = self.owner_array.to_pylist()
        return owners

    @cached_property
    def positions(self) -> list[int]:
        positions, before, position = [], -1, 0
        for owner in self.owners:
            position = position + 1 if owner == before else 0
            before = owner
            positions.append(position)
        return positions

    @property
    def kinds(self) -> list[str]:
        return [KIND_WORDS[kind] for kind in self.kind_bytes]

    @cached_property
    def kind_bytes(self) -> bytes:
        kinds = bytes(self.scan.nodes(self.number)[0])
        return (
            kinds
            if self.kept is None
            else bytes(kinds[row] for row in self.kept.to_pylist())
        )

    @cached_property
    def placeholders(self) -> set[int]:
        if self.rules is None or not self.rules.outer:
            return set()
        return {row for row, kind in enumerate(self.kind_bytes) if kind == Kind.MISSING}

    @cached_property
    def faulty(self) -> Mapping[int, Bad]:
        """Rows that stand where a step of the path met another kind."""
        if not self.steps_met or self.rules is None:
            return {}
        segments = self.rules.paths[0].segments
        # Numbers are those before the condition; where rows were left out they are looked up.
        kept = {row: row for row in self.steps_met} if self.kept is None else self.place
        return {
            kept[row]: met_fault(segments[step])
            for row, step in self.steps_met.items()
            if row in kept
        }

    @property
    def met(self) -> set[int]:
        return set(self.faulty)

    @cached_property
    def odd(self) -> Sequence[int]:
        """Rows that are no objects."""
        return [
            row
            for row in self.node.rows_without(Kind.OBJECT)
            if row not in self.placeholders and row not in self.faulty
        ]

    depths: Sequence[int] = ()
    above: Sequence[int] = ()
    refusals: Sequence[tuple[int, Refusal]] = ()


def _step(segment: Segment) -> str | int:
    step = segment.only
    assert isinstance(step, Name | Index)
    return step.name if isinstance(step, Name) else step.index


def _numbers(memory: Any, count: int) -> pa.Array:
    return pa.Array.from_buffers(pa.uint32(), count, [None, pa.py_buffer(memory)])


def _bytes(memory: Any, count: int) -> pa.Buffer:
    return pa.Array.from_buffers(pa.uint8(), count, [None, pa.py_buffer(memory)])
