"""`date`, `time` and `datetime`: what stands on a calendar and a clock, without a zone."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass

from mukret.types.base import COMMON_OPTIONS, Bad, Options, ValueType
from mukret.types.formats import read_pattern, read_rfc5322
from mukret.types.instants import (
    EPOCH,
    EPOCH_MICROS,
    FIRST_MICRO,
    ISO_MOMENT,
    LAST_MICRO,
    epoch_micros,
    fraction_micros,
    local_micros,
    local_text,
    read_date,
)
from mukret.values import JsonValue, Number

_TIME = re.compile(r"([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:\.([0-9]+))?)?")
_DATETIME_EXAMPLE = "such as 2031-04-01T10:22:07, without an offset"
_TIME_EXAMPLE = "such as 10:22 or 10:22:07"


@dataclass(frozen=True)
class Date(ValueType):
    """A day of the calendar, from the year 1 to 9999."""

    @property
    def name(self) -> str:
        return "date"

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"format"}

    def convert(self, value: JsonValue, options: Options) -> dt.date:
        kinds = (str, int, Number) if any(form in EPOCH_MICROS for form in options.format) else (str,)
        if type(value) not in kinds:
            raise Bad("wrong-kind", f"a string with a calendar date, {_date_examples(options)}")
        for form in options.format:
            found = self.by_form(value, form, options)
            if found is not None:
                return found
        raise Bad("not-a-date", f"a calendar date, {_date_examples(options)}")

    @staticmethod
    def by_form(value: JsonValue, form: str, options: Options) -> dt.date | None:
        """Of a moment the date as it stands there; of an epoch the date in UTC."""
        if form in EPOCH_MICROS:
            micros = epoch_micros(value, form, options)
            if micros is None:
                return None
            if not FIRST_MICRO <= micros <= LAST_MICRO:
                raise Bad("out-of-range", "a date between the years 1 and 9999")
            return (EPOCH + dt.timedelta(microseconds=micros)).date()
        if type(value) is not str:
            return None
        if form == "iso":
            try:
                return read_date(value)
            except Bad:
                return None
        moment = read_rfc5322(value) if form == "rfc5322" else read_pattern(value, form)
        return moment.date() if moment else None

    def written(self, value: object) -> str:
        assert isinstance(value, dt.date)
        return value.isoformat()


def _date_examples(options: Options) -> str:
    if options.format == ("iso",):
        return "such as 2031-04-01"
    return "in " + " or ".join("ISO form, such as 2031-04-01" if form == "iso" else form for form in options.format)


@dataclass(frozen=True)
class Time(ValueType):
    """A time of day, to the microsecond."""

    @property
    def name(self) -> str:
        return "time"

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"format", "round"}

    def convert(self, value: JsonValue, options: Options) -> dt.time:
        if type(value) is not str:
            raise Bad("wrong-kind", f"a string with a time of day, {_TIME_EXAMPLE}")
        for form in options.format:
            if form == "iso":
                found = _iso_time(value, options)
            else:
                moment = read_pattern(value, form)
                found = moment.time() if moment and moment.tzinfo is None else None
            if found is not None:
                return found
        expected = " or ".join(_TIME_EXAMPLE if form == "iso" else f"in {form}" for form in options.format)
        raise Bad("not-a-time", f"a time of day, {expected}")

    def written(self, value: object) -> str:
        assert isinstance(value, dt.time)
        text = value.isoformat()
        return text.rstrip("0") if value.microsecond else text


def _iso_time(text: str, options: Options) -> dt.time | None:
    match = _TIME.fullmatch(text)
    if not match:
        return None
    hour, minute, second, fraction = match.groups()
    if hour > "23" or minute > "59" or (second or "00") > "59":
        return None
    micros = fraction_micros(fraction or "", options)
    if micros == 1_000_000:  # rounded up into the next second, which must exist in this day
        later = dt.datetime(1, 1, 1, int(hour), int(minute), int(second or 0)) + dt.timedelta(seconds=1)
        return later.time() if later.day == 1 else None
    return dt.time(int(hour), int(minute), int(second or 0), micros)


@dataclass(frozen=True)
class Datetime(ValueType):
    """A local date and time with no zone, to the microsecond."""

    @property
    def name(self) -> str:
        return "datetime"

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"format", "round"}

    def convert(self, value: JsonValue, options: Options) -> dt.datetime:
        if type(value) is not str:
            raise Bad("wrong-kind", f"a string with a local date and time, {_DATETIME_EXAMPLE}")
        for form in options.format:
            found = _iso_datetime(value, options) if form == "iso" else read_pattern(value, form)
            if found is not None and found.tzinfo is None:
                return found
        expected = " or ".join(_DATETIME_EXAMPLE if form == "iso" else f"in {form}" for form in options.format)
        raise Bad("not-a-datetime", f"a local date and time, {expected}")

    def written(self, value: object) -> str:
        assert isinstance(value, dt.datetime)
        return local_text(value)


def _iso_datetime(text: str, options: Options) -> dt.datetime | None:
    match = ISO_MOMENT.fullmatch(text)
    if not match or match[6] or match[7]:
        return None
    try:
        micros = local_micros(match, options)
    except Bad as bad:
        raise (
            bad
            if bad.code == "too-many-digits"
            else Bad("not-a-datetime", f"a date and time that exist, {_DATETIME_EXAMPLE}")
        ) from None
    if not FIRST_MICRO <= micros <= LAST_MICRO:
        raise Bad("out-of-range", "a date and time between the years 1 and 9999")
    return EPOCH.replace(tzinfo=None) + dt.timedelta(microseconds=micros)
