"""What becomes of a row: written, rejected, filtered or deduplicated."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable, Sequence
from enum import IntEnum

from mukret.rules.model import Duplicates, Table
from mukret.scan import HashSet


class RowOutcome(IntEnum):
    WRITTEN = 0
    REJECTED = 1
    FILTERED = 2
    DEDUPLICATED = 3


# By the hash of a key, the number in the run of the last row that has it.
LastRows = dict[bytes, int]


def key_hash(key: tuple[object, ...]) -> bytes:
    """128 bits that stand for a key."""
    return hashlib.blake2b(
        repr(key).encode("utf-8", "surrogatepass"), digest_size=16
    ).digest()


def in_key(value: object) -> object:
    """A value as it counts in a key: the two zeros of binary floating point are one."""
    return value + 0.0 if isinstance(value, float) else value


class SeenKeys:
    """The keys of one table that were seen in the run, as hashes of 128 bits.

    Two different keys meet with a probability of about n² / 2¹²⁹: for a thousand million rows below
    10⁻²⁰.

    Where the last row with a key is the one that is kept, `last` says which that is; with
    `finds_last` this pass finds it out.
    """

    def __init__(
        self,
        duplicates: Duplicates = "reject",
        last: LastRows | None = None,
        *,
        finds_last: bool = False,
    ) -> None:
        self.duplicates = duplicates
        self.hashes = HashSet()
        self.last: LastRows = {} if last is None else last
        self.finds_last = finds_last
        self.before = 0

    def row_outcomes(self, hashes: bytes, rows: Sequence[int]) -> bytes:
        """What becomes of rows with these keys (16 bytes for each), and these numbers among those
        that are looked at now: a byte for each. The keys are noted.
        """
        # Which row is the last is known only at the end of the input.
        if self.duplicates == "last":
            return self.by_last_row(
                [hashes[place : place + 16] for place in range(0, len(hashes), 16)],
                rows,
            )
        again = (
            RowOutcome.REJECTED
            if self.duplicates == "reject"
            else RowOutcome.DEDUPLICATED
        )
        # One byte for each row, told new or seen; one call in all for a block.
        return self.hashes.add_all(hashes).translate(
            bytes([RowOutcome.WRITTEN, again]) + bytes(254)
        )

    def by_last_row(self, keys: Sequence[bytes], rows: Sequence[int]) -> bytes:
        numbers = [self.before + row for row in rows]
        # The first pass only learns where each key comes last.
        if self.finds_last:
            self.last.update(zip(keys, numbers, strict=True))
            return bytes(len(keys))
        outcomes = bytearray([RowOutcome.DEDUPLICATED]) * len(keys)
        for row, key in enumerate(keys):
            if self.last.get(key) == numbers[row]:
                outcomes[row] = RowOutcome.WRITTEN
        return bytes(outcomes)

    def looked_at(self, rows: int) -> None:
        """Counts rows that are done with: the numbers of the next ones go on from there."""
        self.before += rows


class NoKeysResolved(SeenKeys):
    """Lets all rows through: whether their keys came before is resolved later."""

    def row_outcomes(self, hashes: bytes, rows: Sequence[int]) -> bytes:
        return bytes(len(rows))


def last_key_passes(tables: Sequence[Table]) -> list[list[str]]:
    """Which tables can be resolved in each of the passes that must go before, so that the last row
    with each key is known: whether a row counts may hang on that of its parent, which is resolved
    in an earlier one.
    """
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


def keys_of(
    tables: Iterable[Table], last: dict[str, LastRows], finds_last: Collection[str] = ()
) -> dict[str, SeenKeys]:
    """For one pass over the input: nothing seen so far, but for what earlier passes resolved."""
    return {
        table.name: SeenKeys(
            table.duplicates,
            # Shared by the passes: one learns, the next decides.
            last.setdefault(table.name, {}),
            finds_last=table.name in finds_last,
        )
        for table in tables
    }
