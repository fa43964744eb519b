"""Sources → batches of documents, each document with its place in the input."""

from __future__ import annotations

import lzma
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import BinaryIO

from mukret.documents.decode import BYTE_ORDER_MARK, NotJson, decode, decoder
from mukret.documents.diagnose import Finding
from mukret.documents.sources import Source
from mukret.errors import InputError
from mukret.values import JsonValue

BATCH_BYTES = 2_000_000
LINE_ENDINGS = (".jsonl", ".ndjson")


@dataclass(frozen=True)
class BadDocument:
    """A document that is no JSON; it keeps its number in the file. The finding's place is in the file."""

    source: Source
    number: int
    finding: Finding


@dataclass
class Batch:
    """Documents in order; `sources` and `numbers` (from 1 in its file) say where each one comes from.

    `raw` holds the bytes of the documents that were asked for, by index.
    """

    documents: list[JsonValue] = field(default_factory=list)
    sources: list[Source] = field(default_factory=list)
    numbers: list[int] = field(default_factory=list)
    bad: list[BadDocument] = field(default_factory=list)
    raw: dict[int, bytes] = field(default_factory=dict)
    size: int = 0

    def add(self, document: JsonValue, source: Source, number: int, raw: bytes, keep_raw: bool) -> None:
        if keep_raw:
            self.raw[len(self.documents)] = raw
        self.documents.append(document)
        self.sources.append(source)
        self.numbers.append(number)
        self.size += len(raw)


Wanted = Callable[[int], bool]
"""Whether the bytes of the document with this number in the run (from 0) are to be kept."""


def read_batches(
    sources: Iterable[Source], keep_raw: Wanted = lambda number: False, size: int = BATCH_BYTES
) -> Iterator[Batch]:
    """Batches of about `size` bytes of input. Raises InputError for a source that can't be read."""
    reader = _Reader(keep_raw, size)
    for source in sources:
        yield from reader.source(source)
    if reader.batch.documents or reader.batch.bad:
        yield reader.batch


class _Reader:
    def __init__(self, keep_raw: Wanted, size: int) -> None:
        self.keep_raw = keep_raw
        self.size = size
        self.batch = Batch()
        self.count = 0

    def source(self, source: Source) -> Iterator[Batch]:
        with source.open() as file:
            try:
                yield from self.contents(source, file)
            except (OSError, EOFError, zlib.error, lzma.LZMAError) as error:
                raise InputError("not-opened", f"{source.name}: can't be read to its end: {error}") from None

    def contents(self, source: Source, file: BinaryIO) -> Iterator[Batch]:
        head = _read_a_line(file, self.size)
        if not head.strip():
            self.nothing(source)
        elif looks_like_lines(head, source.name):
            yield from self.lines(source, file, head)
        else:
            self.document(source, head + file.read())
        if self.batch.size >= self.size:
            yield self.handed_over()

    def handed_over(self) -> Batch:
        full, self.batch = self.batch, Batch()
        return full

    def nothing(self, source: Source) -> None:
        if source.named:
            raise InputError(
                "empty-input", f"{source.name}: the file is empty", hint="a response is one JSON text at least"
            )
        self.bad(source, Finding("the file is empty"))

    def bad(self, source: Source, finding: Finding) -> None:
        source.documents += 1
        self.batch.bad.append(BadDocument(source, source.documents, finding))

    def document(self, source: Source, raw: bytes) -> None:
        try:
            self.add(source, decode(raw), raw)
        except NotJson as error:
            self.bad(source, error.finding)
            self.batch.size += len(raw)

    def add(self, source: Source, document: JsonValue, raw: bytes) -> None:
        source.documents += 1
        self.batch.add(document, source, source.documents, raw, self.keep_raw(self.count))
        self.count += 1

    def lines(self, source: Source, file: BinaryIO, head: bytes) -> Iterator[Batch]:
        """JSON Lines: one document per line, a blank line is none; a bad line is set aside and the others go on."""
        rest = head.removeprefix(BYTE_ORDER_MARK)
        number, offset = 0, len(head) - len(rest)
        while True:
            more = file.read(max(1, self.size - self.batch.size))
            block, newline, rest = (rest + more).rpartition(b"\n") if more else (rest, b"", b"")
            if more and not newline:
                continue  # not one whole line so far
            lines = block.split(b"\n")
            self.some_lines(source, lines, number, offset)
            number += len(lines)
            offset += len(block) + len(newline)
            if not more:
                return
            if self.batch.size >= self.size:
                yield self.handed_over()

    def some_lines(self, source: Source, lines: list[bytes], number: int, offset: int) -> None:
        read = decoder().decode
        for index, line in enumerate(lines):
            if not line or line.isspace():
                continue
            try:
                document = read(line)
            except (ValueError, RecursionError):
                document = self.odd_line(source, line, number + index, offset + sum(map(len, lines[:index])) + index)
                if document is _SET_ASIDE:
                    continue
            self.add(source, document, line)

    def odd_line(self, source: Source, line: bytes, lines_before: int, bytes_before: int) -> JsonValue:
        try:
            return decode(line)
        except NotJson as error:
            self.bad(source, error.finding.moved(lines_before, bytes_before))
            self.batch.size += len(line)
            return _SET_ASIDE


_SET_ASIDE = object()


def _read_a_line(file: BinaryIO, size: int) -> bytes:
    """The beginning of a file: at least its first line that is not blank and something of what follows it."""
    head = bytearray(file.read(size))
    searched = 0
    while True:
        start = len(head) - len(head.lstrip())
        end = head.find(b"\n", max(start, searched))
        if end >= 0 and head[end:].strip():
            return bytes(head)
        searched = end if end >= 0 else len(head)
        more = file.read(size)
        if not more:
            return bytes(head)
        head += more


def looks_like_lines(head: bytes, name: str) -> bool:
    """Whether a file that begins like this is JSON Lines and not one document; told by what is in it.

    A first line that is a whole JSON text with something after it is; a first line that is cut off is not (a document
    written over several lines), unless the file's name says so; where it is broken, the second line decides.
    """
    first, _, rest = head.removeprefix(BYTE_ORDER_MARK).lstrip().partition(b"\n")
    if not rest.strip():
        return False
    named_so = any(ending in name for ending in LINE_ENDINGS)
    try:
        decode(first)
        return True
    except NotJson as error:
        if named_so:
            return True
        if "cut off" in error.finding.message or first[:1] not in b"{[":
            return False
    second = rest.lstrip().partition(b"\n")[0]
    try:
        return type(decode(second)) in (dict, list)
    except NotJson:
        return False
