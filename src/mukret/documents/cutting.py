"""One document that is larger than memory: read in parts, each with some elements of one of its
long arrays.

The document is gone through once, from its beginning to its end, to find where it can be cut and to
see whether it is JSON at all; what is kept of that is the text around the arrays and the places of
the cuts. Each part is a JSON text of its own: what stands around the arrays, all of them empty but
one, which has some of its elements.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import BinaryIO, NoReturn, Protocol

import msgspec

from mukret.documents.decode import NotJson, decode, look_over
from mukret.documents.diagnose import Diagnosis
from mukret.paths import Location

# Where an array stands: the names of the members that lead to it.
Names = tuple[str, ...]

_BLANK = re.compile(rb"[ \t\n\r]*")
_SCALAR = re.compile(rb"[^\s,\]}]*")
_STRUCTURE = re.compile(rb'"[^"\\]*(?:\\.[^"\\]*)*"|["\[\]{},]', re.DOTALL)
# So many bytes after a mistake are looked at to say what it is.
_SHOWN = 1000
# So many bytes of an element, at most, tell the place between two elements from others.
_LEARNT = 24

_elements = msgspec.json.Decoder(list[msgspec.Raw]).decode


class Readable(Protocol):
    """A stream of bytes."""

    def read(self, size: int, /) -> bytes:
        """So many bytes, fewer only at the end."""


class CanNotCut(Exception):
    """It is JSON perhaps, but can't be cut: a member on the way to an array came twice, or there
    are several documents.
    """


@dataclass(frozen=True)
class LongArray:
    """An array that is read in parts: where it stands, and how many elements it has in all."""

    names: Names
    elements: int


@dataclass(frozen=True)
class Part:
    """Which part of a document this is: elements of the array with number `array`, from the element
    `first` on; or what stands `around` the arrays, which comes first. `begun`: the arrays of which
    that has the first elements; the parts after it have the others, by their number among these.
    """

    array: int | None = None
    first: int = 0
    around: bool = False
    begun: tuple[LongArray, ...] = ()

    def in_document(self, location: Location, depth: int) -> Location:
        """Where in the document stands what has a location in the part, within the array so deep in
        both.
        """
        number = location[depth]
        assert isinstance(number, int)
        return (*location[:depth], self.first + number, *location[depth + 1 :])


# A document that is not cut.
WHOLE = Part()


@dataclass
class Cuts:
    """Where a document can be cut: the texts around the arrays that were found, and for each of
    these its number among those that were looked for, and its pieces: where they begin and end in
    the file, and the number of the first element. `arrays` says where each stands and how many
    elements it has.
    """

    around: list[bytearray] = field(default_factory=lambda: [bytearray()])
    found: list[int] = field(default_factory=list)
    pieces: list[list[tuple[int, int, int]]] = field(default_factory=list)
    arrays: list[LongArray] = field(default_factory=list)

    @property
    def size(self) -> int:
        """How many bytes the pieces have."""
        return sum(end - start for pieces in self.pieces for start, end, _ in pieces)

    @property
    def skeleton(self) -> bytes:
        return b"".join(self.around)

    def with_short_ones(self, file: BinaryIO, fewest: int) -> Cuts:
        """The same, but arrays of fewer elements than these are not cut."""
        around, numbers, pieces, arrays = [self.around[0]], [], [], []
        for number, array in enumerate(self.arrays):
            if array.elements < fewest:
                # A short array becomes part of what stands around: one part less to evaluate.
                around[-1] = (
                    around[-1]
                    + _between(file, self.pieces[number])
                    + self.around[number + 1]
                )
            else:
                around.append(self.around[number + 1])
                numbers.append(self.found[number])
                pieces.append(self.pieces[number])
                arrays.append(array)
        return Cuts(around, numbers, pieces, arrays)

    def begun(self, file: BinaryIO) -> Iterator[tuple[Part, bytes]]:
        """The parts of a document for whoever looks at each node once: what stands around the
        arrays, with the first elements of all of them, and then the other elements, with no more
        than the members that lead to them.
        """
        beginnings = [_between(file, pieces[:1]) for pieces in self.pieces]
        # The first elements tell what the lists hold, for one who decides by the whole document
        # what it is.
        first = b"".join(
            text
            for pair in zip(self.around, [*beginnings, b""], strict=True)
            for text in pair
        )
        yield Part(around=True, begun=tuple(self.arrays)), first
        for number, pieces in enumerate(self.pieces):
            for piece in pieces[1:]:
                yield (
                    Part(number, piece[2]),
                    with_names(self.arrays[number].names, _between(file, [piece])),
                )

    def parts(self, file: BinaryIO, size: int) -> Iterator[tuple[Part, bytes]]:
        """The parts of a document, from a file that can be read anywhere; what stands around the
        arrays comes first.

        Each part has elements of at least `size` bytes, and more than what stands around them,
        which is in all parts.
        """
        yield Part(around=True), self.skeleton
        for number, pieces in enumerate(self.pieces):
            before, after = (
                b"".join(self.around[: number + 1]),
                b"".join(self.around[number + 1 :]),
            )
            # What stands around is decoded with every part: the more there is of it, the more
            # elements go together.
            together = 1 + 2 * (len(before) + len(after)) // size
            for place in range(0, len(pieces), together):
                group = pieces[place : place + together]
                yield (
                    Part(self.found[number], group[0][2]),
                    before + _between(file, group) + after,
                )


def _between(file: BinaryIO, pieces: Sequence[tuple[int, int, int]]) -> bytes:
    """The text of some pieces that follow each other."""
    if not pieces:
        return b""
    file.seek(pieces[0][0])
    return file.read(pieces[-1][1] - pieces[0][0])


def with_names(names: Names, elements: bytes) -> bytes:
    """Elements of an array, and of what stands around it no more than the members
    that lead to it.
    """
    opened = b"".join(b"{%s:" % msgspec.json.encode(name) for name in names)
    return b"%s[%s]%s" % (opened, elements, b"}" * len(names))


class _Unfinished(Exception):
    """The file ended inside the document."""


class Cutter:
    """Goes through one document.

    `arrays` are those that may be cut, into pieces of about `size` bytes; None: all that are longer
    and are reached by names alone. `both`: where a member on the way to one comes twice, both are
    gone through.
    """

    def __init__(
        self,
        file: Readable,
        head: bytes,
        arrays: Sequence[Names] | None,
        size: int,
        *,
        both: bool = False,
    ) -> None:
        self.file = file
        self.both = both
        self.any = arrays is None
        self.arrays = {names: number for number, names in enumerate(arrays or ())}
        self.ways = {
            names[:length] for names in arrays or () for length in range(len(names))
        }
        self.size = size
        self.buffer = head
        self.at = 0
        # Bytes of the file before the buffer.
        self.before = 0
        # Line ends before the place that was reached.
        self.lines = 0
        self.cuts = Cuts()
        # For each array: where in the skeleton it stood, and how many line ends and bytes of it are
        # not there.
        self.removed: list[list[int]] = []

    def cut(self) -> Cuts:
        """Raises NotJson, with the place in the file; CanNotCut."""
        for _ in self.pieces():
            pass
        return self.cuts

    def pieces(self) -> Iterator[tuple[Part, bytes]]:
        """The same, with the elements of each piece as soon as it is found, separated by commas."""
        try:
            self.blank()
            first_line = self.lines
            yield from self.value(())
            last_line = self.lines
            self.blank()
        except _Unfinished:
            self.fail(unfinished=True)
        if self.next():
            if first_line == last_line < self.lines:
                raise CanNotCut  # lines, each of them a document
            self.fail()
        try:
            decode(self.cuts.skeleton)
        except NotJson as error:
            raise NotJson(self.moved(error.finding)) from None

    @property
    def rest(self) -> bytes:
        """What was read of the file and not gone through."""
        return self.buffer[self.at :]

    # ---- the buffer

    def more(self) -> bool:
        """Reads on; what was gone through is dropped. False at the end of the file."""
        chunk = self.file.read(max(self.size, len(self.buffer) - self.at))
        if chunk:
            self.before += self.at
            self.buffer, self.at = self.buffer[self.at :] + chunk, 0
        return bool(chunk)

    def next(self) -> bytes:
        """The next byte; none at the end of the file."""
        if self.at == len(self.buffer) and not self.more():
            return b""
        return self.buffer[self.at : self.at + 1]

    def blank(self) -> None:
        """Goes over white space, which is kept, so that places in the skeleton are those of the
        file.
        """
        while True:
            match = _BLANK.match(self.buffer, self.at)
            assert match
            self.keep(match.end())
            if self.at < len(self.buffer) or not self.more():
                return

    def keep(self, end: int) -> None:
        """Takes what stands before a place of the buffer into the skeleton."""
        text = self.buffer[self.at : end]
        self.lines += text.count(b"\n")
        self.cuts.around[-1] += text
        self.at = end

    # ---- the way to the arrays

    def value(self, names: Names) -> Iterator[tuple[Part, bytes]]:
        self.blank()
        first = self.next()
        # Not told where to cut: every array on the way down by names is one that can be.
        if self.any and first in (b"[", b"{") and self.goes_on():
            if first == b"[":
                self.arrays[names] = len(self.arrays)
            else:
                self.ways.add(names)
        if names in self.arrays and first == b"[":
            yield from self.array(names)
        elif names in self.ways and first == b"{":
            yield from self.object(names)
        else:
            self.whole_value()

    def object(self, names: Names) -> Iterator[tuple[Part, bytes]]:
        seen: set[str] = set()
        self.keep(self.at + 1)
        self.blank()
        if self.next() == b"}":
            self.keep(self.at + 1)
            return
        while True:
            name = self.name()
            if (
                name in seen
                and not self.both
                and (self.any or self.leads((*names, name)))
            ):
                # A name that leads to an array and comes twice: the last one counts, and the first
                # is handed over already.
                raise CanNotCut
            seen.add(name)
            self.blank()
            self.expect(b":")
            yield from self.value((*names, name))
            self.blank()
            if self.next() == b"}":
                self.keep(self.at + 1)
                return
            self.expect(b",")
            self.blank()

    def leads(self, names: Names) -> bool:
        """Whether an array that may be cut stands there, or below."""
        return names in self.ways or names in self.arrays

    def goes_on(self) -> bool:
        """Whether the array or object that begins here is longer than a piece."""
        while len(self.buffer) - self.at < self.size and self.more():
            pass
        return _end_of_value(self.buffer, self.at, self.at + self.size) is None

    def expect(self, mark: bytes) -> None:
        if self.next() != mark:
            self.fail()
        self.keep(self.at + 1)

    def name(self) -> str:
        if self.next() != b'"':
            self.fail()
        end = self.end_of_value()
        try:
            # Decoded, since `"stops"` and `"sto\u0070s"` are one name.
            name: str = msgspec.json.decode(self.buffer[self.at : end], type=str)
        except ValueError:
            self.fail()
        self.keep(end)
        return name

    def whole_value(self) -> None:
        self.keep(self.end_of_value())

    def end_of_value(self) -> int:
        """Where in the buffer the value ends that begins here; all of it is read."""
        if not self.next():
            raise _Unfinished
        while True:
            end = _end_of_value(self.buffer, self.at)
            if end is not None and end < len(self.buffer):
                return end
            if not self.more():
                if end is None:
                    raise _Unfinished
                return len(self.buffer)  # a number at the end of the file

    # ---- an array

    def array(self, names: Names) -> Iterator[tuple[Part, bytes]]:
        number = self.arrays[names]
        self.keep(self.at + 1)
        pieces: list[tuple[int, int, int]] = []
        self.cuts.found.append(number)
        self.cuts.pieces.append(pieces)
        self.removed.append([len(self.cuts.skeleton), 0, 0])
        first, ended, mark = 0, False, b""
        while not ended:
            end, ended, mark, count = self.piece(mark)
            if count is None:
                # Elements are counted where they are cut, so that each part knows the number of its
                # first one.
                count = self.checked(
                    self.buffer[self.at : end],
                    first == 0,
                    self.buffer[end : end + 1] if ended else b"",
                )
            if count:
                pieces.append((self.before + self.at, self.before + end, first))
                yield Part(number, first), self.buffer[self.at : end]
            first += count
            self.drop(end if ended else end + 1)
        self.cuts.arrays.append(LongArray(names, first))
        self.cuts.around.append(bytearray())
        self.keep(self.at + 1)

    def drop(self, end: int) -> None:
        """Goes over elements, which are not kept."""
        lines = self.buffer.count(b"\n", self.at, end)
        self.lines += lines
        self.removed[-1][1] += lines
        self.removed[-1][2] += end - self.at
        self.at = end

    def piece(self, mark: bytes) -> tuple[int, bool, bytes, int | None]:
        """Where in the buffer the next piece ends, whether the array does, what to look for between
        two elements, and how many elements the piece has, if they were counted.

        What stood between two elements is found again quickly; whether that is a place between two
        others, or one in the depth of an element, is seen when the text before it is read.
        """
        while len(self.buffer) - self.at < self.size and self.more():
            pass
        if mark:
            # Records of one list mostly end alike (`},{`): looking for that from the end is quicker
            # than going through the structure; where it is not certain the structure decides.
            place = self.buffer.rfind(mark, self.at, self.at + self.size)
            end = place + mark.index(b",")
            count = _count(self.buffer[self.at : end]) if place >= 0 else 0
            if count:
                return end, False, mark, count
        while True:
            end, ended = _scan(self.buffer, self.at, self.size)
            if end >= 0:
                return (
                    end,
                    ended,
                    b"" if ended else _mark(self.buffer, self.at, end),
                    None,
                )
            if not self.more():
                raise _Unfinished

    def checked(self, text: bytes, first: bool, ends_with: bytes) -> int:
        """How many elements these are; there must be one, but for an array that is empty."""
        count = _count(text)
        empty = first and ends_with == b"]" and not text.strip()
        if (not count and not empty) or ends_with == b"}":
            before = b"[" if first else b"[0,"
            # Made into an array of its own, so that the finding is the one that the whole would
            # give.
            finding = _finding(before + text + (ends_with or b",0]")).moved(
                self.lines, self.before + self.at
            )
            raise NotJson(replace(finding, offset=finding.offset - len(before)))
        return count

    # ---- what is wrong

    def fail(self, *, unfinished: bool = False) -> NoReturn:
        """Raises NotJson for a mistake that stands here."""
        while (unfinished or len(self.buffer) - self.at < _SHOWN) and self.more():
            pass
        end = len(self.buffer) if unfinished else self.at + _SHOWN
        raise NotJson(
            self.moved(_finding(self.cuts.skeleton + self.buffer[self.at : end]))
        )

    def moved(self, finding: Diagnosis) -> Diagnosis:
        """A finding in the skeleton, at its place in the file."""
        before = [array for array in self.removed if array[0] <= finding.offset]
        return finding.moved(
            sum(lines for _, lines, _ in before), sum(size for *_, size in before)
        )


def _finding(text: bytes) -> Diagnosis:
    try:
        decode(text)
    except NotJson as error:
        return error.finding
    return Diagnosis("the document can't be read to its end")


def _count(elements: bytes) -> int:
    """How many elements these are, separated by commas; 0 if they are no JSON."""
    array = b"[" + elements + b"]"
    try:
        look_over(elements)
    # What the quick decoder does not see is counted by the slow one.
    except ValueError:
        return _count_in_full(array)
    try:
        return len(_elements(array))
    except (ValueError, RecursionError):
        return 0


def _count_in_full(array: bytes) -> int:
    try:
        return len(decode(array))
    except NotJson:
        return 0


def _end_of_value(buffer: bytes, at: int, end: int | None = None) -> int | None:
    """Where the value ends that begins at a place of a buffer; None if that is not in it, or not
    before `end`. Whether it is a value at all is not seen here.
    """
    if buffer[at : at + 1] not in (b"{", b"[", b'"'):
        match = _SCALAR.match(buffer, at)
        assert match
        return match.end()
    depth = 0
    for mark in _STRUCTURE.finditer(buffer, at, len(buffer) if end is None else end):
        character = buffer[mark.start()]
        if character in b"[{":
            depth += 1
        elif character in b"]}":
            depth -= 1
        elif character in b'"' and mark.end() - mark.start() == 1:
            return None  # a text that does not end here
        if depth <= 0:
            return mark.end()
    return None


def _scan(buffer: bytes, at: int, size: int) -> tuple[int, bool]:
    """Where elements of an array that begin at a place of a buffer can be cut, at a comma after
    about `size` bytes; or where the array ends (then true). -1 if neither is in the buffer.
    """
    depth, cut = 0, -1
    # Only brackets, commas and quotes are looked at; texts are one match each, so that brackets in
    # them count for nothing.
    for mark in _STRUCTURE.finditer(buffer, at):
        character = buffer[mark.start()]
        if character in b'"':
            if mark.end() - mark.start() == 1:
                break
        elif character in b"[{":
            depth += 1
        elif character in b"]}":
            if depth == 0:
                return mark.start(), True
            depth -= 1
        elif depth == 0:
            if cut >= 0 and mark.start() > at + size:
                break
            cut = mark.start()
    return cut, False


def _mark(buffer: bytes, at: int, cut: int) -> bytes:
    """What stands around the comma between two elements: the end of the one before, and how the
    next one begins.
    """
    before = buffer[at:cut].rstrip()
    # Scalars have no form of their own: only a comma stands between them.
    if before[-1:] not in (b"}", b"]"):
        return b","
    after = cut + 1
    blank = _BLANK.match(buffer, after)
    assert blank
    name_end = buffer.find(b":", blank.end(), blank.end() + _LEARNT)
    return buffer[
        at + len(before) - 1 : name_end + 1 if name_end >= 0 else blank.end() + 1
    ]
