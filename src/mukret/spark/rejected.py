"""Rejects on their way: lines of JSON with their place,
and the columns that Spark makes of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

import msgspec
import pyarrow as pa

from mukret.semantics.rejects import Reject
from mukret.spark.frame import Entry, EntryKind, entries_of

# Rejects for a key that came before stand behind the others of their table and document.
LATER = 1 << 30
LINES = "piece int, block int, document long, rank int, number int, line binary"
COLUMNS = (
    "file string, document long, path string, table string, rows long, "
    "problems array<struct<field: string, code: string, path: string, value: string, message: "
    "string>>"
)
_LINES = pa.schema(
    [
        ("piece", pa.int32()),
        ("block", pa.int32()),
        ("document", pa.int64()),
        ("rank", pa.int32()),
        ("number", pa.int32()),
        ("line", pa.binary()),
    ]
)
_TEXTS = ("field", "code", "path", "value", "message")
_COLUMNS = pa.schema(
    [
        ("file", pa.string()),
        ("document", pa.int64()),
        ("path", pa.string()),
        ("table", pa.string()),
        ("rows", pa.int64()),
        ("problems", pa.list_(pa.struct([(name, pa.string()) for name in _TEXTS]))),
    ]
)


class RejectLine(NamedTuple):
    """A line of `rejects.jsonl`, and its place in the block: document by document, and then table
    by table.
    """

    document: int
    rank: int
    number: int
    line: bytes


def reject_lines(
    rejects: Iterable[Reject], ranks: Mapping[str, int], first: int = 0
) -> list[RejectLine]:
    """`ranks` are those of the tables, numbers count from `first`."""
    return [
        RejectLine(
            reject.document, ranks.get(reject.table or "", 0), number, reject.line()
        )
        for number, reject in enumerate(rejects, first)
    ]


def packed_lines(lines: list[RejectLine]) -> bytes:
    return msgspec.msgpack.encode(lines)


def line_batches(batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Entries with rejects → rows of LINES."""
    decode = msgspec.msgpack.Decoder(list[RejectLine]).decode
    for entry in entries_of(batches):
        lines = [(entry.piece, entry.block, *line) for line in decode(entry.payload)]
        # Entries of other kinds come in the same frame.
        if entry.kind is EntryKind.REJECTS and lines:
            arrays = [
                pa.array(column, kind.type)
                for column, kind in zip(zip(*lines, strict=True), _LINES, strict=True)
            ]
            yield pa.RecordBatch.from_arrays(arrays, schema=_LINES)


class _Problem(msgspec.Struct):
    field: str | None
    code: str
    path: str | None
    value: msgspec.Raw
    message: str


class _Line(msgspec.Struct):
    file: str
    document: int
    path: str | None
    table: str | None
    problems: list[_Problem]
    rows: int | None = None


def column_batches(batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    """Lines → rows of COLUMNS; the value of a problem is a text of JSON, so that its digits are
    kept.
    """
    decode = msgspec.json.Decoder(_Line).decode
    for batch in batches:
        rows = [_columns(decode(line)) for line in batch.column("line").to_pylist()]
        yield pa.RecordBatch.from_pylist(rows, schema=_COLUMNS)


def _columns(line: _Line) -> dict[str, pa.Array]:
    columns = {
        name: getattr(line, name)
        for name in ("file", "document", "path", "table", "rows")
    }
    return columns | {"problems": [_texts(problem) for problem in line.problems]}


def _texts(problem: _Problem) -> dict[str, str | None]:
    return {name: _text(getattr(problem, name)) for name in _TEXTS}


def _text(value: str | msgspec.Raw | None) -> str | None:
    if not isinstance(value, msgspec.Raw):
        return value
    text = bytes(value).decode()
    return None if text == "null" else text


def rejects_entry(piece: int, block: int, lines: list[RejectLine]) -> Entry:
    return Entry(piece, block, EntryKind.REJECTS, "", packed_lines(lines))
