"""How the values of a type stand in columns: what each module of a family says of its types, and
tools for it.

A kernel gives an array (null where it refused) and what it refused; it converts only what it surely
converts as the
type says. Arrow's casts take things that the types do not (hexadecimal integers, `nan`, hours
without minutes, the year
0): every cast is guarded against those, and where one value spoils a cast an exact regular
expression picks what is
cast.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import IntEnum
from typing import Any, Generic, TypeVar

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import all_true, regex_mask
from mukret.scan import Cells
from mukret.types import ReadingOptions, TypeSpec, ValueType

# An array, and a mask of what was refused; None if nothing was.
Converted = tuple[pa.Array, pa.Array]
# Reads cells of a scan: an array, and the rows that were refused.
CellKernel = Callable[[Cells], tuple[pa.Array, list[int]]]
Kind = TypeVar("Kind", bound=ValueType)

# The character that follows the digits in ASCII.
AFTER_DIGITS = ":"


class Line(IntEnum):
    """What compiled code writes into a line of CSV, as `_lines.pyx` numbers it.

    WORDS: codes of the words of a dictionary.
    """

    TEXTS = 0
    WORDS = 1
    INTEGERS = 2
    DECIMALS = 3
    DATES = 4
    LOCAL_TIMES = 5
    INSTANTS = 6
    BOOLEANS = 7
    FLOATS = 8


class Stored(Generic[Kind]):
    """The columns of one type.

    What is not said by a family: strings in Arrow, no kernels, written by Arrow's cast.
    """

    line = Line.TEXTS
    """How a column is written where it is as short as most are; else as the texts of its cells."""
    scale = 0

    def __init__(self, kind: Kind) -> None:
        self.kind = kind

    @property
    def arrow(self) -> pa.DataType:
        """The Arrow type in which values are computed."""
        return pa.string()

    @property
    def handed_over(self) -> pa.DataType:
        """The Arrow type of a column that is handed over."""
        return self.arrow

    def finished(self, array: pa.Array) -> pa.Array:
        """A computed array as a column to hand over."""
        return array

    def of_cells(self, reading: TypeSpec) -> CellKernel | None:
        """The kernel that reads cells with these options; None if there is none."""
        return None

    def reads_texts(self, options: ReadingOptions) -> bool:
        """Whether there is a kernel for texts."""
        return False

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        """A string array as an array of the type."""
        return self.nothing(strings)

    def of_integers(self, options: ReadingOptions, integers: pa.Array) -> Converted:
        """JSON numbers without a fraction, as int64."""
        return self.nothing(integers)

    def of_numbers(self, options: ReadingOptions, texts: pa.Array) -> Converted:
        """JSON numbers as they are written."""
        return self.nothing(texts)

    def nothing(self, array: pa.Array) -> Converted:
        """All that is not null is refused."""
        return pa.nulls(len(array), self.arrow), pc.is_valid(array)

    def written(self, array: pa.Array) -> pa.Array:
        """The texts that stand in CSV cells (as `ValueType.written`, a column at a time); null
        stays null.
        """
        return array.cast(pa.string())

    def is_short(self, array: pa.Array) -> bool:
        """Whether a column can be written as `line` says."""
        return True


def from_buffers(
    arrow: pa.DataType, count: int, buffers_read: pa.Array
) -> tuple[pa.Array, list[int]]:
    """What a kernel of the scan gives, as an array and the rows that it refused."""
    values, validity, null_count, refused, _ = buffers_read
    buffers = [pa.py_buffer(validity), pa.py_buffer(values)]
    return pa.Array.from_buffers(arrow, count, buffers, null_count), refused


def blanks_for_kernel(reading: TypeSpec) -> bytes | None:
    """The texts that mean null, each behind its length; None if one is too long for that, or other
    steps come before the type.
    """
    if reading.options.strip or reading.options.capture is not None:
        return None
    texts = [text.encode("utf-8", "surrogatepass") for text in sorted(reading.blanks)]
    if any(len(text) > 255 for text in texts):
        return None
    return b"".join(bytes([len(text)]) + text for text in texts)


def written_once_each(array: pa.Array, write: Callable[[Any], str]) -> pa.Array:
    """Few different values: each is written once."""
    encoded = array.dictionary_encode()
    texts = pa.array(
        [write(value) for value in encoded.dictionary.to_pylist()], pa.string()
    )
    return texts.take(encoded.indices)


def guarded(
    strings: pa.Array, pattern: str, cast: Callable[[pa.Array], pa.Array]
) -> Converted:
    """Casts the strings that match a pattern; the others are refused."""
    sure = regex_mask(strings, pattern)
    if all_true(sure):
        return cast(strings), None
    chosen = pc.if_else(sure, strings, pa.scalar(None, pa.string()))
    return cast(chosen), pc.fill_null(pc.invert(sure), False)


def cast_or_pick(
    strings: pa.Array,
    pattern: str,
    cast: Callable[[pa.Array], pa.Array],
    suspicious: Callable[[pa.Array, pa.Array], bool],
) -> Converted:
    """Casts the whole column; if that fails or `suspicious` finds something in the result, only
    what is sure.
    """
    try:
        array = cast(strings)
    except pa.ArrowInvalid:
        return _without_words(strings, pattern, cast, suspicious)
    return (
        guarded(strings, pattern, cast) if suspicious(array, strings) else (array, None)
    )


def _without_words(
    strings: pa.Array,
    pattern: str,
    cast: Callable[[pa.Array], pa.Array],
    suspicious: Callable[[pa.Array, pa.Array], bool],
) -> Converted:
    """What spoils a column is mostly words: all that begins after the digits in ASCII is left out
    by one comparison, which costs a tenth of a regular expression.
    """
    numeric = pc.less(strings, AFTER_DIGITS)
    chosen = pc.if_else(numeric, strings, pa.scalar(None, pa.string()))
    try:
        array = cast(chosen)
    except pa.ArrowInvalid:
        return guarded(strings, pattern, cast)
    if suspicious(array, chosen):
        return guarded(strings, pattern, cast)
    return array, pc.fill_null(pc.invert(numeric), False)
