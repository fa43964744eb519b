"""What a column holds, learnt in one pass over its texts in bounded memory.

Counts, nulls, smallest and largest are of all rows. Different values are counted up to a bound and
estimated beyond it (the k smallest hashes: Bar-Yossef et al., 2002; k = 4,096 errs by some 1.6%).
Pictures, and the values that come most where there are many, are of a sample of rows, drawn evenly.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from mukret.codes import Code
from mukret.columns.hashing import hash_array
from mukret.columns.types import stored
from mukret.delivered.contract import Delivered, DeliveredTable
from mukret.errors import InputError
from mukret.types import (
    PLAIN,
    Bad,
    Date,
    Datetime,
    Duration,
    Time,
    Timestamp,
    TypedValue,
    ValueType,
)

SAMPLED_ROWS = 20_000
# So many different values are counted one by one.
MOST_DIFFERENT = 5_000
SMALLEST_HASHES = 4_096
MOST_SHOWN = 5
MOMENTS = (Date, Datetime, Timestamp)
ORDERED = (*MOMENTS, Time, Duration)
_HASHES = float(2**64)


@dataclass(frozen=True)
class ColumnProfile:
    """`different`: how many values there are, `exactly` or by an estimate.

    `top`: those that come most, with how often; of all rows if they are counted `exactly`, else of
    the sample. `sample`: what stands in the sampled rows, nulls left out, as Arrow has the type if
    it is `ordered`, else as texts.
    """

    name: str
    kind: str
    rows: int
    nulls: int
    different: int
    exactly: bool
    ordered: bool
    moments: bool
    smallest: str | None
    largest: str | None
    top: list[tuple[str, int]]
    sample: pa.Array

    @property
    def filled(self) -> int:
        return self.rows - self.nulls

    @property
    def null_share(self) -> float:
        return self.nulls / self.rows if self.rows else 0.0

    @property
    def is_one_value(self) -> bool:
        return self.exactly and self.different == 1


@dataclass(frozen=True)
class TableProfile:
    """`sampled`: how many rows the sample has, if that is not all of them."""

    name: str
    rows: int
    columns: Mapping[str, ColumnProfile]
    sampled: int | None


class Hashes:
    """The smallest 64-bit hashes of the values seen: enough to tell how many are different."""

    def __init__(self, most: int = SMALLEST_HASHES) -> None:
        self.most = most
        self.smallest = np.empty(0, np.uint64)

    def add(self, texts: pa.Array) -> None:
        hashed = np.frombuffer(hash_array([texts], len(texts)).buffers()[1], np.uint64)[
            ::2
        ]
        if len(self.smallest) == self.most:
            hashed = hashed[hashed < self.smallest[-1]]
        self.smallest = np.unique(np.concatenate([self.smallest, hashed]))[: self.most]

    def different(self) -> int:
        if len(self.smallest) < self.most:
            return len(self.smallest)
        return round((self.most - 1) * _HASHES / float(self.smallest[-1]))


@dataclass
class _Column:
    """A column on its way through."""

    kind: ValueType
    nulls: int = 0
    counted: Counter[str] | None = field(default_factory=Counter)
    hashes: Hashes = field(default_factory=Hashes)
    smallest: tuple[TypedValue, str] | None = None
    largest: tuple[TypedValue, str] | None = None

    @property
    def ordered(self) -> bool:
        return self.kind.is_number or isinstance(self.kind, ORDERED)

    def see(self, texts: pa.Array) -> None:
        self.nulls += texts.null_count
        texts = texts.drop_null()
        if not len(texts):
            return
        self.hashes.add(texts)
        # Given up for good once there are too many: a count of some would be none.
        if self.counted is not None:
            self.count(texts)
        if self.ordered:
            self.see_ends(texts)

    def count(self, texts: pa.Array) -> None:
        assert self.counted is not None
        counts = texts.value_counts()
        # Before anything is made into Python objects, which costs more than the count.
        if len(counts) + len(self.counted) > 4 * MOST_DIFFERENT:
            self.counted = None
            return
        self.counted.update(
            dict(
                zip(
                    counts.field(0).to_pylist(),
                    counts.field(1).to_pylist(),
                    strict=True,
                )
            )
        )
        if len(self.counted) > MOST_DIFFERENT:
            self.counted = None

    def see_ends(self, texts: pa.Array) -> None:
        values = typed(texts, self.kind)
        ends = pc.min_max(values)
        for name, end in (("smallest", ends["min"]), ("largest", ends["max"])):
            if not end.is_valid:
                continue
            # Kept as it was delivered, too: that is what the page shows.
            text = texts[pc.index(values, end).as_py()].as_py()
            known = getattr(self, name)
            further = (
                known is None
                or pc.less(
                    *((end, known[0]) if name == "smallest" else (known[0], end))
                ).as_py()
            )
            if further:
                setattr(self, name, (end, text))

    def profile(
        self, name: str, kind: str, rows: int, sample: pa.Array
    ) -> ColumnProfile:
        sample = sample.drop_null()
        counted = self.counted
        # Too many different values to count them all: the most frequent of the sample.
        top = Counter(sample.to_pylist()) if counted is None else counted
        return ColumnProfile(
            name,
            kind,
            rows,
            self.nulls,
            self.hashes.different() if counted is None else len(counted),
            counted is not None,
            self.ordered,
            isinstance(self.kind, MOMENTS),
            self.smallest[1] if self.smallest else None,
            self.largest[1] if self.largest else None,
            sorted(top.items(), key=lambda item: (-item[1], item[0]))[:MOST_SHOWN],
            typed(sample, self.kind) if self.ordered else sample,
        )


def typed(texts: pa.Array, kind: ValueType) -> pa.Array:
    """Texts of CSV cells as Arrow holds values of their type, times of day and durations as
    microseconds. Raises ArrowInvalid and Bad.
    """
    if isinstance(
        kind, Time | Duration
    ):  # as microseconds: Arrow has no smallest of these
        return _once_each(
            texts, lambda text: kind.convert(text, PLAIN), stored(kind).arrow
        ).cast(pa.int64())
    target = (
        pa.decimal128(38, kind.scale) if hasattr(kind, "scale") else stored(kind).arrow
    )
    return texts.cast(target)


def _once_each(
    texts: pa.Array, convert: Callable[[str], object], target: pa.DataType
) -> pa.Array:
    encoded = texts.dictionary_encode()
    return pa.array(
        [convert(text) for text in encoded.dictionary.to_pylist()], target
    ).take(encoded.indices)


class RowSample:
    """Rows drawn evenly out of all that come: those with the smallest of random numbers, the same
    in each run.
    """

    def __init__(self, most: int = SAMPLED_ROWS) -> None:
        self.most = most
        self.random = np.random.default_rng(20310401)
        self.numbers = np.empty(0)
        self.rows: pa.Table | None = None

    def see(self, batch: pa.RecordBatch) -> None:
        # A random number for each row, of which the smallest are kept: each row has the same
        # chance, in any order of the batches.
        numbers = self.random.random(batch.num_rows)
        if len(self.numbers) == self.most:
            chosen = numbers < self.numbers.max()
            numbers, batch = numbers[chosen], batch.filter(pa.array(chosen))
        table = pa.Table.from_batches([batch])
        self.rows = table if self.rows is None else pa.concat_tables([self.rows, table])
        self.numbers = np.concatenate([self.numbers, numbers])
        if len(self.numbers) > self.most:
            kept = np.sort(np.argpartition(self.numbers, self.most)[: self.most])
            self.numbers, self.rows = (
                self.numbers[kept],
                self.rows.take(pa.array(kept)).combine_chunks(),
            )

    def column(self, name: str) -> pa.Array:
        return (
            pa.array([], pa.string())
            if self.rows is None
            else self.rows.column(name).combine_chunks()
        )


def profile(
    delivered: Delivered, table: DeliveredTable, also: Iterable[pa.RecordBatch] = ()
) -> TableProfile:
    """Reads a table once.

    `also` are given each batch, too (with a method `see`). Raises InputError.
    """
    columns = {name: _Column(kind) for name, kind in table.columns.items()}
    sample = RowSample()
    rows = 0
    for batch in delivered.texts(table.name):
        rows += batch.num_rows
        for name, column in columns.items():
            try:
                column.see(batch.column(name))
            # Somebody has edited the file since it was written.
            except (pa.ArrowInvalid, Bad) as error:
                message = (
                    f"{delivered.target}: {table.name}.{name} holds what is no "
                    f"{table.types[name]}: {error}"
                )
                raise InputError(
                    Code.NOT_OPENED, message, hint="extract it again"
                ) from None
        sample.see(batch)
        for other in also:
            other.see(batch)
    profiles = {
        name: column.profile(name, table.types[name], rows, sample.column(name))
        for name, column in columns.items()
    }
    return TableProfile(
        table.name, rows, profiles, SAMPLED_ROWS if rows > SAMPLED_ROWS else None
    )
