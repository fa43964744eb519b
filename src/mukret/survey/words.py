"""Values that may be the words of a fixed set, and those that may tell records apart."""

from __future__ import annotations

from mukret.survey.look import Look
from mukret.survey.naming import (
    named_like_an_id,
)
from mukret.survey.places import Place
from mukret.values import JsonValue

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
