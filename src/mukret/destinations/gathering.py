"""Record batches put together until they are worth writing at once."""

from __future__ import annotations

from abc import ABC, abstractmethod

import pyarrow as pa


class Gathering:
    """Gathers batches until they have so many rows or bytes; those without rows are dropped."""

    def __init__(self, rows: int, size: int) -> None:
        self.most_rows = rows
        self.most_bytes = size
        self.waiting: list[pa.RecordBatch] = []
        self.rows = self.bytes = 0

    def add(self, batch: pa.RecordBatch) -> pa.Array:
        """A table of what has waited, this batch included, if it is enough now; else None."""
        if batch.num_rows:
            self.waiting.append(batch)
            self.rows += batch.num_rows
            self.bytes += batch.nbytes
        return (
            self.rest()
            # Whatever comes first: rows may be narrow or wide.
            if self.rows >= self.most_rows or self.bytes >= self.most_bytes
            else None
        )

    def rest(self) -> pa.Array:
        """A table of what has waited so far; None if nothing has."""
        batches, self.waiting, self.rows, self.bytes = self.waiting, [], 0, 0
        return pa.Table.from_batches(batches) if batches else None


class GatheredFile(ABC):
    """A table on its way into a file that takes the rows of several record batches at once."""

    def __init__(self, rows: int, size: int) -> None:
        self.gathering = Gathering(rows, size)

    @abstractmethod
    def put(self, rows: pa.RecordBatch) -> None:
        """Writes a table."""

    @abstractmethod
    def end(self) -> None:
        """Writes the end of the file: without it the file is invalid."""

    def write(self, batch: pa.RecordBatch) -> None:
        """Adds the rows of a record batch."""
        rows = self.gathering.add(batch)
        if rows is not None:
            self.put(rows)

    def close(self) -> None:
        """Writes what is left, and the end."""
        rows = self.gathering.rest()
        if rows is not None:
            self.put(rows)
        self.end()
