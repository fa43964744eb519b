"""What becomes of a row: written, rejected, filtered or deduplicated."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable, Sequence
from enum import IntEnum

from mukret.rules.model import Duplicates, Table


class Fate(IntEnum):
    WRITTEN = 0
    REJECTED = 1
    FILTERED = 2
    DEDUPLICATED = 3


LastRows = dict[bytes, int]
"""By the hash of a key, the number in the run of the last row that has it."""


class SeenKeys:
    """The keys of one table that were seen in the run, as hashes of 128 bits, whatever the key holds.

    Two different keys meet with a probability of about n² / 2¹²⁹: for a thousand million rows below 10⁻²⁰.

    Where the last row with a key is the one that is kept, `last` says which that is; `settling`: it is found out.
    """

    def __init__(
        self, duplicates: Duplicates = "reject", last: LastRows | None = None, *, settling: bool = False
    ) -> None:
        self.duplicates = duplicates
        self.hashes: set[bytes] = set()
        self.last: LastRows = {} if last is None else last
        self.settling = settling
        self.before = 0

    def fate(self, key: Iterable[object], row: int) -> Fate:
        """What becomes of the row with this number among those that are looked at now; its key is noted."""
        key = key if type(key) is tuple else tuple(key)
        digest = hashlib.blake2b(repr(key).encode("utf-8", "surrogatepass"), digest_size=16).digest()
        if self.duplicates == "last":
            if self.settling:
                self.last[digest] = self.before + row
            return Fate.WRITTEN if self.last.get(digest) == self.before + row else Fate.DEDUPLICATED
        if digest in self.hashes:
            return Fate.REJECTED if self.duplicates == "reject" else Fate.DEDUPLICATED
        self.hashes.add(digest)
        return Fate.WRITTEN

    def looked_at(self, rows: int) -> None:
        """So many rows are done with: those that follow are counted on."""
        self.before += rows


def settling_passes(tables: Sequence[Table]) -> list[list[str]]:
    """Which tables can be settled in each of the passes that must go before, so that the last row with each key is
    known: whether a row counts may hang on that of its parent, which is settled in an earlier one."""
    level: dict[str, int] = {}
    passes: list[list[str]] = []
    for table in tables:  # parents first
        level[table.name] = level[table.within] if table.within else 0
        if table.duplicates == "last" and table.key:
            if level[table.name] == len(passes):
                passes.append([])
            passes[level[table.name]].append(table.name)
            level[table.name] += 1
    return passes


def keys_of(tables: Iterable[Table], last: dict[str, LastRows], settling: Collection[str] = ()) -> dict[str, SeenKeys]:
    """For one pass over the input: nothing seen so far, but for what earlier passes settled."""
    return {
        table.name: SeenKeys(table.duplicates, last.setdefault(table.name, {}), settling=table.name in settling)
        for table in tables
    }
