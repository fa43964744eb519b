"""Looks of dates, times and durations in texts."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass

from mukret.survey.forms import AnyForm, Form
from mukret.survey.look import Look, Odd, Trait, total
from mukret.survey.places import Place
from mukret.values import JsonValue

# Of fewer instants that are all midnight it can't be told that they are days.
FEWEST_DAYS = 5
_ZONES = {"Z": "Z", "offset": "with offset", "none": "no offset: local time"}
_MIDNIGHT = re.compile(r"[T ]00:00(?::00(?:\.0+)?)?(?:Z|[+-]\d\d:?\d\d)?")


def timestamp_look(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    count = total(place, forms)
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
        words = {"iso": "ISO 8601"}
        return [words.get(pattern, pattern) for pattern in _resolved(self.patterns)]

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


def date_look(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    patterns: Counter[str] = Counter()
    for form in forms:
        assert isinstance(form, Form)
        patterns[form.detail[0]] += place.forms[form].count
    resolved = _resolved(patterns)
    words = {"iso": "YYYY-MM-DD"}
    detail = " and ".join(words.get(pattern, pattern) for pattern in resolved)
    traits: frozenset[Trait] = frozenset()
    # Nothing above 12 in either place, in all values that were seen.
    if any("%?" in pattern for pattern in resolved):
        detail = f"{detail.replace('%?', '…')}: day or month first, no value tells"
        traits = frozenset({Trait.OF_UNKNOWN_ORDER})
    reading: dict[str, JsonValue] = {"type": "date"}
    if resolved != ["iso"]:
        reading["format"] = list(resolved)
    return Look("date", total(place, forms), detail, reading, odd, traits)


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


def time_look(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    patterns = [form.detail[0] for form in forms if isinstance(form, Form)]
    reading: dict[str, JsonValue] = {"type": "time"}
    detail = "HH:MM or HH:MM:SS: of day, or a duration"
    if patterns != ["iso"]:
        reading["format"] = patterns
        detail = "12-hour clock"
    return Look("time", total(place, forms), detail, reading, odd)


def duration_look(
    place: Place, family: str, forms: list[AnyForm], odd: tuple[Odd, ...]
) -> Look:
    detail = "ISO 8601" if Form("duration", ("iso",)) in forms else "H:MM"
    return Look("duration", total(place, forms), detail, {"type": "duration"}, odd)
