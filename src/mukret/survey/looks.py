"""What all the values of a place look like together.

A guess, made from counts: it is worth as much as it says, and what does not fit it is named.
"""

from __future__ import annotations

import datetime as dt
import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum, auto

from mukret.survey.forms import EMPTY, PLACEHOLDER, AnyForm, Form, NumberForm
from mukret.survey.naming import named_like_a_count, named_like_a_moment, named_like_an_id
from mukret.survey.places import Place, Where, magnitude
from mukret.text import counted
from mukret.values import JsonValue

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
"""Every look, and what a value that has it is."""
MOST = 0.8
"""A family of forms that so large a share of the texts has is what the place holds; the others are
odd.
"""
MOST_UNITS = 3
FEWEST_NUMBERS = 20
"""So many different numbers may be ids, whatever their name is."""
MOST_WORDS = 30
LONGEST_WORD = 60

EPOCHS = {"epoch-s": 0, "epoch-ms": 3, "epoch-us": 6, "epoch-ns": 9}
"""Powers of ten between a second and the unit."""
_EARLIEST, _LATEST = 631_152_000, 4_102_444_800  # 1990 to 2100, in seconds
FEWEST_DAYS = 5
"""Of fewer instants that are all midnight it can't be told that they are days."""
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
    forms = {form: seen for form, seen in place.forms.items() if form not in (EMPTY, PLACEHOLDER)}
    found = [_family_look(place, forms)] if forms else []
    for form, name in ((EMPTY, "empty text"), (PLACEHOLDER, "placeholder")):
        if form in place.forms:
            seen = place.forms[form]
            found.append(Look(name, seen.count, "" if form is EMPTY else f'"{seen.example}"'))
    return found


def _family_look(place: Place, forms: Mapping[AnyForm, object]) -> Look:
    families: Counter[str] = Counter()
    for form in forms:
        families[_family(form, place)] += place.forms[form].count
    [(main, count)] = families.most_common(1)
    if families["list"] and _are_lists(place, forms):
        return _list(place, "list", list(forms), ())
    if count < MOST * families.total() or (main == "number" and not _units_agree(forms)):
        main = "text"
    if main == "boolean" and count < families.total():
        main = "text"  # words allow no exceptions: they were taken for something else
    mine = [form for form in forms if main == "text" or _family(form, place) == main]
    others = [form for form in forms if form not in mine] if main != "text" else []
    odd = tuple(
        Odd(place.forms[form].example, place.forms[form].count, place.forms[form].where)
        for form in others
    )
    return _DESCRIBE.get(main, _plain)(place, main, mine, odd)


def _are_lists(place: Place, forms: Mapping[AnyForm, object]) -> bool:
    """Whether all texts are lists by one mark, of which some have one element: a word, an id, a
    number.
    """
    marks = [form for form in forms if form.kind == "list"]
    singles = [
        form for form in forms if form.kind in ("text", "code", "number") or form.kind == "uuid"
    ]
    if (
        len(marks) != 1
        or len(marks) + len(singles) < len(forms)
        or 5 * place.forms[marks[0]].count < _total(place, list(forms))
    ):
        return False
    known = [*(place.values.counted or ()), *place.values.examples]
    (mark,) = (form.detail[0] for form in marks if isinstance(form, Form))
    plain = all(type(form) is not NumberForm or form == NumberForm() for form in singles)
    return plain and not any(
        type(text) is str and " " in text.strip() and mark not in text for text in known
    )


def _list(place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]) -> Look:
    mark = next(form.detail[0] for form in forms if isinstance(form, Form) and form.kind == "list")
    reading: dict[str, JsonValue] = {"type": "list(text)", "split": mark}
    return Look("list in text", _total(place, forms), f'"{mark}" between words', reading, odd)


def _family(form: AnyForm, place: Place) -> str:
    if form.kind in ("text", "code"):
        return "text"
    if form == Form("date", ("%Y%m%d",)) and any(
        type(other) is NumberForm for other in place.forms
    ):
        return "number"
    if form.kind == "time" and Form("duration", ("clock",)) in place.forms:
        return "duration"
    return form.kind


def _units_agree(forms: Mapping[AnyForm, object]) -> bool:
    """Whether the words around the numbers are a few: units, not addresses of houses."""
    numbers = [form for form in forms if type(form) is NumberForm]
    return (
        max(len({form.before for form in numbers}), len({form.after for form in numbers}))
        <= MOST_UNITS
    )


def _total(place: Place, forms: list[AnyForm]) -> int:
    return sum(place.forms[form].count for form in forms)


def _plain(place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]) -> Look:
    names = {
        "json": "JSON in text",
        "boolean": "boolean word",
        "impossible-date": "date that does not exist",
    }
    reading: dict[str, JsonValue] = {"type": "boolean"} if family == "boolean" else {}
    if place.trimmed.count and family not in ("boolean", "json"):
        reading["trim"] = True  # every other type trims of itself
    return Look(names.get(family, family), _total(place, forms), reading=reading, odd=odd)


def _number(place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]) -> Look:
    numbers = [form for form in forms if type(form) is NumberForm]
    count = _total(place, forms)
    if any(form.leading_zeros for form in numbers):
        return Look(
            "leading zeros", count, "digits, some with zeros in front: keep them as text", odd=odd
        )
    epoch = _epoch_in_text(place, numbers)
    if epoch:
        return Look(
            "epoch",
            count,
            f"{_unit_name(epoch)} in text",
            {"type": "timestamp", "format": epoch},
            odd,
        )
    grouping, point = _marks(numbers)
    strip = sorted({text for form in numbers for text in (form.before, form.after) if text})
    percent = any(form.percent for form in numbers)
    threes = [
        3 for form in numbers if form.either and point and (form.grouping or form.point) == point
    ]
    decimals = max([place.decimals, *threes])
    details = [f'"{text}" around it' for text in strip]
    details += [f'"{grouping}" in thousands'] if grouping else []
    details += [f'"{point}" for a point'] if point not in ("", ".") else []
    details += ["%"] if percent else []
    details += ["parentheses when negative"] if any(form.accounting for form in numbers) else []
    details += ["exponents"] if any(form.exponent for form in numbers) else []
    details += [f"{counted(decimals, 'digit')} after the point" if decimals else "whole"]
    digits = decimals + 2 if percent else decimals  # 57.5% is 0.575
    reading: dict[str, JsonValue] = {"type": f"decimal(18,{digits})" if digits else "integer"}
    options = {
        "grouping": grouping,
        "point": point if point == "," else "",
        "strip": strip,
        "percent": percent,
        "accounting": any(form.accounting for form in numbers),
    }
    reading |= {name: value for name, value in options.items() if value}
    return Look("number in text", count, ", ".join(details), reading, odd)


def _marks(numbers: list[NumberForm]) -> tuple[str, str]:
    """Grouping mark and decimal point, with what could be either decided by what could not."""
    sure = [form for form in numbers if not form.either]
    points = {form.point for form in sure if form.point}
    groupings = {form.grouping for form in sure if form.grouping}
    unsure = {form.grouping or form.point for form in numbers if form.either}
    for mark in unsure:
        other = "." if mark == "," else ","
        if mark in points:
            continue  # 1,204 among 12,50: a fraction
        if mark == "," or mark in groupings or other in points:
            groupings.add(mark)
        else:
            points.add(mark)
    point = "," if "," in points and "," not in groupings else "." if points else ""
    return next(iter(sorted(groupings - {point})), ""), point


def _epoch_in_text(place: Place, numbers: list[NumberForm]) -> str | None:
    """The unit, if the texts are plain digits that make plausible instants."""
    if any(form != NumberForm() for form in numbers):
        return None
    known = [*place.values.examples, *(place.values.counted or ())]
    bare = (text.strip() for text in known if type(text) is str)
    digits = [int(text) for text in bare if _DIGITS.fullmatch(text)]
    return _epoch_unit(place, min(digits), max(digits)) if digits else None


def _epoch_unit(place: Place, low: int, high: int) -> str | None:
    name = _name_of(place)
    if name is not None and (
        named_like_an_id(name) or named_like_a_count(name) or not named_like_a_moment(name)
    ):
        return None
    for unit, power in EPOCHS.items():
        if _EARLIEST * 10**power <= low and high <= _LATEST * 10**power:
            return unit
    return None


def _name_of(place: Place) -> str | None:
    """The name of a member, that of the list for its elements;
    None for what has only a position.
    """
    while place.step is None and place.position is None and place.parent is not None:
        place = place.parent
    return place.step


def _unit_name(unit: str) -> str:
    return {"s": "seconds", "ms": "milliseconds", "us": "microseconds", "ns": "nanoseconds"}[
        unit[6:]
    ] + " since 1970"


def _timestamp(place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]) -> Look:
    ways = {"Z": "Z", "offset": "with offset", "none": "no offset: local time"}
    zones: Counter[str] = Counter()
    patterns: Counter[str] = Counter()
    for form in forms:
        assert isinstance(form, Form)
        zones[ways[form.detail[1]]] += place.forms[form].count
        patterns[form.detail[0]] += place.forms[form].count
    parts = [pattern if pattern != "iso" else "ISO 8601" for pattern in _resolved(patterns)]
    if len(zones) == 1:
        zone = next(iter(zones))
    else:
        zone = ", ".join(f"{number:,} {way}" for way, number in zones.most_common())
    if any("fraction" in form.detail for form in forms if isinstance(form, Form)):
        zone += ", more than 6 digits of a second"
    reading: dict[str, JsonValue] = {"type": "timestamp"}
    count, behind = _total(place, forms), list(place.midnights)
    if (
        place.midnights.total() == count >= FEWEST_DAYS
        and len(behind) == 1
        and _MIDNIGHT.fullmatch(behind[0])
    ):
        reading = {"type": "date", "format": [f"%Y-%m-%d{behind[0]}"]}
        detail = f"{', '.join(parts)}, always midnight"
        return Look("date", count, detail, reading, odd, frozenset({Trait.ALWAYS_MIDNIGHT}))
    if any("fraction" in form.detail for form in forms if isinstance(form, Form)):
        reading["round"] = "half-even"
    if list(patterns) != ["iso"]:
        reading["format"] = list(_resolved(patterns))
        if list(zones) == [ways["Z"]]:
            reading["zone"] = "UTC"  # a pattern reads its Z or UTC as letters
    traits = {Trait.WITHOUT_OFFSET if way == ways["none"] else Trait.WITH_OFFSET for way in zones}
    if any("%?" in pattern for pattern in parts):
        traits.add(Trait.OF_UNKNOWN_ORDER)
    detail = f"{' and '.join(parts)}, {zone}"
    return Look("timestamp", count, detail, reading, odd, frozenset(traits))


def _date(place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]) -> Look:
    patterns: Counter[str] = Counter()
    for form in forms:
        assert isinstance(form, Form)
        patterns[form.detail[0]] += place.forms[form].count
    resolved = _resolved(patterns)
    detail = " and ".join("YYYY-MM-DD" if pattern == "iso" else pattern for pattern in resolved)
    traits: frozenset[Trait] = frozenset()
    if any("%?" in pattern for pattern in resolved):
        detail = f"{detail.replace('%?', '…')}: day or month first, no value tells"
        traits = frozenset({Trait.OF_UNKNOWN_ORDER})
    reading: dict[str, JsonValue] = {"type": "date"}
    if resolved != ["iso"]:
        reading["format"] = list(resolved)
    return Look("date", _total(place, forms), detail, reading, odd, traits)


def _resolved(patterns: Counter[str]) -> list[str]:
    """The patterns, the most frequent first; one of unknown order takes that of another like it."""
    sure = [pattern for pattern, _ in patterns.most_common() if "%?" not in pattern]
    known = {_orderless(pattern): pattern for pattern in reversed(sure)}
    unsure = [pattern for pattern in patterns if "%?" in pattern and pattern not in known]
    return sure + [pattern for pattern in unsure if _orderless(pattern) not in known]


def _orderless(pattern: str) -> str:
    return re.sub(r"^%[dm?](.)%[dm?]", r"%?\1%?", pattern)


def _time(place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]) -> Look:
    patterns = [form.detail[0] for form in forms if isinstance(form, Form)]
    if patterns == ["iso"]:
        return Look(
            "time",
            _total(place, forms),
            "HH:MM or HH:MM:SS: of day, or a duration",
            {"type": "time"},
            odd,
        )
    return Look(
        "time", _total(place, forms), "12-hour clock", {"type": "time", "format": patterns}, odd
    )


def _duration(place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]) -> Look:
    iso = any(
        isinstance(form, Form) and form.detail == ("iso",) and form.kind == "duration"
        for form in forms
    )
    return Look(
        "duration", _total(place, forms), "ISO 8601" if iso else "H:MM", {"type": "duration"}, odd
    )


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
    if _name_of(place) is not None or (numbers.low != numbers.high and not numbers.fractions):
        unit = _epoch_unit(place, _whole(numbers.low), _whole(numbers.high))
        if unit:
            detail = (
                f"{_unit_name(unit)}: {_instant(_whole(numbers.low), unit)} … "
                f"{_instant(_whole(numbers.high), unit)}"
            )
            return [Look("epoch", count, detail, {"type": "timestamp", "format": unit})]
    if not numbers.fractions:
        return [
            Look(
                "whole number", count, "beyond 64 bits" if numbers.huge else "", {"type": "integer"}
            )
        ]
    detail = f"{counted(numbers.decimals, 'digit')} after the point" if numbers.decimals else ""
    kind = (
        "float"
        if numbers.decimals > 6 or not numbers.decimals
        else f"decimal(18,{numbers.decimals})"
    )
    return [Look("number", count, detail, {"type": kind})]


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
    main = looks[0].name if looks else ""
    distinct = len(values.counted) if values.counted is not None else None
    if distinct is None or main not in (
        "text",
        "whole number",
        "boolean word",
        "leading zeros",
        "number in text",
    ):
        return []
    if main == "number in text" and looks[0].reading != {"type": "integer"}:
        return []
    enough = 2 if main in ("text", "boolean word") else 5
    if distinct > MOST_WORDS or values.count < enough * distinct:
        return []
    if any(type(value) is str and len(value) > LONGEST_WORD for value in values.counted or ()):
        return []
    assert values.counted is not None
    return values.counted.most_common()


def uniqueness(place: Place, looks: list[Look]) -> str | None:
    """`everywhere`: no value comes twice; `in its list`: none twice in one list.

    None where it means nothing.
    """
    main = looks[0].name if looks else ""
    values = place.values
    wordy = (
        main == "text"
        and not named_like_an_id(place.step)
        and any(" " in str(value) for value in values.examples)
    )
    if wordy or main not in (
        "text",
        "whole number",
        "number in text",
        "uuid",
        "leading zeros",
        "address",
        "mail",
    ):
        return None
    if main == "number in text" and looks[0].reading != {"type": "integer"}:
        return None
    if values.count != place.nodes or values.count < 2:
        return None
    if main in ("whole number", "number in text") and not named_like_an_id(place.step):
        return "everywhere" if values.distinct == values.count >= FEWEST_NUMBERS else None
    if values.distinct == values.count:
        return "everywhere"
    return "in its list" if place.unique_in_list and place.lists_compared else None


def differing_only_in_case(values: list[tuple[JsonValue, int]]) -> list[list[str]]:
    """Groups of words that are one but for case and white space around them."""
    groups: dict[str, list[str]] = {}
    for value, _ in values:
        if type(value) is str:
            groups.setdefault(value.strip().casefold(), []).append(value)
    return [group for group in groups.values() if len(group) > 1]
