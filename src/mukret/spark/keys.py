"""Which rows are left out since another row has their key: by windows and joins over all of the input."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import reduce
from typing import Any

import pyarrow as pa
from pyspark.sql import DataFrame, Window
from pyspark.sql import functions as F

from mukret.rules.model import Rules
from mukret.spark.evaluating import keyed_above
from mukret.spark.frame import SCHEMA, Entry, Kind, entries_of, entry_batch, packed_rows, unpacked_rows
from mukret.spark.jobs import in_batches

PLACE = ("name", "piece", "block", "row")
COLUMNS = (
    "name string, piece int, block int, row int, key array<string>, "
    "above_name string, above_block int, above_row int, first int, second int, third int"
)


def left_out(rules: Rules, frame: DataFrame) -> DataFrame:
    """Entries with the rows that are left out for their keys, out of those with keys.

    What stands above is settled first: with a row that is left out goes all within it, whose keys count for nothing.
    """
    last = frozenset(name for name, table in rules.tables.items() if table.duplicates == "last")
    entries = frame.where(F.col("kind") == int(Kind.KEYS))
    keys = entries.mapInArrow(in_batches(key_batches, last), COLUMNS)
    gone: list[DataFrame] = []
    for level in _levels(rules):
        counting = keys.where(F.col("name").isin(level))
        if gone:
            above = _all(gone).toDF("gone_name", "gone_piece", "gone_block", "gone_row")
            counting = counting.join(above, _stands_in(counting, above), "left")
            gone.append(counting.where(F.col("gone_name").isNotNull()).select(*PLACE))
            counting = counting.where(F.col("gone_name").isNull())
        same = Window.partitionBy("name", "key").orderBy("first", "second", "third")
        nth = counting.withColumn("nth", F.row_number().over(same))
        gone.append(nth.where("nth > 1").select(*PLACE))
    return _all(gone).mapInArrow(left_out_batches, SCHEMA)


def _levels(rules: Rules) -> list[list[str]]:
    """The tables with keys, by how many of these they stand in."""
    levels: dict[int, list[str]] = {}
    for table in rules.parents_first():
        if table.key:
            levels.setdefault(len(keyed_above(rules, table.name)), []).append(table.name)
    return [levels[level] for level in sorted(levels)]


def _all(frames: list[DataFrame]) -> DataFrame:
    return reduce(DataFrame.union, frames)


def _stands_in(rows: DataFrame, above: DataFrame) -> Any:
    return (
        (rows["above_name"] == above["gone_name"])
        & (rows["piece"] == above["gone_piece"])
        & (rows["above_block"] == above["gone_block"])
        & (rows["above_row"] == above["gone_row"])
    )


# ---- what executors do


def key_batches(last: frozenset[str], batches: Iterable[Any]) -> Iterator[Any]:
    """Entries with keys → rows of COLUMNS; in the order of `first`, `second` and `third` the one that counts is the
    first. `last` are the tables of which the last row with a key counts."""
    for entry in entries_of(batches):
        for rows in unpacked_rows(entry.payload):
            count = rows.num_rows
            sign = -1 if entry.name in last else 1
            place = [pa.repeat(pa.scalar(number, pa.int32()), count) for number in (entry.piece, entry.block)]
            numbers = rows.column("row").to_pylist()
            order = [sign * entry.piece, sign * entry.block]
            arrays = [
                pa.repeat(entry.name, count),
                *place,
                *rows.columns,
                *(pa.repeat(pa.scalar(number, pa.int32()), count) for number in order),
                pa.array([sign * number for number in numbers], pa.int32()),
            ]
            names = ["name", "piece", "block", *rows.schema.names, "first", "second", "third"]
            yield pa.RecordBatch.from_arrays(arrays, names=names)


def left_out_batches(batches: Iterable[Any]) -> Iterator[Any]:
    """Rows of PLACE → entries."""
    for batch in batches:
        rows: dict[tuple[str, int, int], list[int]] = {}
        for one in batch.to_pylist():
            rows.setdefault((one["name"], one["piece"], one["block"]), []).append(one["row"])
        entries = [left_out_entry(name, piece, block, some) for (name, piece, block), some in rows.items()]
        if entries:
            yield entry_batch(entries)


def left_out_entry(name: str, piece: int, block: int, rows: list[int]) -> Entry:
    return Entry(piece, block, Kind.LEFT_OUT, name, packed_rows([pa.record_batch({"row": pa.array(rows, pa.int32())})]))
