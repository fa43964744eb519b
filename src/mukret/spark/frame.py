"""What tasks hand on: rows of one Spark table, each with something of a block of documents.

What is in a row (a record batch of Arrow, lines of JSON, a pickled fact) Spark takes as bytes;
piece and block say where in the input it belongs.
"""

from __future__ import annotations

import pickle
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

import pyarrow as pa

SCHEMA = "piece int, block int, kind int, name string, file string, whole boolean, payload binary"


class EntryKind(IntEnum):
    """What a row holds.

    They are sorted: rows that were found out to be left out come before those of their block.
    """

    LEFT_OUT = 0
    """Numbers (int32) of rows of a table whose keys came before."""
    UNRESOLVED = 1
    """Rows of a table of which keys are still to be resolved (`unresolved_schema`)."""
    KEYS = 2
    """The keys of these."""
    ROWS = 3
    """Rows of a table that are written."""
    REJECTS = 4
    """Lines of `rejects.jsonl`, each behind its place among those of the block (`RejectLine`)."""
    TOLD = 5
    """What a piece tells at its end."""
    ERROR = 6
    """The error that ended a piece."""


@dataclass(frozen=True)
class Entry:
    piece: int
    block: int
    kind: EntryKind
    name: str
    payload: bytes
    file: str = ""
    whole: bool = True


_ARROW = pa.schema(
    [
        ("piece", pa.int32()),
        ("block", pa.int32()),
        ("kind", pa.int32()),
        ("name", pa.string()),
        ("file", pa.string()),
        ("whole", pa.bool_()),
        ("payload", pa.binary()),
    ]
)


def entry_batch(entries: Iterable[Entry]) -> pa.RecordBatch:
    """Entries as a record batch."""
    # Column by column: Arrow takes no rows.
    columns = zip(
        *(
            (e.piece, e.block, int(e.kind), e.name, e.file, e.whole, e.payload)
            for e in entries
        ),
        strict=True,
    )
    arrays = [
        pa.array(column, kind.type)
        for column, kind in zip(columns, _ARROW, strict=True)
    ]
    return pa.RecordBatch.from_arrays(arrays, schema=_ARROW)


def entries_of(batches: Iterable[pa.RecordBatch]) -> Iterator[Entry]:
    """Entries out of record batches."""
    for batch in batches:
        for row in batch.to_pylist():
            yield Entry(**{**row, "kind": EntryKind(row["kind"])})


_OPTIONS = pa.ipc.IpcWriteOptions(compression="zstd")


def packed_rows(batches: list[pa.RecordBatch]) -> bytes:
    """Record batches of one schema as bytes."""
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, batches[0].schema, options=_OPTIONS) as writer:
        for batch in batches:
            writer.write_batch(batch)
    return bytes(sink.getvalue())


def unpacked_rows(payload: bytes) -> Iterator[pa.RecordBatch]:
    """The same, read again."""
    with pa.ipc.open_stream(payload) as reader:
        yield from reader


def packed_fact(fact: object) -> bytes:
    return pickle.dumps(fact)


def unpacked_fact(payload: bytes) -> Any:
    """Only of what a task of the same run has written."""
    return pickle.loads(payload)
