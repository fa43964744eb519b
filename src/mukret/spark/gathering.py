"""Small batches of tables, put together until they are worth a row of their own."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from mukret.spark.frame import Entry, EntryKind, packed_rows

if TYPE_CHECKING:
    import pyarrow as pa

ENOUGH_BYTES = 4 << 20


class GatheredRows:
    """Rows of the tables of a piece that are written."""

    def __init__(self, piece: int) -> None:
        self.piece = piece
        self.block = 0
        self.waiting: dict[str, list[pa.RecordBatch]] = {}
        self.sizes: dict[str, int] = {}

    def add(self, name: str, batch: pa.RecordBatch) -> Iterator[Entry]:
        """Adds rows of a table; gives an entry when there are enough."""
        if not batch.num_rows:
            return
        self.waiting.setdefault(name, []).append(batch)
        self.sizes[name] = self.sizes.get(name, 0) + batch.nbytes
        if self.sizes[name] >= ENOUGH_BYTES:
            yield self.entry(name)

    def entry(self, name: str) -> Entry:
        # Numbered anew: rows of several blocks stand together.
        self.block += 1
        self.sizes[name] = 0
        return Entry(
            self.piece,
            self.block,
            EntryKind.ROWS,
            name,
            packed_rows(self.waiting.pop(name)),
        )

    def rest(self) -> Iterator[Entry]:
        yield from (self.entry(name) for name in list(self.waiting))
