"""Integers, decimals and floats in columns."""

from __future__ import annotations

import re
from collections.abc import Callable

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns._lines import are_short
from mukret.columns.arrow import all_true, any_true, regex_mask, true_rows, with_values
from mukret.columns.stored import (
    CellKernel,
    Converted,
    Kind,
    Line,
    Stored,
    blanks_for_kernel,
    cast_or_pick,
    from_buffers,
    guarded,
)
from mukret.scan import Cells
from mukret.types import DecimalType, Float, Integer, ReadingOptions, TypeSpec
from mukret.types.numbers import MAX_DIGITS, numeric_pattern

# The decimal point, the mark between groups of digits, and whether a percent sign may stand behind.
Marks = tuple[str, str, bool]


class _Numbers(Stored[Kind]):
    """What all numbers share."""

    def of_cells(self, reading: TypeSpec) -> CellKernel | None:
        options, blanks = reading.options, blanks_for_kernel(reading)
        grouping = options.grouping or ""
        one_byte = (
            options.point.isascii()
            and len(options.point) == 1
            and grouping.isascii()
            and len(grouping) <= 1
        )
        # The kernel compares bytes: marks of several bytes are for the slower way.
        if blanks is None or not one_byte:
            return None
        marks = (options.point, grouping, options.percent)
        return lambda cells: from_buffers(
            self.arrow, cells.count, self.scanned(cells, marks, blanks)
        )

    def scanned(self, cells: Cells, marks: Marks, blanks: bytes) -> pa.Array:
        raise AssertionError("each kind of number has its kernel")

    def reads_texts(self, options: ReadingOptions) -> bool:
        return True

    def of_integers(self, options: ReadingOptions, integers: pa.Array) -> Converted:
        return self.of_texts(
            ReadingOptions(percent=options.percent), integers.cast(pa.string())
        )

    def of_numbers(self, options: ReadingOptions, texts: pa.Array) -> Converted:
        return self.of_texts(
            ReadingOptions(percent=options.percent, round=options.round), texts
        )


class Integers(_Numbers[Integer]):
    line = Line.INTEGERS

    @property
    def arrow(self) -> pa.DataType:
        return pa.int64()

    def scanned(self, cells: Cells, marks: Marks, blanks: bytes) -> pa.Array:
        return cells.integers(marks, blanks)

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        return self.nothing(strings) if options.percent else _integers(options, strings)

    def of_integers(self, options: ReadingOptions, integers: pa.Array) -> Converted:
        return (
            super().of_integers(options, integers)
            if options.percent
            else (integers, None)
        )


class Floats(_Numbers[Float]):
    line = Line.FLOATS

    @property
    def arrow(self) -> pa.DataType:
        return pa.float64()

    def scanned(self, cells: Cells, marks: Marks, blanks: bytes) -> pa.Array:
        return cells.floats(marks, blanks)

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        return _floats(options, strings)

    def of_integers(self, options: ReadingOptions, integers: pa.Array) -> Converted:
        if options.percent:
            return super().of_integers(options, integers)
        return integers.cast(pa.float64(), safe=False), None

    def written(self, array: pa.Array) -> pa.Array:
        return _without_exponent(array, self.kind, "e+")

    def is_short(self, array: pa.Array) -> bool:
        return are_short(array.offset, len(array), *array.buffers())


class Decimals(_Numbers[DecimalType]):
    line = Line.DECIMALS

    def __init__(self, kind: DecimalType) -> None:
        super().__init__(kind)
        self.scale = kind.scale

    @property
    def arrow(self) -> pa.DataType:
        return pa.decimal128(self.kind.precision, self.kind.scale)

    def scanned(self, cells: Cells, marks: Marks, blanks: bytes) -> pa.Array:
        return cells.decimals(marks, blanks, self.kind.precision, self.kind.scale)

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        return _decimals(self, options, strings)

    def written(self, array: pa.Array) -> pa.Array:
        return (
            _without_exponent(array, self.kind, "E")
            if self.kind.scale > 6
            else super().written(array)
        )


def _without_exponent(
    array: pa.Array, kind: DecimalType | Float, mark: str
) -> pa.Array:
    """Arrow writes floats from 1e10 on and small decimals with an exponent: those are written one
    by one.
    """
    text = array.cast(pa.string())
    marked = pc.fill_null(pc.match_substring(text, mark), False)
    return with_values(
        text, {row: kind.written(array[row].as_py()) for row in true_rows(marked)}
    )


# ---- texts


def _digits(options: ReadingOptions) -> Callable[[pa.Array], pa.Array]:
    """Turns numeric strings with marks into those that Arrow reads."""

    def plain(strings: pa.Array) -> pa.Array:
        if options.percent:
            # As an exponent, so that no digit is lost to a division.
            strings = pc.binary_join_element_wise(
                pc.utf8_rtrim(strings, characters="%"), "e-2", ""
            )
        if options.grouping:
            strings = pc.replace_substring(strings, options.grouping, "")
        return (
            pc.replace_substring(strings, options.point, ".")
            if options.point != "."
            else strings
        )

    return plain


def _is_plain(options: ReadingOptions) -> bool:
    return not options.grouping and options.point == "." and not options.percent


def _marked_pattern(options: ReadingOptions) -> str:
    """Numeric strings with the marks of these options, without an exponent."""
    pattern = numeric_pattern(options.grouping, options.point).removesuffix(
        "(?:[eE][+-]?[0-9]+)?"
    )
    return f"{pattern}%?" if options.percent else pattern


def _integers(options: ReadingOptions, strings: pa.Array) -> Converted:
    sure = "-?[0-9]{1,18}"
    if options.grouping:
        mark = re.escape(options.grouping)
        sure = f"-?(?:[0-9]{{1,18}}|[0-9]{{1,3}}(?:{mark}[0-9]{{3}}){{1,5}})"
        return guarded(
            strings,
            sure,
            lambda some: pc.replace_substring(some, options.grouping, "").cast(
                pa.int64()
            ),
        )

    # Told by looking once over all texts, as long as Arrow took them all.
    def hexadecimal(_: pa.Array, texts: pa.Array) -> bool:
        """Arrow reads `0x1F`."""
        if all_true(pc.ascii_is_decimal(texts)):
            return False
        return any_true(pc.match_substring(texts, "x")) or any_true(
            pc.match_substring(texts, "X")
        )

    return cast_or_pick(strings, sure, lambda some: some.cast(pa.int64()), hexadecimal)


def _floats(options: ReadingOptions, strings: pa.Array) -> Converted:
    def cast(some: pa.Array) -> pa.Array:
        return _digits(options)(some).cast(pa.float64())

    def too_large(array: pa.Array, _: pa.Array) -> bool:
        return not all_true(pc.is_finite(array))

    if not _is_plain(options):
        array, refused = guarded(strings, _marked_pattern(options), cast)
        return _without_infinite(array, refused)
    # First all at once; if Arrow refuses, those that surely fit are picked out.
    array, refused = cast_or_pick(strings, numeric_pattern(None, "."), cast, too_large)
    return _without_infinite(array, refused)


def _without_infinite(array: pa.Array, refused: pa.Array) -> Converted:
    infinite = pc.fill_null(pc.is_inf(array), False)
    if not any_true(infinite):
        return array, refused
    array = pc.if_else(infinite, pa.scalar(None, pa.float64()), array)
    return array, infinite if refused is None else pc.or_(refused, infinite)


def _decimals(
    stored: Decimals, options: ReadingOptions, strings: pa.Array
) -> Converted:
    kind, target = stored.kind, stored.arrow
    whole = kind.precision - kind.scale

    def cast(some: pa.Array) -> pa.Array:
        return _digits(options)(some).cast(target)

    if not _is_plain(options):
        if _may_wrap(kind, strings):
            return _picked_decimals(stored, options, strings, cast)
        try:
            return guarded(strings, _marked_pattern(options), cast)
        except pa.ArrowInvalid:  # too many digits somewhere
            return _picked_decimals(stored, options, strings, cast)
    if whole == 0:
        return stored.nothing(strings)
    pattern = f"[+-]?[0-9]{{1,{whole}}}(?:\\.[0-9]{{0,{kind.scale}}})?"
    if _may_wrap(kind, strings) or _holds_exponent(strings):
        return guarded(strings, pattern, cast)
    return cast_or_pick(strings, pattern, cast, lambda _, __: False)


def _may_wrap(kind: DecimalType, strings: pa.Array) -> bool:
    """Whether Arrow's cast, which multiplies the digits up to the scale in 128 bits and looks at
    the size only then, could come round to another number. In 128 bits are all numbers of 38
    digits.
    """
    longest = pc.max(pc.binary_length(strings)).as_py()
    return longest is not None and longest + kind.scale > MAX_DIGITS


def _holds_exponent(strings: pa.Array) -> bool:
    """Whether some text may have an exponent: Arrow loses digits by it, and `1e99999` ends the
    program.
    """
    data = strings.buffers()[2]
    return data is not None and any(mark in data.to_pybytes() for mark in (b"e", b"E"))


def _picked_decimals(
    stored: Decimals,
    options: ReadingOptions,
    strings: pa.Array,
    cast: Callable[[pa.Array], pa.Array],
) -> Converted:
    """With marks: those whose digits surely fit."""
    kind = stored.kind
    shift = 2 if options.percent else 0
    fraction = max(0, kind.scale - shift)
    whole = kind.precision - kind.scale
    if whole == 0:
        return stored.nothing(strings)
    marked = regex_mask(strings, _marked_pattern(options))
    without_marks = (
        pc.replace_substring(strings, options.grouping, "")
        if options.grouping
        else strings
    )
    point = re.escape(options.point)
    # So many digits before and behind the point, as the type keeps: what has more is rounded or
    # refused by the plain way.
    fits = regex_mask(
        without_marks,
        f"[+-]?[0-9]{{1,{whole}}}(?:{point}[0-9]{{0,{fraction}}})?{'%?' if shift else ''}",
    )
    sure = (
        pc.and_(marked, fits)
        if kind.scale >= shift
        else pc.and_(marked, pa.scalar(False))
    )
    chosen = pc.if_else(sure, strings, pa.scalar(None, pa.string()))
    return cast(chosen), pc.fill_null(pc.invert(sure), False)
