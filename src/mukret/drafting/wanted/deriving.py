"""Cells that stand nowhere as they were typed, as something made of values that do: the simplest
that gives them all.

In this order: the same text in other case; a part of a text; a part of a date; of a list how many,
the ends, the sum or all of it; two texts with something between them; words for words that begin
alike; the time between two moments; two numbers added, taken away, multiplied, divided; words for
other words; what is the same in all rows. Each is tried with every value of the rows, the nearest
first.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from decimal import ROUND_HALF_EVEN, Decimal, InvalidOperation
from itertools import permutations

from mukret.drafting.wanted.candidates import Candidate, CandidateTable
from mukret.drafting.wanted.matching import alike
from mukret.drafting.wanted.rows import Cell
from mukret.types import Date, Datetime, Timestamp
from mukret.values import JsonValue

Texts = Sequence[str | None]
# So many numbers, moments or texts are tried in pairs, the nearest first.
MOST_PAIRED = 40
LONGEST_LITERAL = 20
FEWEST_WORDS, MOST_WORDS = 2, 20
_SEPARATORS = "/-_:.,; #|"


@dataclass(frozen=True)
class Derived:
    """A field that is made of others: `of` are these, which `source` (with names `{0}`, `{1}`) puts
    together, or reads in another way. `words` are those of an enum.
    """

    source: Mapping[str, JsonValue]
    of: Sequence[Candidate] = ()
    reading: Mapping[str, JsonValue] = field(default_factory=dict)
    words: Mapping[str, str] = field(default_factory=dict)
    how: str = ""


def derived(
    name: str, cells: Sequence[Cell], rows: Sequence[int], table: CandidateTable
) -> Iterator[Derived]:
    """What gives the cells of a wanted column in these rows; the simplest first."""
    wanted = [
        (row, cell)
        for row, cell in zip(rows, cells, strict=True)
        if cell is None or isinstance(cell, str)
    ]
    if all(cell is None for _, cell in wanted):
        return
    # Of several that give the same cells the one that is called like the column, nearest to the
    # row.
    values = sorted(
        table.values,
        key=lambda value: (not alike(name, value.field.name), value.levels),
    )
    for way in _WAYS:
        yield from way(wanted, values)
    yield from _same_in_all(wanted)


def _same_in_all(wanted: WantedCells) -> Iterator[Derived]:
    """A constant, if several rows have the same cell."""
    # Tried last, since many columns are the same in the few rows that somebody types.
    texts = {cell for _, cell in wanted}
    if len(wanted) > 1 and len(texts) == 1:
        yield Derived({"constant": texts.pop()}, how="the same in all rows")


# The numbers of candidate rows, each with the cell that it is to give.
WantedCells = Sequence[tuple[int, str | None]]


def _all(wanted: WantedCells, make: Callable[[int], str | None]) -> bool:
    return all(make(row) == cell for row, cell in wanted)


def _all_changed(
    wanted: WantedCells, value: Candidate, change: Callable[[str], str]
) -> bool:
    """Whether a change of each text of a value gives the wanted cells; null stays null."""

    def make(row: int) -> str | None:
        text = value.texts[row]
        return None if text is None else change(text)

    return _all(wanted, make)


def _texts_of(values: Sequence[Candidate]) -> Iterator[Candidate]:
    yield from (value for value in values if value.is_text)


def _cased(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    for value in _texts_of(values):
        for function, change in (
            ("LOWER", str.lower),
            ("UPPER", str.upper),
            ("TRIM", str.strip),
        ):
            # The first function that gives all cells is the simplest.
            if _all_changed(wanted, value, change):
                yield Derived(
                    {"compute": f"{function}({{0}})"},
                    (value,),
                    how=f"in other letters: {function}",
                )


def _captured(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    """A part between two separators, counted from the beginning or from the end; or the digits."""
    for value in _texts_of(values):
        if "at" not in value.field.source:
            continue
        for pattern in _patterns(wanted, value):
            compiled = re.compile(pattern, re.ASCII)

            def part(
                row: int, value: Candidate = value, compiled: re.Pattern[str] = compiled
            ) -> str | None:
                text = value.texts[row]
                match = compiled.fullmatch(text) if text is not None else None
                return match[1] if match else None

            # In all rows of the input, too: a pattern that fits three may reject the fourth.
            if _all(wanted, part) and all(
                text is None or compiled.fullmatch(text) for text in value.texts
            ):
                yield Derived(
                    dict(value.field.source),
                    (value,),
                    {"capture": pattern},
                    how="a part of the text",
                )


def _patterns(wanted: WantedCells, value: Candidate) -> Iterator[str]:
    """Patterns that capture the first wanted cell out of a value; whether they give the others too
    is tried by the caller.
    """
    # One cell is enough to make patterns of; the others judge them.
    row, cell = next((row, cell) for row, cell in wanted if cell is not None)
    text = value.texts[row]
    if text is None or not cell or cell == text or cell not in text:
        return
    before, _, after = text.partition(cell)
    yield from _after_or_before_the_same(before, after, value)
    for separator in dict.fromkeys((before[-1:], after[:1])):
        if _separates(separator, cell):
            yield from _between_marks(separator, before, after)
    if cell.isdigit() and not re.search(r"\d", before + after):
        yield "[^0-9]*([0-9]+)[^0-9]*"


def _separates(mark: str, part: str) -> bool:
    """Whether a mark beside a part of a text is one that stands between parts, not in them."""
    return mark != "" and mark in _SEPARATORS and mark not in part


def _after_or_before_the_same(
    before: str, after: str, value: Candidate
) -> Iterator[str]:
    """What follows a text with which all of them begin, or stands before one with which all end."""
    texts = [text for text in value.texts if text is not None]
    at_end, at_start = before and not after, after and not before
    if at_end and all(text.startswith(before) for text in texts):
        yield f"{escaped(before)}(.*)"
    if at_start and all(text.endswith(after) for text in texts):
        yield f"(.*){escaped(after)}"


def _between_marks(separator: str, before: str, after: str) -> Iterator[str]:
    """The part of this number between separators, counted from the beginning or from the end."""
    mark = escaped(separator)
    other = f"[^{escaped_in_class(separator)}]*"
    yield f"{f'{other}{mark}' * before.count(separator)}({other})({mark}.*)?"
    if separator in before:
        yield f".*{mark}({other}){f'{mark}{other}' * after.count(separator)}"


def escaped(text: str) -> str:
    """A text as a regular expression has it that means nothing else (RFC 9485)."""
    return re.sub(r"[()*+.?\[\\\]^{|}]", r"\\\g<0>", text)


def escaped_in_class(character: str) -> str:
    return f"\\{character}" if character in "-[]^" else character


def _of_a_date(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    parts: tuple[tuple[str, Callable[[str], str]], ...] = (
        # As texts, since what was typed is text: no type has to be guessed.
        ("CAST({0} AS date)", lambda text: text[:10]),
        ("EXTRACT(YEAR FROM {0})", lambda text: str(int(text[:4]))),
        ("EXTRACT(MONTH FROM {0})", lambda text: str(int(text[5:7]))),
        ("EXTRACT(DAY FROM {0})", lambda text: str(int(text[8:10]))),
        (
            "EXTRACT(HOUR FROM {0})",
            lambda text: str(int(text[11:13])) if len(text) > 13 else "",
        ),
    )
    for value in values:
        if isinstance(value.kind, Date | Datetime | Timestamp):
            for expression, part in parts:
                if _all_changed(wanted, value, part):
                    yield Derived(
                        {"compute": expression}, (value,), how="a part of the date"
                    )


def _of_a_list(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    """Of scalars in an array: how many, the sum, the ends, or all of them joined."""
    for value in values:
        at = value.field.source.get("at")
        if not isinstance(at, str):
            continue
        lists = [(value.raw[row], cell) for row, cell in wanted]
        if not any(isinstance(raw, list) for raw, _ in lists):
            continue
        path = at if value.nodes or at.endswith("[*]") else f"{at}[*]"
        for take, options, make in _TAKES:
            if all(_taken(raw, make) == cell for raw, cell in lists):
                source: dict[str, JsonValue] = {"at": path, "take": take}
                yield Derived(source, (value,), options, how=f"of the list: {take}")


def _taken(raw: JsonValue, make: Callable[[list[JsonValue]], str | None]) -> str | None:
    """What is taken of a list; null of anything else."""
    return make(raw) if isinstance(raw, list) else None


def _scalars(elements: list[JsonValue]) -> list[str]:
    return [
        str(element)
        for element in elements
        if element is not None and not isinstance(element, dict | list)
    ]


def _total(elements: list[JsonValue]) -> str | None:
    numbers = [_number(text) for text in _scalars(elements)]
    known = [number for number in numbers if number is not None]
    return str(sum(known)) if known and len(known) == len(numbers) else None


_TAKES: tuple[
    tuple[str, Mapping[str, JsonValue], Callable[[list[JsonValue]], str | None]], ...
] = (
    ("count", {}, lambda found: str(len(found))),
    ("join", {}, lambda found: ", ".join(_scalars(found)) or None),
    ("join", {"with": ";"}, lambda found: ";".join(_scalars(found)) or None),
    ("join", {"with": "; "}, lambda found: "; ".join(_scalars(found)) or None),
    ("join", {"with": "|"}, lambda found: "|".join(_scalars(found)) or None),
    ("first", {}, lambda found: next(iter(_scalars(found)), None)),
    ("last", {}, lambda found: next(iter(_scalars(found)[::-1]), None)),
    ("sum", {"type": "integer"}, _total),
)


def _worded(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    """Each word of a text stands for one of the wanted that begins alike."""
    for value, words in _pairs_of_words(wanted, values):
        if all(
            text[:1].casefold() == cell[:1].casefold() for text, cell in words.items()
        ):
            yield Derived(
                dict(value.field.source), (value,), words=words, how="words for words"
            )


def _worded_otherwise(
    wanted: WantedCells, values: Sequence[Candidate]
) -> Iterator[Derived]:
    """The same where nothing is alike: only if there are few words in all, and no two stand for the
    same.
    """
    for value, words in _pairs_of_words(wanted, values):
        of_all = len(set(value.texts) - {None})
        if (
            # With many words a pairing of the few that were typed would be chance.
            of_all <= MOST_WORDS
            and 2 * of_all <= len(value.texts)
            and len(set(words.values())) == len(words)
        ):
            yield Derived(
                dict(value.field.source), (value,), words=words, how="words for words"
            )


def _pairs_of_words(
    wanted: WantedCells, values: Sequence[Candidate]
) -> Iterator[tuple[Candidate, dict[str, str]]]:
    """The texts that stand for one wanted word each, of which there are two at least."""
    filled = [(row, cell) for row, cell in wanted if cell is not None]
    if all(_number(cell) is not None for _, cell in filled):
        return
    for value in _texts_of(values):
        pairs = _said_for(filled, value)
        words = dict(pairs)
        # A text that stands for two words is no word for either.
        each_for_one = len(words) == len(set(pairs))
        enough = len(set(words.values())) >= FEWEST_WORDS
        if each_for_one and enough and "at" in value.field.source:
            yield value, words


def _said_for(
    filled: Sequence[tuple[int, str]], value: Candidate
) -> list[tuple[str, str]]:
    """The texts of a value with the cells that stand for them, in the order in which they were
    typed, so that a draft is the same each time.
    """
    pairs = []
    for row, cell in filled:
        text = value.texts[row]
        if text is not None:
            pairs.append((text, cell))
    return pairs


def _between(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    """The time between two moments, in seconds, minutes, hours or days."""
    moments = [
        value for value in values if isinstance(value.kind, Timestamp | Datetime)
    ][:MOST_PAIRED]
    units = (("", 1), (" / 60", 60), (" / 3600", 3600), (" / 86400", 86400))
    for later, earlier in permutations(moments, 2):
        if later.kind != earlier.kind:
            continue
        for text, seconds in units:

            def span(
                row: int,
                later: Candidate = later,
                earlier: Candidate = earlier,
                seconds: int = seconds,
            ) -> str | None:
                ends = [_moment(end.texts[row]) for end in (later, earlier)]
                if ends[0] is None or ends[1] is None:
                    return None
                # Only whole units: 90 minutes are no hours.
                whole, rest = divmod(int((ends[0] - ends[1]).total_seconds()), seconds)
                return None if rest else str(whole)

            if _all(wanted, span):
                expression = f"CAST(EXTRACT(EPOCH FROM {{0}} - {{1}}){text} AS integer)"
                yield Derived(
                    {"compute": expression},
                    (later, earlier),
                    how="the time between two moments",
                )


def _moment(text: str | None) -> datetime | None:
    return None if text is None else datetime.fromisoformat(text)


def _number(text: str | None) -> Decimal | None:
    try:
        return None if text is None else Decimal(text)
    except InvalidOperation:
        return None


def _calculated(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    """Two numbers of the row, in one step, rounded as the wanted ones are written."""
    numbers = [value for value in values if value.kind.is_number][:MOST_PAIRED]
    cells = [(row, _number(cell)) for row, cell in wanted]
    # A text that is no number can't be calculated.
    written = sum(cell is not None for _, cell in wanted)
    if sum(number is not None for _, number in cells) < written:
        return
    digits = _digits_after_the_point(number for _, number in cells)
    kind = "integer" if digits <= 0 else f"decimal(18,{digits})"
    for left, right in permutations(numbers, 2):
        for sign, calculate in _STEPS:
            step = _TwoNumbers(left, right, sign, calculate, digits)
            fits = all(step.result(row) == number for row, number in cells)
            if fits and _says_something(cells, left, right):
                reading: dict[str, JsonValue] = {"type": kind, "round": "half-even"}
                source: dict[str, JsonValue] = {"compute": f"{{0}} {sign} {{1}}"}
                yield Derived(source, (left, right), reading, how="of two numbers")


def _digits_after_the_point(numbers: Iterable[Decimal | None]) -> int:
    """The most that one of them has; negative where all of them end in noughts that are not
    written.
    """
    exponents = [number.as_tuple().exponent for number in numbers if number is not None]
    return max((-int(exponent) for exponent in exponents), default=0)


@dataclass(frozen=True)
class _TwoNumbers:
    """A step of calculation with the numbers of two values, to so many digits after the point."""

    one: Candidate
    other: Candidate
    sign: str
    calculate: _Step
    digits: int

    def result(self, row: int) -> Decimal | None:
        left, right = _number(self.one.texts[row]), _number(self.other.texts[row])
        if left is None or right is None or (self.sign == "/" and not right):
            return None
        exact = self.calculate(left, right)
        rounded = exact.quantize(
            Decimal(1).scaleb(-max(0, self.digits)), ROUND_HALF_EVEN
        )
        # Sums have no more digits than what they are made of: there a rounded one is another
        # number.
        may_be_rounded = self.sign in "*/" and self.digits > 0
        return rounded if may_be_rounded or rounded == exact else None


def _says_something(
    cells: Sequence[tuple[int, Decimal | None]], *values: Candidate
) -> bool:
    """Whether the result is another number than either of the two, somewhere."""
    return all(_differs(cells, value) for value in values)


def _differs(cells: Sequence[tuple[int, Decimal | None]], value: Candidate) -> bool:
    return any(_number(value.texts[row]) != number for row, number in cells)


_Step = Callable[[Decimal, Decimal], Decimal]
_STEPS: tuple[tuple[str, _Step], ...] = (
    ("+", lambda one, other: one + other),
    ("-", lambda one, other: one - other),
    ("*", lambda one, other: one * other),
    ("/", lambda one, other: one / other),
)


def _joined(wanted: WantedCells, values: Sequence[Candidate]) -> Iterator[Derived]:
    """Two texts with the same between them in all rows."""
    texts = list(_texts_of(values))[:MOST_PAIRED]
    filled = [(row, cell) for row, cell in wanted if cell is not None]
    for left, right in permutations(texts, 2):
        literals = {
            _literal(left.texts[row], right.texts[row], cell) for row, cell in filled
        }
        # The same in all rows, or it was not what stands between.
        literal = next(iter(literals)) if len(literals) == 1 else None
        if literal is not None:
            quoted = literal.replace("'", "''").replace("{", "{{").replace("}", "}}")
            middle = f" || '{quoted}' || " if literal else " || "
            yield Derived(
                {"compute": f"{{0}}{middle}{{1}}"},
                (left, right),
                how="two texts together",
            )


def _literal(left: str | None, right: str | None, cell: str) -> str | None:
    if not left or not right or not cell.startswith(left) or not cell.endswith(right):
        return None
    middle = cell[len(left) : len(cell) - len(right)]
    return (
        middle
        if len(left) + len(right) <= len(cell) and len(middle) <= LONGEST_LITERAL
        else None
    )


_WAYS = (
    _cased,
    _captured,
    _of_a_date,
    _of_a_list,
    _joined,
    _worded,
    _between,
    _calculated,
    _worded_otherwise,
)
