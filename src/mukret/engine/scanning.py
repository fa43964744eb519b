"""Blocks → batches of documents that were scanned.

A scan takes one document on each line, or a single one. Other input is brought into that form
first: texts that hold JSON are unfolded, a text sequence becomes lines, and a document in which a
member comes twice above what is read is written anew. What is wrong with a document, and where, is
told of the bytes as they came.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from mukret.documents import Batch
from mukret.documents.batches import Decoding, DocumentFilter, nothing_wanted, set_aside
from mukret.documents.blocks import Block, Piece
from mukret.documents.decode import BYTE_ORDER_MARK, NotJson, decode
from mukret.documents.recognise import RECORD_SEPARATOR
from mukret.engine.scanned import Nodes, ScannedBatch, ScanResult
from mukret.plan.scanning import ScanPlan
from mukret.scan import Cells, Program, Scan, is_json
from mukret.scan.program import DOCUMENT
from mukret.values import json_text

# A scan counts offsets in 32 bits.
MOST_BYTES = (1 << 32) - (1 << 20)
# Within a document they are white space alone.
_LINE_ENDS = bytes.maketrans(b"\r\n", b"  ")


class Scanning(Decoding):
    """Scans blocks.

    A block that a scan can't do (more levels than it counts, an embedded text that is no JSON) is
    decoded as a whole.
    """

    def __init__(
        self,
        plan: ScanPlan,
        keep_raw: DocumentFilter = nothing_wanted,
        *,
        every_part: bool = False,
    ) -> None:
        super().__init__(keep_raw, every_part=every_part)
        self.plan = plan

    def batch(self, block: Block) -> Batch:
        texts = [self.prepared(piece) for piece in block.pieces]
        if block.size >= MOST_BYTES:
            texts = [None]
        # What the scanner refuses in a piece (a member twice, a number of odd form) is written anew
        # and scanned again, until nothing is left; a piece that can't be written anew goes the
        # plain way.
        while all(text is not None for text in texts):
            batch, left = self.scanned(
                block, [text for text in texts if text is not None]
            )
            if not any(left):
                return batch
            pieces = zip(block.pieces, texts, left, strict=True)
            texts = [rewritten(piece, text, numbers) for piece, text, numbers in pieces]
        return super().batch(block)

    def prepared(self, piece: Piece) -> bytes | None:
        """The documents of a piece as a scan wants them; None where it can't have them."""
        text = piece.raw
        if piece.separator == RECORD_SEPARATOR:
            text = b"\n".join(map(self.on_a_line, piece.texts))
        for program in self.plan.embedded:
            unfolded = with_unfolded(text, program, lines=bool(piece.separator))
            # The plain way does it, and says what is wrong.
            if unfolded is None:
                return None
            text = unfolded
        return text

    def on_a_line(self, raw: bytes) -> bytes:
        """A text of a sequence on one line;
        one that may be cut off as something that is no JSON.
        """
        try:
            self.decoded(raw, sequence=True)
        except NotJson:
            return b"!"
        return raw.translate(_LINE_ENDS)

    def scanned(
        self, block: Block, texts: list[bytes]
    ) -> tuple[ScannedBatch, list[list[int]]]:
        """The documents of a block, out of the texts of its pieces; and for each piece the numbers
        of those that a scan leaves to others.
        """
        buffer = texts[0] if len(texts) == 1 else b"\n".join(texts)
        batch = ScannedBatch(
            bad=[*block.bad],
            size=block.size,
            found=ScanResult(Scan(self.plan.program, buffer), self.plan),
        )
        left = []
        start = 0
        for piece, text in zip(block.pieces, texts, strict=True):
            batch.part = piece.part
            left.append(
                _Scanned(
                    self,
                    batch,
                    piece,
                    start,
                    start + len(text),
                    as_it_came=text is piece.raw,
                ).left_over()
            )
            start += len(text) + 1
        documents = Nodes(batch.rows().node)
        batch.documents = documents  # type: ignore[assignment]
        batch.in_part = documents.cells.raw
        self.in_order(batch, block)
        return batch, left


@dataclass
class _Scanned:
    """One piece of a block, whose text stands between two offsets of the buffer."""

    scanning: Scanning
    batch: ScannedBatch
    piece: Piece
    start: int
    end: int
    as_it_came: bool
    number: int = 0
    """Of the next document in the piece."""
    left: list[int] = field(default_factory=list)

    def left_over(self) -> list[int]:
        """Scans all documents; the numbers of those that are left to others."""
        scan = self.batch.scan
        if not self.piece.separator:
            mark = scan.buffer.startswith(BYTE_ORDER_MARK, self.start)
            self.add(
                int(scan.document(self.start + mark * len(BYTE_ORDER_MARK), self.end))
            )
            if not self.number:
                self.refused()
            return self.left
        before = scan.count(DOCUMENT)
        # The scanner goes on behind a line that it refuses; documents before it are counted as they
        # come.
        for wrong in wrong_lines(scan, self.start, self.end):
            self.add(scan.count(DOCUMENT) - before)
            before = scan.count(DOCUMENT)
            if not wrong.isspace():
                self.refused()
        self.add(scan.count(DOCUMENT) - before)
        return self.left

    def add(self, count: int) -> None:
        """Notes where so many documents come from that were read."""
        batch, piece = self.batch, self.piece
        first = len(batch.numbers)
        if piece.inside:
            batch.answers.update(range(first, first + count))
        if self.scanning.every_part or piece.part.first == 0:
            # Every so many-th document is kept as text, to be looked at in full.
            wanted, before = self.scanning.keep_raw, piece.before + self.number
            for number in range(count):
                if wanted(before + number):
                    batch.raw[first + number] = self.text(
                        first + number, self.number + number
                    )
        batch.sources += [piece.source] * count
        batch.numbers += range(
            piece.number + self.number, piece.number + self.number + count
        )
        batch.origins += [piece.origin] * count
        self.number += count

    def text(self, index: int, number: int) -> bytes:
        """The bytes of a document that was read: its number in the batch, and in the piece.

        It costs much to split a piece for one of its lines.
        """
        if self.as_it_came:
            return Cells(
                self.batch.scan.buffer, *self.batch.scan.nodes(DOCUMENT), index + 1
            ).raw(index)
        return self.piece.texts[number]

    def refused(self) -> None:
        """The next document is no JSON, or left to others."""
        piece = self.piece
        try:
            self.scanning.decoded(
                piece.texts[self.number], sequence=piece.separator == RECORD_SEPARATOR
            )
            self.left.append(self.number)
        # What the decoder refuses too is no JSON: one word on it, whoever met it first.
        except NotJson as error:
            lines, offset = piece.places[self.number]
            set_aside(
                self.batch, piece, self.number, error.finding.moved(lines, offset)
            )
        self.number += 1


def wrong_lines(scan: Scan, start: int, end: int) -> Iterator[bytes]:
    """Scans the lines between two offsets; each that is not read is given out before those behind
    it are.
    """
    while start <= end:
        wrong = scan.lines(start, end)
        if wrong >= end:
            return
        line_end = scan.buffer.find(b"\n", wrong, end)
        line_end = end if line_end < 0 else line_end
        # Given out before what follows is scanned: the order is that of the input.
        yield scan.buffer[wrong:line_end]
        start = line_end + 1


def with_unfolded(text: bytes, program: Program, *, lines: bool) -> bytes | None:
    """Documents with the texts that a program finds unfolded in their places; None where one is no
    JSON.
    """
    scan = Scan(program, text)
    left = (
        list(wrong_lines(scan, 0, len(text)))
        if lines
        else []
        if scan.document(0, len(text))
        else [text]
    )
    # A member that comes twice: the last one counts, and the scanner can't know it is the last.
    anew = {raw: made for raw in left if (made := written_anew(raw)) is not None}
    if anew:
        documents = text.split(b"\n") if lines else [text]
        text = b"\n".join(anew.get(raw, raw) for raw in documents)
        return with_unfolded(text, program, lines=lines)
    cells = Cells(text, *scan.nodes(1), scan.count(1))
    parts, done = [], 0
    # The texts are unfolded in place: the inner JSON without its quotes and escapes stands where
    # the text stood.
    for row, start, end in cells.places_of_texts():
        inner = cells.text(row)
        if not is_json(inner):
            return None
        parts += [text[done:start], inner.translate(_LINE_ENDS)]
        done = end
    return b"".join([*parts, text[done:]])


def rewritten(piece: Piece, text: bytes | None, numbers: list[int]) -> bytes | None:
    """The text of a piece with documents written anew; None where that changes nothing."""
    if text is None or not numbers:
        return text
    lines = text.split(b"\n") if piece.separator else [text]
    # Blank lines are no documents and have no number.
    filled = [place for place, line in enumerate(lines) if line and not line.isspace()]
    for number in numbers:
        anew = written_anew(lines[filled[number]])
        if anew is None:
            return None
        lines[filled[number]] = anew
    return b"\n".join(lines)


def written_anew(raw: bytes) -> bytes | None:
    """A document with one member of each name, the last; None where it has no more, or is no JSON
    (or not in so many levels as what was unfolded has made of it).
    """
    try:
        made = json_text(decode(raw)).encode()
    except NotJson:
        return None
    return None if made == raw else made
