"""What is known of a place: all nodes that one path reaches, array elements taken together.

Everything is counted as it streams by, in memory that does not grow with the input: values are
counted while they are few, told apart by hash up to a limit, and otherwise kept as examples.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from typing import NamedTuple, TypeVar

from mukret.paths.query import Index, Name, Segment, Selector, Wildcard, child_segment
from mukret.survey.forms import TEXT, AnyForm, NumberForm, forms_of, without_decimals
from mukret.values import NEGATIVE_ZERO, JsonValue, Number

# Distinct values of a place that are counted one by one.
MOST_VALUES = 60
# Distinct values of a place that are told apart.
MOST_HASHES = 50_000
MOST_FORMS = 40
MOST_EXAMPLES = 4
MOST_SIGNATURES = 100
# Records of a list that are kept, names and short texts only, to see whether they are of several
# sorts.
MOST_SAMPLED = 400
# Texts that are longer are no words, and not kept to be counted.
LONGEST_KEPT = 80


Key = TypeVar("Key")


class Where(NamedTuple):
    """A node in the input."""

    file: str
    document: int
    path: str


@dataclass
class Seen:
    """A form or kind that was met: how often, an example, and where first."""

    count: int = 0
    example: JsonValue = None
    where: Where | None = None


@dataclass
class Lengths:
    """Of the arrays at a place."""

    lists: int = 0
    empty: int = 0
    total: int = 0
    shortest: int = 0
    longest: int = 0

    def see(self, lengths: list[int]) -> None:
        shortest, longest = min(lengths), max(lengths)
        self.shortest = min(self.shortest, shortest) if self.lists else shortest
        self.longest = max(self.longest, longest)
        self.lists += len(lengths)
        self.empty += lengths.count(0)
        self.total += sum(lengths)

    def merge(self, other: Lengths) -> None:
        if other.lists:
            self.shortest = (
                min(self.shortest, other.shortest) if self.lists else other.shortest
            )
            self.longest = max(self.longest, other.longest)
            self.lists += other.lists
            self.empty += other.empty
            self.total += other.total


@dataclass
class Values:
    """The scalars of a place: counted while they are few, told apart by hash while they are not too
    many.
    """

    count: int = 0
    counted: Counter[JsonValue] | None = field(default_factory=Counter)
    hashes: set[int] | None = field(default_factory=set)
    repeated: list[JsonValue] = field(default_factory=list)
    """The first values that were met a second time."""
    examples: list[JsonValue] = field(default_factory=list)

    @property
    def distinct(self) -> int | None:
        """How many different values there are; None: more than are told apart."""
        return None if self.hashes is None else len(self.hashes)

    def see(self, counts: Counter[JsonValue]) -> None:
        self.count += counts.total()
        if self.counted is not None:
            self.counted.update(counts)
            # Given up for good: memory must not grow with the data.
            if len(self.counted) > MOST_VALUES or any(map(_is_no_word, counts)):
                self.counted = None
        if len(self.examples) < MOST_EXAMPLES:
            fresh = [value for value in counts if value not in self.examples]
            self.examples += fresh[: MOST_EXAMPLES - len(self.examples)]
        if self.hashes is not None:
            self._tell_apart(self.hashes, counts)

    def _tell_apart(self, hashes: set[int], counts: Counter[JsonValue]) -> None:
        if len(self.repeated) < MOST_EXAMPLES:
            again = (
                value
                for value, count in counts.items()
                if count > 1 or hash(value) in hashes
            )
            self.repeated += islice(again, MOST_EXAMPLES - len(self.repeated))
        # Hashes in place of values: a million of them take little room.
        hashes.update(map(hash, counts))
        if len(hashes) > MOST_HASHES:
            self.hashes = None

    def merge(self, other: Values) -> None:
        self.count += other.count
        self._merge_counted(other)
        self._merge_hashes(other)
        self.repeated = (self.repeated + other.repeated)[:MOST_EXAMPLES]
        fresh = [value for value in other.examples if value not in self.examples]
        self.examples = (self.examples + fresh)[:MOST_EXAMPLES]

    def _merge_counted(self, other: Values) -> None:
        if self.counted is None or other.counted is None:
            self.counted = None
            return
        self.counted.update(other.counted)
        if len(self.counted) > MOST_VALUES:
            self.counted = None

    def _merge_hashes(self, other: Values) -> None:
        if self.hashes is None or other.hashes is None:
            self.hashes = None
            return
        # A value on both sides comes twice: one is kept as an example of that.
        common = self.hashes & other.hashes
        if common and len(self.repeated) < MOST_EXAMPLES:
            self.repeated += [
                value for value in other.examples if hash(value) in common
            ][:1]
        self.hashes |= other.hashes
        if len(self.hashes) > MOST_HASHES:
            self.hashes = None


@dataclass
class Numbers:
    """JSON numbers of a place; the extremes as they stood."""

    whole: int = 0
    fractions: int = 0
    decimals: int = 0
    low: JsonValue = None
    high: JsonValue = None
    huge: int = 0
    """Whole numbers beyond 64 bits."""

    def see(self, numbers: Iterable[JsonValue]) -> None:
        distinct = sorted(numbers, key=magnitude)
        if not distinct:
            return
        self._stretch(distinct[0], distinct[-1])

    def _stretch(self, low: JsonValue, high: JsonValue) -> None:
        self.low = low if self.low is None else min(self.low, low, key=magnitude)
        self.high = high if self.high is None else max(self.high, high, key=magnitude)

    def count(self, counts: Counter[JsonValue]) -> None:
        for value, count in counts.items():
            if type(value) is Number and value != NEGATIVE_ZERO:
                self.fractions += count
                self.decimals = max(self.decimals, _decimals(value))
            else:
                self.whole += count
                self.huge += count * (not -(2**63) <= int(value) < 2**63)
        self.see(counts)

    def merge(self, other: Numbers) -> None:
        self.whole += other.whole
        self.fractions += other.fractions
        self.huge += other.huge
        self.decimals = max(self.decimals, other.decimals)
        if other.low is not None:
            self._stretch(other.low, other.high)


def magnitude(number: JsonValue) -> float:
    """A JSON number as a float, to be compared; infinite if it is too large for one."""
    try:
        return float(number)
    except OverflowError:
        return float("inf") if number > 0 else float("-inf")


def _decimals(text: str) -> int:
    """Digits after the point; those of a number with an exponent are not counted."""
    return 0 if "e" in text or "E" in text else len(text.partition(".")[2])


@dataclass(eq=False)
class Place:
    """One place.

    `step` is the member name that leads here, `position` the number of an element of a row; both
    None for the elements of an array, for the members of an object whose names are data, and for
    the root.
    """

    parent: Place | None = None
    step: str | None = None
    position: int | None = None
    depth: int = 0
    nodes: int = 0
    kinds: dict[str, Seen] = field(default_factory=dict)
    children: dict[str, Place] = field(default_factory=dict)
    elements: Place | None = None
    columns: list[Place] = field(default_factory=list)
    """The elements of an array inside an array by their position, for tables sent as rows."""
    members: Place | None = None
    """The members taken together, once their names are known to be data."""
    names: Values = field(default_factory=Values)
    """The names of these members."""
    values: Values = field(default_factory=Values)
    trues: int = 0
    numbers: Numbers = field(default_factory=Numbers)
    forms: dict[AnyForm, Seen] = field(default_factory=dict)
    decimals: int = 0
    longest: int = 0
    trimmed: Seen = field(default_factory=Seen)
    """Texts with white space around them."""
    midnights: Counter[str] = field(default_factory=Counter)
    """What stands behind the day in instants that are midnight, and how often; of many ways some.
    """
    lengths: Lengths = field(default_factory=Lengths)
    header: tuple[str, ...] | None = None
    """The first row of the arrays of rows at this place, where it holds names; it is counted as no
    row.
    """
    signatures: Counter[tuple[str, ...]] | None = field(default_factory=Counter)
    """How often each sequence of member names came; None: too many."""
    sampled: list[dict[str, JsonValue]] = field(default_factory=list)
    unique_in_list: bool = True
    lists_compared: int = 0
    repeated_where: Where | None = None
    missing_where: Where | None = None
    """The first object seen that lacks this member."""
    parallel: dict[tuple[str, str], list[int]] = field(default_factory=dict)
    """Pairs of members that are arrays: in how many objects of equal length, and of how many in
    which one has two.
    """
    recursive: bool = False
    not_followed: int = 0
    """Nodes below that were not looked at: too deep, or too many different places."""

    def count(self, kind: str) -> int:
        seen = self.kinds.get(kind)
        return seen.count if seen else 0

    @property
    def objects(self) -> int:
        return self.count("object")

    def see_strings(self, strings: list[str]) -> None:
        counts = Counter(strings)
        self.values.see(counts)
        self.longest = max(self.longest, *map(len, counts))
        # Forms are equal by their contents, which takes long to compare; those of one skeleton are
        # one object, so that most are found again by identity.
        seen_of: dict[int, Seen] = {}
        for (text, count), form in zip(counts.items(), forms_of(counts), strict=True):
            if text != text.strip():
                self.trimmed.count += count
                self.trimmed.example = self.trimmed.example or text
            seen = seen_of.get(id(form))
            if seen is None:
                seen = seen_of[id(form)] = self.seen_of(form, text)
            seen.count += count
            if form.kind == "timestamp" and text[11:16] == "00:00":
                self._see_midnight(text[10:], count)

    def _see_midnight(self, behind: str, count: int) -> None:
        if behind in self.midnights or len(self.midnights) < MOST_EXAMPLES:
            self.midnights[behind] += count

    def seen_of(self, form: AnyForm, text: str) -> Seen:
        """What is counted of the form of a text; beyond so many forms they are taken together."""
        if type(form) is NumberForm and form.decimals:
            # 1.204 may be a thousand and more: its digits say nothing of a fraction yet.
            if not form.either:
                self.decimals = max(self.decimals, form.decimals)
            form = without_decimals(form)
        seen = self.forms.get(form)
        if seen is None:
            if len(self.forms) >= MOST_FORMS:
                # Free text has as many forms as values.
                seen = self.forms.setdefault(TEXT, Seen())
            else:
                seen = self.forms[form] = Seen()
            if seen.example is None:
                seen.example = text
        return seen

    def see_numbers(self, numbers: list[JsonValue]) -> None:
        counts = Counter(numbers)
        self.values.see(counts)
        self.numbers.count(counts)

    def merge(self, other: Place) -> None:
        """Takes in what was counted at another place; what stands below both is merged as well."""
        # With a list of pairs that are left, not by recursion: places can be deeper than Python
        # goes. What stands below one of the two alone is taken over as it is, and only told its new
        # parent, so that the work goes with what both have, not with all that there is.
        todo = [(self, other)]
        while todo:
            place, merged = todo.pop()
            place._merge_own(merged)
            for name, child in merged.children.items():
                if name in place.children:
                    todo.append((place.children[name], child))
                else:
                    child.parent, place.children[name] = place, child
            place.elements = _merged_below(place, place.elements, merged.elements, todo)
            place.members = _merged_below(place, place.members, merged.members, todo)
            todo += zip(place.columns, merged.columns, strict=False)
            place.columns += merged.columns[len(place.columns) :]

    def _merge_own(self, other: Place) -> None:
        self.nodes += other.nodes
        _merge_seen(self.kinds, other.kinds)
        _merge_seen(self.forms, other.forms)
        self.values.merge(other.values)
        self.names.merge(other.names)
        self.numbers.merge(other.numbers)
        self.lengths.merge(other.lengths)
        # Ends of ranges are the wider ones; counts are added.
        self.decimals = max(self.decimals, other.decimals)
        self.longest = max(self.longest, other.longest)
        if not self.trimmed.count:
            self.trimmed = other.trimmed
        else:
            self.trimmed.count += other.trimmed.count
        self.midnights.update(other.midnights)
        self.trues += other.trues
        self.header = self.header or other.header
        self._merge_signatures(other)
        self.sampled = (self.sampled + other.sampled)[:MOST_SAMPLED]
        self.unique_in_list &= other.unique_in_list
        self.lists_compared += other.lists_compared
        self.recursive |= other.recursive
        self.not_followed += other.not_followed
        # Where both saw the same two arrays, how often they were of one length.
        for pair, (equal, compared) in other.parallel.items():
            mine = self.parallel.setdefault(pair, [0, 0])
            mine[0] += equal
            mine[1] += compared

    def _merge_signatures(self, other: Place) -> None:
        if self.signatures is None or other.signatures is None:
            self.signatures = None
            return
        self.signatures.update(other.signatures)
        if len(self.signatures) > MOST_SIGNATURES:
            self.signatures = None

    def upward(self) -> Iterator[Place]:
        """This place and those above, up to the root."""
        place: Place | None = self
        while place is not None:
            yield place
            place = place.parent

    def below(self) -> Iterator[Place]:
        """The places directly below."""
        yield from self.children.values()
        yield from self.columns
        if self.members is not None:
            yield self.members
        if self.elements is not None:
            yield self.elements

    def everything(self) -> Iterator[Place]:
        """This place and all below it, each before what is below it."""
        todo = [self]
        while todo:
            place = todo.pop()
            yield place
            todo += reversed(list(place.below()))

    @property
    def selector(self) -> Selector:
        """What leads here from the place above."""
        if self.step is not None:
            return Name(self.step)
        return Wildcard() if self.position is None else Index(self.position)

    def segments(self) -> tuple[Segment, ...]:
        """The path that leads here from the root of the survey."""
        steps: list[Segment] = []
        place = self
        while place.parent is not None:
            steps.append(child_segment(place.selector))
            place = place.parent
        return tuple(reversed(steps))


def _merge_seen(into: dict[Key, Seen], other: dict[Key, Seen]) -> None:
    for key, seen in other.items():
        mine = into.get(key)
        if mine is None:
            into[key] = seen
        else:
            mine.count += seen.count


def _is_no_word(value: JsonValue) -> bool:
    return type(value) is str and len(value) > LONGEST_KEPT


def _merged_below(
    parent: Place,
    mine: Place | None,
    theirs: Place | None,
    todo: list[tuple[Place, Place]],
) -> Place | None:
    """The place below one that takes in another: its own, with which the other one's is to be
    merged, or else the other one's.
    """
    if theirs is None:
        return mine
    if mine is None:
        theirs.parent = parent
        return theirs
    todo.append((mine, theirs))
    return mine
