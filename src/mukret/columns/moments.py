"""Days, local times and instants in columns."""

from __future__ import annotations

from collections.abc import Callable

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns import zoned
from mukret.columns.arrow import UTC, all_true, any_true, regex_mask, true_rows
from mukret.columns.stored import (
    AFTER_DIGITS,
    CellKernel,
    Converted,
    Line,
    Stored,
    blanks_for_kernel,
    cast_or_pick,
    from_buffers,
)
from mukret.scan import Cells
from mukret.types import Date, Datetime, ReadingOptions, Timestamp, TypeSpec
from mukret.types.formats import is_pattern
from mukret.types.instants import EPOCH_MICROS, FIRST_MICRO, LAST_MICRO

_YEAR = "[12][0-9]{3}"
_DAY = (
    f"{_YEAR}-(?:(?:0[13578]|1[02])-(?:0[1-9]|[12][0-9]|3[01])|(?:0[469]|11)-(?:0[1-9]|[12][0-9]|30)"
    "|02-(?:0[1-9]|1[0-9]|2[0-8]))"
)
_LOCAL = (
    f"{_DAY}[T ](?:[01][0-9]|2[0-3]):[0-5][0-9](?::[0-5][0-9](?:\\.[0-9]{{1,6}})?)?"
)
_OFFSET = "(?:Z|[+-](?:[01][0-9]|2[0-3])(?::?[0-5][0-9])?)"
_EPOCH = "-?[0-9]{1,18}"
_AFTER_DATE = len("2031-04-01")


class Dates(Stored[Date]):
    line = Line.DATES

    @property
    def arrow(self) -> pa.DataType:
        return pa.date32()

    def of_cells(self, reading: TypeSpec) -> CellKernel | None:
        blanks = blanks_for_kernel(reading)
        if blanks is None or not self.reads_texts(reading.options):
            return None
        return lambda cells: from_buffers(self.arrow, cells.count, cells.dates(blanks))

    def reads_texts(self, options: ReadingOptions) -> bool:
        return options.format == ("iso",)

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        return _dates(strings)


class Datetimes(Stored[Datetime]):
    line = Line.LOCAL_TIMES

    @property
    def arrow(self) -> pa.DataType:
        return pa.timestamp("us")

    def of_cells(self, reading: TypeSpec) -> CellKernel | None:
        blanks = blanks_for_kernel(reading)
        if blanks is None or not self.reads_texts(reading.options):
            return None
        return lambda cells: _without_offset(cells, blanks)

    def reads_texts(self, options: ReadingOptions) -> bool:
        return options.format == ("iso",)

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        return _datetimes(strings)

    def written(self, array: pa.Array) -> pa.Array:
        return _moments(array)


class Timestamps(Stored[Timestamp]):
    line = Line.INSTANTS

    @property
    def arrow(self) -> pa.DataType:
        return UTC

    def of_cells(self, reading: TypeSpec) -> CellKernel | None:
        options, blanks = reading.options, blanks_for_kernel(reading)
        if blanks is None or not self.reads_texts(options):
            return None
        epoch = next((form for form in options.format if form in EPOCH_MICROS), None)
        factor = 0
        if epoch is not None:
            # Nanoseconds have no whole factor: -1 tells the kernel to divide, and refuse what has a
            # rest.
            factor = 10 ** EPOCH_MICROS[epoch] if EPOCH_MICROS[epoch] >= 0 else -1
        iso = "iso" in options.format
        return lambda cells: _instants(
            cells, options, cells.moments(blanks, iso, factor, FIRST_MICRO, LAST_MICRO)
        )

    def reads_texts(self, options: ReadingOptions) -> bool:
        return all(form == "iso" or form in EPOCH_MICROS for form in options.format)

    def of_texts(self, options: ReadingOptions, strings: pa.Array) -> Converted:
        return _timestamps(options, strings)

    def of_integers(self, options: ReadingOptions, integers: pa.Array) -> Converted:
        # The first form that takes digits at all; patterns read them as texts.
        form = next(
            (
                form
                for form in options.format
                if form in EPOCH_MICROS or is_pattern(form)
            ),
            None,
        )
        return (
            _epochs(form, integers) if form in EPOCH_MICROS else self.nothing(integers)
        )

    def written(self, array: pa.Array) -> pa.Array:
        return pc.binary_join_element_wise(_moments(array), "Z", "")


def _moments(array: pa.Array) -> pa.Array:
    naive = array.cast(pa.timestamp("us"))
    if not any_true(pc.not_equal(pc.microsecond(naive), 0)) and not any_true(
        pc.not_equal(pc.millisecond(naive), 0)
    ):
        text = naive.cast(pa.timestamp("s"), safe=False).cast(pa.string())
    else:  # six digits after the point: all that end it go, and the point if it ends the text then
        text = pc.utf8_rtrim(
            pc.utf8_rtrim(naive.cast(pa.string()), characters="0"), characters="."
        )
    return pc.binary_replace_slice(text, _AFTER_DATE, _AFTER_DATE + 1, "T")


# ---- cells


def _without_offset(cells: Cells, blanks: bytes) -> tuple[pa.Array, list[int]]:
    """Local times; a text with an offset is refused."""
    values, validity, null_count, refused, local = cells.moments(
        blanks, True, 0, FIRST_MICRO, LAST_MICRO
    )
    buffers = [pa.py_buffer(validity), pa.py_buffer(values)]
    array = pa.Array.from_buffers(pa.timestamp("us"), cells.count, buffers, null_count)
    with_offset = pc.and_(array.is_valid(), pc.invert(_flags(local, cells.count)))
    # So it is almost always, and nothing is copied.
    if not any_true(with_offset):
        return array, refused
    array = pc.if_else(with_offset, pa.scalar(None, array.type), array)
    return array, sorted({*refused, *true_rows(with_offset)})


def _instants(
    cells: Cells, options: ReadingOptions, read: pa.Array
) -> tuple[pa.Array, list[int]]:
    """Instants; local times are those of the zone, if one is told."""
    values, validity, null_count, refused, local = read
    buffers = [pa.py_buffer(validity), pa.py_buffer(values)]
    array = pa.Array.from_buffers(UTC, cells.count, buffers, null_count)
    if local is None:
        return array, refused
    is_local = _flags(local, cells.count)
    if options.zone is None:
        array = pc.if_else(is_local, pa.scalar(None, UTC), array)
        return array, sorted({*refused, *true_rows(is_local)})
    naive = pc.if_else(is_local, array, pa.scalar(None, UTC)).cast(pa.timestamp("us"))
    # Local times that a clock has twice or never are read one by one, by the rules for them.
    instants, doubtful = zoned.to_utc(naive, options.zone, options.fold)
    outside = pc.or_(
        pc.less(instants.cast(pa.int64()), FIRST_MICRO),
        pc.greater(instants.cast(pa.int64()), LAST_MICRO),
    )
    doubtful = (
        outside if doubtful is None else pc.or_(pc.fill_null(outside, False), doubtful)
    )
    if any_true(doubtful):
        refused = sorted({*refused, *true_rows(doubtful)})
        instants = pc.if_else(
            pc.fill_null(doubtful, False), pa.scalar(None, UTC), instants
        )
    return pc.if_else(is_local, instants, array), refused


def _flags(flags: bytes | None, count: int) -> pa.Array:
    if flags is None:
        return pa.repeat(pa.scalar(False), count)
    return pa.Array.from_buffers(pa.uint8(), count, [None, pa.py_buffer(flags)]).cast(
        pa.bool_()
    )


# ---- texts


def _dates(strings: pa.Array) -> Converted:
    def before_year_one(array: pa.Array, _: pa.Array) -> bool:
        first = pc.min(array.cast(pa.int32())).as_py()
        return first is not None and first < -719162

    return cast_or_pick(
        strings, _DAY, lambda some: some.cast(pa.date32()), before_year_one
    )


def _datetimes(strings: pa.Array) -> Converted:
    """ISO texts without an offset."""

    def short(array: pa.Array, texts: pa.Array) -> bool:
        """A date alone and hours alone are no date and time for us; Arrow reads them."""
        least = pc.min(pc.binary_length(texts)).as_py()
        return (
            least is not None and least < len("2031-04-01T10:22")
        ) or outside_calendar(array)

    # Where the kernel would take more than we do, rows are picked by the pattern.
    return cast_or_pick(
        strings, _LOCAL, lambda some: some.cast(pa.timestamp("us")), short
    )


def _timestamps(options: ReadingOptions, strings: pa.Array) -> Converted:
    """ISO texts with an offset, or all without one; a column of both kinds, or of epochs, form by
    form.
    """
    if "iso" in options.format:
        for chosen in (strings, None):
            if chosen is None:  # most columns that fail have words in them
                numeric = pc.less(strings, AFTER_DIGITS)
                chosen = pc.if_else(numeric, strings, pa.scalar(None, pa.string()))
            try:
                array = chosen.cast(UTC)
            except pa.ArrowInvalid:
                continue
            if not (_has_hours_alone(chosen) or outside_calendar(array)):
                return array, None if chosen is strings else pc.fill_null(
                    pc.invert(numeric), False
                )
            break
    return _by_form(options, strings)


def _has_hours_alone(strings: pa.Array) -> bool:
    """`2031-04-01T10Z`: Arrow reads it, we do not.

    With an offset such a text has 19 characters at most.
    """
    shortest = pc.min(pc.binary_length(strings)).as_py()
    if shortest is None or shortest >= len("2031-04-01T10:22:07Z"):
        return False
    return not all_true(pc.equal(pc.utf8_slice_codeunits(strings, 13, 14), ":"))


def outside_calendar(instants: pa.Array) -> bool:
    """Whether an instant lies outside the years 1 to 9999."""
    bounds = pc.min_max(instants.cast(pa.int64()))
    first, last = bounds["min"].as_py(), bounds["max"].as_py()
    return first is not None and (first < FIRST_MICRO or last > LAST_MICRO)


def _by_form(options: ReadingOptions, strings: pa.Array) -> Converted:
    array = pa.nulls(len(strings), UTC)
    left = pc.is_valid(strings)
    epoch = next((form for form in options.format if form in EPOCH_MICROS), None)
    forms: list[tuple[str, Callable[[pa.Array], Converted]]] = []
    if "iso" in options.format:
        forms.append((_LOCAL + _OFFSET, lambda texts: (texts.cast(UTC), None)))
        if options.zone:
            zone_name = options.zone
            forms.append(
                (
                    _LOCAL,
                    lambda texts: zoned.to_utc(
                        texts.cast(pa.timestamp("us")), zone_name, options.fold
                    ),
                )
            )
    if epoch:
        forms.append((_EPOCH, lambda texts: _epochs(epoch, texts.cast(pa.int64()))))
    for pattern, convert in forms:
        # Only texts whose form is certain: the kernel of Arrow takes some that the format forbids.
        sure = pc.fill_null(regex_mask(strings, pattern), False)
        if any_true(sure):
            instants, refused = convert(
                pc.if_else(sure, strings, pa.scalar(None, pa.string()))
            )
            array = pc.coalesce(array, instants)
            done = sure if refused is None else pc.and_not(sure, refused)
            left = pc.and_not(left, done)
    return array, left if any_true(left) else None


def _epochs(form: str | None, integers: pa.Array) -> Converted:
    """Whole epochs as instants; what would leave the calendar, and nanoseconds that are no
    microseconds, is refused.
    """
    power = EPOCH_MICROS[form or "epoch-s"]
    factor = 10 ** abs(power)
    if power >= 0:
        # Bounds are divided, not values multiplied: that could overflow.
        low, high = -(-FIRST_MICRO // factor), LAST_MICRO // factor
        fits = pc.and_(pc.greater_equal(integers, low), pc.less_equal(integers, high))
        chosen = (
            integers
            if all_true(fits)
            else pc.if_else(fits, integers, pa.scalar(None, pa.int64()))
        )
        micros = pc.multiply(chosen, factor)
    else:
        micros = pc.divide(integers, factor)
        fits = pc.equal(pc.multiply(micros, factor), integers)
        micros = pc.if_else(fits, micros, pa.scalar(None, pa.int64()))
    refused = None if all_true(fits) else pc.fill_null(pc.invert(fits), False)
    return micros.cast(UTC), refused
