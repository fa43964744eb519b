"""Sources → batches of documents, each document with its place in the input."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import BinaryIO, Protocol

from mukret.documents.archives import Entry, entries, is_archive
from mukret.documents.decode import BYTE_ORDER_MARK, NotJson, decode, decoder
from mukret.documents.diagnose import Finding
from mukret.documents.origin import Origin
from mukret.documents.recognise import RECORD_SEPARATOR, cut_off_in_sequence, looks_like_lines, looks_like_sequence
from mukret.documents.sources import BROKEN_ARCHIVE, Source, not_read
from mukret.errors import InputError
from mukret.values import JsonValue

BATCH_BYTES = 2_000_000
BLOCKS_TO_WAIT = 8
"""After a block with an odd line in it, so many are read line by line before the quick way is tried again."""


@dataclass(frozen=True)
class BadDocument:
    """A document that can't be read; it keeps its number in the file. The finding's place is in the file, for a body
    in an HTTP archive in that body."""

    source: Source
    number: int
    finding: Finding
    code: str = "not-json"


@dataclass
class Batch:
    """Documents in order; `sources` and `numbers` (from 1 in its file) say where each one comes from, `origins` which
    request it answered, if that is on record.

    `raw` holds the bytes of the documents that were asked for, by index.
    """

    documents: list[JsonValue] = field(default_factory=list)
    sources: list[Source] = field(default_factory=list)
    numbers: list[int] = field(default_factory=list)
    origins: list[Origin | None] = field(default_factory=list)
    bad: list[BadDocument] = field(default_factory=list)
    raw: dict[int, bytes] = field(default_factory=dict)
    size: int = 0
    in_part: dict[int, bytes] = field(default_factory=dict)
    """The bytes of documents that were decoded in part, by index."""
    full: dict[int, JsonValue] = field(default_factory=dict)
    """Those of them that had to be decoded in full as well, by index."""
    finish: Callable[[JsonValue], JsonValue] = lambda document: document
    """What is done to a document after it was decoded."""

    def whole(self, index: int) -> JsonValue:
        """A document with all that stands in it."""
        if index not in self.full:
            raw = self.in_part.get(index)
            if raw is None:
                return self.documents[index]
            self.full[index] = self.finish(decode(raw))
        return self.full[index]


Wanted = Callable[[int], bool]
"""Whether the bytes of the document with this number in the run (from 0) are to be kept."""


class Projecting(Protocol):
    """Decodes documents in part."""

    def decode(self, raw: bytes) -> JsonValue:
        """Raises ValueError where a document must be decoded in full."""

    def decode_all(self, block: bytes, texts: list[bytes]) -> list[JsonValue]:
        """The documents in a block; raises ValueError where one of them must be decoded in full."""

    def converted(self, document: JsonValue) -> JsonValue:
        """A document that was decoded in full, as it would be in part."""


def read_batches(
    sources: Iterable[Source],
    keep_raw: Wanted = lambda number: False,
    size: int = BATCH_BYTES,
    projection: Projecting | None = None,
) -> Iterator[Batch]:
    """Batches of about `size` bytes of input. Raises InputError for a source that can't be read.

    Documents are decoded by the projection, if there is one.
    """
    reader = _Reader(keep_raw, size, projection)
    for source in sources:
        yield from reader.source(source)
    if reader.batch.documents or reader.batch.bad:
        yield reader.batch


def nothing_read(file: str, finding: Finding) -> InputError:
    """The error of a run of which not one document could be read."""
    error = InputError(
        "nothing-read",
        f"no document of the run could be read: {finding.message}",
        place=f"{file}:{finding.line}:{finding.column} (byte {finding.offset})",
        hint="look at the file: a body that is an error page is not data",
    )
    error.pointer = (finding.excerpt, finding.caret) if finding.excerpt.strip() else None
    return error


class _Reader:
    def __init__(self, keep_raw: Wanted, size: int, projection: Projecting | None) -> None:
        self.keep_raw = keep_raw
        self.projection = projection
        self.blocks_to_wait = 0
        self.size = size
        self.batch = Batch()
        self.count = 0

    def source(self, source: Source) -> Iterator[Batch]:
        with source.open() as file:
            try:
                yield from self.contents(source, file)
            except BROKEN_ARCHIVE as error:
                raise not_read(source.name, error) from None

    def contents(self, source: Source, file: BinaryIO) -> Iterator[Batch]:
        head = _read_a_line(file, self.size)
        if not head.strip():
            self.nothing(source)
        elif looks_like_sequence(head):
            yield from self.separated(source, file, head, RECORD_SEPARATOR)
        elif looks_like_lines(head, source.name):
            yield from self.separated(source, file, head, b"\n")
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

    def bad(self, source: Source, finding: Finding, size: int = 0, code: str = "not-json") -> None:
        source.documents += 1
        self.batch.bad.append(BadDocument(source, source.documents, finding, code))
        self.batch.size += size

    def decoded(self, raw: bytes) -> JsonValue:
        """The document, as far as it is read. Raises NotJson."""
        if self.projection is None:
            return decode(raw)
        try:
            return self.projection.decode(raw)
        except (ValueError, RecursionError):
            return self.projection.converted(decode(raw))

    def add(self, source: Source, document: JsonValue, raw: bytes, origin: Origin | None) -> None:
        source.documents += 1
        batch = self.batch
        if self.projection is not None:
            batch.in_part[len(batch.documents)] = raw
        if self.keep_raw(self.count):
            batch.raw[len(batch.documents)] = raw
        self.count += 1
        batch.documents.append(document)
        batch.sources.append(source)
        batch.numbers.append(source.documents)
        batch.origins.append(origin)
        batch.size += len(raw)

    def document(self, source: Source, raw: bytes) -> None:
        """A file that is one document, or one HTTP archive with many."""
        try:
            if b'"entries"' in raw and is_archive(archive := decode(raw)):
                for entry in entries(archive):
                    self.entry(source, entry)
            else:
                self.add(source, self.decoded(raw), raw, source.origin)
        except NotJson as error:
            self.bad(source, error.finding, len(raw))

    def entry(self, source: Source, entry: Entry) -> None:
        if entry.failed:
            self.bad(source, Finding(f"{entry.reason} ({entry.origin.address})"), code="no-data")
        elif entry.body is None:
            source.passed_over[entry.reason] += 1
        else:
            try:
                self.add(source, self.decoded(entry.body), entry.body, entry.origin)
            except NotJson as error:
                self.bad(source, error.finding.inside(f"the answer of {entry.origin.address}"), len(entry.body))

    def separated(self, source: Source, file: BinaryIO, head: bytes, separator: bytes) -> Iterator[Batch]:
        """JSON Lines, or a JSON text sequence (RFC 7464): a blank piece is no document; a bad one is set aside and the
        others go on."""
        rest = head.removeprefix(BYTE_ORDER_MARK)
        lines, offset = 0, len(head) - len(rest)
        while True:
            more = file.read(max(1, self.size - self.batch.size, len(rest)))
            block, found, rest = (rest + more).rpartition(separator) if more else (rest, b"", b"")
            if more and not found:
                continue  # not one whole piece so far
            pieces = block.split(separator)
            if separator != b"\n" or not self.all_at_once(source, block, pieces):
                self.pieces(source, pieces, separator, lines, offset)
            lines += block.count(b"\n") + found.count(b"\n")
            offset += len(block) + len(found)
            if not more:
                return
            if self.batch.size >= self.size:
                yield self.handed_over()

    def all_at_once(self, source: Source, block: bytes, pieces: list[bytes]) -> bool:
        """Decodes all lines of a block without a look at each.

        False if one of them is odd: nothing was taken then, and the next blocks are read line by line too.
        """
        if self.blocks_to_wait:
            self.blocks_to_wait -= 1
            return False
        texts = [piece for piece in pieces if piece and not piece.isspace()]
        kept = [number for number in range(len(texts)) if self.keep_raw(self.count + number)]
        try:
            if self.projection is None:
                documents = list(map(decoder().decode, texts))
            else:
                documents = self.projection.decode_all(block, texts)
        except (ValueError, RecursionError):
            self.blocks_to_wait = BLOCKS_TO_WAIT
            return False
        self.add_all(source, documents, texts, kept)
        return True

    def add_all(self, source: Source, documents: list[JsonValue], texts: list[bytes], kept: list[int]) -> None:
        batch, first, count = self.batch, len(self.batch.documents), len(texts)
        batch.raw.update((first + number, texts[number]) for number in kept)
        if self.projection is not None:
            batch.in_part.update(enumerate(texts, first))
        batch.documents += documents
        batch.sources += [source] * count
        batch.numbers += range(source.documents + 1, source.documents + count + 1)
        batch.origins += [source.origin] * count
        batch.size += sum(map(len, texts))
        source.documents += count
        self.count += count

    def pieces(self, source: Source, pieces: list[bytes], separator: bytes, lines: int, offset: int) -> None:
        sequence = separator == RECORD_SEPARATOR
        projection = self.projection
        read = decoder().decode if projection is None else projection.decode
        counted = 0
        for index, piece in enumerate(pieces):
            if not piece or piece.isspace():
                continue
            try:
                document = read(piece)
                if sequence and cut_off_in_sequence(document, piece):
                    raise ValueError
            except (ValueError, RecursionError):
                before = separator.join([*pieces[counted:index], b""])
                lines, offset, counted = lines + before.count(b"\n"), offset + len(before), index
                document = self.odd_piece(source, piece, sequence, lines, offset)
                if document is _SET_ASIDE:
                    continue
                if projection is not None:
                    document = projection.converted(document)
            self.add(source, document, piece, source.origin)

    def odd_piece(self, source: Source, piece: bytes, sequence: bool, lines: int, offset: int) -> JsonValue:
        try:
            document = decode(piece)
            if sequence and cut_off_in_sequence(document, piece):
                what = "perhaps cut off: in a sequence a number or word wants a line end after it"
                raise NotJson(Finding(what, column=len(piece) + 1, offset=len(piece)))
        except NotJson as error:
            self.bad(source, error.finding.moved(lines, offset), len(piece))
            return _SET_ASIDE
        return document


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
        more = file.read(max(size, len(head)))
        if not more:
            return bytes(head)
        head += more
