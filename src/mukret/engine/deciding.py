"""What becomes of the rows of one table in one batch: which are rejected, filtered, dropped, and which are written."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import true_rows
from mukret.columns.expressions import evaluate_column
from mukret.columns.written import written
from mukret.engine.table_batch import TableBatch
from mukret.rules.model import WHERE
from mukret.scan import hashes_of
from mukret.semantics.fates import Fate, SeenKeys, key_hash
from mukret.semantics.rejects import (
    PARENT_REJECTED,
    Reject,
    duplicate,
    key_missing,
    parent_rejected,
    refused,
    reject,
    where_failed,
)
from mukret.semantics.tally import TableTally

if TYPE_CHECKING:
    from mukret.scan._keys import TextColumn


def survive(batch: TableBatch, without: frozenset[str]) -> None:
    """Notes which rows are neither rejected nor filtered for themselves, as far as other fields than these say."""
    lost = {
        row
        for row, faults in batch.faults.items()
        if any(fault.name is None or fault.name not in without for fault in faults)
    } | batch.hollow
    for name in batch.table.key:
        if name not in without:
            lost.update(
                row for row in true_rows(pc.is_null(batch.arrays[name])) if row not in batch.broken.get(name, ())
            )
    where = batch.table.where
    if where is not None and not {*where.fields(), WHERE} & without:
        column = evaluate_column(where, batch.arrays, batch.count)
        broken = set().union(*(rows for name, rows in batch.broken.items() if name not in without))
        fails = {*column.failures, *true_rows(pc.invert(pc.fill_null(column.array, False)))}
        lost |= fails - broken
    batch.surviving = [row for row in range(batch.count) if row not in lost]


def decide(batch: TableBatch, seen: SeenKeys) -> None:
    """Settles the fate of each row; that of the rows above is settled already."""
    for name in batch.table.key:
        for row in true_rows(pc.is_null(batch.arrays[name])):
            if row not in batch.broken.get(name, ()) and row not in batch.hollow:
                batch.blame(row, key_missing(name))
    passes = _condition(batch)
    for row in batch.faults:
        batch.fates[row] = Fate.REJECTED
    keys = _keys(batch) if batch.table.key else None
    if batch.recursive:
        _row_by_row(batch, passes, keys, seen)
    else:
        _share_fate(batch)
        _filter(batch, passes)
        if keys is not None:
            _deduplicate(batch, keys, seen)
    seen.looked_at(batch.count)


def _condition(batch: TableBatch) -> Any:
    """The values of `where`; an error is a fault of rows that have none so far."""
    if batch.table.where is None:
        return None
    column = evaluate_column(batch.table.where, batch.arrays, batch.count)
    broken = set().union(*batch.broken.values()) | batch.hollow
    for row, bad in column.failures.items():
        if row not in batch.faults and row not in broken:
            batch.faults[row] = [where_failed(bad)]
    return column.array


def _share_fate(batch: TableBatch) -> None:
    """Rows that are not rejected for themselves go the way of the row above them."""
    parent = batch.parent
    if parent is None or not any(parent.fates):
        return
    fates = parent.fates
    for row, owner in enumerate(batch.owners):
        if fates[owner]:
            _share(batch, row, fates[owner], parent.table.name)


def _share(batch: TableBatch, row: int, fate: int, table: str) -> None:
    if not batch.fates[row]:
        batch.fates[row] = fate
        if fate == Fate.REJECTED:
            batch.faults[row] = [parent_rejected(table)]


def _filter(batch: TableBatch, passes: Any) -> None:
    for row in _failing(passes):
        if not batch.fates[row] and row not in batch.hollow:
            batch.fates[row] = Fate.FILTERED
            batch.unknown += passes[row].as_py() is None


def _failing(passes: Any) -> list[int]:
    return [] if passes is None else true_rows(pc.invert(pc.fill_null(passes, False)))


def _keys(batch: TableBatch) -> list[Any]:
    """The columns of the key as texts."""
    kinds = batch.table.types
    return [written(batch.arrays[name], kinds[name]) for name in batch.table.key]


def _deduplicate(batch: TableBatch, keys: list[Any], seen: SeenKeys) -> None:
    fates, hollow = batch.fates, batch.hollow
    rows: Sequence[int] = range(batch.count)
    if any(fates) or hollow:
        rows = [row for row in rows if not fates[row] and row not in hollow]
        numbers = pa.array(rows, pa.int64())
        keys = [column.take(numbers) for column in keys]
    outcome = seen.fates(hashes_of(list(map(_buffers, keys)), len(rows)), rows)
    if any(outcome):
        for place, row in enumerate(rows):
            if outcome[place]:
                key = tuple(column[place].as_py() for column in keys)
                _note_duplicate(batch, row, key, outcome[place])


def _buffers(texts: Any) -> TextColumn:
    """A string array as the scanner's hashes want it."""
    validity, offsets, data = texts.buffers()
    return offsets or _NO_OFFSETS, data or b"", validity, texts.offset


_NO_OFFSETS = bytes(4)


def _note_duplicate(batch: TableBatch, row: int, key: tuple[str | None, ...], fate: int) -> None:
    batch.fates[row] = fate
    if fate == Fate.REJECTED:
        batch.faults[row] = [duplicate(dict(zip(batch.table.key, key, strict=True)))]


def _row_by_row(batch: TableBatch, passes: Any, keys: list[Any] | None, seen: SeenKeys) -> None:
    """In a table that recurses, the row above may be one of the table: it is decided first."""
    assert batch.parent is not None
    failing = set(_failing(passes)) - batch.hollow
    for row, above in enumerate(batch.gathered.above):
        source, number = (batch, above) if above >= 0 else (batch.parent, batch.owners[row])
        if source.fates[number]:
            _share(batch, row, source.fates[number], source.table.name)
        if batch.fates[row]:
            continue
        if row in failing:
            batch.fates[row] = Fate.FILTERED
            batch.unknown += passes[row].as_py() is None
        elif keys is not None and row not in batch.hollow:
            key = tuple(column[row].as_py() for column in keys)
            [fate] = seen.fates(key_hash(key), [row])
            if fate:
                _note_duplicate(batch, row, key, fate)


def count_into(tally: TableTally, batch: TableBatch) -> None:
    """Adds the rows of a batch to what was counted so far."""
    refused_rows = sum(refusal.count for _, refusal in batch.refusals)
    tally.rows_seen += batch.count + refused_rows
    tally.rows_written += batch.fates.count(Fate.WRITTEN)
    tally.rows_rejected += batch.fates.count(Fate.REJECTED) + refused_rows
    tally.rows_filtered += batch.fates.count(Fate.FILTERED)
    tally.rows_deduplicated += batch.fates.count(Fate.DEDUPLICATED)
    tally.values_nulled += batch.nulled
    tally.rows_filtered_unknown += batch.unknown


def rejects_of(batch: TableBatch) -> Iterator[tuple[int, Reject]]:
    """The rejected rows, each with the number of its document in the batch; rows that are refused as a whole stand
    where their rows would."""
    parent, name = batch.parent, batch.table.name
    assert parent is not None
    found = [(batch.owners[row], row) for row in batch.faults]
    refusals = dict(batch.refusals)
    found += [(owner, -1) for owner in refusals]
    for owner, row in sorted(found):
        document = parent.documents[owner]
        if row < 0:
            file, number = batch.batch.sources[document].name, batch.batch.numbers[document]
            yield document, refused(file, number, name, parent.locate(owner)[0], refusals[owner])
        else:
            yield document, reject_at(batch, row)


def reject_at(batch: TableBatch, row: int) -> Reject:
    """The record of a row that is rejected."""
    document = batch.document(row)
    file, number = batch.batch.sources[document].name, batch.batch.numbers[document]
    place, node = batch.locate(row)
    return reject(file, number, batch.table.name, place, node, batch.faults[row], batch.excuses_at(row))


def rejected_for_itself(batch: TableBatch, row: int) -> bool:
    """Whether a row is rejected for what it holds, and not with the row above it."""
    return batch.fates[row] == Fate.REJECTED and batch.faults[row][0].bad.code != PARENT_REJECTED
