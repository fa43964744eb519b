"""What another version of the rules makes of the same responses: rows that appear or go, values that change."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import zip_longest
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import true_rows
from mukret.columns.written import written
from mukret.documents import BadDocument, Batch, Source, nothing_read, read_batches
from mukret.engine.batch_tables import BatchTables
from mukret.engine.fates import Fate, SeenKeys, keys_of
from mukret.engine.run import Run
from mukret.engine.table_batch import TableBatch
from mukret.paths import normalized
from mukret.paths.locate import location_text
from mukret.rules.model import Rules, Table
from mukret.values import JsonValue

MOST_EXAMPLES = 3


@dataclass
class Change:
    """One kind of change: how often, and the first cases, each with its place and what was and is there."""

    count: int = 0
    examples: list[tuple[str, str | None, str | None]] = field(default_factory=list)

    def see(self, place: str, old: str | None, new: str | None) -> None:
        self.count += 1
        if len(self.examples) < MOST_EXAMPLES:
            self.examples.append((place, old, new))

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "count": self.count,
            "examples": [{"place": place, "old": old, "new": new} for place, old, new in self.examples],
        }


@dataclass
class TableChanges:
    """`columns` are those that only one version has, or with another type; `fates` by what becomes of a row in the old
    and in the new version (None: it is not there); `values` by column."""

    written: list[int] = field(default_factory=lambda: [0, 0])
    columns: dict[str, tuple[str | None, str | None]] = field(default_factory=dict)
    fates: dict[tuple[str | None, str | None], Change] = field(default_factory=dict)
    values: dict[str, Change] = field(default_factory=dict)

    @property
    def any(self) -> bool:
        return bool(self.columns or self.fates or self.values)

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "written": list(self.written),
            "columns": {name: {"old": old, "new": new} for name, (old, new) in self.columns.items()},
            "rows": [{"old": old, "new": new, **change.as_json()} for (old, new), change in self.fates.items()],
            "values": {name: change.as_json() for name, change in self.values.items()},
        }


@dataclass
class Comparison:
    """`tables` by name, in the order of the new rules; `gone` and `come` are those that only one version has."""

    documents: int = 0
    bad_documents: int = 0
    tables: dict[str, TableChanges] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)
    come: list[str] = field(default_factory=list)

    @property
    def found(self) -> bool:
        return bool(
            self.gone or self.come or self.bad_documents or any(changes.any for changes in self.tables.values())
        )

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "documents": self.documents,
            "bad_documents": self.bad_documents,
            "gone": list(self.gone),
            "come": list(self.come),
            "tables": {name: changes.as_json() for name, changes in self.tables.items()},
        }


def compare_rules(old: Rules, new: Rules, sources: Sequence[Source]) -> Comparison:
    """Runs both versions over the same sources, which must be such as can be read again, a batch at a time.

    Rows are the same if they are found at one place. Raises InputError as a run does.
    """
    found = Comparison()
    found.gone = [name for name in old.tables if name not in new.tables]
    found.come = [name for name in new.tables if name not in old.tables]
    for name, table in new.tables.items():
        if name in old.tables:
            found.tables[name] = TableChanges(columns=_columns(old.tables[name], table))
    one, two = _Version(old, sources), _Version(new, sources)
    two.run.started = one.run.started
    bad: BadDocument | None = None
    for batch, other in zip_longest(one.batches(), two.batches()):
        found.documents += len(other.batch.documents)
        found.bad_documents += len(other.batch.bad)
        bad = bad or next(iter(other.batch.bad), None)
        for name, changes in found.tables.items():
            _compare(changes, batch.tables[name], other.tables[name])
    if bad is not None and not found.documents:
        raise nothing_read(bad.source.name, bad.finding)
    return found


class _Version:
    def __init__(self, rules: Rules, sources: Sequence[Source]) -> None:
        self.run = Run(
            rules, [Source(source.path, source.named, source.origin, copy=source.copy) for source in sources]
        )
        self.run.settle()
        self.seen: Mapping[str, SeenKeys] = keys_of(rules.tables.values(), self.run.last)

    def batches(self) -> Iterator[BatchTables]:
        for batch in read_batches(self.run.sources, projection=self.run.projection):
            yield self.decided(batch)

    def decided(self, batch: Batch) -> BatchTables:
        return self.run.decided(batch, self.seen)


def _columns(old: Table, new: Table) -> dict[str, tuple[str | None, str | None]]:
    before, after = dict(old.columns), dict(new.columns)
    pairs = {
        name: (before[name].name if name in before else None, after[name].name if name in after else None)
        for name in {**before, **after}
    }
    return {name: pair for name, pair in pairs.items() if pair[0] != pair[1]}


def _compare(changes: TableChanges, old: TableBatch, new: TableBatch) -> None:
    pairs = _pairs(old, new)
    changes.written[0] += old.fates.count(Fate.WRITTEN)
    changes.written[1] += new.fates.count(Fate.WRITTEN)
    kept: list[tuple[int, int]] = []
    for before, after in pairs:
        fates = (_fate(old, before), _fate(new, after))
        if fates[0] != fates[1]:
            place = _place(new, after) if after is not None else _place(old, before or 0)
            changes.fates.setdefault(fates, Change()).see(place, None, _why(new, after))
        elif before is not None and after is not None and fates[0] == "written":
            kept.append((before, after))
    _compare_values(changes, old, new, kept)


def _pairs(old: TableBatch, new: TableBatch) -> list[tuple[int | None, int | None]]:
    """Rows of both that are the same one; None where one version has no such row."""
    same_documents = old.batch.numbers == new.batch.numbers and list(old.documents) == list(new.documents)
    if old.table.rows == new.table.rows and same_documents:
        return [(row, row) for row in range(old.count)]
    before = {_identity(old, row): row for row in range(old.count)}
    after = {_identity(new, row): row for row in range(new.count)}
    return [(before.get(key), after.get(key)) for key in {**before, **after}]


def _identity(rows: TableBatch, row: int) -> tuple[str, str]:
    return rows.place_in_input(row), normalized(rows.locate(row)[0].location)


def _fate(rows: TableBatch, row: int | None) -> str | None:
    return None if row is None else Fate(rows.fates[row]).name.lower()


def _why(rows: TableBatch, row: int | None) -> str | None:
    """Why a row is rejected, by the codes."""
    if row is None or rows.fates[row] != Fate.REJECTED:
        return None
    faults = rows.faults.get(row, ())
    return ", ".join(f"{fault.name or 'row'}: {fault.bad.code}" for fault in faults) or "with the row above it"


def _place(rows: TableBatch, row: int) -> str:
    return f"{location_text(rows.locate(row)[0].location)} in {rows.place_in_input(row)}"


def _compare_values(changes: TableChanges, old: TableBatch, new: TableBatch, kept: list[tuple[int, int]]) -> None:
    before, after = dict(old.table.columns), dict(new.table.columns)
    if not kept:
        return
    first = pa.array([pair[0] for pair in kept], pa.int64())
    second = pa.array([pair[1] for pair in kept], pa.int64())
    for name in after:
        if name not in before:
            continue
        one, two = _texts(old, name, before[name], first), _texts(new, name, after[name], second)
        same = pc.or_(pc.fill_null(pc.equal(one, two), False), pc.and_(pc.is_null(one), pc.is_null(two)))
        for number in true_rows(pc.invert(same)):
            place = _place(new, kept[number][1])
            changes.values.setdefault(name, Change()).see(place, one[number].as_py(), two[number].as_py())


def _texts(rows: TableBatch, name: str, kind: Any, which: Any) -> Any:
    return written(rows.arrays[name], kind).take(which)
