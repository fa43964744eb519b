"""What all the values of a place look like together.

A guess, made from counts: it is worth as much as it says, and what does not fit it is named.
"""

from __future__ import annotations

import datetime as dt
import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from enum import Enum, auto

from mukret.survey.forms import EMPTY, PLACEHOLDER, AnyForm, Form, NumberForm
from mukret.survey.naming import (
    named_like_a_count,
    named_like_a_moment,
    named_like_an_id,
)
from mukret.survey.places import Place, Seen, Where, magnitude
from mukret.text import counted
from mukret.values import JsonValue

# Every look, and what a value that has it is.
LOOKS = {
    "text": "a text",
    "number in text": "a number",
    "list in text": "a list of words",
    "leading zeros": "digits",
    "timestamp": "a timestamp",
    "date": "a date",
    "time": "a time",
    "duration": "a duration",
    "epoch": "an epoch",
    "boolean word": "a boolean word",
    "uuid": "a UUID",
    "mail": "a mail address",
    "address": "an address of the web",
    "JSON in text": "JSON",
    "date that does not exist": "a date that does not exist",
    "empty text": "the empty text",
    "placeholder": "a word for nothing",
    "whole number": "a whole number",
    "number": "a number with a fraction",
}
# A family of forms that so large a share of the texts has is what the place holds; the others are
# odd.
MOST = 0.8
# Kinds of forms that an element of a list in a text may have.
_SINGLES = ("text", "code", "number", "uuid")
MOST_UNITS = 3
# Numbers with more digits after the point are measured: floats.
MOST_DECIMALS = 6
# So many different numbers may be ids, whatever their name is.
FEWEST_NUMBERS = 20
# Looks of values that may be of a fixed set.
_WORDY = ("text", "whole number", "boolean word", "leading zeros", "number in text")
# Looks of values that may tell records apart.
_ID_LIKE = (
    "text",
    "whole number",
    "number in text",
    "uuid",
    "leading zeros",
    "address",
    "mail",
)
MOST_WORDS = 30
LONGEST_WORD = 60

# Powers of ten between a second and the unit.
EPOCHS = {"epoch-s": 0, "epoch-ms": 3, "epoch-us": 6, "epoch-ns": 9}
_EARLIEST, _LATEST = 631_152_000, 4_102_444_800  # 1990 to 2100, in seconds
# Of fewer instants that are all midnight it can't be told that they are days.
FEWEST_DAYS = 5
_ZONES = {"Z": "Z", "offset": "with offset", "none": "no offset: local time"}
_DIGITS = re.compile(r"[0-9]{1,30}")
_MIDNIGHT = re.compile(r"[T ]00:00(?::00(?:\.0+)?)?(?:Z|[+-]\d\d:?\d\d)?")


@dataclass(frozen=True)
class Odd:
    """Values that do not look like the others of their place."""

    example: JsonValue
    count: int
    where: Where | None


class Trait(Enum):
    """What is known of dates and times beside their form."""

    OF_UNKNOWN_ORDER = auto()
    """Day first or month first: no value tells."""
    ALWAYS_MIDNIGHT = auto()
    WITHOUT_OFFSET = auto()
    WITH_OFFSET = auto()
    """An offset or a Z; beside WITHOUT_OFFSET some have one."""


@dataclass(frozen=True)
class Look:
    """What the values of a place look like.

    `name` is one of `LOOKS`, `detail` in words, for people; `reading` the options of a rules file
    that read them so; `traits` what else is known.
    """

    name: str
    count: int
    detail: str = ""
    reading: Mapping[str, JsonValue] = field(default_factory=dict)
    odd: tuple[Odd, ...] = ()
    traits: frozenset[Trait] = frozenset()


def looks_of(place: Place) -> list[Look]:
    """The looks of a place's scalars, the main one first."""
    return [*_strings(place), *_numbers(place)]


# ---- texts


def _strings(place: Place) -> list[Look]:
    forms = {
        form: seen
        for form, seen in place.forms.items()
        if form not in (EMPTY, PLACEHOLDER)
    }
    # One look for all that is said, however many forms it has; what says nothing stands apart.
    looks = [_family_look(place, forms)] if forms else []
    if EMPTY in place.forms:
        looks.append(Look("empty text", place.forms[EMPTY].count))
    if PLACEHOLDER in place.forms:
        seen = place.forms[PLACEHOLDER]
        looks.append(Look("placeholder", seen.count, f'"{seen.example}"'))
    return looks


def _family_look(place: Place, forms: Mapping[AnyForm, Seen]) -> Look:
    """The look of the family of forms that most texts have; the others are odd.

    One look for all of them would call a place of dates with one `n/a` a text. So the largest
    family gives its name if it has nearly all, and without that all are texts.
    """
    families: Counter[str] = Counter()
    for form, seen in forms.items():
        families[_family(form, place)] += seen.count
    if families["list"] and _are_lists(place, forms):
        return _list(place, "list", list(forms), ())
    # Most decide: two misspelt dates among thousands make no column of texts.
    main = _main_family(families, forms)
    if main == "text":
        return _plain(place, main, list(forms), ())
    fitting = [form for form in forms if _family(form, place) == main]
    odd = tuple(
        Odd(seen.example, seen.count, seen.where)
        for form, seen in forms.items()
        if form not in fitting
    )
    return _DESCRIBE.get(main, _plain)(place, main, fitting, odd)


def _main_family(families: Counter[str], forms: Mapping[AnyForm, Seen]) -> str:
    [(main, count)] = families.most_common(1)
    if count < MOST * families.total():
        return "text"
    if main == "number" and not _units_agree(forms):
        return "text"
    # Words allow no exceptions: with one they were taken for something else.
    if main == "boolean" and count < families.total():
        return "text"
    return main


def _are_lists(place: Place, forms: Mapping[AnyForm, Seen]) -> bool:
    """Whether all texts are lists by one mark, of which some have one element: a word, an id, a
    number.
    """
    lists = [form for form in forms if isinstance(form, Form) and form.kind == "list"]
    singles = [form for form in forms if form.kind in _SINGLES]
    if len(lists) != 1 or len(lists) + len(singles) < len(forms):
        return False
    if 5 * place.forms[lists[0]].count < _total(place, list(forms)):
        return False
    # Numbers with marks of their own are no elements: 1.204 beside `3, 4`.
    if any(type(form) is NumberForm and form != NumberForm() for form in singles):
        return False
    return not _has_phrases(place, lists[0].detail[0])


def _has_phrases(place: Place, mark: str) -> bool:
    """Whether one of the texts that were kept has blanks, but not the mark between elements.

    A phrase is no list of one word: the mark of the others is then a comma in a sentence.
    """
    known = [*(place.values.counted or ()), *place.values.examples]
    return any(
        type(text) is str and " " in text.strip() and mark not in text for text in known
    )


def _list(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    # They have one: lists by several marks are no look of their own.
    mark = next(
        form.detail[0]
        for form in forms
        if isinstance(form, Form) and form.kind == "list"
    )
    reading: dict[str, JsonValue] = {"type": "list(text)", "split": mark}
    return Look(
        "list in text", _total(place, forms), f'"{mark}" between words', reading, odd
    )


def _family(form: AnyForm, place: Place) -> str:
    if form.kind in ("text", "code"):
        return "text"
    # Eight digits are a day or a number: a number, if there are others.
    if form == Form("date", ("%Y%m%d",)) and any(
        type(other) is NumberForm for other in place.forms
    ):
        return "number"
    # A clock that goes beyond 24 hours somewhere counts hours, and is none of day.
    if form.kind == "time" and Form("duration", ("clock",)) in place.forms:
        return "duration"
    return form.kind


def _units_agree(forms: Mapping[AnyForm, Seen]) -> bool:
    """Whether the words around the numbers are a few: units, not addresses of houses."""
    numbers = [form for form in forms if type(form) is NumberForm]
    before = {form.before for form in numbers}
    after = {form.after for form in numbers}
    return max(len(before), len(after)) <= MOST_UNITS


def _total(place: Place, forms: list[AnyForm]) -> int:
    return sum(place.forms[form].count for form in forms)


def _plain(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    names = {
        "json": "JSON in text",
        "boolean": "boolean word",
        "impossible-date": "date that does not exist",
    }
    reading: dict[str, JsonValue] = {"type": "boolean"} if family == "boolean" else {}
    if place.trimmed.count and family not in ("boolean", "json"):
        reading["trim"] = True  # every other type trims of itself
    return Look(
        names.get(family, family), _total(place, forms), reading=reading, odd=odd
    )


def _number(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    numbers = [form for form in forms if type(form) is NumberForm]
    count = _total(place, forms)
    # 007 is a code: as a number it would lose what tells it from 7.
    if any(form.leading_zeros for form in numbers):
        detail = "digits, some with zeros in front: keep them as text"
        return Look("leading zeros", count, detail, odd=odd)
    # Before numbers, which they are too.
    epoch = _epoch_in_text(place, numbers)
    if epoch:
        detail = f"{_unit_name(epoch)} in text"
        return Look("epoch", count, detail, {"type": "timestamp", "format": epoch}, odd)
    marks = _NumberMarks.of(place, numbers)
    return Look(
        "number in text", count, ", ".join(marks.details()), marks.reading(), odd
    )


@dataclass(frozen=True)
class _NumberMarks:
    """What stands around, between and behind the digits of the numbers at a place."""

    strip: list[str]
    grouping: str
    point: str
    percent: bool
    accounting: bool
    exponent: bool
    decimals: int

    @classmethod
    def of(cls, place: Place, numbers: list[NumberForm]) -> _NumberMarks:
        grouping, point = _marks(numbers)
        around = {text for form in numbers for text in (form.before, form.after)}
        decimals = place.decimals
        # `1.204` was not counted among the fractions while its mark could be either; it is one.
        if point and point in _marks_that_are_either(numbers):
            decimals = max(decimals, 3)
        return cls(
            sorted(around - {""}),
            grouping,
            point,
            percent=any(form.percent for form in numbers),
            accounting=any(form.accounting for form in numbers),
            exponent=any(form.exponent for form in numbers),
            decimals=decimals,
        )

    def details(self) -> Iterator[str]:
        """The marks in words."""
        for text in self.strip:
            yield f'"{text}" around it'
        if self.grouping:
            yield f'"{self.grouping}" in thousands'
        # The usual is not told.
        if self.point not in ("", "."):
            yield f'"{self.point}" for a point'
        if self.percent:
            yield "%"
        if self.accounting:
            yield "parentheses when negative"
        if self.exponent:
            yield "exponents"
        yield (
            f"{counted(self.decimals, 'digit')} after the point"
            if self.decimals
            else "whole"
        )

    def reading(self) -> dict[str, JsonValue]:
        """The type and the options that read these numbers."""
        # A value in percent is divided by a hundred: 57.5% becomes 0.575.
        digits = self.decimals + 2 if self.percent else self.decimals
        options = {
            "type": f"decimal(18,{digits})" if digits else "integer",
            "grouping": self.grouping,
            "point": self.point if self.point == "," else "",
            "strip": self.strip,
            "percent": self.percent,
            "accounting": self.accounting,
        }
        return {name: value for name, value in options.items() if value}


def _marks(numbers: list[NumberForm]) -> tuple[str, str]:
    """Grouping mark and decimal point, with what could be either decided by what could not."""
    sure = [form for form in numbers if not form.either]
    points = {form.point for form in sure} - {""}
    groupings = {form.grouping for form in sure} - {""}
    # Those that are sure have spoken before any that could be either.
    for mark in _marks_that_are_either(numbers):
        _decide(mark, points, groupings)
    point = "." if points else ""
    if "," in points and "," not in groupings:
        point = ","
    grouping = min(groupings - {point}, default="")
    return grouping, point


def _marks_that_are_either(numbers: list[NumberForm]) -> set[str]:
    """The marks of numbers that may be in groups, or have a fraction: 1,204."""
    return {form.grouping or form.point for form in numbers if form.either}


def _decide(mark: str, points: set[str], groupings: set[str]) -> None:
    """Adds a mark that could be either to the decimal points or to the groupings."""
    # 1,204 among 12,50: a fraction.
    if mark in points:
        return
    other = "." if mark == "," else ","
    if mark == "," or mark in groupings or other in points:
        groupings.add(mark)
    else:
        points.add(mark)


def _epoch_in_text(place: Place, numbers: list[NumberForm]) -> str | None:
    """The unit, if the texts are plain digits that make plausible instants."""
    if any(form != NumberForm() for form in numbers):
        return None
    known = [*place.values.examples, *(place.values.counted or ())]
    bare = (text.strip() for text in known if type(text) is str)
    digits = [int(text) for text in bare if _DIGITS.fullmatch(text)]
    return _epoch_unit(place, min(digits), max(digits)) if digits else None


def _epoch_unit(place: Place, low: int, high: int) -> str | None:
    """The unit in which numbers between these are instants of our time, if their name allows."""
    name = _name_of(place)
    if name is not None and not _may_be_a_moment(name):
        return None
    for unit, power in EPOCHS.items():
        if _EARLIEST * 10**power <= low and high <= _LATEST * 10**power:
            return unit
    return None


def _may_be_a_moment(name: str) -> bool:
    return (
        named_like_a_moment(name)
        and not named_like_an_id(name)
        and not named_like_a_count(name)
    )


def _name_of(place: Place) -> str | None:
    """The name of a member, that of the list for its elements;
    None for what has only a position.
    """
    # The elements of `departures` have its name: it says the same of them.
    while place.step is None and place.position is None and place.parent is not None:
        place = place.parent
    return place.step


def _unit_name(unit: str) -> str:
    """`epoch-ms` → milliseconds since 1970"""
    names = {
        "s": "seconds",
        "ms": "milliseconds",
        "us": "microseconds",
        "ns": "nanoseconds",
    }
    return f"{names[unit.removeprefix('epoch-')]} since 1970"


def _timestamp(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    count = _total(place, forms)
    parts = _InstantParts.of(place, forms)
    # Where all of them are midnights days are meant.
    behind = _always_midnight(place, count)
    if behind is not None:
        reading: dict[str, JsonValue] = {
            "type": "date",
            "format": [f"%Y-%m-%d{behind}"],
        }
        detail = f"{', '.join(parts.names)}, always midnight"
        return Look(
            "date", count, detail, reading, odd, frozenset({Trait.ALWAYS_MIDNIGHT})
        )
    detail = f"{' and '.join(parts.names)}, {parts.zones_in_words()}"
    return Look("timestamp", count, detail, parts.reading(), odd, parts.traits())


@dataclass(frozen=True)
class _InstantParts:
    """How the instants at a place are written. `zones` and `patterns` count ways of writing."""

    zones: Counter[str]
    patterns: Counter[str]
    fine: bool
    """Whether some have more digits of a second than a timestamp keeps."""

    @classmethod
    def of(cls, place: Place, forms: list[AnyForm]) -> _InstantParts:
        zones: Counter[str] = Counter()
        patterns: Counter[str] = Counter()
        fine = False
        for form in forms:
            assert isinstance(form, Form)
            # Counted by values and not by forms: what most of them have comes first.
            zones[_ZONES[form.detail[1]]] += place.forms[form].count
            patterns[form.detail[0]] += place.forms[form].count
            fine = fine or "fraction" in form.detail
        return cls(zones, patterns, fine)

    @property
    def names(self) -> list[str]:
        return [
            "ISO 8601" if pattern == "iso" else pattern
            for pattern in _resolved(self.patterns)
        ]

    def zones_in_words(self) -> str:
        if len(self.zones) == 1:
            words = next(iter(self.zones))
        else:
            words = ", ".join(
                f"{number:,} {way}" for way, number in self.zones.most_common()
            )
        return f"{words}, more than 6 digits of a second" if self.fine else words

    def reading(self) -> dict[str, JsonValue]:
        reading: dict[str, JsonValue] = {"type": "timestamp"}
        if self.fine:
            reading["round"] = "half-even"
        if list(self.patterns) != ["iso"]:
            reading["format"] = list(_resolved(self.patterns))
            if list(self.zones) == [_ZONES["Z"]]:
                reading["zone"] = "UTC"  # a pattern reads its Z or UTC as letters
        return reading

    def traits(self) -> frozenset[Trait]:
        traits = set()
        for way in self.zones:
            local = way == _ZONES["none"]
            traits.add(Trait.WITHOUT_OFFSET if local else Trait.WITH_OFFSET)
        if any("%?" in name for name in self.names):
            traits.add(Trait.OF_UNKNOWN_ORDER)
        return frozenset(traits)


def _always_midnight(place: Place, count: int) -> str | None:
    """What stands behind the day, if all instants are midnight and so rather days."""
    behind = list(place.midnights)
    if place.midnights.total() != count or count < FEWEST_DAYS or len(behind) != 1:
        return None
    return behind[0] if _MIDNIGHT.fullmatch(behind[0]) else None


def _date(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    patterns: Counter[str] = Counter()
    for form in forms:
        assert isinstance(form, Form)
        patterns[form.detail[0]] += place.forms[form].count
    resolved = _resolved(patterns)
    detail = " and ".join(
        "YYYY-MM-DD" if pattern == "iso" else pattern for pattern in resolved
    )
    traits: frozenset[Trait] = frozenset()
    # Nothing above 12 in either place, in all values that were seen.
    if any("%?" in pattern for pattern in resolved):
        detail = f"{detail.replace('%?', '…')}: day or month first, no value tells"
        traits = frozenset({Trait.OF_UNKNOWN_ORDER})
    reading: dict[str, JsonValue] = {"type": "date"}
    if resolved != ["iso"]:
        reading["format"] = list(resolved)
    return Look("date", _total(place, forms), detail, reading, odd, traits)


def _resolved(patterns: Counter[str]) -> list[str]:
    """The patterns, the most frequent first; one of unknown order takes that of another like it."""
    # Day first or month first is told by one value with a day above 12: the pattern that it has is
    # taken for all others that fit it.
    sure = [pattern for pattern, _ in patterns.most_common() if "%?" not in pattern]
    known = {_orderless(pattern): pattern for pattern in reversed(sure)}
    unsure = [
        pattern for pattern in patterns if "%?" in pattern and pattern not in known
    ]
    return sure + [pattern for pattern in unsure if _orderless(pattern) not in known]


def _orderless(pattern: str) -> str:
    return re.sub(r"^%[dm?](.)%[dm?]", r"%?\1%?", pattern)


def _time(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    patterns = [form.detail[0] for form in forms if isinstance(form, Form)]
    reading: dict[str, JsonValue] = {"type": "time"}
    detail = "HH:MM or HH:MM:SS: of day, or a duration"
    if patterns != ["iso"]:
        reading["format"] = patterns
        detail = "12-hour clock"
    return Look("time", _total(place, forms), detail, reading, odd)


def _duration(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    detail = "ISO 8601" if Form("duration", ("iso",)) in forms else "H:MM"
    return Look("duration", _total(place, forms), detail, {"type": "duration"}, odd)


_DESCRIBE = {
    "number": _number,
    "timestamp": _timestamp,
    "date": _date,
    "time": _time,
    "duration": _duration,
}


# ---- JSON numbers


def _numbers(place: Place) -> list[Look]:
    numbers = place.numbers
    count = numbers.whole + numbers.fractions
    if not count:
        return []
    epoch = _epoch_of_numbers(place)
    if epoch:
        low, high = (
            _instant(_whole(end), epoch) for end in (numbers.low, numbers.high)
        )
        detail = f"{_unit_name(epoch)}: {low} … {high}"
        return [Look("epoch", count, detail, {"type": "timestamp", "format": epoch})]
    if not numbers.fractions:
        detail = "beyond 64 bits" if numbers.huge else ""
        return [Look("whole number", count, detail, {"type": "integer"})]
    detail = (
        f"{counted(numbers.decimals, 'digit')} after the point"
        if numbers.decimals
        else ""
    )
    # Digits without end come of binary fractions, and are no amounts.
    exact = 0 < numbers.decimals <= MOST_DECIMALS
    kind = f"decimal(18,{numbers.decimals})" if exact else "float"
    return [Look("number", count, detail, {"type": kind})]


def _epoch_of_numbers(place: Place) -> str | None:
    """The unit, if the numbers are plausible instants.

    Those without a name (elements of a row) must be whole and differ: the width of a picture is
    always the same.
    """
    numbers = place.numbers
    if _name_of(place) is None and (numbers.low == numbers.high or numbers.fractions):
        return None
    return _epoch_unit(place, _whole(numbers.low), _whole(numbers.high))


def _whole(number: JsonValue) -> int:
    """Its whole part; of one that is too large for an instant any that is too large as well."""
    return int(max(-1e20, min(1e20, magnitude(number))))


def _instant(value: int, unit: str) -> str:
    moment = dt.datetime.fromtimestamp(value // 10 ** EPOCHS[unit], dt.UTC)
    return moment.strftime("%Y-%m-%dT%H:%MZ")


# ---- words and ids


def words_of(place: Place, looks: list[Look]) -> list[tuple[JsonValue, int]]:
    """The values with their counts, the most frequent first, where they are few enough to be a
    fixed set.
    """
    values = place.values
    if values.counted is None or not _may_be_words(looks):
        return []
    # Numbers and codes must come oftener than words before they are taken for a fixed set.
    often = 2 if looks[0].name in ("text", "boolean word") else 5
    distinct = len(values.counted)
    if distinct > MOST_WORDS or values.count < often * distinct:
        return []
    if any(
        type(value) is str and len(value) > LONGEST_WORD for value in values.counted
    ):
        return []
    return values.counted.most_common()


def _may_be_words(looks: list[Look]) -> bool:
    return bool(looks) and looks[0].name in _WORDY and not _is_measured(looks[0])


def _is_measured(look: Look) -> bool:
    """Whether these are numbers in texts with something about them: amounts, no ids or codes."""
    return look.name == "number in text" and look.reading != {"type": "integer"}


def uniqueness(place: Place, looks: list[Look]) -> str | None:
    """`everywhere`: no value comes twice; `in its list`: none twice in one list.

    None where it means nothing.
    """
    values = place.values
    if values.count != place.nodes or values.count < 2 or not _may_be_ids(place, looks):
        return None
    different = values.distinct == values.count
    if looks[0].name in ("whole number", "number in text") and not named_like_an_id(
        place.step
    ):
        # A few measures differ as well: by their number alone many different ones are told as ids.
        return "everywhere" if different and values.count >= FEWEST_NUMBERS else None
    if different:
        return "everywhere"
    return "in its list" if place.unique_in_list and place.lists_compared else None


def _may_be_ids(place: Place, looks: list[Look]) -> bool:
    if not looks or looks[0].name not in _ID_LIKE or _is_measured(looks[0]):
        return False
    sentences = looks[0].name == "text" and any(
        " " in str(value) for value in place.values.examples
    )
    return not sentences or named_like_an_id(place.step)


def differing_only_in_case(values: list[tuple[JsonValue, int]]) -> list[list[str]]:
    """Groups of words that are one but for case and white space around them."""
    groups: dict[str, list[str]] = {}
    for value, _ in values:
        if type(value) is str:
            groups.setdefault(value.strip().casefold(), []).append(value)
    return [group for group in groups.values() if len(group) > 1]
