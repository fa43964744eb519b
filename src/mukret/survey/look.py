"""What the values of a place can look like."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import Enum, auto

from mukret.survey.forms import AnyForm
from mukret.survey.places import Place, Where
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


def total(place: Place, forms: list[AnyForm]) -> int:
    return sum(place.forms[form].count for form in forms)
