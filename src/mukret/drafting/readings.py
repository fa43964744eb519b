"""How the values of a place are read: a type with its options, or an enum of the words that were
seen.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field

from mukret.drafting.meanings import (
    is_fixed_set,
    is_flag,
    is_free_text,
    is_label,
    is_measured,
    is_money,
    is_open_set,
)
from mukret.drafting.place_roles import told_kinds
from mukret.drafting.private import example, is_private
from mukret.survey.forms import PLACEHOLDER, form_of
from mukret.survey.look import Look, Odd, Trait
from mukret.survey.looks import looks_of
from mukret.survey.places import Place
from mukret.survey.report import PlaceReport
from mukret.text import counted
from mukret.values import JsonValue, shown_text

_NOTHING = ("empty text", "placeholder")
_NUMERIC = ("integer", "float")
_JSON_NUMBERS = ("whole number", "number", "epoch")
# So large a share of the values may not fit, or a single one: their rows are rejected.
#
# With more it is a text.
FEW = 0.05
FEWEST_BESIDE_ONE = 4
# Looks of texts that are no more than that where the name says that it is a text.
_MAY_BE_TEXT = ("number in text", "boolean word", "time", "duration", "epoch")
# Of two words that came, nobody can tell that there is no third.
FEWEST_WORDS = 3
MOST_WORDS = 12
# Words of an enum whose name does not say that its words are a fixed set.
MOST_UNNAMED = 6
# Words of an enum come so often on average,
TIMES_EACH = 3
# or so often, if its name does not say so.
TIMES_UNNAMED = 10
LONGEST_WORD = 30
# Longer placeholders are words: `none`, `unknown`.
MOST_SIGNS = 3
_DECIMAL = re.compile(r"decimal\(18,([0-9]+)\)")
# With more digits after the point a JSON number is rather measured than counted,
MOST_EXACT = 3
# and so is one in a text.
MOST_EXACT_IN_TEXT = 8
# Digits that a float keeps.
MOST_IN_FLOAT = 15
_YEAR = re.compile(r"1[5-9]\d\d|20\d\d|21\d\d")
_FLAG_VALUES = {0, 1, "0", "1"}
_PLAIN_BOOLEANS = {"true", "false", "yes", "no"}


@dataclass
class DraftReading:
    """Options of a field. `words` are those of an enum."""

    options: dict[str, JsonValue] = field(default_factory=dict)
    words: tuple[str, ...] = ()
    odd: int = 0
    remarks: list[str] = field(default_factory=list)


def reading_of(report: PlaceReport) -> DraftReading:
    """How the scalars of a place are read so that none is refused."""
    # What a look says of itself is tried first; where several looks can't be read by one type, or
    # too many values would be rejected, the place stays what it is in JSON, with a remark: a draft
    # that loses values would be believed.
    kinds = told_kinds(report.place)
    if kinds & {"array", "object"}:
        return DraftReading({"type": "json"}, remarks=[_of_several_kinds(kinds)])
    if not kinds:
        return DraftReading(remarks=["always null"])
    if report.place.numbers.huge:
        return DraftReading(remarks=["has whole numbers beyond 64 bits"])
    looks = [look for look in report.looks if look.name not in _NOTHING]
    looks, strays = _without_strays(looks, report.place)
    options = _joined_options(looks, report)
    if options is None:
        return DraftReading(remarks=[_of_several_kinds(kinds)])
    plain = options.keys() <= {"trim"} and len(looks) == 1
    words = enum_words(report, looks) if plain else ()
    if words:
        reading = DraftReading({}, words)
        _blanks(report, reading, only_signs=True)
        return reading
    return _typed(report, looks, strays, options)


def _typed(
    report: PlaceReport,
    looks: Sequence[Look],
    strays: Sequence[Odd],
    options: dict[str, JsonValue],
) -> DraftReading:
    """A reading with these options, which rejects what is odd among the values; no type at all if
    that were too many.
    """
    reading = DraftReading(options)
    if options.get("type", "text") != "text":
        _blanks(report, reading)
        odd = [*strays, *(odd for look in looks for odd in look.odd)]
        reading.odd = sum(stray.count for stray in odd)
        shown = _shown(odd, report.place)
        # More than a mistake: with a type a part of the data would be gone.
        if not is_few(reading.odd, report.place.nodes):
            return DraftReading(remarks=[f"of several kinds: {shown} among others"])
        if reading.odd:
            reading.remarks.append(
                f"rejects {counted(reading.odd, 'value')} such as {shown}"
            )
    _remarks(looks, reading)
    return reading


def _of_several_kinds(kinds: Collection[str]) -> str:
    return f"of several kinds: {', '.join(sorted(kinds))}"


def _joined_options(
    looks: Sequence[Look], report: PlaceReport
) -> dict[str, JsonValue] | None:
    """The options that read all looks of a place and its booleans; None if there are none."""
    readings = [_by_name(look, report.place) for look in looks]
    if report.place.count("boolean"):
        readings.append({"type": "boolean"})
    joined = _joined(readings)
    return joined and _with_room(joined, report)


def is_few(count: int, of: int) -> bool:
    """Whether so many values are plainly mistakes among the others."""
    return count <= FEW * of or (count == 1 and of >= FEWEST_BESIDE_ONE)


def _without_strays(
    looks: list[Look], place: Place
) -> tuple[list[Look], Sequence[Odd]]:
    """Without texts that stand among JSON numbers now and then."""
    numbers = [look for look in looks if look.name in _JSON_NUMBERS]
    texts = [look for look in looks if look not in numbers]
    if not numbers or not texts or texts[0].name != "text":
        return looks, []
    # Few beside all values, or the texts are the point of it.
    count = sum(look.count for look in texts)
    if not is_few(count, place.nodes):
        return looks, []
    examples = (
        form.example for form in place.forms.values() if form.example is not None
    )
    return numbers, [Odd(next(examples, None), count, None)]


def _shown(strays: list[Odd], place: Place) -> str:
    if is_private(place):
        return "some that are not shown"
    return ", ".join(shown_text(stray.example) for stray in strays[:3])


def _joined(readings: list[dict[str, JsonValue]]) -> dict[str, JsonValue] | None:
    """One reading that does for all; None if only text does."""
    if not readings:
        return {}
    first, *others = readings
    for other in others:
        kind, other_kind = first.get("type", "text"), other.get("type", "text")
        if kind == other_kind == "timestamp":
            # Formats are tried in their order: those of both, each once.
            first = {
                **other,
                **first,
                "format": [*dict.fromkeys([*_formats(first), *_formats(other)])],
            }
        elif kind == other_kind:
            first = {**other, **first}
        # A decimal holds integers; with a float among them neither does.
        elif _is_number(kind) and _is_number(other_kind):
            wider = kind if "decimal" in str(kind) else other_kind
            first = {
                **other,
                **first,
                "type": "float" if "float" in (kind, other_kind) else wider,
            }
        else:
            return None
    return _as_written(first)


def _formats(reading: dict[str, JsonValue]) -> list[JsonValue]:
    forms = reading.get("format", "iso")
    return forms if isinstance(forms, list) else [forms]


def _is_number(kind: JsonValue) -> bool:
    return kind in _NUMERIC or str(kind).startswith("decimal")


def _as_written(reading: dict[str, JsonValue]) -> dict[str, JsonValue]:
    """A reading as a rules file takes it: patterns with the day first where no value tells."""
    formats = reading.get("format")
    if isinstance(formats, list):
        patterns = [
            # Both could be the day: most of the world has it first.
            form.replace("%?", "%d", 1).replace("%?", "%m", 1)
            for form in formats
        ]
        reading["format"] = patterns if len(patterns) > 1 else patterns[0]
    if reading.get("type") == "text":
        del reading["type"]
    return reading


def _by_name(look: Look, place: Place) -> dict[str, JsonValue]:
    """How values of this look are read, given the name of their place."""
    texts = bool(place.count("string"))
    # 0 and 1 in a field that is called like a flag.
    if (
        texts
        and look.name in _MAY_BE_TEXT
        and (is_free_text(place) or _is_left_alone(look, place))
    ):
        return {"trim": True} if place.trimmed.count else {}
    if (
        is_flag(place)
        and place.values.counted is not None
        and place.values.counted.keys() <= _FLAG_VALUES
    ):
        return {"type": "boolean"}
    return dict(look.reading)


def _is_left_alone(look: Look, place: Place) -> bool:
    """Whether texts that look like something else are taken as they stand: digits of ids, a lone
    `t`.
    """
    known = [*(place.values.counted or ()), *place.values.examples]
    words = {value.strip().lower() for value in known if type(value) is str}
    # A lone `t` may be a letter of anything; `true` is not.
    if look.name == "boolean word":
        return len(words) < 2 and not words <= _PLAIN_BOOLEANS
    if look.name != "number in text":
        return False
    # Numbers of lines, houses and telephones are labels: nobody adds them.
    return (is_label(place) and not look.reading.get("strip")) or all(
        word.startswith("+") for word in words
    )


def _with_room(
    reading: dict[str, JsonValue], report: PlaceReport
) -> dict[str, JsonValue]:
    """The reading of numbers with a fraction, with room for later ones: amounts, and numbers sent
    as text, as a decimal with two digits after the point at least; measured numbers as a float.
    """
    decimal = _DECIMAL.fullmatch(str(reading.get("type")))
    if not decimal:
        return reading
    digits, place = int(decimal[1]), report.place
    if place.longest > MOST_IN_FLOAT and digits + 2 > MOST_EXACT_IN_TEXT:
        return {}  # a float would change its last digits
    if is_measured(place) or not _is_exact(place, digits, percent="percent" in reading):
        return {**reading, "type": "float"}
    width = 18 if place.longest <= 18 else 38
    return {**reading, "type": f"decimal({width},{max(2, digits)})"}


def _is_exact(place: Place, digits: int, *, percent: bool) -> bool:
    """Whether numbers with so many digits after the point are counted rather than measured."""
    if is_money(place) and digits <= MOST_EXACT:
        return True
    in_text = place.count("string") > 0
    return in_text and (percent or digits <= MOST_EXACT_IN_TEXT)


def enum_words(report: PlaceReport, looks: list[Look]) -> tuple[str, ...]:
    """The values of an enum, if the words of a place are a fixed set: those that differ in case and
    white space alone are one, named as most of them are.
    """
    if report.refers_to or report.unique or is_open_set(report.place):
        return ()
    if report.place.step is None or looks[0].name != "text":
        return ()
    words = _only_texts(report)
    groups: dict[str, str] = {}
    for word in words:
        # The first spelling names it: words come with the most frequent first.
        groups.setdefault(word.strip().casefold(), word.strip())
    return (
        tuple(groups.values()) if _are_a_fixed_set(report.place, words, groups) else ()
    )


def _only_texts(report: PlaceReport) -> list[str]:
    """The words, if all of them are texts; signs for nothing are no words."""
    words = [
        word for word, _ in report.words if type(word) is not str or not _is_sign(word)
    ]
    texts = [word for word in words if type(word) is str and word.strip()]
    return texts if len(texts) == len(words) else []


def _are_a_fixed_set(
    place: Place, words: Sequence[str], folded: Collection[str]
) -> bool:
    """Whether there are few different words, and each comes often; of a member whose name does not
    say that it is a state or a sort, they must be fewer and come oftener.
    """
    named = is_fixed_set(place)
    most, times = (MOST_WORDS, TIMES_EACH) if named else (MOST_UNNAMED, TIMES_UNNAMED)
    if not FEWEST_WORDS <= len(folded) <= most or place.values.count < times * len(
        folded
    ):
        return False
    # Phrases are free text, however few there are so far.
    if any(len(word) > LONGEST_WORD or word.count(" ") > 2 for word in words):
        return False
    return named or not any(
        character.isdigit() for word in folded for character in word
    )


def names_reading(place: Place) -> tuple[str, dict[str, JsonValue]]:
    """What the names of members are where they are data, and how they are read: days, instants,
    years, or texts.
    """
    names = Place()
    # Names are surveyed as if they were values.
    names.see_strings(
        [str(name) for name in place.names.counted or place.names.examples]
    )
    look, *others = looks_of(names)
    # Names of several looks are texts: a type would refuse some, and with them all of their rows.
    if not others and not look.odd:
        if _is_moment(look):
            return _moment_reading(look)
        if look.name == "number in text" and all(
            map(_YEAR.fullmatch, _examples(names))
        ):
            return "year", {"type": "integer"}
    # In capitals they are codes; what else they name nobody can tell.
    codes = look.name == "text" and all(map(str.isupper, _examples(names)))
    return ("code" if codes else "name"), {}


def _moment_reading(look: Look) -> tuple[str, dict[str, JsonValue]]:
    reading = _as_written(dict(look.reading))
    if Trait.WITHOUT_OFFSET in look.traits:
        reading["type"] = "datetime"
    return ("date" if look.name == "date" else "time"), reading


def _examples(place: Place) -> list[str]:
    return list(map(str, place.values.examples))


def _is_moment(look: Look) -> bool:
    """Whether texts are dates or timestamps whose parts can be told apart."""
    is_dated = look.name in ("date", "timestamp")
    return is_dated and Trait.OF_UNKNOWN_ORDER not in look.traits


def _blanks(
    report: PlaceReport, reading: DraftReading, *, only_signs: bool = False
) -> None:
    """Words for nothing among values that are typed; `only_signs`: none that are words of a
    language, as `unknown`.
    """
    if not any(look.name == "placeholder" for look in report.looks):
        return
    known = [
        *(report.place.values.counted or ()),
        # Where there are too many values to count, at least the one that was kept.
        report.place.forms[PLACEHOLDER].example,
    ]
    words = sorted(
        {
            word.strip()
            for word in known
            if type(word) is str and form_of(word) == PLACEHOLDER
        }
    )
    words = [word for word in words if not only_signs or not _is_word(word)]
    if words:
        reading.options["blank"] = words if len(words) > 1 else words[0]


def _is_sign(text: str) -> bool:
    """`n/a`, `-`, `?`: nothing is said."""
    return form_of(text) == PLACEHOLDER and not _is_word(text.strip())


def _is_word(text: str) -> bool:
    return text.isalpha() and len(text) > MOST_SIGNS


def _remarks(looks: Sequence[Look], reading: DraftReading) -> None:
    for look in looks:
        if Trait.WITHOUT_OFFSET in look.traits:
            if Trait.WITH_OFFSET in look.traits:
                # Both kinds in one column: without a zone half of them would be rejected.
                reading.options["zone"] = "UTC"
                reading.remarks.append(
                    "UTC is taken for those without offset: say which zone they are in"
                )
            else:
                reading.options["type"] = "datetime"
                reading.options.pop("zone", None)
                reading.remarks.append("no offset: a timestamp, if a zone is given")
        if Trait.OF_UNKNOWN_ORDER in look.traits:
            reading.remarks.append("day first or month first: no value tells")
        if Trait.ALWAYS_MIDNIGHT in look.traits:
            reading.remarks.append("always midnight: the day alone")
        if look.name == "JSON in text":
            reading.remarks.append("holds JSON: response.embedded reads it")


def example_note(report: PlaceReport) -> str | None:
    """A note with a value that was seen."""
    place = report.place
    known = [value for value in place.values.examples if value not in ("", None)]
    if place.numbers.low is not None and place.count("number") > place.count("string"):
        known = [
            value for value in [*known, place.numbers.low] if type(value) is not str
        ]
    value = next(iter(known), None)
    return None if value is None else f"e.g. {example(report.place, value)}"
