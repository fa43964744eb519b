"""Blocks → batches of documents, each document with its place in the input."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from mukret.codes import Code
from mukret.documents.blocks import BLOCK_BYTES, BadDocument, Block, Piece, read_blocks
from mukret.documents.cutting import WHOLE, Names, Part
from mukret.documents.decode import NotJson, decode, decoder, holds_negative_zero
from mukret.documents.diagnose import Diagnosis, DiagnosisSort
from mukret.documents.levels import bounded_levels
from mukret.documents.origin import Origin
from mukret.documents.recognise import RECORD_SEPARATOR, cut_off_in_sequence
from mukret.documents.sources import Source
from mukret.errors import InputError
from mukret.values import JsonValue

# After a piece with an odd line in it, so many are read line by line before the quick way is tried
# again.
PIECES_TO_WAIT = 8


@dataclass
class Batch:
    """Documents in order; `sources` and `numbers` (from 1 in its file) say where each one comes
    from, `origins` which request it answered, if that is on record.

    `raw` holds the bytes of the documents that were asked for, by index.
    """

    documents: list[JsonValue] = field(default_factory=list)
    sources: list[Source] = field(default_factory=list)
    numbers: list[int] = field(default_factory=list)
    origins: list[Origin | None] = field(default_factory=list)
    bad: list[BadDocument] = field(default_factory=list)
    raw: dict[int, bytes] = field(default_factory=dict)
    answers: set[int] = field(default_factory=set)
    """Those that are answers in an HTTP archive, by index; all of an archive stand in one batch."""
    size: int = 0
    in_part: Callable[[int], bytes | None] = lambda index: None
    """The bytes of a document that was not decoded in full, by index; None for one that was."""
    full: dict[int, JsonValue] = field(default_factory=dict)
    """Those of them that had to be decoded in full as well, by index."""
    part: Part = WHOLE
    """What of the one document this is, if it is read in parts."""
    finish: Callable[[JsonValue], JsonValue] = lambda document: document
    """What is done to a document after it was decoded."""

    def whole(self, index: int) -> JsonValue:
        """A document with all that stands in it."""
        if index not in self.full:
            raw = self.in_part(index)
            if raw is None:
                return self.documents[index]
            self.full[index] = self.finish(decode(raw))
        return self.full[index]


# Whether the bytes of the document with this number in the run (from 0) are to be kept.
DocumentFilter = Callable[[int], bool]


class Partly(Protocol):
    """Decodes no more of documents than somebody looks at."""

    def decode(self, raw: bytes) -> JsonValue:
        """Raises ValueError where a document must be decoded in full."""

    def converted(self, document: JsonValue) -> JsonValue:
        """A document that was decoded in full, as it would be in part."""


def nothing_wanted(number: int) -> bool:
    """No document's bytes are kept."""
    return False


def read_batches(
    sources: Iterable[Source],
    keep_raw: DocumentFilter = nothing_wanted,
    size: int = BLOCK_BYTES,
    partly: Partly | None = None,
    arrays: Sequence[Names] | None = (),
    *,
    as_it_comes: bool = False,
) -> Iterator[Batch]:
    """Batches of about `size` bytes of input. Raises InputError for a source that can't be read.

    Documents are decoded by `partly`, if it is given. Long ones may be cut at these arrays, as
    `read_blocks` says.
    """
    decoding = Decoding(keep_raw, partly)
    return map(
        decoding.batch, read_blocks(sources, size, arrays, as_it_comes=as_it_comes)
    )


def nothing_read(bad: BadDocument, count: int) -> InputError:
    """The error of a run of which none of so many documents could be read: what is wrong with the
    first.
    """
    return nothing_read_since(bad.source.name, bad.number, bad.finding, bad.hint, count)


def nothing_read_since(
    file: str, document: int, finding: Diagnosis, hint: str | None, count: int
) -> InputError:
    """The same where it comes from a record of that document."""
    what = "no document of the run could be read"
    if count > 1:
        what = f"none of the {count:,} documents of the run could be read; the first"
    error = InputError(
        Code.NOTHING_READ,
        f"{what}: {finding.message}",
        place=f"{file}:{finding.line}:{finding.column} (byte {finding.offset})"
        if finding.placed
        else f"{file}, document {document}",
        hint=hint or WHAT_TO_DO[finding.sort],
    )
    # The first one stands for all of them: mostly they are bad in the same way.
    error.pointer = (
        (finding.excerpt, finding.caret) if finding.excerpt.strip() else None
    )
    return error


WHAT_TO_DO: dict[DiagnosisSort, str] = {
    "page": "look at it: a page instead of data is often a wrong address, or a missing sign-in",
    "cut-off": "the end is missing: fetch it again",
    "slip": "JSON does not allow that: have it written anew, or mend it there",
    "other": "look at it as it came",
}


class Decoding:
    """Decodes blocks, one after the other."""

    def __init__(
        self,
        keep_raw: DocumentFilter = nothing_wanted,
        partly: Partly | None = None,
        *,
        every_part: bool = False,
    ) -> None:
        """`every_part`: of a document in parts the bytes of all are kept, and not only those of the
        first elements.
        """
        self.keep_raw = keep_raw
        self.partly = partly
        self.every_part = every_part
        self.pieces_to_wait = 0

    def batch(self, block: Block) -> Batch:
        batch = Batch(bad=[*block.bad], size=block.size)
        for piece in block.pieces:
            batch.part = piece.part
            if not self.all_at_once(batch, piece):
                self.one_by_one(batch, piece)
        # Documents that could not be read by the quick way come behind the others.
        self.in_order(batch, block)
        return batch

    @staticmethod
    def in_order(batch: Batch, block: Block) -> None:
        """Puts bad documents in their order, where some were known before."""
        if len(batch.bad) > len(block.bad) > 0:
            places = {
                id(piece.source): number for number, piece in enumerate(block.pieces)
            }
            batch.bad.sort(key=lambda bad: (places.get(id(bad.source), 0), bad.number))

    def all_at_once(self, batch: Batch, piece: Piece) -> bool:
        """Decodes all documents of a piece without a look at each.

        False if one of them is odd: nothing was taken then, and the next pieces are read one by one
        too.
        """
        if piece.separator == RECORD_SEPARATOR:
            return False
        if self.pieces_to_wait:
            self.pieces_to_wait -= 1
            return False
        # One call for all texts takes half the time of one call each; that is why oddities are left
        # to the slower way.
        documents = self.all_decoded(piece)
        if documents is None:
            return False
        first, count = len(batch.documents), len(documents)
        if piece.inside:
            batch.answers.update(range(first, first + count))
        if self.every_part or piece.part.first == 0:
            wanted = [n for n in range(count) if self.keep_raw(piece.before + n)]
            batch.raw.update((first + n, piece.texts[n]) for n in wanted)
        batch.documents += documents
        batch.sources += [piece.source] * count
        batch.numbers += range(piece.number, piece.number + count)
        batch.origins += [piece.origin] * count
        return True

    def all_decoded(self, piece: Piece) -> list[JsonValue] | None:
        """All documents of a piece; None if one has to be looked at by itself: it can't be decoded,
        or has a -0, which the fast decoder takes for 0.
        """
        try:
            if self.partly is None and holds_negative_zero(piece.raw):
                return None
            read = decoder().decode if self.partly is None else self.partly.decode
            with bounded_levels():
                return list(map(read, piece.texts))
        except (ValueError, RecursionError):
            # Mistakes come in swarms: looking at a piece twice would cost more than it saves.
            self.pieces_to_wait = PIECES_TO_WAIT if piece.separator else 0
            return None

    def one_by_one(self, batch: Batch, piece: Piece) -> None:
        """Documents that are no JSON are set aside, and the others go on."""
        lines, offset = piece.lines, piece.offset
        counted = number = 0
        raws = piece.raw.split(piece.separator) if piece.separator else [piece.raw]
        for index, raw in enumerate(raws):
            if piece.separator and (not raw or raw.isspace()):
                continue
            try:
                document = self.decoded(
                    raw, sequence=piece.separator == RECORD_SEPARATOR
                )
            except NotJson as error:
                # Lines and bytes are counted up to here only now: of most pieces nobody asks.
                before = piece.separator.join([*raws[counted:index], b""])
                lines, offset, counted = (
                    lines + before.count(b"\n"),
                    offset + len(before),
                    index,
                )
                set_aside(batch, piece, number, error.finding.moved(lines, offset))
            else:
                self.add(batch, piece, number, document, raw)
            number += 1

    def decoded(self, raw: bytes, *, sequence: bool) -> JsonValue:
        """A document, as far as it is read. Raises NotJson."""
        document = decode(raw) if self.partly is None else _by(self.partly, raw)
        if sequence and cut_off_in_sequence(document, raw):
            what = "perhaps cut off: in a sequence a number or word wants a line end after it"
            raise NotJson(Diagnosis(what, column=len(raw) + 1, offset=len(raw)))
        return document

    def add(
        self, batch: Batch, piece: Piece, number: int, document: JsonValue, raw: bytes
    ) -> None:
        """Adds one document, the one with this number in its piece (from 0)."""
        if piece.inside:
            batch.answers.add(len(batch.documents))
        # A long document comes in parts: it is kept with its first one, once.
        if (self.every_part or piece.part.first == 0) and self.keep_raw(
            piece.before + number
        ):
            batch.raw[len(batch.documents)] = raw
        batch.documents.append(document)
        batch.sources.append(piece.source)
        batch.numbers.append(piece.number + number)
        batch.origins.append(piece.origin)


def _by(partly: Partly, raw: bytes) -> JsonValue:
    """A document in part. Raises NotJson."""
    try:
        with bounded_levels():
            return partly.decode(raw)
    except NotJson:
        raise
    # What the quick decoder refuses is decoded in full: it says what is wrong, or that nothing is.
    except (ValueError, RecursionError):
        return partly.converted(decode(raw))


def set_aside(batch: Batch, piece: Piece, number: int, finding: Diagnosis) -> None:
    """Notes that the document with this number in its piece (from 0) is no JSON.

    Raises InputError for a part of one, which was JSON before.
    """
    # Its beginning was looked through and was well: somebody writes to the file.
    if piece.part != WHOLE:
        raise InputError(
            Code.NOT_OPENED, f"{piece.source.name}: it changed while it was read"
        )
    if piece.inside:
        finding = finding.inside(piece.inside)
    batch.bad.append(BadDocument(piece.source, piece.number + number, finding))
