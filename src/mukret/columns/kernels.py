"""Conversions by Arrow's kernels: only of what they surely convert as the types say; the rest is refused here.

Each function gives an array (null where it refused) and a mask of the refused, None if there are none. Arrow's casts
take things that the types do not (hexadecimal integers, `nan`, hours without minutes, the year 0); every cast is
guarded against those, and where one value spoils a cast an exact regular expression picks what is cast.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns import zoned
from mukret.columns.arrow import UTC, all_true, any_true, regex_mask, value_type
from mukret.types import Date, Datetime, DecimalType, Duration, Float, Integer, Options, Text, Timestamp, ValueType
from mukret.types.durations import UNITS
from mukret.types.formats import is_pattern
from mukret.types.instants import EPOCH_MICROS, FIRST_MICRO, LAST_MICRO
from mukret.types.numbers import MAX_DIGITS, numeric_pattern
from mukret.values import JsonValue

Converted = tuple[Any, Any]

_YEAR = "[12][0-9]{3}"
_DAY = (
    f"{_YEAR}-(?:(?:0[13578]|1[02])-(?:0[1-9]|[12][0-9]|3[01])|(?:0[469]|11)-(?:0[1-9]|[12][0-9]|30)"
    "|02-(?:0[1-9]|1[0-9]|2[0-8]))"
)
_LOCAL = f"{_DAY}[T ](?:[01][0-9]|2[0-3]):[0-5][0-9](?::[0-5][0-9](?:\\.[0-9]{{1,6}})?)?"
_OFFSET = "(?:Z|[+-](?:[01][0-9]|2[0-3])(?::?[0-5][0-9])?)"
_EPOCH = "-?[0-9]{1,18}"
_AFTER_DIGITS = ":"


def from_strings(kind: ValueType, options: Options, strings: Any) -> Converted:
    """A string array as an array of the type."""
    match kind:
        case Text():
            return strings, None
        case Integer():
            return _integers(options, strings)
        case DecimalType():
            return _decimals(kind, options, strings)
        case Float():
            return _floats(options, strings)
        case Date():
            return _dates(strings)
        case Datetime():
            return _datetimes(strings)
        case Timestamp():
            return _timestamps(options, strings)
    raise AssertionError(kind)


def by_kernel(kind: ValueType, options: Options) -> bool:
    """Whether there is a kernel for texts of a type at all: not for times of day and durations, nor for other forms of
    dates than ISO 8601 and epochs."""
    if isinstance(kind, Date | Datetime):
        return options.format == ("iso",)
    if isinstance(kind, Timestamp):
        return all(form == "iso" or form in EPOCH_MICROS for form in options.format)
    return isinstance(kind, Text | Integer | DecimalType | Float)


def from_numbers(kind: ValueType, options: Options, values: Sequence[JsonValue], kinds: set[type]) -> Converted:
    """JSON numbers (`int`, `Number`, None) as an array of the type."""
    if kinds == {int}:
        try:
            return _from_integers(kind, options, pa.array(values, pa.int64()))
        except (OverflowError, pa.ArrowInvalid):
            pass
    texts = pa.array([None if value is None else str(value) for value in values], pa.string())
    plain = Options(percent=options.percent, round=options.round)
    if isinstance(kind, Integer | DecimalType | Float):
        return from_strings(kind, plain, texts)
    return nothing(kind, texts)


def nothing(kind: ValueType, array: Any) -> Converted:
    """All that is not null is refused."""
    return pa.nulls(len(array), value_type(kind)), pc.is_valid(array)


def _from_integers(kind: ValueType, options: Options, integers: Any) -> Converted:
    if isinstance(kind, Timestamp):
        form = next((form for form in options.format if form in EPOCH_MICROS or is_pattern(form)), None)
        return _epochs(form, integers) if form in EPOCH_MICROS else nothing(kind, integers)
    if isinstance(kind, Duration) and options.unit is not None:
        return pc.multiply_checked(integers, UNITS[options.unit]).cast(pa.duration("us")), None
    if isinstance(kind, Integer) and not options.percent:
        return integers, None
    if isinstance(kind, Float) and not options.percent:
        return integers.cast(pa.float64(), safe=False), None
    if isinstance(kind, DecimalType | Float | Integer):
        return from_strings(kind, Options(percent=options.percent), integers.cast(pa.string()))
    return nothing(kind, integers)


def _guarded(strings: Any, pattern: str, cast: Callable[[Any], Any]) -> Converted:
    """Casts the strings that match a pattern; the others are refused."""
    sure = regex_mask(strings, pattern)
    if all_true(sure):
        return cast(strings), None
    chosen = pc.if_else(sure, strings, pa.scalar(None, pa.string()))
    return cast(chosen), pc.fill_null(pc.invert(sure), False)


def _cast_or_pick(
    strings: Any, pattern: str, cast: Callable[[Any], Any], suspicious: Callable[[Any, Any], bool]
) -> Converted:
    """Casts the whole column; if that fails or `suspicious` finds something in the result, only what is sure."""
    try:
        array = cast(strings)
    except pa.ArrowInvalid:
        return _without_words(strings, pattern, cast, suspicious)
    return _guarded(strings, pattern, cast) if suspicious(array, strings) else (array, None)


def _without_words(
    strings: Any, pattern: str, cast: Callable[[Any], Any], suspicious: Callable[[Any, Any], bool]
) -> Converted:
    """What spoils a column is mostly words: all that begins after the digits in ASCII is left out by one comparison,
    which costs a tenth of a regular expression."""
    numeric = pc.less(strings, _AFTER_DIGITS)
    chosen = pc.if_else(numeric, strings, pa.scalar(None, pa.string()))
    try:
        array = cast(chosen)
    except pa.ArrowInvalid:
        return _guarded(strings, pattern, cast)
    if suspicious(array, chosen):
        return _guarded(strings, pattern, cast)
    return array, pc.fill_null(pc.invert(numeric), False)


# ---- numbers


def _digits(options: Options) -> Callable[[Any], Any]:
    """Turns numeric strings with marks into those that Arrow reads."""

    def plain(strings: Any) -> Any:
        if options.percent:
            strings = pc.binary_join_element_wise(pc.utf8_rtrim(strings, characters="%"), "e-2", "")
        if options.grouping:
            strings = pc.replace_substring(strings, options.grouping, "")
        return pc.replace_substring(strings, options.point, ".") if options.point != "." else strings

    return plain


def _is_plain(options: Options) -> bool:
    return not options.grouping and options.point == "." and not options.percent


def _marked_pattern(options: Options) -> str:
    """Numeric strings with the marks of these options, without an exponent."""
    pattern = numeric_pattern(options.grouping, options.point).removesuffix("(?:[eE][+-]?[0-9]+)?")
    return f"{pattern}%?" if options.percent else pattern


def _integers(options: Options, strings: Any) -> Converted:
    if options.percent:
        return nothing(Integer(), strings)
    sure = "-?[0-9]{1,18}"
    if options.grouping:
        mark = re.escape(options.grouping)
        sure = f"-?(?:[0-9]{{1,18}}|[0-9]{{1,3}}(?:{mark}[0-9]{{3}}){{1,5}})"
        return _guarded(strings, sure, lambda some: pc.replace_substring(some, options.grouping, "").cast(pa.int64()))

    def hexadecimal(_: Any, texts: Any) -> bool:
        """Arrow reads `0x1F`."""
        if all_true(pc.ascii_is_decimal(texts)):
            return False
        return any_true(pc.match_substring(texts, "x")) or any_true(pc.match_substring(texts, "X"))

    return _cast_or_pick(strings, sure, lambda some: some.cast(pa.int64()), hexadecimal)


def _floats(options: Options, strings: Any) -> Converted:
    def cast(some: Any) -> Any:
        return _digits(options)(some).cast(pa.float64())

    def too_large(array: Any, _: Any) -> bool:
        return not all_true(pc.is_finite(array))

    if not _is_plain(options):
        array, refused = _guarded(strings, _marked_pattern(options), cast)
        return _without_infinite(array, refused)
    array, refused = _cast_or_pick(strings, numeric_pattern(None, "."), cast, too_large)
    return _without_infinite(array, refused)


def _without_infinite(array: Any, refused: Any) -> Converted:
    infinite = pc.fill_null(pc.is_inf(array), False)
    if not any_true(infinite):
        return array, refused
    array = pc.if_else(infinite, pa.scalar(None, pa.float64()), array)
    return array, infinite if refused is None else pc.or_(refused, infinite)


def _decimals(kind: DecimalType, options: Options, strings: Any) -> Converted:
    whole = kind.precision - kind.scale
    target = value_type(kind)

    def cast(some: Any) -> Any:
        return _digits(options)(some).cast(target)

    if not _is_plain(options):
        if _may_wrap(kind, strings):
            return _picked_decimals(kind, options, strings, cast)
        try:
            return _guarded(strings, _marked_pattern(options), cast)
        except pa.ArrowInvalid:  # too many digits somewhere
            return _picked_decimals(kind, options, strings, cast)
    if whole == 0:
        return nothing(kind, strings)
    pattern = f"[+-]?[0-9]{{1,{whole}}}(?:\\.[0-9]{{0,{kind.scale}}})?"
    if _may_wrap(kind, strings) or _holds_exponent(strings):
        return _guarded(strings, pattern, cast)
    return _cast_or_pick(strings, pattern, cast, lambda _, __: False)


def _may_wrap(kind: DecimalType, strings: Any) -> bool:
    """Whether Arrow's cast, which multiplies the digits up to the scale in 128 bits and looks at the size only then,
    could come round to another number. In 128 bits are all numbers of 38 digits."""
    longest = pc.max(pc.binary_length(strings)).as_py()
    return longest is not None and longest + kind.scale > MAX_DIGITS


def _holds_exponent(strings: Any) -> bool:
    """Whether some text may have an exponent: Arrow loses digits by it, and `1e99999` ends the program."""
    data = strings.buffers()[2]
    return data is not None and any(mark in data.to_pybytes() for mark in (b"e", b"E"))


def _picked_decimals(kind: DecimalType, options: Options, strings: Any, cast: Callable[[Any], Any]) -> Converted:
    """With marks: those whose digits surely fit."""
    shift = 2 if options.percent else 0
    fraction = max(0, kind.scale - shift)
    whole = kind.precision - kind.scale
    if whole == 0:
        return nothing(kind, strings)
    marked = regex_mask(strings, _marked_pattern(options))
    plain = pc.replace_substring(strings, options.grouping, "") if options.grouping else strings
    point = re.escape(options.point)
    fits = regex_mask(plain, f"[+-]?[0-9]{{1,{whole}}}(?:{point}[0-9]{{0,{fraction}}})?{'%?' if shift else ''}")
    sure = pc.and_(marked, fits) if kind.scale >= shift else pc.and_(marked, pa.scalar(False))
    chosen = pc.if_else(sure, strings, pa.scalar(None, pa.string()))
    return cast(chosen), pc.fill_null(pc.invert(sure), False)


# ---- times


def _dates(strings: Any) -> Converted:
    def before_year_one(array: Any, _: Any) -> bool:
        first = pc.min(array.cast(pa.int32())).as_py()
        return first is not None and first < -719162

    return _cast_or_pick(strings, _DAY, lambda some: some.cast(pa.date32()), before_year_one)


def _datetimes(strings: Any) -> Converted:
    """ISO texts without an offset."""

    def short(array: Any, texts: Any) -> bool:
        """A date alone and hours alone are no date and time for us; Arrow reads them."""
        least = pc.min(pc.binary_length(texts)).as_py()
        return (least is not None and least < len("2031-04-01T10:22")) or outside_calendar(array)

    return _cast_or_pick(strings, _LOCAL, lambda some: some.cast(pa.timestamp("us")), short)


def _timestamps(options: Options, strings: Any) -> Converted:
    """ISO texts with an offset, or all without one; a column of both kinds, or of epochs, form by form."""
    if "iso" in options.format:
        for chosen in (strings, None):
            if chosen is None:  # most columns that fail have words in them
                numeric = pc.less(strings, _AFTER_DIGITS)
                chosen = pc.if_else(numeric, strings, pa.scalar(None, pa.string()))
            try:
                array = chosen.cast(UTC)
            except pa.ArrowInvalid:
                continue
            if not (_has_hours_alone(chosen) or outside_calendar(array)):
                return array, None if chosen is strings else pc.fill_null(pc.invert(numeric), False)
            break
    return _by_form(options, strings)


def _has_hours_alone(strings: Any) -> bool:
    """`2031-04-01T10Z`: Arrow reads it, we do not. With an offset such a text has 19 characters at most."""
    shortest = pc.min(pc.binary_length(strings)).as_py()
    if shortest is None or shortest >= len("2031-04-01T10:22:07Z"):
        return False
    return not all_true(pc.equal(pc.utf8_slice_codeunits(strings, 13, 14), ":"))


def outside_calendar(instants: Any) -> bool:
    """Whether an instant lies outside the years 1 to 9999."""
    bounds = pc.min_max(instants.cast(pa.int64()))
    first, last = bounds["min"].as_py(), bounds["max"].as_py()
    return first is not None and (first < FIRST_MICRO or last > LAST_MICRO)


def _by_form(options: Options, strings: Any) -> Converted:
    array = pa.nulls(len(strings), UTC)
    left = pc.is_valid(strings)
    epoch = next((form for form in options.format if form in EPOCH_MICROS), None)
    forms: list[tuple[str, Callable[[Any], Converted]]] = []
    if "iso" in options.format:
        forms.append((_LOCAL + _OFFSET, lambda some: (some.cast(UTC), None)))
        if options.zone:
            zone_name = options.zone
            forms.append((_LOCAL, lambda some: zoned.to_utc(some.cast(pa.timestamp("us")), zone_name, options.fold)))
    if epoch:
        forms.append((_EPOCH, lambda some: _epochs(epoch, some.cast(pa.int64()))))
    for pattern, convert in forms:
        sure = pc.fill_null(regex_mask(strings, pattern), False)
        if any_true(sure):
            found, refused = convert(pc.if_else(sure, strings, pa.scalar(None, pa.string())))
            array = pc.coalesce(array, found)
            done = sure if refused is None else pc.and_not(sure, refused)
            left = pc.and_not(left, done)
    return array, left if any_true(left) else None


def _epochs(form: str | None, integers: Any) -> Converted:
    """Whole epochs as instants; what would leave the calendar, and nanoseconds that are no microseconds, is refused."""
    power = EPOCH_MICROS[form or "epoch-s"]
    factor = 10 ** abs(power)
    if power >= 0:
        low, high = -(-FIRST_MICRO // factor), LAST_MICRO // factor
        fits = pc.and_(pc.greater_equal(integers, low), pc.less_equal(integers, high))
        chosen = integers if all_true(fits) else pc.if_else(fits, integers, pa.scalar(None, pa.int64()))
        micros = pc.multiply(chosen, factor)
    else:
        micros = pc.divide(integers, factor)
        fits = pc.equal(pc.multiply(micros, factor), integers)
        micros = pc.if_else(fits, micros, pa.scalar(None, pa.int64()))
    refused = None if all_true(fits) else pc.fill_null(pc.invert(fits), False)
    return micros.cast(UTC), refused
