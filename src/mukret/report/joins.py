"""How the rows of a table stand in those of the table around it: how many each has, how many have
none.

Parents and children are told apart by hashes of the parent's key. Where there are many, one parent
in two, in four and so on is looked at, with all of its children: those of which the hash ends in as
many zeros.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from mukret.columns.hashing import hash_array
from mukret.delivered.contract import DeliveredTable

if TYPE_CHECKING:
    import pyarrow as pa

MOST_HASHES = 400_000


@dataclass(frozen=True)
class Join:
    """A table in the one around it.

    `by`: the columns that lead there, none if there are no such in both. `one_in`: of how many
    parents one was looked at; the other numbers are of these. `orphans`: rows whose parent is not
    there.
    """

    child: str
    parent: str
    by: tuple[str, ...]
    one_in: int = 1
    parents: int = 0
    without: int = 0
    orphans: int = 0
    fewest: int = 0
    median: float = 0.0
    most: int = 0

    @property
    def without_share(self) -> float:
        return self.without / self.parents if self.parents else 0.0


class KeyHashes:
    """Hashes of some columns of the rows of a table.

    Whenever there are more than `most`, only those with one more zero at the end are kept.
    """

    def __init__(self, columns: Sequence[str], most: int = MOST_HASHES) -> None:
        self.columns = columns
        self.most = most
        self.zeros = 0
        self.kept = np.empty(0, np.uint64)

    def see(self, batch: pa.RecordBatch) -> None:
        hashed = hash_array(
            [batch.column(name) for name in self.columns], batch.num_rows
        )
        hashes = np.frombuffer(hashed.buffers()[1], np.uint64)[::2]
        self.kept = np.concatenate([self.kept, self.ending(hashes, self.zeros)])
        while len(self.kept) > self.most:
            self.zeros += 1
            self.kept = self.ending(self.kept, self.zeros)

    @staticmethod
    def ending(hashes: pa.Array, zeros: int) -> pa.Array:
        return hashes[hashes & np.uint64((1 << zeros) - 1) == 0]


def join_columns(
    tables: Mapping[str, DeliveredTable], child: DeliveredTable
) -> tuple[str, ...]:
    """The key of the table around it, if it has all of its columns; else none."""
    parent = tables.get(child.within or "")
    if parent is None or not parent.key or not set(parent.key) <= child.types.keys():
        return ()
    return parent.key


def joined(child: str, parent: str, of_child: KeyHashes, of_parent: KeyHashes) -> Join:
    # Both sides kept keys whose hashes end in so many zeros: a sample that matches.
    zeros = max(of_child.zeros, of_parent.zeros)
    parents = np.unique(KeyHashes.ending(of_parent.kept, zeros))
    keys, counts = np.unique(KeyHashes.ending(of_child.kept, zeros), return_counts=True)
    there = np.isin(keys, parents, assume_unique=True)
    # Parents without children count, with none.
    children = np.concatenate(
        [counts[there], np.zeros(len(parents) - int(there.sum()), counts.dtype)]
    )
    return Join(
        child,
        parent,
        tuple(of_parent.columns),
        1 << zeros,
        len(parents),
        len(parents) - int(there.sum()),
        int(counts[~there].sum()),
        int(children.min()) if len(children) else 0,
        float(np.median(children)) if len(children) else 0.0,
        int(children.max()) if len(children) else 0,
    )
