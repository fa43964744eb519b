"""`timestamp`: ISO 8601 / RFC 3339 in the forms named and no other, epochs, RFC 5322, strptime
patterns.

A typed timestamp is an aware `datetime` in UTC with microseconds.
"""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass
from decimal import Decimal

from mukret.codes import Code
from mukret.types.base import COMMON_OPTIONS, Bad, Elsewhere, ReadingOptions, ValueType
from mukret.types.formats import Moment, is_pattern, read_pattern, read_rfc5322
from mukret.types.numbers import EXACT, LONGEST, decimal_of, rounded
from mukret.types.zones import MICROSECOND, offset_micros, zone
from mukret.values import JsonValue, Number

EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
FIRST_MICRO = (dt.datetime(1, 1, 1, tzinfo=dt.UTC) - EPOCH) // dt.timedelta(
    microseconds=1
)
LAST_MICRO = (dt.datetime.max.replace(tzinfo=dt.UTC) - EPOCH) // dt.timedelta(
    microseconds=1
)
# Power of ten that turns an epoch of this unit into microseconds.
EPOCH_MICROS = {"epoch-s": 6, "epoch-ms": 3, "epoch-us": 0, "epoch-ns": -3}

_DATE = re.compile(r"([0-9]{4})-([0-9]{2})-([0-9]{2})")
ISO_MOMENT = re.compile(
    r"([0-9]{4}-[0-9]{2}-[0-9]{2})[Tt ]([0-9]{2}):([0-9]{2})(?::([0-9]{2})(?:\.([0-9]+))?)?"
    r"(?:([Zz])|([+-])([0-9]{2})(?::?([0-9]{2}))?)?"
)
_DIGITS = re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?")
_TIMESTAMP_EXAMPLE = "such as 2031-04-01T10:22:07+02:00"


def read_date(text: str) -> dt.date:
    """`YYYY-MM-DD`. Raises Bad."""
    match = _DATE.fullmatch(text)
    try:
        if match:
            return dt.date(int(match[1]), int(match[2]), int(match[3]))
    except ValueError:
        pass
    raise Bad(Code.NOT_A_DATE, "a calendar date, such as 2031-04-01")


@dataclass(frozen=True)
class Timestamp(ValueType):
    """An instant, to the microsecond, between the years 1 and 9999 in UTC."""

    @property
    def name(self) -> str:
        return "timestamp"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            "dateTimeStamp",
            "timestamp with time zone",
            json_schema={"type": "string", "format": "date-time"},
        )

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"format", "zone", "fold", "round"}

    def convert(self, value: JsonValue, options: ReadingOptions) -> dt.datetime:
        return EPOCH + dt.timedelta(microseconds=self.micros(value, options))

    def micros(self, value: JsonValue, options: ReadingOptions) -> int:
        """Microseconds since 1970-01-01T00:00Z. Raises Bad."""
        if type(value) not in (str, int, Number):
            raise Bad(Code.WRONG_KIND, f"an instant, {_expected(options)}")
        for form in options.format:
            micros = self.by_form(value, form, options)
            if micros is not None:
                # With its offset it may lie outside them though its year does not.
                if not FIRST_MICRO <= micros <= LAST_MICRO:
                    raise Bad(
                        Code.OUT_OF_RANGE,
                        "an instant between the years 1 and 9999 in UTC",
                    )
                return micros
        raise Bad(Code.NOT_A_TIMESTAMP, f"an instant, {_expected(options)}")

    @staticmethod
    def by_form(value: JsonValue, form: str, options: ReadingOptions) -> int | None:
        """Microseconds since 1970 of a value in one form; None if it has another. Raises Bad."""
        if form in EPOCH_MICROS:
            return epoch_micros(value, form, options)
        if is_pattern(form):
            return _formed_micros(str(value), form, options)
        if type(value) is not str:
            return None
        return _iso_micros(value, options) if form == "iso" else _rfc5322_micros(value)

    def written(self, value: object) -> str:
        assert isinstance(value, dt.datetime)
        return f"{local_text(value)}Z"


def takes_numbers(options: ReadingOptions) -> bool:
    """Whether JSON numbers can be dates or times: epochs, or digits that a pattern reads."""
    return any(form in EPOCH_MICROS or is_pattern(form) for form in options.format)


def local_text(value: dt.datetime) -> str:
    """`YYYY-MM-DDTHH:MM:SS` with a fraction only if it is not zero, trailing zeros cut."""
    text = value.replace(tzinfo=None).isoformat()
    return text.rstrip("0") if value.microsecond else text


def _expected(options: ReadingOptions) -> str:
    examples = {
        "iso": _TIMESTAMP_EXAMPLE,
        "epoch-s": "such as 1932964927",
        "epoch-ms": "such as 1932964927000",
    }
    return " or ".join(examples.get(form, f"in {form}") for form in options.format)


def _iso_micros(text: str, options: ReadingOptions) -> int | None:
    """Microseconds of an ISO text; None if it has another form."""
    match = ISO_MOMENT.fullmatch(text)
    if not match:
        return None
    utc, sign, off_hour, off_minute = match.groups()[5:]
    if sign and (off_hour > "23" or (off_minute or "00") > "59"):
        raise Bad(Code.NOT_A_TIMESTAMP, "an offset of less than a day, such as +02:00")
    local = local_micros(match, options)
    if utc:
        return local
    if sign:
        shift = (int(off_hour) * 60 + int(off_minute or 0)) * 60_000_000
        # Local time less its offset is UTC.
        return local + shift if sign == "-" else local - shift
    return zoned_micros(local, options)


def zoned_micros(local: int, options: ReadingOptions) -> int:
    """Microseconds in UTC of a local time without an offset."""
    if options.zone is None:
        raise Bad(
            Code.NO_ZONE, "an offset or Z at the end (or say zone for local times)"
        )
    return local_to_utc(local, options.zone, options.fold)


def _rfc5322_micros(text: str) -> int | None:
    moment = read_rfc5322(text)
    return None if moment is None else (moment - EPOCH) // MICROSECOND


def _formed_micros(text: str, form: str, options: ReadingOptions) -> int | None:
    """Microseconds in UTC of a text in the form of a strptime pattern;
    None if it has another form.
    """
    moment = read_pattern(text, form)
    if moment is None:
        return None
    later = later_micros(moment, options)
    # The text says its offset; a zone of the rules is for those that do not.
    if moment.at.tzinfo is not None:
        return (moment.at - EPOCH) // MICROSECOND + later
    return zoned_micros(
        (moment.at - EPOCH.replace(tzinfo=None)) // MICROSECOND + later, options
    )


def later_micros(moment: Moment, options: ReadingOptions) -> int:
    """What the digits beyond a microsecond add: 0 or 1. Raises Bad."""
    six = f"{moment.at.microsecond:06}"
    return fraction_micros(six + moment.more_digits, options) - moment.at.microsecond


def local_micros(match: re.Match[str], options: ReadingOptions) -> int:
    """Microseconds since 1970 of the date and time in a match of ISO_MOMENT, its offset left aside.

    Raises Bad.
    """
    day_text, hour, minute, second, fraction = match.groups()[:5]
    second, fraction = second or "00", fraction or ""
    day = _calendar_day(day_text)
    # 24:00 is the end of the day (ISO 8601-1:2019/Amd 1), a second after it is nothing.
    is_midnight = (hour, minute, second) == ("24", "00", "00")
    ends_the_day = is_midnight and not fraction.strip("0")
    exists = ends_the_day or (hour < "24" and minute < "60" and second < "60")
    if day is None or not exists:
        raise Bad(
            Code.NOT_A_TIMESTAMP, f"a date and time that exist, {_TIMESTAMP_EXAMPLE}"
        )
    seconds = (int(hour) * 60 + int(minute)) * 60 + int(second)
    days = day.toordinal() - EPOCH.toordinal()
    return (days * 86400 + seconds) * 1_000_000 + fraction_micros(fraction, options)


def _calendar_day(text: str) -> dt.date | None:
    try:
        return read_date(text)
    except Bad:
        return None


def local_to_utc(local: int, name: str, fold: str | None) -> int:
    """Microseconds since the epoch in UTC of a local time in microseconds. Raises Bad."""
    if not FIRST_MICRO <= local <= LAST_MICRO:
        raise Bad(Code.OUT_OF_RANGE, "an instant between the years 1 and 9999 in UTC")
    moment = EPOCH.replace(tzinfo=None) + dt.timedelta(microseconds=local)
    return local - offset_micros(moment, zone(name), fold, name)


def fraction_micros(digits: str, options: ReadingOptions) -> int:
    """Microseconds of the digits after the point; more than six are rounded if asked, else bad
    unless zeros.
    """
    if len(digits) <= 6:
        return int(digits.ljust(6, "0"))
    # Noughts are no digits that could be lost.
    if not digits[6:].strip("0"):
        return int(digits[:6])
    if options.round is None or len(digits) > LONGEST:
        raise Bad(
            Code.TOO_MANY_DIGITS,
            "at most 6 digits of a second (or say round: half-even)",
        )
    micros = rounded(Decimal(f"{digits[:6]}.{digits[6:]}"), 0, options.round)
    assert micros is not None
    return int(micros)


def epoch_micros(value: JsonValue, form: str, options: ReadingOptions) -> int | None:
    text = str(value)
    if type(value) is str and not _DIGITS.fullmatch(text):
        return None
    power = EPOCH_MICROS[form]
    if type(value) is int and power >= 0:
        return int(value * 10**power)
    number = decimal_of(text)
    # Scaling it would take as many digits as it says.
    if number and number.adjusted() > 30:
        raise Bad(Code.OUT_OF_RANGE, "an instant between the years 1 and 9999 in UTC")
    micros = rounded(number.scaleb(power, EXACT), 0, options.round)
    if micros is None:
        raise Bad(
            Code.TOO_MANY_DIGITS,
            "at most a microsecond's digits (or say round: half-even)",
        )
    return int(micros)
