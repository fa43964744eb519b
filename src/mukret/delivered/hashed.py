"""A table of a delivery as hashes: of the key of each row, and of each of its cells.

Rows are compared by these alone, so it does not matter how long they are: a row takes 24 bytes, and
8 for each cell.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.hashing import hash_array
from mukret.delivered.contract import Delivered
from mukret.delivered.differences import Row
from mukret.types import Float, ValueType

# Columns beside those of cells, with names that no field can have.
KEY, ROW, TIMES = "#key", "#row", "#times"
# How a workbook is written: what has more digits is another number there.
_DIGITS_OF_A_SHEET = "%.16G"

# Texts of cells → texts that are equal if the values are.
Canonical = Callable[[pa.Array], pa.Array]


@dataclass(frozen=True)
class Side:
    """A table on one side of a comparison.

    `mark` begins the names of its columns of hashes; `key` are the columns that tell rows apart;
    `canonical` has all columns that are compared.
    """

    mark: str
    delivered: Delivered
    table: str
    key: Sequence[str]
    canonical: Mapping[str, Canonical]

    def hashed(self) -> Iterator[pa.RecordBatch]:
        """Tables with the hash of the key, the number of the row from 0, and a 64-bit hash of each
        cell; the first has no rows, so that there is always one.
        """
        yield self.hashes(
            {name: pa.array([], pa.string()) for name in self.canonical}, 0, 0
        )
        first = 0
        for batch in self.delivered.texts(self.table):
            yield self.hashes(self.canonical_texts(batch), batch.num_rows, first)
            first += batch.num_rows

    def hashes(self, texts: Mapping[str, pa.Array], count: int, first: int) -> pa.Array:
        """`count` rows, of which the first has this number."""
        columns = {KEY: self.key_hashes(texts, count)}
        columns[self.column(ROW)] = pa.array(range(first, first + count), pa.int64())
        for name, column in texts.items():
            columns[self.column(name)] = first_half(hash_array([column], count))
        return pa.table(columns)

    def column(self, name: str) -> str:
        return f"{self.mark}{name}"

    def canonical_texts(self, batch: pa.RecordBatch) -> dict[str, pa.Array]:
        return {
            name: canonical(batch.column(name))
            for name, canonical in self.canonical.items()
        }

    def key_hashes(self, texts: Mapping[str, pa.Array], count: int) -> pa.Array:
        return hash_array([texts[name] for name in self.key], count)

    def rows_of(self, wanted: Iterable[bytes]) -> dict[bytes, Row]:
        """The first row of each of some hashes of keys.

        The delivery is read again, as far as that takes.
        """
        missing = set(wanted)
        rows: dict[bytes, Row] = {}
        for batch in self.delivered.texts(self.table):
            if not missing:
                break
            hashes = self.key_hashes(self.canonical_texts(batch), batch.num_rows)
            mask = pc.is_in(hashes, value_set=pa.array(sorted(missing), hashes.type))
            chosen = zip(
                hashes.filter(mask).to_pylist(),
                batch.filter(mask).to_pylist(),
                strict=True,
            )
            for key, row in chosen:
                # A key that comes twice is shown by its first row.
                rows.setdefault(key, row)
            missing -= rows.keys()
        return rows


def hash_of_null() -> int:
    """What stands for null among the hashes of cells."""
    hashed: int = first_half(hash_array([pa.nulls(1, pa.string())], 1))[0].as_py()
    return hashed


def first_half(hashes: pa.Array) -> pa.Array:
    """Half of a hash: enough where rows that belong together are compared."""
    halves = memoryview(hashes.buffers()[1]).cast("q")[: 2 * len(hashes) : 2]
    return pa.Array.from_buffers(
        pa.int64(), len(hashes), [None, pa.py_buffer(halves.tobytes())]
    )


# ---- what is equal


def canonical_for(kind: ValueType, other: ValueType, *, exact: bool) -> Canonical:
    """How the texts of a column of both types are made comparable.

    Numbers are equal if their values are. `exact`: both deliveries keep all digits of floats, and
    the empty text apart from null.
    """
    if kind != other and kind.is_number and other.is_number:
        return _plain_numbers
    if isinstance(kind, Float):
        return _without_negative_zero if exact else _sheet_floats
    return _as_they_are if exact else _without_empty


def _without_negative_zero(texts: pa.Array) -> pa.Array:
    """It is equal to zero, and SQLite has no other."""
    return pc.if_else(pc.equal(texts, "-0"), "0", texts)


def _as_they_are(texts: pa.Array) -> pa.Array:
    return texts


def _without_empty(texts: pa.Array) -> pa.Array:
    return pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)


def _plain_numbers(texts: pa.Array) -> pa.Array:
    return _each(texts, lambda text: str(Decimal(text).normalize() + 0))


def _sheet_floats(texts: pa.Array) -> pa.Array:
    return _each(
        texts, lambda text: repr(float(_DIGITS_OF_A_SHEET % float(text)) + 0.0)
    )


def _each(texts: pa.Array, change: Callable[[str], str]) -> pa.Array:
    """Changes each different text once."""
    encoded = texts.dictionary_encode()
    changed = pa.array(
        [change(text) for text in encoded.dictionary.to_pylist()], pa.string()
    )
    return changed.take(encoded.indices)
