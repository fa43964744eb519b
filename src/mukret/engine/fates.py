"""What becomes of a row: written, rejected, filtered or deduplicated."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from enum import IntEnum


class Fate(IntEnum):
    WRITTEN = 0
    REJECTED = 1
    FILTERED = 2
    DEDUPLICATED = 3


class SeenKeys:
    """The keys of one table that were seen in the run, as hashes of 128 bits: 16 bytes each, whatever the key holds.

    Two different keys meet with a probability of about n² / 2¹²⁹: for a thousand million rows below 10⁻²⁰.
    """

    def __init__(self) -> None:
        self.hashes: set[bytes] = set()

    def is_new(self, key: Iterable[object]) -> bool:
        """Notes a key of typed values and says whether it was not there before."""
        digest = hashlib.blake2b(repr(tuple(key)).encode("utf-8", "surrogatepass"), digest_size=16).digest()
        if digest in self.hashes:
            return False
        self.hashes.add(digest)
        return True
