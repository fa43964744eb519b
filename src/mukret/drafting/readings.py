"""How the values of a place are read: a type with its options, or an enum of the words that were seen."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from mukret.survey.forms import PLACEHOLDER, form_of
from mukret.survey.looks import Look, named_like_an_id
from mukret.survey.report import PlaceReport
from mukret.text import counted, shortened
from mukret.values import JsonValue, shown_text

_NOTHING = ("empty text", "placeholder")
_NUMERIC = ("integer", "float")
MOST_WORDS = 12
TIMES_EACH = 3
"""Words of an enum come so often on average."""
LONGEST_WORD = 30
_DECIMAL = re.compile(r"decimal\(18,([0-9]+)\)")
_MONEY = re.compile(
    r"price|amount|cost|fare|fee|total|sum|balance|tax|paid|value|salary|wage|rent|discount|net|gross", re.I
)
MOST_EXACT = 3
"""With more digits after the point it is rather measured than counted."""
_FREE = ("name", "title", "label", "note", "description", "comment", "text", "remark", "message", "url", "link")


@dataclass
class Reading:
    """Options of a field. `words` are those of an enum."""

    options: dict[str, JsonValue] = field(default_factory=dict)
    words: tuple[str, ...] = ()
    odd: int = 0
    remarks: list[str] = field(default_factory=list)


def reading_of(report: PlaceReport) -> Reading:
    """How the scalars of a place are read so that none is refused."""
    place = report.place
    kinds = {kind for kind in place.kinds if kind != "null"}
    if kinds & {"array", "object"}:
        return Reading({"type": "json"}, remarks=[f"of several kinds: {', '.join(sorted(kinds))}"])
    if not kinds:
        return Reading(remarks=["always null"])
    looks = [look for look in report.looks if look.name not in _NOTHING]
    readings = [dict(look.reading) for look in looks] + [{"type": "boolean"}] * bool(place.count("boolean"))
    if place.numbers.huge:
        return Reading(remarks=["has whole numbers beyond 64 bits"])
    found = _joined(readings)
    found = found and _with_room(found, report)
    if found is None:
        return Reading(remarks=[f"of several kinds: {', '.join(sorted(kinds))}"])
    words = enum_words(report, looks) if found.get("type", "text") == "text" and len(looks) == 1 else ()
    if words:
        return Reading({}, words)
    reading = Reading(found)
    if found.get("type", "text") != "text":
        _blanks(report, reading)
        _odd(looks, reading)
    _remarks(looks, reading)
    return reading


def _joined(readings: list[dict[str, JsonValue]]) -> dict[str, JsonValue] | None:
    """One reading that does for all; None if only text does."""
    if not readings:
        return {}
    first, *others = readings
    for other in others:
        one, two = first.get("type", "text"), other.get("type", "text")
        if one == two:
            first = {**other, **first}
        elif _is_number(one) and _is_number(two):
            wider = one if "decimal" in str(one) else two
            first = {**other, **first, "type": "float" if "float" in (one, two) else wider}
        else:
            return None
    return _settled(first)


def _is_number(kind: JsonValue) -> bool:
    return kind in _NUMERIC or str(kind).startswith("decimal")


def _settled(reading: dict[str, JsonValue]) -> dict[str, JsonValue]:
    """A reading as a rules file takes it: patterns with the day first where no value tells."""
    formats = reading.get("format")
    if isinstance(formats, list):
        settled = [form.replace("%?", "%d", 1).replace("%?", "%m", 1) for form in formats]
        reading["format"] = settled if len(settled) > 1 else settled[0]
    if reading.get("type") == "text":
        del reading["type"]
    return reading


def _with_room(reading: dict[str, JsonValue], report: PlaceReport) -> dict[str, JsonValue]:
    """Numbers with a fraction as what has room for those of tomorrow: amounts exact, with two digits at least, what was
    measured as a float."""
    found = _DECIMAL.fullmatch(str(reading.get("type")))
    if not found:
        return reading
    digits = int(found[1])
    exact = report.place.count("string") > 0 or _MONEY.search(report.place.step or "") is not None
    kind = f"decimal(18,{max(2, digits)})" if exact and (digits <= MOST_EXACT or "percent" in reading) else "float"
    return {**reading, "type": kind}


def enum_words(report: PlaceReport, looks: list[Look]) -> tuple[str, ...]:
    """The values of an enum, if the words of a place are a fixed set: those that differ in case and white space alone
    are one, named as most of them are."""
    place = report.place
    name = (place.step or "").lower()
    above = (place.parent.step or "").lower() if place.parent else ""
    named_freely = any(word.endswith(free) for word in (name, above) for free in _FREE)
    free = named_like_an_id(place.step) or report.refers_to or report.unique or named_freely
    texts = [(value, count) for value, count in report.words if type(value) is str and value.strip()]
    if free or place.step is None or len(texts) != len(report.words) or looks[0].name != "text":
        return ()
    groups: dict[str, list[str]] = {}
    for word, _ in texts:
        groups.setdefault(word.strip().casefold(), []).append(word)
    if not 2 <= len(groups) <= MOST_WORDS or place.values.count < TIMES_EACH * len(groups):
        return ()
    if any(len(word) > LONGEST_WORD or word.count(" ") > 2 for word, _ in texts):
        return ()
    return tuple(words[0].strip() for words in groups.values())


def _blanks(report: PlaceReport, reading: Reading) -> None:
    """Words for nothing among values that are typed."""
    if not any(look.name == "placeholder" for look in report.looks):
        return
    known = [*(report.place.values.counted or ()), report.place.forms[PLACEHOLDER].example]
    words = sorted({word.strip() for word in known if type(word) is str and form_of(word) == PLACEHOLDER})
    reading.options["blank"] = words if len(words) > 1 else words[0]


def _odd(looks: list[Look], reading: Reading) -> None:
    odd = [one for look in looks for one in look.odd]
    if odd:
        reading.odd = sum(one.count for one in odd)
        shown = ", ".join(shown_text(one.example) for one in odd[:3])
        reading.remarks.append(f"null for {counted(reading.odd, 'value')} such as {shown}")


def _remarks(looks: list[Look], reading: Reading) -> None:
    for look in looks:
        if look.name == "timestamp" and "no offset" in look.detail:
            if "with offset" in look.detail or " Z" in look.detail:
                reading.options["zone"] = "UTC"
                reading.remarks.append("UTC is taken for those without offset: say which zone they are in")
            else:
                reading.options["type"] = "datetime"
                reading.options.pop("zone", None)
                reading.remarks.append("no offset: a timestamp, if a zone is given")
        if "no value tells" in look.detail:
            reading.remarks.append("day first or month first: no value tells")
        if look.name == "JSON in text":
            reading.remarks.append("holds JSON: response.embedded reads it")


def example_note(report: PlaceReport) -> str | None:
    """A note with a value that was seen."""
    example = next((value for value in report.place.values.examples if value not in ("", None)), None)
    return None if example is None else f"e.g. {shortened(str(example), 40)}"
