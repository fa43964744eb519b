"""Which rows are left out since another row has their key: by windows and joins over all of the
input.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import reduce
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from pyspark.sql import DataFrame, Window
from pyspark.sql import functions as F

from mukret.rules.model import Rules
from mukret.spark.evaluating import keyed_above
from mukret.spark.frame import (
    SCHEMA,
    Entry,
    EntryKind,
    entries_of,
    entry_batch,
    packed_rows,
    unpacked_rows,
)
from mukret.spark.jobs import KEPT, in_batches

PLACE = ("name", "piece", "block", "row")
COLUMNS = (
    "name string, piece int, block int, row int, key string, "
    "above_name string, above_block int, above_row int, first int, second int, third int"
)


def left_out(rules: Rules, frame: DataFrame, kept: list[DataFrame]) -> DataFrame:
    """Entries with the rows that are left out for their keys, out of those with keys.

    What stands above is resolved first: with a row that is left out goes all within it, whose keys
    count for nothing. What each level finds is kept by the cluster, so that it is found once, and
    noted in `kept`.
    """
    last = frozenset(
        name for name, table in rules.tables.items() if table.duplicates == "last"
    )
    entries = frame.where(F.col("kind") == int(EntryKind.KEYS))
    keys = entries.mapInArrow(in_batches(key_batches, last), COLUMNS)
    gone: list[DataFrame] = []
    # Parents first: rows go with the row above them before their own keys are compared.
    for level in _levels(rules):
        of_level = _gone(keys.where(F.col("name").isin(level)), gone).persist(KEPT)
        gone.append(of_level)
        kept.append(of_level)
    return reduce(DataFrame.union, gone).mapInArrow(left_out_batches, SCHEMA)


def _gone(rows: DataFrame, gone: list[DataFrame]) -> DataFrame:
    """The rows that are left out, or go with one that is: of those with the same key all but for
    the first that does not go with one.
    """
    rows = rows.withColumn("goes_along", F.lit(False))
    if gone:
        above = reduce(DataFrame.union, gone).toDF(
            "gone_name", "gone_piece", "gone_block", "gone_row"
        )
        rows = rows.join(above, _stands_in(rows, above), "left")
        rows = rows.withColumn("goes_along", F.col("gone_name").isNotNull())
    # Rows that go along are counted apart: they take no key from others.
    same = Window.partitionBy("name", "key", "goes_along").orderBy(
        "first", "second", "third"
    )
    return (
        rows.withColumn("nth", F.row_number().over(same))
        .where("goes_along or nth > 1")
        .select(*PLACE)
    )


def _levels(rules: Rules) -> list[list[str]]:
    """The tables with keys, by how many of these they stand in."""
    levels: dict[int, list[str]] = {}
    for table in rules.parents_first():
        if table.key:
            levels.setdefault(len(keyed_above(rules, table.name)), []).append(
                table.name
            )
    return [levels[level] for level in sorted(levels)]


def _stands_in(rows: DataFrame, above: DataFrame) -> Any:
    return (
        (rows["above_name"] == above["gone_name"])
        & (rows["piece"] == above["gone_piece"])
        & (rows["above_block"] == above["gone_block"])
        & (rows["above_row"] == above["gone_row"])
    )


# ---- what executors do


def key_batches(
    last: frozenset[str], batches: Iterable[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    """Entries with keys → rows of COLUMNS; in the order of `first`, `second` and `third` the one
    that counts is the first. `last` are the tables of which the last row with a key counts.
    """
    for entry in entries_of(batches):
        for rows in unpacked_rows(entry.payload):
            count = rows.num_rows
            # Turned round where the last one counts, so that the first in order is the one that is
            # kept.
            sign = -1 if entry.name in last else 1
            place = [
                pa.repeat(pa.scalar(number, pa.int32()), count)
                for number in (entry.piece, entry.block)
            ]
            order = [
                pc.multiply(column, pa.scalar(sign, pa.int32()))
                for column in (*place, rows.column("row"))
            ]
            arrays = [pa.repeat(entry.name, count), *place, *rows.columns, *order]
            names = [
                "name",
                "piece",
                "block",
                *rows.schema.names,
                "first",
                "second",
                "third",
            ]
            yield pa.RecordBatch.from_arrays(arrays, names=names)


def left_out_batches(batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Rows of PLACE → entries."""
    for batch in batches:
        rows: dict[tuple[str, int, int], list[int]] = {}
        for row in batch.to_pylist():
            # An entry for each block: there they are put beside its rows.
            rows.setdefault((row["name"], row["piece"], row["block"]), []).append(
                row["row"]
            )
        entries = [
            left_out_entry(name, piece, block, some)
            for (name, piece, block), some in rows.items()
        ]
        if entries:
            yield entry_batch(entries)


def left_out_entry(name: str, piece: int, block: int, rows: list[int]) -> Entry:
    return Entry(
        piece,
        block,
        EntryKind.LEFT_OUT,
        name,
        packed_rows([pa.record_batch({"row": pa.array(rows, pa.int32())})]),
    )
