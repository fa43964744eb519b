"""Texts of dates and times in other forms than ISO 8601: strptime patterns, and the dates of RFC 5322.

The standard library's own readers take more than these forms say (digits of other scripts, names of local zones, wrong
days of the week); what it may be given is checked before.
"""

from __future__ import annotations

import datetime as dt
import re

_DIRECTIVES = frozenset("aAwdbBmyYHIpMSfzjUWuVG%")
_DIRECTIVE = re.compile(r"%(.?)", re.DOTALL)
_DAYS = "Mon|Tue|Wed|Thu|Fri|Sat|Sun"
_MONTHS = "Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec"
_ZONES = {
    "UT": 0,
    "UTC": 0,
    "GMT": 0,
    "EST": -5,
    "EDT": -4,
    "CST": -6,
    "CDT": -5,
    "MST": -7,
    "MDT": -6,
    "PST": -8,
    "PDT": -7,
}
_RFC5322 = re.compile(
    rf"(?:({_DAYS}), ?)?([0-9]{{1,2}}) ({_MONTHS}) ([0-9]{{4}}) ([0-9]{{2}}):([0-9]{{2}})(?::([0-9]{{2}}))?"
    rf" (?:([+-])([0-9]{{2}})([0-9]{{2}})|({'|'.join(_ZONES)}))",
    re.IGNORECASE,
)


def directives(pattern: str) -> list[str]:
    """The directives of a strptime pattern, in order, without their percent signs."""
    return _DIRECTIVE.findall(pattern)


def pattern_problem(pattern: str, *, date: bool, time: bool) -> str | None:
    """Why a strptime pattern can't be used; `date`, `time`: whether it must give a whole date, or a time of day."""
    found = directives(pattern)
    for directive in found:
        if directive == "Z":
            return "%Z reads names of zones, which are ambiguous: %z reads offsets, zone names the zone"
        if directive not in _DIRECTIVES:
            return f"%{directive} is no directive that means the same everywhere"
    given = frozenset(found)
    if date and not _gives_date(given):
        return "it does not give a whole date: a year (%Y), a month (%m) and a day (%d)"
    if time and not given & {"H", "I"}:
        return "it gives no time of day: hours (%H) and minutes (%M)"
    if "I" in given and "p" not in given:
        return "%I counts to 12 and wants %p beside it"
    return None


def _gives_date(given: frozenset[str]) -> bool:
    year, month = given & {"Y", "y"}, given & {"m", "b", "B"}
    week_days = given & {"a", "A", "w", "u"}
    return bool(
        (year and ((month and "d" in given) or "j" in given or (given & {"U", "W"} and week_days)))
        or ({"G", "V"} <= given and week_days)
    )


def read_pattern(text: str, pattern: str) -> dt.datetime | None:
    """The moment that a text says by a strptime pattern, with English names; None if it does not fit."""
    if not text.isascii() and any(character.isdigit() and not character.isascii() for character in text):
        return None
    if text != text.strip() or "\n" in text:
        return None
    try:
        return dt.datetime.strptime(text, pattern)
    except ValueError:
        return None


def read_rfc5322(text: str) -> dt.datetime | None:
    """The moment of an RFC 5322 date-time, with its offset; None if it is none. A day of the week must be right."""
    match = _RFC5322.fullmatch(text)
    if not match:
        return None
    week_day, day, month, year, hour, minute, second, sign, off_hour, off_minute, name = match.groups()
    shift = _ZONES[name.upper()] * 60 if name else int(off_hour) * 60 + int(off_minute)
    if not name and (off_hour > "23" or off_minute > "59"):
        return None
    try:
        zone = dt.timezone(dt.timedelta(minutes=-shift if sign == "-" else shift))
        number = _MONTHS.lower().split("|").index(month.lower()) + 1
        moment = dt.datetime(int(year), number, int(day), int(hour), int(minute), int(second or 0), tzinfo=zone)
    except ValueError:
        return None
    if week_day and _DAYS.lower().split("|")[moment.weekday()] != week_day.lower():
        return None
    return moment
