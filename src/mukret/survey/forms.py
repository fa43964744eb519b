"""What one text looks like: a number with its marks, an instant, a date, a word for true or false,
an address …

A form says how a value is written, not what it is worth: `kr 1,204.50` and `kr 12.00` have one
form. What a whole place holds is decided later, from the forms of all its values (`looks.py`).
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Collection
from functools import lru_cache
from typing import NamedTuple

from mukret.documents import NotJson, decode

# Longer texts are only asked whether they hold JSON.
LONGEST = 200
LONGEST_JSON = 100_000
LONGEST_ITEM = 40
# Longer runs of digits before and after a mark are numbers of their own: a number would have more
# marks.
LONGEST_GROUP = 6


class Form(NamedTuple):
    """How a text is written.

    `kind` is one of the families below, `detail` how exactly within the family.
    """

    kind: str
    detail: tuple[str, ...] = ()


class NumberForm(NamedTuple):
    """The marks of a number in a text.

    `either`: a single comma or point before three digits, which could be one or the other.
    """

    kind: str = "number"
    before: str = ""
    after: str = ""
    grouping: str = ""
    point: str = ""
    either: bool = False
    percent: bool = False
    accounting: bool = False
    leading_zeros: bool = False
    exponent: bool = False
    decimals: int = 0


AnyForm = Form | NumberForm

EMPTY = Form("empty")
PLACEHOLDER = Form("placeholder")
BOOLEAN = Form("boolean")
TEXT = Form("text")
CODE = Form("code")
JSON_TEXT = Form("json")
ADDRESS = Form("address")
MAIL = Form("mail")
UUID = Form("uuid")
IMPOSSIBLE = Form("impossible-date")
# Several short words without blanks in them, by the mark between them.
LISTS = {mark: Form("list", (mark,)) for mark in (",", ";", "|")}

_BOOLEANS = frozenset({"true", "false", "yes", "no", "y", "n", "on", "off", "t", "f"})
_PLACEHOLDERS = frozenset(
    {
        "n/a",
        "na",
        "n.a.",
        "none",
        "null",
        "nil",
        "nan",
        "-",
        "--",
        "–",
        "—",
        "?",
        "??",
        "unknown",
        "undefined",
        "tbd",
        "tba",
        "missing",
        "not available",
        "#n/a",
        "(null)",
        "<null>",
    }
)
_CURRENCY = "$€£¥₹₽₩₺₴₪฿₫₱"
_UNIT = (
    "mm|cm|m|km|nm|NM|mi|ft|in|yd|kg|g|mg|lb|oz|ml|h|hr|hrs|min|mins|s|sec|ms|"
    "kn|kt|kts|kph|km/h|mph|m/s|kW|kWh|MW|Hz|"
    "°|°C|°F|hPa|mb|bar|px|kB|KB|MB|GB|TB|ppm"
)
_MONEY_WORD = re.compile(
    "(?:kr|rs|rm|z[lł]|lei|ft|k[cč]|r|us|eur|usd|gbp|jpy|cny|inr|aud|cad|chf|nok|sek|dkk|isk|pln|"
    "czk|huf|ron|bgn|try|rub|uah|ils|zar|brl|mxn|ars|clp|cop|pen|krw|twd|hkd|sgd|myr|thb|idr|php|"
    "vnd|aed|sar|egp|ngn|kes|nzd)[.]?",
    re.IGNORECASE,
)
_SPACES = " \u00a0\u202f\u2009"


def _ascii(pattern: str, flags: re.RegexFlag = re.RegexFlag.NOFLAG) -> re.Pattern[str]:
    """Digits of other scripts do not count as digits: no type reads them either."""
    return re.compile(pattern, re.ASCII | flags)


_NUMBER = _ascii(
    rf"(?P<before>[{_CURRENCY}]|[A-Za-z{_CURRENCY}]{{1,3}}\.?[{_SPACES}])?[{_SPACES}]*"
    r"(?P<sign>[+-])?"
    # Groups of three, India's groups of two before a last one of three, or no groups.
    rf"(?P<whole>\d{{1,3}}(?:(?P<mark>[,.'’{_SPACES}])\d{{3}})(?:(?P=mark)\d{{3}})*|"
    r"\d{1,2}(?:,\d{2})+,\d{3}|\d+)?"
    r"(?:(?P<point>[.,])(?P<fraction>\d*))?"
    r"(?P<exponent>[eE][+-]?\d+)?"
    # Known units directly behind the digits, any short word behind a blank.
    rf"(?P<after>[{_SPACES}]*(?:%|[{_CURRENCY}]|(?:{_UNIT})(?![A-Za-z]))|"
    rf"[{_SPACES}]+[A-Za-zµ°][A-Za-z°²³/.]{{0,9}})?"
)
_ISO = _ascii(
    r"(\d{4}-\d{2}-\d{2})(?:([Tt "
    r"])(\d{2}):(\d{2})(?::(\d{2})(?:[.,](\d+))?)?\s?([Zz]|[+-]\d{2}(?::?\d{2})?)?)?"
)
_BASIC = _ascii(r"(\d{4})(\d{2})(\d{2})(?:[Tt](\d{2})(\d{2})(\d{2})?([Zz])?)?")
_DAY_FIRST = _ascii(r"(\d{1,2})([/.-])(\d{1,2})\2(\d{4}|\d{2})(?:,?\s+(.*))?")
_YEAR_FIRST = _ascii(r"(\d{4})([/.])(\d{1,2})\2(\d{1,2})(?:,?\s+(.*))?")
_MONTHS = (
    "Jan(?:uary)?|Feb(?:ruary)?|Mar(?:ch)?|Apr(?:il)?|May|June?|July?|Aug(?:ust)?|"
    "Sept?(?:ember)?|Oct(?:ober)?|Nov(?:ember)?|Dec(?:ember)?"
)
_DAY_MONTH = _ascii(
    rf"(\d{{1,2}})([ -])({_MONTHS})([ -])(\d{{4}})(?:,?\s+(.*))?", re.IGNORECASE
)
_YEAR_MONTH = _ascii(
    rf"(\d{{4}})([ -])({_MONTHS})\2(\d{{1,2}})(?:,?\s+(.*))?", re.IGNORECASE
)
_MONTH_DAY = _ascii(
    rf"({_MONTHS}) (\d{{1,2}})(,?) (\d{{4}})(?:,?\s+(.*))?", re.IGNORECASE
)
_RFC5322 = _ascii(
    r"(?:(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun), ?)?\d{1,2} "
    r"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) \d{4} "
    r"\d{2}:\d{2}(?::\d{2})? (?:[+-]\d{4}|GMT|UTC?|[ECMP][SD]T|Z)",
    re.IGNORECASE,
)
_CTIME = _ascii(
    r"(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun) (?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec) [ \d]\d "
    r"\d{2}:\d{2}:\d{2} "
    r"([+-]\d{4} )?\d{4}"
)
_CLOCK = _ascii(r"(\d{1,3}):([0-5]\d)(?::([0-5]\d)(\.\d{1,9})?)?(?:( ?)([AaPp])[Mm])?")
_ISO_DURATION = _ascii(
    r"[+-]?P(?=\d|T\d)(?:\d+Y)?(?:\d+M)?(?:\d+W)?(?:\d+D)?(?:T(?:\d+H)?(?:\d+M)?(?:\d+(?:[.,]\d+)?S)?)?"
)
_ADDRESS = re.compile(
    r"[A-Za-z][A-Za-z0-9+.-]*://[^\s<>\"]+|www\.[^\s<>\"]+\.[^\s<>\"]+|/[\w~%.{}:@+-]+(?:/[\w~%.{}:@+-]*)*(?:\?\S*)?"
)
_LIST = re.compile(
    r"[\w:/@+-]+(?:\.[\w-]+)*(?P<mark>[,;|])[ ]?(?:[\w:/@+-]+(?:\.[\w-]+)*(?:(?P=mark)[ ]?|(?=$)))+"
)
_MAIL = re.compile(r"[^\s@<>,;]+@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+")
_UUID = re.compile(r"[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}")
_CODE = re.compile(
    r"(?=.*\d|[A-Z])[A-Z0-9][A-Z0-9_./:-]*|(?=.*\d)[A-Za-z0-9][A-Za-z0-9_./:-]*"
)


_DIGITS = bytes.maketrans(b"0123456789", b"9999999999")
# Forms by the skeleton of a text (every digit is a nine), and the place of the first digit; -1 for
# ISO instants.
_KNOWN: dict[bytes, tuple[AnyForm, int]] = {}
_MOST_KNOWN = 10_000
_LONGEST_KNOWN = 40
_INSTANT = -1


def form_of(text: str) -> AnyForm:
    """The form of a text; white space around it does not count."""
    return forms_of([text])[0]


def forms_of(texts: Collection[str]) -> list[AnyForm]:
    """The form of each text."""
    # Recognising a text takes microseconds, and a feed has millions. But texts that differ in
    # their digits alone (one skeleton) mostly have one form, so that most need only be checked: a
    # number must not begin with a zero, an instant must exist.
    forms: list[AnyForm] = []
    for text, skeleton in zip(texts, _skeletons(texts), strict=True):
        known = _KNOWN.get(skeleton)
        if known is not None and _still_holds(known, text):
            forms.append(known[0])
            continue
        form = _form_of(text)
        if known is None and len(text) <= _LONGEST_KNOWN:
            _remember(form, text, skeleton)
        forms.append(form)
    return forms


def _still_holds(known: tuple[AnyForm, int], text: str) -> bool:
    """Whether another text with the skeleton of a known form has that form too."""
    _, first_digit = known
    return _exists_as_iso(text) if first_digit == _INSTANT else text[first_digit] != "0"


def _skeletons(texts: Collection[str]) -> list[bytes]:
    """All at once, where none of the texts has a line end."""
    skeletons = _skeleton("\n".join(texts)).split(b"\n")
    return skeletons if len(skeletons) == len(texts) else list(map(_skeleton, texts))


def _skeleton(text: str) -> bytes:
    return text.encode("utf-8", "surrogatepass").translate(_DIGITS)


def _exists_as_iso(text: str) -> bool:
    try:
        dt.datetime.fromisoformat(text)
    except ValueError:
        return False
    return True


def _remember(form: AnyForm, text: str, skeleton: bytes) -> None:
    """Keeps the form of a skeleton, where its digits alone can be checked in the next text."""
    if type(form) is NumberForm:
        place = next(
            place for place, character in enumerate(text) if character in "0123456789"
        )
        # Of eight digits some are days and some are numbers.
        known = text[place] != "0" and skeleton.strip() != b"99999999"
    else:
        place = _INSTANT
        known = (
            form[0] == "timestamp" and form[1][:1] == ("iso",) and _exists_as_iso(text)
        )
    if known:
        if len(_KNOWN) >= _MOST_KNOWN:
            _KNOWN.clear()
        _KNOWN[skeleton] = (form, place)


def _form_of(text: str) -> AnyForm:
    """The form of a text, told by the cheapest questions first."""
    stripped = text.strip()
    if not stripped:
        return EMPTY
    first = stripped[0]
    if first in "{[" and stripped[-1] in "}]" and _holds_json(stripped):
        return JSON_TEXT
    # Prose: the patterns below cost time in proportion to the text.
    if len(stripped) > LONGEST:
        return ADDRESS if _ADDRESS.fullmatch(stripped) else TEXT
    # Before words and figures, which may stand in the list.
    listed = _list_form(stripped)
    if listed is not None:
        return listed
    folded = stripped.lower()
    if folded in _BOOLEANS:
        return BOOLEAN
    if folded in _PLACEHOLDERS:
        return PLACEHOLDER
    if first.isdigit() or first in "+-.,(":
        return _figures(stripped)
    return _words(stripped, first)


def _list_form(text: str) -> Form | None:
    if not any(mark in text for mark in LISTS):
        return None
    match = _LIST.fullmatch(text)
    return LISTS[match["mark"]] if match and _are_items(text, match["mark"]) else None


def _are_items(text: str, mark: str) -> bool:
    """Whether a text is a list of words or ids, and not a number whose mark stands between groups
    or for the point, nor a name that is turned round (`Quay, Inner`).
    """
    items = [item.strip() for item in text.split(mark)]
    if text.endswith(mark) or any(len(item) > LONGEST_ITEM for item in items):
        return False
    if all(item.lstrip("+-").isdigit() for item in items):
        return _are_numbers(text, mark, items)
    if f"{mark} " in text:
        return mark != "," or all(item.islower() for item in items)
    return number_form(text) is None and _iso(text) is None


def _are_numbers(text: str, mark: str, items: list[str]) -> bool:
    """Whether items of digits alone are a list: longer ones than a group of a number has."""
    if len(items[-1]) > LONGEST_GROUP and any(
        len(item) > LONGEST_GROUP for item in items[:-1]
    ):
        return True
    return len(items) > 2 and mark != "." and number_form(text) is None


@lru_cache(maxsize=10_000)
def without_decimals(form: NumberForm) -> NumberForm:
    """The form, however many digits stand after the point."""
    return form._replace(decimals=0)


def _holds_json(text: str) -> bool:
    if len(text) > LONGEST_JSON:
        return True  # brackets at both ends of so long a text: taken for it
    try:
        return type(decode(text.encode("utf-8", "replace"))) in (dict, list)
    except NotJson:
        return False


def _figures(text: str) -> AnyForm:
    """What begins with a digit, a sign, a point or a parenthesis."""
    # Eight digits may be a day; all other plain digits are a number, and most texts here are that.
    if len(text) != 8 and text.isascii() and text.isdigit():
        return NumberForm(leading_zeros=len(text) > 1 and text[0] == "0")
    form = _iso(text) or _other_date(text) or _clock(text) or number_form(text)
    if form is not None:
        return form
    for pattern, form in ((_UUID, UUID), (_MAIL, MAIL), (_CODE, CODE)):
        if pattern.fullmatch(text):
            return form
    return TEXT


def _words(text: str, first: str) -> AnyForm:
    """What begins with a letter or a mark."""
    if first in "Pp" and _ISO_DURATION.fullmatch(text):
        return Form("duration", ("iso",))
    dated = _date_in_words(text)
    if dated is not None:
        return dated
    if _begins_like_an_address(text):
        return ADDRESS if _ADDRESS.fullmatch(text) else TEXT
    if "@" in text and _MAIL.fullmatch(text):
        return MAIL
    # Codes of hexadecimal digits begin with a letter, and so do amounts with a currency.
    if any(map(str.isdigit, text)):
        if _UUID.fullmatch(text):
            return UUID
        number = number_form(text)
        if number:
            return number
    return CODE if _CODE.fullmatch(text) else TEXT


def _begins_like_an_address(text: str) -> bool:
    return "://" in text or text.startswith(("/", "www."))


def _date_in_words(text: str) -> Form | None:
    """A date that begins with the name of a weekday or month;
    a text where only the clock can't be read.
    """
    if _RFC5322.fullmatch(text):
        return Form("timestamp", ("rfc5322", "offset"))
    match = _CTIME.fullmatch(text)
    # The offset stands before the year here, as `date` prints it.
    if match:
        zone, offset = ("%z ", "offset") if match[1] is not None else ("", "none")
        return Form("timestamp", (f"%a %b %d %H:%M:%S {zone}%Y", offset))
    match = _MONTH_DAY.fullmatch(text)
    if match:
        month, _, comma, _, clock = match.groups()
        return _with_clock(f"{_month_code(month)} %d{comma} %Y", clock) or TEXT
    return None


def _month_code(name: str) -> str:
    return "%B" if len(name) > 3 else "%b"


def _exists(year: str, month: str, day: str) -> bool:
    try:
        dt.date(int(year), int(month), int(day))
    except ValueError:
        return False
    return True


def _iso(text: str) -> Form | None:
    """ISO 8601 dates and instants, extended and basic, and those with UTC in letters after them."""
    if text.endswith(("UTC", "GMT")):
        return _utc_in_letters(text)
    match = _ISO.fullmatch(text)
    if match:
        return _iso_extended(match)
    match = _BASIC.fullmatch(text)
    # Any eight digits could be a day: only those of our time are taken for one.
    if match and "1900" <= match[1] <= "2100" and _exists(*match.group(1, 2, 3)):
        return _iso_basic(match)
    return None


def _iso_extended(match: re.Match[str]) -> Form:
    day, separator, hour, minute, second, fraction, offset = match.groups()
    if not _exists(*day.split("-")):
        return IMPOSSIBLE
    if separator is None:
        return Form("date", ("iso",))
    if hour > "24" or minute > "59" or (second or "0") > "60":
        return IMPOSSIBLE
    # More digits than microseconds have: they are cut off, which has to be said.
    long_fraction = fraction is not None and len(fraction) > 6
    return Form(
        "timestamp", ("iso", _zone(offset), "fraction" if long_fraction else "")
    )


def _zone(offset: str | None) -> str:
    """How an offset is written: as digits, as `Z`, or not at all."""
    if offset is None:
        return "none"
    return "Z" if offset in "Zz" else "offset"


def _iso_basic(match: re.Match[str]) -> Form:
    if match[4] is None:
        return Form("date", ("%Y%m%d",))
    seconds, letter = "%S" if match[6] else "", "Z" if match[7] else ""
    return Form("timestamp", (f"%Y%m%dT%H%M{seconds}{letter}", letter or "none"))


def _utc_in_letters(text: str) -> Form | None:
    """`2031-03-28 07:10 UTC`: the pattern reads the letters as they stand."""
    name, instant = text[-3:], text[:-3]
    blank = " " if instant.endswith(" ") else ""
    match = _ISO.fullmatch(instant.rstrip())
    # A date alone has no zone, and an offset beside the letters would say it twice.
    if match is None or match[2] is None or match[7] is not None:
        return None
    if not _exists(*match[1].split("-")):
        return None
    seconds = ":%S" if match[5] is not None else ""
    fraction = ".%f" if match[6] is not None else ""
    return Form(
        "timestamp", (f"%Y-%m-%d{match[2]}%H:%M{seconds}{fraction}{blank}{name}", "Z")
    )


def _other_date(text: str) -> Form | None:
    """Dates that begin with a digit and are not ISO 8601's."""
    match = _DAY_FIRST.fullmatch(text)
    if match:
        return _day_or_month_first(match)
    match = _YEAR_FIRST.fullmatch(text)
    if match and _exists(*match.group(1, 3, 4)):
        return _with_clock("%Y{0}%m{0}%d".format(match[2]), match[5])
    match = _YEAR_MONTH.fullmatch(text)
    if match:
        return _with_clock(f"%Y{match[2]}{_month_code(match[3])}{match[2]}%d", match[5])
    match = _DAY_MONTH.fullmatch(text)
    if match:
        # A format of its own has a name; a pattern would not know its zones.
        if _RFC5322.fullmatch(text):
            return Form("timestamp", ("rfc5322", "offset"))
        return _with_clock(f"%d{match[2]}{_month_code(match[3])}{match[4]}%Y", match[6])
    return None


def _day_or_month_first(match: re.Match[str]) -> Form | None:
    """`28/03/2031`: which number is the day only one above 12 tells."""
    first, mark, second, year, clock = match.groups()
    low, high = sorted((int(first), int(second)))
    if low == 0 or low > 12 or high > 31:
        return None
    if mark == "." and len(year) == 2:
        return None  # a version number more likely
    order = "%?{0}%?{0}"
    if high > 12:
        order = "%d{0}%m{0}" if int(first) > 12 else "%m{0}%d{0}"
    return _with_clock(order.format(mark) + ("%Y" if len(year) == 4 else "%y"), clock)


def _with_clock(pattern: str, clock: str | None) -> Form | None:
    """A date in a pattern (strptime), perhaps with a time of day after it."""
    if not clock:
        return Form("date", (pattern,))
    match = _CLOCK.fullmatch(clock)
    if not match:
        return None
    return Form("timestamp", (f"{pattern} {_clock_pattern(match)}", "none"))


def _clock_pattern(match: re.Match[str]) -> str:
    hour, half = ("%I", f"{match[5]}%p") if match[6] else ("%H", "")
    seconds = ":%S" if match[3] else ""
    fraction = ".%f" if match[4] else ""
    return f"{hour}:%M{seconds}{fraction}{half}"


def _clock(text: str) -> Form | None:
    match = _CLOCK.fullmatch(text)
    if not match:
        return None
    if match[6]:
        return Form("time", (_clock_pattern(match),))
    of_day = len(match[1]) == 2 and match[1] < "24"
    return Form("time", ("iso",)) if of_day else Form("duration", ("clock",))


def number_form(text: str) -> NumberForm | None:
    """The marks of a number in a text; None if the text is no number."""
    accounting = text.startswith("(") and text.endswith(")")
    match = _NUMBER.fullmatch(text[1:-1].strip() if accounting else text)
    if not match or not (match["whole"] or match["fraction"]):
        return None
    before, after = _stripped(match["before"]), _stripped(match["after"])
    if before.rstrip(".").isalpha() and not _MONEY_WORD.fullmatch(before):
        return None  # `org 12` is the name of one
    digits = _Digits.of(match)
    if digits is None:
        return None
    percent = after == "%"
    return NumberForm(
        before=before,
        after="" if percent else after,
        grouping=digits.mark,
        point=digits.point,
        either=digits.either,
        percent=percent,
        accounting=accounting,
        leading_zeros=digits.has_leading_zeros,
        exponent=match["exponent"] is not None,
        decimals=min(len(digits.fraction), 20),
    )


def _stripped(group: str | None) -> str:
    return (group or "").strip()


class _Digits(NamedTuple):
    """The digits of a number and the marks in them. `either`: one mark, before three digits, that
    may group them or be the point.
    """

    whole: str
    mark: str
    point: str
    fraction: str
    either: bool

    @classmethod
    def of(cls, match: re.Match[str]) -> _Digits | None:
        whole, mark, point, fraction = (
            group or "" for group in match.group("whole", "mark", "point", "fraction")
        )
        if not mark and "," in whole:
            mark = ","  # India's groups of two
        if mark and mark == point:
            return None
        either = mark in (",", ".") and not point and whole.count(mark) == 1
        if either and mark == ".":
            # 1.204 is more often a fraction than a thousand; with a comma it is the other way.
            whole, _, fraction = whole.partition(".")
            return cls(whole, "", ".", fraction, either)
        return cls(whole, mark, point, fraction, either)

    @property
    def has_leading_zeros(self) -> bool:
        """Whether it is padded, as codes are; what has groups is an amount all the same."""
        return len(self.whole) > 1 and self.whole[0] == "0" and not self.mark
