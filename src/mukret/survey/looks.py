"""What all the values of a place look like together.

A guess, made from counts: it is worth as much as it says, and what does not fit it is named.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from mukret.survey.forms import EMPTY, PLACEHOLDER, AnyForm, Form, NumberForm
from mukret.survey.look import Look, Odd, total
from mukret.survey.moment_looks import (
    date_look,
    duration_look,
    time_look,
    timestamp_look,
)
from mukret.survey.number_looks import looks_of_numbers, number_look
from mukret.survey.places import Place, Seen
from mukret.values import JsonValue

# A family of forms that so large a share of the texts has is what the place holds; the others are
# odd.
MOST = 0.8
# Kinds of forms that an element of a list in a text may have.
_SINGLES = ("text", "code", "number", "uuid")
MOST_UNITS = 3


def looks_of(place: Place) -> list[Look]:
    """The looks of a place's scalars, the main one first."""
    return [*_strings(place), *looks_of_numbers(place)]


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
    if 5 * place.forms[lists[0]].count < total(place, list(forms)):
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
        "list in text", total(place, forms), f'"{mark}" between words', reading, odd
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
        names.get(family, family), total(place, forms), reading=reading, odd=odd
    )


_DESCRIBE = {
    "number": number_look,
    "timestamp": timestamp_look,
    "date": date_look,
    "time": time_look,
    "duration": duration_look,
}
