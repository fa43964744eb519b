"""The body of an answer, its content coding (RFC 9110) undone: a piece at a time, however much it
unpacks to.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator

# The codings that are asked for.
ACCEPTED = "gzip, deflate"
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
        # Asked for or not: what can't be unpacked must not be kept as data.
        case other:
            raise BadlyPacked(f"it is packed as {other[:30]}, which was not asked for")


def _inflated(body: Iterable[bytes], format: int) -> Iterator[bytes]:
    unpacker = _Inflater(format)
    for piece in body:
        yield from unpacker.fed(piece)
    if unpacker.begun and not unpacker.machine.eof:
        raise BadlyPacked("it ends too early")


class _Inflater:
    """DEFLATE (RFC 1951) in one of its wrappings, unpacked in pieces of bounded size: a few bytes
    can unpack to gigabytes.
    """

    def __init__(self, format: int) -> None:
        self.format = format
        self.machine = zlib.decompressobj(format)
        self.begun = False

    def fed(self, piece: bytes) -> Iterator[bytes]:
        rest = piece
        while rest:
            try:
                unpacked = self.machine.decompress(rest, PIECE_BYTES)
            except zlib.error:
                # Some servers call raw deflate `deflate`, without zlib's head.
                self.try_without_wrapping()
                continue
            self.begun = True
            yield unpacked
            rest = self.machine.unconsumed_tail
            if self.machine.eof:
                # A gzip file may be several, one behind the other.
                rest = self.next_member()
        while not self.machine.eof and (
            unpacked := self.machine.decompress(b"", PIECE_BYTES)
        ):
            yield unpacked

    def try_without_wrapping(self) -> None:
        """Raw DEFLATE, which many call deflate, too. Raises BadlyPacked if it can't be that."""
        if self.format == _GZIP or self.begun:
            raise BadlyPacked("it is broken") from None
        self.machine, self.format = zlib.decompressobj(_RAW), _RAW

    def next_member(self) -> bytes:
        """What is behind the end: further members of gzip (RFC 1952, section 2.2); else nothing."""
        rest = self.machine.unused_data if self.format == _GZIP else b""
        if rest:
            self.machine = zlib.decompressobj(self.format)
        return rest
