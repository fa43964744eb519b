"""`date`, `time` and `datetime`: what stands on a calendar and a clock, without a zone."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass

from mukret.codes import Code
from mukret.types.base import COMMON_OPTIONS, Bad, Elsewhere, ReadingOptions, ValueType
from mukret.types.formats import is_pattern, read_pattern, read_rfc5322
from mukret.types.instants import (
    EPOCH,
    EPOCH_MICROS,
    FIRST_MICRO,
    ISO_MOMENT,
    LAST_MICRO,
    epoch_micros,
    fraction_micros,
    later_micros,
    local_micros,
    local_text,
    read_date,
    takes_numbers,
)
from mukret.values import JsonValue, Number

_TIME = re.compile(r"([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:\.([0-9]+))?)?")
_DAY_TEXT = "[0-9]{4}-[0-9]{2}-[0-9]{2}"
# How days and times are written, as patterns of JSON Schema (ECMA-262).
_CLOCK_TEXT = r"[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{1,6})?"
_DATETIME_EXAMPLE = "such as 2031-04-01T10:22:07, without an offset"
_TIME_EXAMPLE = "such as 10:22 or 10:22:07"


@dataclass(frozen=True)
class Date(ValueType):
    """A day of the calendar, from the year 1 to 9999."""

    @property
    def name(self) -> str:
        return "date"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            "date", "date", json_schema={"type": "string", "format": "date"}
        )

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"format"}

    def convert(self, value: JsonValue, options: ReadingOptions) -> dt.date:
        if type(value) is not str and not (
            type(value) in (int, Number) and takes_numbers(options)
        ):
            raise Bad(
                Code.WRONG_KIND,
                f"a string with a calendar date, {_date_examples(options)}",
            )
        # In the order of the rules: the first that fits counts.
        for form in options.format:
            day = self.by_form(value, form, options)
            if day is not None:
                return day
        raise Bad(Code.NOT_A_DATE, f"a calendar date, {_date_examples(options)}")

    @staticmethod
    def by_form(value: JsonValue, form: str, options: ReadingOptions) -> dt.date | None:
        """Of a moment the date as it stands there; of an epoch the date in UTC."""
        if form in EPOCH_MICROS:
            micros = epoch_micros(value, form, options)
            if micros is None:
                return None
            if not FIRST_MICRO <= micros <= LAST_MICRO:
                raise Bad(Code.OUT_OF_RANGE, "a date between the years 1 and 9999")
            return (EPOCH + dt.timedelta(microseconds=micros)).date()
        if is_pattern(form):
            # A pattern may have more than a date: what follows is left aside.
            moment = read_pattern(str(value), form)
            return moment.at.date() if moment else None
        if type(value) is not str:
            return None
        if form == "rfc5322":
            at = read_rfc5322(value)
            return at.date() if at else None
        try:
            return read_date(value)
        except Bad:
            return None

    def written(self, value: object) -> str:
        assert isinstance(value, dt.date)
        return value.isoformat()


def _date_examples(options: ReadingOptions) -> str:
    if options.format == ("iso",):
        return "such as 2031-04-01"
    words = {"iso": "ISO form, such as 2031-04-01"}
    return "in " + " or ".join(words.get(form, form) for form in options.format)


@dataclass(frozen=True)
class Time(ValueType):
    """A time of day, to the microsecond."""

    @property
    def name(self) -> str:
        return "time"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            "time",
            "time without time zone",
            json_schema={"type": "string", "pattern": f"^{_CLOCK_TEXT}$"},
        )

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"format", "round"}

    def convert(self, value: JsonValue, options: ReadingOptions) -> dt.time:
        if type(value) is not str and not (
            type(value) in (int, Number) and takes_numbers(options)
        ):
            raise Bad(Code.WRONG_KIND, f"a string with a time of day, {_TIME_EXAMPLE}")
        # In their order: the first that fits is taken, also where a later one would fit.
        for form in options.format:
            time = (
                _formed_time(value, form, options)
                if is_pattern(form)
                else _iso_time(value, options)
            )
            if time is not None:
                return time
        words = {"iso": _TIME_EXAMPLE}
        expected = " or ".join(words.get(form, f"in {form}") for form in options.format)
        raise Bad(Code.NOT_A_TIME, f"a time of day, {expected}")

    def written(self, value: object) -> str:
        assert isinstance(value, dt.time)
        text = value.isoformat()
        return text.rstrip("0") if value.microsecond else text


def _iso_time(value: JsonValue, options: ReadingOptions) -> dt.time | None:
    match = _TIME.fullmatch(value) if type(value) is str else None
    if not match:
        return None
    hour, minute, second, fraction = match.groups()
    if hour > "23" or minute > "59" or (second or "00") > "59":
        return None
    start = dt.time(int(hour), int(minute), int(second or 0))
    return _later_that_day(start, fraction_micros(fraction or "", options))


def _formed_time(
    value: JsonValue, form: str, options: ReadingOptions
) -> dt.time | None:
    moment = read_pattern(str(value), form)
    if moment is None or moment.at.tzinfo is not None:
        return None
    return _later_that_day(moment.at.time(), later_micros(moment, options))


def _later_that_day(time: dt.time, micros: int) -> dt.time | None:
    """So many microseconds later; None where that would be the next day."""
    moment = dt.datetime.combine(dt.date.min, time) + dt.timedelta(microseconds=micros)
    return moment.time() if moment.date() == dt.date.min else None


@dataclass(frozen=True)
class Datetime(ValueType):
    """A local date and time with no zone, to the microsecond."""

    @property
    def name(self) -> str:
        return "datetime"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            "dateTime",
            "timestamp without time zone",
            json_schema={"type": "string", "pattern": f"^{_DAY_TEXT}T{_CLOCK_TEXT}$"},
        )

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"format", "round"}

    def convert(self, value: JsonValue, options: ReadingOptions) -> dt.datetime:
        if type(value) is not str and not (
            type(value) in (int, Number) and takes_numbers(options)
        ):
            raise Bad(
                Code.WRONG_KIND,
                f"a string with a local date and time, {_DATETIME_EXAMPLE}",
            )
        for form in options.format:
            moment = (
                _formed_datetime(value, form, options)
                if is_pattern(form)
                else _iso_datetime(value, options)
            )
            if moment is not None:
                return moment
        # All forms are named: nobody knows which of them was meant.
        words = {"iso": _DATETIME_EXAMPLE}
        expected = " or ".join(words.get(form, f"in {form}") for form in options.format)
        raise Bad(Code.NOT_A_DATETIME, f"a local date and time, {expected}")

    def written(self, value: object) -> str:
        assert isinstance(value, dt.datetime)
        return local_text(value)


def _formed_datetime(
    value: JsonValue, form: str, options: ReadingOptions
) -> dt.datetime | None:
    moment = read_pattern(str(value), form)
    if moment is None or moment.at.tzinfo is not None:
        return None
    try:
        return moment.at + dt.timedelta(microseconds=later_micros(moment, options))
    except OverflowError:
        raise _outside() from None


def _outside() -> Bad:
    return Bad(Code.OUT_OF_RANGE, "a date and time between the years 1 and 9999")


def _iso_datetime(value: JsonValue, options: ReadingOptions) -> dt.datetime | None:
    match = ISO_MOMENT.fullmatch(value) if type(value) is str else None
    # With an offset it is an instant, no local time.
    if not match or match[6] or match[7]:
        return None
    try:
        micros = local_micros(match, options)
    except Bad as bad:
        raise (
            bad
            if bad.code == Code.TOO_MANY_DIGITS
            else Bad(
                Code.NOT_A_DATETIME, f"a date and time that exist, {_DATETIME_EXAMPLE}"
            )
        ) from None
    if not FIRST_MICRO <= micros <= LAST_MICRO:
        raise _outside()
    return EPOCH.replace(tzinfo=None) + dt.timedelta(microseconds=micros)
