"""Rows of text columns as hashes of 128 bits (see `scan/_keys.pyx`): equal within one process if
their texts are.
"""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa

from mukret.scan import hashes_of

# Bytes of a hash.
WIDTH = 16
_NO_OFFSETS = bytes(4)


def row_hashes(columns: Sequence[pa.Array], count: int) -> bytes:
    """For each of `count` rows of some string arrays the bytes of its hash, one after the other."""
    return hashes_of([_buffers(column) for column in columns], count)


def hash_array(columns: Sequence[pa.Array], count: int) -> pa.Array:
    """The same as an Arrow array of 16 bytes each."""
    return pa.Array.from_buffers(
        pa.binary(WIDTH), count, [None, pa.py_buffer(row_hashes(columns, count))]
    )


def _buffers(texts: pa.Array) -> tuple[pa.Buffer, pa.Buffer, pa.Buffer, int]:
    """A string array as the compiled code wants it."""
    validity, offsets, data = texts.buffers()
    return offsets or _NO_OFFSETS, data or b"", validity, texts.offset
