"""Looks of numbers, in JSON or in texts: marks, fractions, instants as seconds since 1970."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator
from dataclasses import dataclass

from mukret.survey.forms import AnyForm, NumberForm
from mukret.survey.look import Look, Odd, total
from mukret.survey.naming import (
    named_like_a_count,
    named_like_a_moment,
    named_like_an_id,
)
from mukret.survey.places import Place, magnitude
from mukret.text import counted
from mukret.values import JsonValue

# Numbers with more digits after the point are measured: floats.
MOST_DECIMALS = 6
# Powers of ten between a second and the unit.
EPOCHS = {"epoch-s": 0, "epoch-ms": 3, "epoch-us": 6, "epoch-ns": 9}
_EARLIEST, _LATEST = 631_152_000, 4_102_444_800  # 1990 to 2100, in seconds
_DIGITS = re.compile(r"[0-9]{1,30}")


def number_look(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    numbers = [form for form in forms if type(form) is NumberForm]
    count = total(place, forms)
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


def looks_of_numbers(place: Place) -> list[Look]:
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
    """The whole part of a number.

    If it is too large for an instant, the result is some number that is too large as well.
    """
    return int(max(-1e20, min(1e20, magnitude(number))))


def _instant(value: int, unit: str) -> str:
    moment = dt.datetime.fromtimestamp(value // 10 ** EPOCHS[unit], dt.UTC)
    return moment.strftime("%Y-%m-%dT%H:%MZ")
