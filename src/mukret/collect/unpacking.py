"""The body of an answer, its content coding (RFC 9110) undone: a piece at a time, however much it
unpacks to.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator

ACCEPTED = "gzip, deflate"
"""The codings that are asked for."""
PIECE_BYTES = 1 << 20
_GZIP, _RAW = 16 + zlib.MAX_WBITS, -zlib.MAX_WBITS


class BadlyPacked(Exception):
    """A body that is not packed as its header says."""


def unpacked(body: Iterable[bytes], coding: str) -> Iterator[bytes]:
    """Pieces of at most PIECE_BYTES for a body that is packed.

    Raises BadlyPacked, also where it ends too early.
    """
    match coding.strip().lower():
        case "" | "identity":
            yield from body
        case "gzip" | "x-gzip":
            yield from _inflated(body, _GZIP)
        case "deflate":
            yield from _inflated(body, zlib.MAX_WBITS)
        case other:
            raise BadlyPacked(f"it is packed as {other[:30]}, which was not asked for")


def _inflated(body: Iterable[bytes], format: int) -> Iterator[bytes]:
    machine = zlib.decompressobj(format)
    begun = False
    for piece in body:
        rest = piece
        while rest:
            try:
                found = machine.decompress(rest, PIECE_BYTES)
            except zlib.error:
                if format == _GZIP or begun:
                    raise BadlyPacked("it is broken") from None
                machine, format = zlib.decompressobj(_RAW), _RAW  # many call that deflate, too
                continue
            begun = True
            yield found
            rest = machine.unconsumed_tail
            if machine.eof:
                rest = machine.unused_data if format == _GZIP else b""
                if rest:
                    machine = zlib.decompressobj(format)
        while not machine.eof and (found := machine.decompress(b"", PIECE_BYTES)):
            yield found
    if begun and not machine.eof:
        raise BadlyPacked("it ends too early")
