"""Sources → blocks: pieces of the input, each of which can be decoded on its own and knows its
place.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import BinaryIO, cast

from mukret.codes import Code
from mukret.documents.archives import ArchiveEntry, entries, is_archive
from mukret.documents.cutting import (
    WHOLE,
    CanNotCut,
    Cuts,
    Cutter,
    Names,
    Part,
    Readable,
    with_names,
)
from mukret.documents.decode import BYTE_ORDER_MARK, NotJson, decode
from mukret.documents.diagnose import Diagnosis
from mukret.documents.origin import Origin
from mukret.documents.recognise import (
    RECORD_SEPARATOR,
    looks_like_lines,
    looks_like_sequence,
    named_like_lines,
)
from mukret.documents.sources import BROKEN_ARCHIVE, Source, not_read
from mukret.errors import InputError
from mukret.scan import counted_lines
from mukret.values import JsonValue

BLOCK_BYTES = 2_000_000
# A document is long from so many blocks on.
LONG = 4
FAR = 1_000_000
# An array of fewer may be a record with a place for each value, or a page beside a list: it is not
# cut where nobody says what it is.
FEWEST_ELEMENTS = 100
# A line is decoded as a whole, which takes many times its size.
LONGEST_LINE = 128 << 20


@dataclass(frozen=True)
class BadDocument:
    """A document that can't be read; it keeps its number in the file.

    The finding's place is in the file, for a body in an HTTP archive in that body. Where it is JSON
    that the rules can't read, `value` is what there is of it, shortened, and `hint` what may have
    been meant.
    """

    source: Source
    number: int
    finding: Diagnosis
    code: str = Code.NOT_JSON
    value: JsonValue = None
    hint: str | None = None


@dataclass
class Piece:
    """Bytes of one source that hold one document, or with a `separator` many.

    `number` (from 1) is that of the first document in its file, `before` how many documents of the
    run come before it; `lines` and `offset` say how much of the file does. `origin` and `inside`
    are told of a body in an HTTP archive. `part`: what of one document it is, if that is read in
    parts.
    """

    source: Source
    raw: bytes
    number: int
    before: int
    separator: bytes = b""
    lines: int = 0
    offset: int = 0
    origin: Origin | None = None
    inside: str = ""
    part: Part = WHOLE

    @cached_property
    def texts(self) -> list[bytes]:
        """The documents, blank ones left out."""
        # One document, or a part of one.
        if not self.separator:
            return [self.raw]
        return [
            text
            for text in self.raw.split(self.separator)
            if text and not text.isspace()
        ]

    @cached_property
    def places(self) -> list[tuple[int, int]]:
        """For each of the documents how many lines and bytes of its file come before it."""
        if not self.separator:
            return [(self.lines, self.offset)]
        places = []
        lines, offset = self.lines, self.offset
        for text in self.raw.split(self.separator):
            # Blank lines hold no document and still count as lines.
            if text and not text.isspace():
                places.append((lines, offset))
            lines += text.count(b"\n") + self.separator.count(b"\n")
            offset += len(text) + len(self.separator)
        return places

    @cached_property
    def documents(self) -> int:
        """How many there are."""
        return (
            counted_lines(self.raw)[1] if self.separator == b"\n" else len(self.texts)
        )


@dataclass
class Block:
    """What is decoded at once. `bad` are documents of which that much is known already."""

    pieces: list[Piece] = field(default_factory=list)
    bad: list[BadDocument] = field(default_factory=list)
    size: int = 0

    @property
    def around(self) -> bool:
        """Whether it is what stands around the arrays of a document that comes in parts."""
        return any(piece.part.around for piece in self.pieces)

    @property
    def in_part(self) -> bool:
        """Whether it has some elements of such an array."""
        return any(piece.part.array is not None for piece in self.pieces)


def read_blocks(
    sources: Iterable[Source],
    size: int = BLOCK_BYTES,
    arrays: Sequence[Names] | None = (),
    *,
    as_it_comes: bool = False,
) -> Iterator[Block]:
    """Blocks of about `size` bytes of input. Raises InputError for a source that can't be read.

    Documents of LONG times that size may be cut at these arrays, into parts that are blocks of
    their own: what stands around the arrays comes first and is in all of them. With `as_it_comes`
    the elements come first, as they are found and with nothing beside them, before it is known what
    follows. With None for `arrays` all long ones that are reached by names alone are cut, and
    nothing comes twice (`Cuts.begun`).
    """
    reader = _Reader(size, arrays, as_it_comes=as_it_comes)
    for source in sources:
        yield from reader.source(source)
    if reader.block.pieces or reader.block.bad:
        yield reader.block


class _Reader:
    def __init__(
        self, size: int, arrays: Sequence[Names] | None, *, as_it_comes: bool = False
    ) -> None:
        self.size = size
        self.arrays = arrays
        self.cuts_documents = arrays is None or bool(arrays)
        self.as_it_comes = as_it_comes
        self.block = Block()
        self.documents = 0

    @property
    def full(self) -> bool:
        """Whether enough is read: a block that is nearly full is not filled up with a few lines."""
        return self.block.size >= self.size - self.size // 4

    def source(self, source: Source) -> Iterator[Block]:
        with source.open() as file:
            try:
                yield from self.contents(source, file)
            except BROKEN_ARCHIVE as error:
                raise not_read(source.name, error) from None

    def contents(self, source: Source, file: BinaryIO) -> Iterator[Block]:
        head = read_a_line(
            file, self.size, LONG * self.size if self.cuts_documents else None
        )
        if source.stretch is not None:
            yield from self.separated(source, file, head, b"\n")
        elif not head.strip():
            self.nothing(source)
        # Told by what stands there; names of files are believed only where the content leaves it
        # open.
        elif looks_like_sequence(head):
            yield from self.separated(source, file, head, RECORD_SEPARATOR)
        elif looks_like_lines(head, source.name):
            yield from self.separated(source, file, head, b"\n")
        else:
            yield from self.one_document(source, file, head)
        if self.full:
            yield self.handed_over()

    def handed_over(self) -> Block:
        full, self.block = self.block, Block()
        return full

    def nothing(self, source: Source) -> None:
        # A file that was named by hand was to hold something; in a folder one may be empty.
        if source.named:
            raise InputError(
                Code.EMPTY_INPUT,
                f"{source.name}: the file is empty",
                hint="a response is one JSON text at least",
            )
        self.bad(source, Diagnosis("the file is empty"))

    def bad(
        self, source: Source, finding: Diagnosis, code: str = Code.NOT_JSON
    ) -> None:
        source.documents += 1
        self.documents += 1
        self.block.bad.append(BadDocument(source, source.documents, finding, code))

    def add(self, piece: Piece) -> None:
        if not piece.documents:
            return
        piece.source.documents += piece.documents
        self.documents += piece.documents
        self.block.pieces.append(piece)
        self.block.size += len(piece.raw)

    def piece(self, source: Source, raw: bytes) -> Piece:
        return Piece(
            source, raw, source.documents + 1, self.documents, origin=source.origin
        )

    def one_document(
        self, source: Source, file: BinaryIO, head: bytes
    ) -> Iterator[Block]:
        """A file that is one document, perhaps of any length."""
        if self.cuts_documents:
            head += file.read(max(0, LONG * self.size - len(head)))
        if not self.is_long(head):
            self.document(source, head + file.read())
            return
        with ExitStack() as stack:
            stream: Readable = file
            again = source.second_look()
            if again is None:
                again = cast(BinaryIO, tempfile.TemporaryFile())  # noqa: SIM115
                again.write(head)
                stream = Copying(file, again)
            stack.enter_context(again)
            text = head.removeprefix(BYTE_ORDER_MARK)
            cutter = Cutter(stream, text, self.arrays, self.size, both=self.as_it_comes)
            cutter.before = len(head) - len(text)
            if self.as_it_comes:
                yield from self.in_pieces(source, cutter, again)
                return
            # About as many bytes again, for the bar; nothing as long as the size is not known.
            source.parts_size = again.seek(0, os.SEEK_END) if stream is file else 0
            yield from self.cut_up(source, cutter, stream, again, head)

    def is_long(self, head: bytes) -> bool:
        """Whether a document that begins so is to be cut;
        an HTTP archive is taken apart otherwise.
        """
        if not self.cuts_documents or len(head) < LONG * self.size:
            return False
        return b'"entries"' not in head[: self.size]

    def cut_up(
        self,
        source: Source,
        cutter: Cutter,
        stream: Readable,
        again: BinaryIO,
        head: bytes,
    ) -> Iterator[Block]:
        """The parts of a document that was looked through, or all of it where it can't be cut."""
        try:
            cuts = self.checked(cutter.cut(), again)
        except (CanNotCut, NotJson) as error:
            source.parts_size = 0
            # To the end all the same, for the hash and the size of the input.
            drain(stream, self.size)
            # One long line in a file of lines: a document that is to be told as bad by its line.
            lines = named_like_lines(source.name) and b"\n" not in head.strip()
            if isinstance(error, NotJson) and not lines:
                self.bad(source, _with_column(error.finding, again))
                return
            again.seek(0)
            # Read whole this time, so that it is not tried again and again.
            self.cuts_documents = False
            yield from self.contents(source, again)
            self.cuts_documents = True
            return
        if self.block.pieces or self.block.bad:
            yield self.handed_over()
        source.parts_size = cuts.size
        parts = (
            cuts.begun(again) if self.arrays is None else cuts.parts(again, self.size)
        )
        yield from self.in_parts(source, parts)

    def checked(self, cuts: Cuts, file: BinaryIO) -> Cuts:
        """Where a document is cut.

        Raises CanNotCut where nobody says where, and there is no place.
        """
        if self.arrays is not None:
            return cuts
        cuts = cuts.with_short_ones(file, FEWEST_ELEMENTS)
        if not cuts.found:
            raise CanNotCut
        return cuts

    def in_parts(
        self, source: Source, parts: Iterator[tuple[Part, bytes]]
    ) -> Iterator[Block]:
        first = self.piece(source, b"")
        source.documents += 1
        self.documents += 1
        for part, raw in parts:
            yield Block([replace(first, raw=raw, part=part)], size=len(raw))
            source.parts_read += len(raw)

    def in_pieces(
        self, source: Source, cutter: Cutter, again: BinaryIO
    ) -> Iterator[Block]:
        """The elements of long arrays as they are found, then what stands around them."""
        if self.block.pieces or self.block.bad:
            yield self.handed_over()
        assert self.arrays is not None
        first, lines = self.piece(source, b""), False
        source.documents += 1
        self.documents += 1
        try:
            for part, elements in cutter.pieces():
                raw = with_names(self.arrays[part.array or 0], elements)
                yield Block([replace(first, raw=raw, part=part)], size=len(raw))
        except NotJson as error:
            self.block.bad.append(
                BadDocument(source, first.number, _with_column(error.finding, again))
            )
            return
        except CanNotCut:
            lines = True
        yield Block(
            [replace(first, raw=cutter.cuts.skeleton, part=Part(around=True))],
            size=len(cutter.cuts.skeleton),
        )
        if lines:
            # It was the first of several documents, one to a line: what was handed over so far is
            # right all the same.
            yield from self.separated(
                source, cast(BinaryIO, cutter.file), cutter.rest, b"\n"
            )

    def document(self, source: Source, raw: bytes) -> None:
        """A file that is one document, or one HTTP archive with many."""
        archive = None
        if b'"entries"' in raw:
            try:
                archive = decode(raw)
            except NotJson as error:
                self.bad(source, error.finding)
                return
        # Whether it is an archive (HAR) only the whole of it tells.
        if is_archive(archive):
            for entry in entries(archive):
                self.entry(source, entry)
        else:
            self.add(self.piece(source, raw))

    def entry(self, source: Source, entry: ArchiveEntry) -> None:
        if entry.failed:
            self.bad(
                source,
                Diagnosis(f"{entry.reason} ({entry.origin.address})"),
                code=Code.NO_DATA,
            )
        elif entry.body is None:
            # Counted, and told in the record of the run: nothing is passed over without a word.
            source.passed_over[entry.reason] += 1
        else:
            piece = self.piece(source, entry.body)
            piece.origin, piece.inside = (
                entry.origin,
                f"the answer of {entry.origin.address}",
            )
            self.add(piece)

    def separated(
        self, source: Source, file: BinaryIO, head: bytes, separator: bytes
    ) -> Iterator[Block]:
        """JSON Lines, or a JSON text sequence (RFC 7464): a blank piece is no document."""
        rest, more = b"", head.removeprefix(BYTE_ORDER_MARK)
        lines, offset = 0, len(head) - len(more)
        if source.stretch is not None:
            lines, offset = source.stretch.lines, offset + source.stretch.start
        while more or rest:
            raw, separator_found, rest = (
                (rest + more).rpartition(separator) if more else (rest, b"", b"")
            )
            if separator_found or not more:  # one whole document at least
                self.whole(source, raw, separator, lines, offset)
                lines += raw.count(b"\n") + separator_found.count(b"\n")
                offset += len(raw) + len(separator_found)
                if self.full:
                    yield self.handed_over()
            elif len(rest) > LONGEST_LINE:
                self.too_long(source, lines, offset)
                passed, line_ends, after = _skip(file, separator, self.size)
                lines += rest.count(b"\n") + line_ends
                offset += len(rest) + passed
                rest = after
            more = file.read(max(1, self.size - self.block.size, len(rest)))

    def whole(
        self, source: Source, raw: bytes, separator: bytes, lines: int, offset: int
    ) -> None:
        """Documents between separators, which begin after so many lines and bytes of their file."""
        # Several lines that are too long only together are taken one by one.
        if len(raw) > LONGEST_LINE and separator in raw:
            for text in raw.split(separator):
                self.whole(source, text, separator, lines, offset)
                lines += text.count(b"\n") + separator.count(b"\n")
                offset += len(text) + len(separator)
        elif len(raw) > LONGEST_LINE:
            self.too_long(source, lines, offset)
        else:
            piece = self.piece(source, raw)
            piece.separator, piece.lines, piece.offset = separator, lines, offset
            self.add(piece)

    def too_long(self, source: Source, lines: int, offset: int) -> None:
        self.bad(
            source,
            Diagnosis(
                f"a line of more than {LONGEST_LINE >> 20} MB", lines + 1, 1, offset
            ),
            # It is passed over: a line without an end must not fill the memory.
            Code.TOO_LONG,
        )


def _skip(file: BinaryIO, separator: bytes, size: int) -> tuple[int, int, bytes]:
    """Reads on behind the next separator: the bytes and line ends that were passed over, and what
    was read besides.
    """
    passed = line_ends = 0
    # Read and let go, piece by piece.
    while chunk := file.read(size):
        before, end, after = chunk.partition(separator)
        passed += len(before) + len(end)
        line_ends += before.count(b"\n") + end.count(b"\n")
        if end:
            return passed, line_ends, after
    return passed, line_ends, b""


def drain(file: Readable, size: int) -> None:
    """Reads a stream to its end, so that all of it is counted."""
    while file.read(size):
        pass


class Copying:
    """Reads a stream and keeps a copy."""

    def __init__(self, file: BinaryIO, copy: BinaryIO) -> None:
        self.file = file
        self.copy = copy

    def read(self, size: int = -1) -> bytes:
        chunk = self.file.read(size)
        self.copy.write(chunk)
        return chunk


def _with_column(finding: Diagnosis, file: BinaryIO) -> Diagnosis:
    """A finding with its column in a line that was not looked at as a whole."""
    start = max(0, finding.offset - FAR)
    file.seek(start)
    before = file.read(finding.offset - start)
    line_start = before.rfind(b"\n") + 1
    if start and not line_start:
        return replace(
            finding, column=finding.offset + 1
        )  # in bytes, as good as it gets
    return replace(
        finding, column=len(before[line_start:].decode("utf-8", "replace")) + 1
    )


def read_a_line(file: BinaryIO, size: int, most: int | None = None) -> bytes:
    """The beginning of a file: at least its first line that is not blank and something of what
    follows it, unless that is longer than `most`.
    """
    head = bytearray(file.read(size))
    searched = 0
    while True:
        start = len(head) - len(head.lstrip())
        end = head.find(b"\n", max(start, searched))
        if end >= 0 and head[end:].strip():
            return bytes(head)
        searched = end if end >= 0 else len(head)
        if most is not None and len(head) >= most:
            return bytes(head)
        # Twice as much each time, so that a line of any length is searched once.
        more = file.read(max(size, len(head)))
        if not more:
            return bytes(head)
        head += more
