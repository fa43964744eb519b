"""`duration`: ISO 8601 durations of fixed length, hours and minutes, or a number of a unit, to the
microsecond.

A typed duration is a `timedelta`; it has at most 64 bits of microseconds.
"""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass
from decimal import Decimal

from mukret.codes import Code
from mukret.types.base import COMMON_OPTIONS, Bad, Elsewhere, ReadingOptions, ValueType
from mukret.types.numbers import EXACT, INT64_MAX, decimal_of, rounded
from mukret.values import JsonValue, Number

# Microseconds of each unit.
UNITS = {
    "ms": 1_000,
    "s": 1_000_000,
    "min": 60_000_000,
    "h": 3_600_000_000,
    "d": 86_400_000_000,
}

_PART = "([0-9]+(?:[.,][0-9]+)?)"
_ISO = re.compile(
    rf"([+-]?)P(?:{_PART}W|(?:{_PART}D)?(?:T(?:{_PART}H)?(?:{_PART}M)?(?:{_PART}S)?)?)",
    re.IGNORECASE,
)
_CLOCK = re.compile(r"([+-]?)([0-9]{1,9}):([0-5][0-9])(?::([0-5][0-9](?:\.[0-9]+)?))?")
_NUMBER = re.compile(r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]+)?")
_ISO_UNITS = (604_800_000_000, UNITS["d"], UNITS["h"], UNITS["min"], UNITS["s"])
_WRITTEN = r"^-?P([0-9]+D)?(T([0-9]+H)?([0-9]+M)?([0-9]+(\.[0-9]{1,6})?S)?)?$"
_EXAMPLE = "such as PT3H20M or 3:20"


@dataclass(frozen=True)
class Duration(ValueType):
    @property
    def name(self) -> str:
        return "duration"

    @property
    def elsewhere(self) -> Elsewhere:
        return Elsewhere(
            "dayTimeDuration",
            "interval",
            json_schema={"type": "string", "pattern": _WRITTEN},
        )

    @property
    def accepts_options(self) -> frozenset[str]:
        return COMMON_OPTIONS | {"round", "unit"}

    def convert(self, value: JsonValue, options: ReadingOptions) -> dt.timedelta:
        micros = rounded(self.micros(value, options), 0, options.round)
        if micros is None:
            raise Bad(
                Code.TOO_MANY_DIGITS,
                "at most a microsecond's digits (or say round: half-even)",
            )
        if abs(micros) > INT64_MAX:
            raise _out_of_range()
        return dt.timedelta(
            microseconds=int(micros)
        )  # a timedelta holds more than 64 bits

    def micros(self, value: JsonValue, options: ReadingOptions) -> Decimal:
        kind = type(value)
        if kind is int or kind is Number or (kind is str and _NUMBER.fullmatch(value)):
            # 90 of what? Nothing is guessed.
            if options.unit is None:
                raise Bad(
                    Code.NOT_A_DURATION,
                    f"a duration, {_EXAMPLE} (or say unit for numbers)",
                )
            return _times(str(value), UNITS[options.unit])
        if kind is not str:
            raise Bad(Code.WRONG_KIND, f"a duration, {_EXAMPLE}")
        micros = _iso(value) if "P" in value or "p" in value else _clock(value)
        if micros is None:
            raise Bad(Code.NOT_A_DURATION, f"a duration, {_EXAMPLE}")
        return micros

    def written(self, value: object) -> str:
        assert isinstance(value, dt.timedelta)
        return duration_text(value)


def in_64_bits(value: dt.timedelta) -> bool:
    """Whether a column of durations can hold it."""
    return abs(value // dt.timedelta(microseconds=1)) <= INT64_MAX


def _out_of_range() -> Bad:
    return Bad(
        Code.OUT_OF_RANGE,
        "a duration of at most 64 bits of microseconds (292,000 years)",
    )


def _times(text: str, micros: int) -> Decimal:
    number = decimal_of(text.replace(",", "."))
    if number and number.adjusted() > 20:
        raise _out_of_range()
    return EXACT.multiply(number, Decimal(micros))


def _iso(text: str) -> Decimal | None:
    """Years and months have no fixed length, so they are refused.

    Only the last part may have a fraction.
    """
    match = _ISO.fullmatch(text)
    if match is None or text[-1] in "Tt":
        return None
    parts = match.groups()[1:]
    given = [part for part in parts if part is not None]
    # `P` alone is none, and ISO 8601 lets only the smallest unit have a fraction.
    if not given or any("." in part or "," in part for part in given[:-1]):
        return None
    total = Decimal(0)
    for part, unit in zip(parts, _ISO_UNITS, strict=True):
        if part is not None:
            total = EXACT.add(total, _times(part, unit))
    return EXACT.minus(total) if match[1] == "-" else total


def _clock(text: str) -> Decimal | None:
    match = _CLOCK.fullmatch(text)
    if not match:
        return None
    sign, hours, minutes, seconds = match.groups()
    # Exact decimals: 0.1 seconds are no float here.
    total = (
        _times(hours, UNITS["h"])
        + _times(minutes, UNITS["min"])
        + _times(seconds or "0", UNITS["s"])
    )
    return EXACT.minus(total) if sign == "-" else total


def duration_text(value: dt.timedelta) -> str:
    """ISO 8601: `[-]P[nD][T[nH][nM][n[.f]S]]`, `PT0S` for none."""
    micros = value // dt.timedelta(microseconds=1)
    sign, micros = ("-", -micros) if micros < 0 else ("", micros)
    days, micros = divmod(micros, UNITS["d"])
    hours, micros = divmod(micros, UNITS["h"])
    minutes, micros = divmod(micros, UNITS["min"])
    seconds, micros = divmod(micros, UNITS["s"])
    # No noughts at the end: one text for one duration.
    fraction = f".{micros:06d}".rstrip("0") if micros else ""
    clock = (f"{hours}H" if hours else "") + (f"{minutes}M" if minutes else "")
    clock += f"{seconds}{fraction}S" if seconds or fraction else ""
    if not days and not clock:
        return "PT0S"
    return f"{sign}P{f'{days}D' if days else ''}{f'T{clock}' if clock else ''}"
