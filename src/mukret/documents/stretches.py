"""A long file of JSON Lines → stretches that machines read on their own, each of which knows what
stands before it.
"""

from __future__ import annotations

from typing import BinaryIO

from mukret.documents.blocks import BLOCK_BYTES, LONG, LONGEST_LINE, read_a_line
from mukret.documents.decode import BYTE_ORDER_MARK
from mukret.documents.recognise import looks_like_lines, looks_like_sequence
from mukret.documents.sources import BROKEN_ARCHIVE, Source, Stretch, not_read
from mukret.scan import counted_lines

_AT_ONCE = 8_000_000


def stretches(source: Source, size: int) -> list[Stretch] | None:
    """The stretches of about `size` bytes of which a file consists, which is read to its end for
    that; None for what has to be read by one: anything but JSON Lines in UTF-8 that are not packed.

    Raises InputError.
    """
    with source.open() as file:
        try:
            # Nothing is known of where lines begin until all before has been unpacked.
            if source.compression or source.encoding:
                return None
            head = read_a_line(file, BLOCK_BYTES, LONG * BLOCK_BYTES)
            if looks_like_sequence(head) or not looks_like_lines(head, source.name):
                return None
            return _cut(file, head, size)
        except BROKEN_ARCHIVE as error:
            raise not_read(source.name, error) from None


def _cut(file: BinaryIO, head: bytes, size: int) -> list[Stretch] | None:
    stretches: list[Stretch] = []
    start = end = documents = lines = (
        0  # of the stretch that has begun, and what stands before it
    )
    more_documents = more_lines = 0
    text, more = head, head
    while text:
        cut = text.rfind(b"\n") + 1 if more else len(text)
        if len(text) - cut > LONGEST_LINE:
            return None
        line_ends, filled = counted_lines(
            text[:cut].removeprefix(BYTE_ORDER_MARK if not end else b"")
        )
        more_lines += line_ends
        more_documents += filled
        end += cut
        if end - start >= size:
            stretches.append(Stretch(start, end, documents, lines))
            start, documents, lines = (
                end,
                documents + more_documents,
                lines + more_lines,
            )
            more_documents = more_lines = 0
        more = file.read(min(_AT_ONCE, size))
        text = text[cut:] + more
    if end > start:
        stretches.append(Stretch(start, end, documents, lines))
    return stretches
