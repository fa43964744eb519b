"""Texts of dates and times in other forms than ISO 8601: strptime patterns, and the dates of RFC
5322.

The standard library's own readers take more than these forms say (digits of other scripts, names of
local zones, wrong days of the week); what it may be given is checked before.
"""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass
from functools import lru_cache

# No moment is written in more characters.
LONGEST_TEXT = 200
_DIRECTIVES = frozenset("aAwdbBmyYHIpMSfzjUWuVG%")
_HOURS = frozenset("HI")
_CLOCK = frozenset("HIpMSf")
# Directives that read numbers, with all the digits that they can have; %f reads any number of them.
_WIDTHS = {
    **dict.fromkeys("YG", 4),
    "j": 3,
    **dict.fromkeys("ymdHIMSUWV", 2),
    "u": 1,
    "w": 1,
}
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
    rf"(?:({_DAYS}), ?)?([0-9]{{1,2}}) ({_MONTHS}) ([0-9]{{4}}) "
    rf"([0-9]{{2}}):([0-9]{{2}})(?::([0-9]{{2}}))?"
    rf" (?:([+-])([0-9]{{2}})([0-9]{{2}})|({'|'.join(_ZONES)}))",
    re.IGNORECASE,
)


def is_pattern(form: str) -> bool:
    """Whether the name of a format is a strptime pattern."""
    return "%" in form


def directives(pattern: str) -> list[str]:
    """The directives of a strptime pattern, in order, without their percent signs."""
    return _DIRECTIVE.findall(pattern)


def pattern_problem(pattern: str, *, date: bool, time: bool) -> str | None:
    """Why a strptime pattern can't be used; `date`, `time`: whether it must give a date, or a time
    of day.

    It may leave out what is smaller than its smallest part, which is then the first there is; never
    what is larger.
    """
    used = directives(pattern)
    for directive in used:
        # `CST` is three zones; Python takes it for that of the machine it runs on.
        if directive == "Z":
            return (
                "%Z reads names of zones, which are ambiguous: %z reads offsets, zone names "
                "the zone"
            )
        if directive not in _DIRECTIVES:
            return f"%{directive} is no directive that means the same everywhere"
        if directive != "%" and used.count(directive) > 1:
            return f"%{directive} stands there twice"
    given = frozenset(used)
    if date:
        problem = _date_problem(given)
    else:
        problem = (
            None
            if given & _HOURS or not time
            else "it gives no time of day: hours (%H) and minutes (%M)"
        )
    return problem or _clock_problem(given)


def _date_problem(given: frozenset[str]) -> str | None:
    """Why directives give no date: the year may stand alone, and a month without a day, but nothing
    smaller alone.
    """
    year, month, week_day = (
        given & {"Y", "y", "G"},
        given & {"m", "b", "B"},
        given & {"a", "A", "w", "u"},
    )
    if not year:
        return "it gives no date: a year (%Y) is missing"
    if ("G" in given) != ("V" in given) or (given & {"U", "W", "V"} and not week_day):
        return (
            "a week goes with its year and a day of it: %G-W%V-%u, or %Y with %U or %W and %a "
            "or %w"
        )
    # Days count within a month, a year or a week: one of these must be told.
    whole_date = (month and "d" in given) or given & {"j", "U", "W", "V"}
    if "d" in given and not month:
        return "it gives a day without its month (%m)"
    if given & _CLOCK and not whole_date:
        return (
            "it gives a time without the whole date before it: a year (%Y), a month (%m) and a "
            "day (%d)"
        )
    return None


def _clock_problem(given: frozenset[str]) -> str | None:
    if given & {"M", "S", "f"} and not given & _HOURS:
        return "it gives minutes or seconds without hours (%H)"
    if given & {"S", "f"} and "M" not in given:
        return "it gives seconds without minutes (%M)"
    if "f" in given and "S" not in given:
        return "it gives a fraction without seconds (%S)"
    # 7 o'clock could be morning or evening, and strptime would take the morning.
    if "I" in given and "p" not in given:
        return "%I counts to 12 and wants %p beside it"
    if "p" in given and "I" not in given:
        return "%p says which half of the day and wants %I beside it, hours that count to 12"
    return None


@lru_cache(maxsize=200)
def _strict(pattern: str) -> re.Pattern[str]:
    """What a text of the pattern looks like, where the standard library is not strict: numbers
    without anything between them have all their digits, and a fraction of a second any number of
    them, those after the sixth apart.
    """
    matches = list(_DIRECTIVE.finditer(pattern))
    ends = {match.end() for match in matches if match[1] in _WIDTHS}
    starts = {
        match.start() for match in matches if match[1] in _WIDTHS or match[1] == "f"
    }
    parts: list[str] = []
    at = 0
    for match in matches:
        parts.append(_literal(pattern[at : match.start()]))
        # strptime takes one digit for two where nothing stands between: `1112031` would be a date
        # in two ways.
        joined = match.start() in ends or match.end() in starts
        parts.append(_directive_pattern(match[1], joined=joined))
        at = match.end()
    return re.compile("".join([*parts, _literal(pattern[at:])]), re.IGNORECASE)


def _directive_pattern(directive: str, *, joined: bool) -> str:
    if directive in _WIDTHS:
        width = _WIDTHS[directive]
        return f"[0-9]{{{width}}}" if joined else f" ?[0-9]{{1,{width}}}"
    return {"f": "[0-9]{1,6}(?P<more>[0-9]*)", "z": "(?:Z|[+-][0-9:.]+)", "%": "%"}.get(
        directive, "[a-z]+"
    )


def _literal(text: str) -> str:
    """Text between directives; white space stands for any, as the standard library has it."""
    return re.sub(r"(?:\\?\s)+", r"\\s+", re.escape(text))


@dataclass(frozen=True)
class Moment:
    """What a text says by a pattern, and the digits of its fraction beyond microseconds."""

    at: dt.datetime
    more_digits: str = ""


def read_pattern(text: str, pattern: str) -> Moment | None:
    """The moment that a text says by a strptime pattern, with English names; None if it does not
    fit.
    """
    if len(text) > LONGEST_TEXT or text != text.strip() or "\n" in text:
        return None
    if _has_other_digits(text):
        return None
    match = _strict(pattern).fullmatch(text)
    if match is None:
        return None
    # Python keeps six digits of a second: further ones are cut out, and told to the caller.
    more = match.groupdict().get("more") or ""
    if more:
        start, end = match.span("more")
        text = text[:start] + text[end:]
    try:
        return Moment(dt.datetime.strptime(text, pattern), more)
    except ValueError:
        return None


def _has_other_digits(text: str) -> bool:
    """Whether there are digits of other scripts: strptime takes them, no type here does."""
    return not text.isascii() and any(
        character.isdigit() and not character.isascii() for character in text
    )


def read_rfc5322(text: str) -> dt.datetime | None:
    """The moment of an RFC 5322 date-time, with its offset; None if the text is not one.

    A day of the week must be right.
    """
    match = _RFC5322.fullmatch(text)
    if not match:
        return None
    (
        week_day,
        day,
        month,
        year,
        hour,
        minute,
        second,
        sign,
        off_hour,
        off_minute,
        name,
    ) = match.groups()
    shift = _ZONES[name.upper()] * 60 if name else int(off_hour) * 60 + int(off_minute)
    if not name and (off_hour > "23" or off_minute > "59"):
        return None
    try:
        zone = dt.timezone(dt.timedelta(minutes=-shift if sign == "-" else shift))
        number = _MONTHS.lower().split("|").index(month.lower()) + 1
        moment = dt.datetime(
            int(year),
            number,
            int(day),
            int(hour),
            int(minute),
            int(second or 0),
            tzinfo=zone,
        )
    except ValueError:
        return None
    # A wrong weekday is a sign that one of the two is a slip.
    if week_day and _DAYS.lower().split("|")[moment.weekday()] != week_day.lower():
        return None
    return moment
