"""Raw columns → typed Arrow columns, with exactly the values refused that the plain reading
refuses.

A kernel converts what it surely understands, all at once; what is left is read one value at a time
by the type itself (`TypeSpec.read`), which alone decides what is bad and why.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import reduce
from typing import TypeVar

import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import any_true, merged, true_rows, with_values
from mukret.columns.stored import Converted
from mukret.columns.types import nulls, stored, value_type
from mukret.columns.words import has_text_steps
from mukret.paths.regexps import CAPTURED, capturing
from mukret.types import (
    WHITE_SPACE,
    Bad,
    Boolean,
    Enum,
    Json,
    ListOf,
    Text,
    TypeSpec,
    ValueType,
)
from mukret.values import JsonValue, Number, scalar_text

# Up to so many refused values are read one by one at once; more are trimmed and tried again as a
# column first.
FEW = 32
STRIP_ROUNDS = 4

Failures = dict[int, Bad]

Raw = TypeVar("Raw")


@dataclass
class Column:
    """A typed array (null where the value is null or bad) and what is wrong, by row."""

    array: pa.Array
    failures: Failures = field(default_factory=dict)


def read_column(reading: TypeSpec, values: Sequence[JsonValue]) -> Column:
    """A raw column as typed column."""
    kinds = set(map(type, values))
    kinds.discard(type(None))
    if not kinds:
        return Column(nulls(reading.type, len(values)))
    if isinstance(reading.type, ListOf | Json):
        return _one_by_one(reading, values)
    if kinds == {str}:
        return read_strings(reading, pa.array(values, pa.string()), reading.read)
    if isinstance(reading.type, Text) and not reading.options.blank:
        return _texts(reading, values, kinds)
    # Texts, numbers and the rest go to different kernels, and are put together again by row.
    groups = [kinds & {str}, kinds & {int, Number}, kinds - {str, int, Number}]
    if sum(map(bool, groups)) > 1:
        return _mixed(reading, values, [group for group in groups if group])
    return (
        _numbers(reading, values, kinds) if groups[1] else _one_by_one(reading, values)
    )


def read_lists(reading: TypeSpec, values: Sequence[list[JsonValue]]) -> Column:
    """A column of which each row holds all nodes of a path."""
    plain = (
        isinstance(reading.type, ListOf)
        and isinstance(reading.type.item, Text)
        and not has_text_steps(reading)
    )
    if plain and {type(node) for nodes in values for node in nodes} <= {str, Number}:
        return Column(pa.array(values, value_type(reading.type)))
    return column_of(reading.read_nodes, values, reading.type)


def _one_by_one(reading: TypeSpec, values: Sequence[JsonValue]) -> Column:
    return column_of(reading.read, values, reading.type)


def column_of(
    function: Callable[[Raw], object],
    values: Iterable[Raw],
    kind: ValueType | None,
    failed_before: Failures | None = None,
) -> Column:
    """What a function makes of each value; where it raises Bad a null, and the failure beside it.

    What had failed before (an operand) stays what is told of its row.
    """
    results: list[object] = []
    failures = dict(failed_before or {})
    for row, value in enumerate(values):
        try:
            results.append(function(value))
        except Bad as bad:
            results.append(None)
            failures.setdefault(row, bad.alone())
    return Column(pa.array(results, value_type(kind)), failures)


def _mixed(
    reading: TypeSpec, values: Sequence[JsonValue], groups: list[set[type]]
) -> Column:
    """A column with values of several kinds: each group of kinds as a column of its own."""
    parts = []
    failures: Failures = {}
    for group in groups:
        rows = [row for row, value in enumerate(values) if type(value) in group]
        column = read_column(reading, [values[row] for row in rows])
        parts.append((rows, column.array))
        failures.update({rows[row]: bad for row, bad in column.failures.items()})
    return Column(merged(parts, len(values), value_type(reading.type)), failures)


def _texts(reading: TypeSpec, values: Sequence[JsonValue], kinds: set[type]) -> Column:
    """Texts out of scalars of several kinds; numbers and booleans are not trimmed or stripped,
    being neither.
    """
    if has_text_steps(reading) or not kinds <= {str, int, bool, Number}:
        return _one_by_one(reading, values)
    return Column(pa.array(list(map(scalar_text, values)), pa.string()))


def _numbers(
    reading: TypeSpec, values: Sequence[JsonValue], kinds: set[type]
) -> Column:
    if isinstance(reading.type, Enum | Boolean):
        return _by_word(reading, values)
    if reading.options.blank or reading.options.capture is not None:
        return _one_by_one(reading, values)
    array, refused = _of_numbers(reading, values, kinds)
    return _completed(
        array, refused, lambda rows: [values[row] for row in rows], reading.read
    )


def _of_numbers(
    reading: TypeSpec, values: Sequence[JsonValue], kinds: set[type]
) -> Converted:
    """JSON numbers (`int`, `Number`, None) as an array of the type."""
    columns = stored(reading.type)
    if kinds == {int}:
        try:
            return columns.of_integers(reading.options, pa.array(values, pa.int64()))
        # Beyond 64 bits; as text it may still be a decimal.
        except (OverflowError, pa.ArrowInvalid):
            pass
    texts = pa.array(map(_digits, values), pa.string())
    return columns.of_numbers(reading.options, texts)


def _digits(number: JsonValue) -> str | None:
    """A JSON number as it was written."""
    return None if number is None else str(number)


def _by_word(reading: TypeSpec, values: Sequence[JsonValue]) -> Column:
    known: dict[str, object] = {}
    failures: Failures = {}
    outcomes: list[object] = []
    for row, value in enumerate(values):
        word = scalar_text(value)
        if word is None:
            outcomes.append(None)
            continue
        if word not in known:
            # By its JSON text, so that 1 and 1.0 stay two things.
            known[word] = tried(reading.read, value)
        outcome = known[word]
        if isinstance(outcome, Bad):
            failures[row] = outcome
            outcome = None
        outcomes.append(outcome)
    return Column(pa.array(outcomes, value_type(reading.type)), failures)


def tried(read: Callable[[str], object], value: JsonValue) -> object:
    try:
        return read(value)
    except Bad as bad:
        return bad.alone()


def read_strings(
    reading: TypeSpec,
    strings: pa.Array,
    read: Callable[[str], object],
    *,
    strict: bool = False,
) -> Column:
    """A string array as typed column.

    `read` decides about what no kernel takes; `strict`: nothing but trimming comes before the type
    (a CAST).
    """
    options = reading.options
    if not stored(reading.type).reads_texts(options):
        return _by_unique(reading, strings, read)
    prepared, unmatched = strings, None
    if not strict and _changes_texts(reading):
        prepared, unmatched = _prepared(reading, strings)
    elif isinstance(reading.type, Text) and options.trim:
        prepared = pc.utf8_trim(strings, characters=WHITE_SPACE)
    array, refused = stored(reading.type).of_texts(options, prepared)
    refused = _either(refused, unmatched)
    # Few refusals are read one by one; for many it is quicker to try the kernel on tidier texts.
    if prepared is strings and _count(refused) > FEW:
        array, refused = _tried_again(reading, strings, array, refused, strict)
    return _completed(
        array,
        refused,
        lambda rows: strings.take(pa.array(rows, pa.int64())).to_pylist(),
        read,
    )


def _changes_texts(reading: TypeSpec) -> bool:
    """Whether options work on texts before the type does, besides trimming."""
    options = reading.options
    return bool(options.blank or reading.strips or options.capture is not None)


def _count(refused: pa.Array | None) -> int:
    """How many rows are refused."""
    return 0 if refused is None else pc.sum(refused).as_py() or 0


def _either(refused: pa.Array | None, unmatched: pa.Array | None) -> pa.Array | None:
    """The rows in either of two masks; None if both are empty."""
    if refused is None or unmatched is None:
        return unmatched if refused is None else refused
    return pc.or_(pc.fill_null(refused, False), unmatched)


def _prepared(reading: TypeSpec, strings: pa.Array) -> tuple[pa.Array, pa.Array]:
    """The steps before a type's own, for a whole column: trim, blank, capture, strip; and a mask of
    the texts that the pattern does not match, None if there are none.
    """
    if reading.trims:
        strings = pc.utf8_trim(strings, characters=WHITE_SPACE)
    if reading.blanks:
        blank = pc.is_in(
            strings, value_set=pa.array(sorted(reading.blanks), pa.string())
        )
        if any_true(blank):
            strings = pc.if_else(blank, pa.scalar(None, pa.string()), strings)
    unmatched = None
    if reading.options.capture is not None:
        captured = pc.struct_field(
            pc.extract_regex(strings, capturing(reading.options.capture)), CAPTURED
        )
        # A text that the pattern does not match is bad, not missing: told apart before it becomes
        # null.
        lost = pc.and_(pc.is_valid(strings), pc.is_null(captured))
        unmatched = lost if any_true(lost) else None
        strings = (
            pc.utf8_trim(captured, characters=WHITE_SPACE)
            if reading.trims
            else captured
        )
    return _stripped(reading, strings) if reading.strips else strings, unmatched


def _stripped(reading: TypeSpec, strings: pa.Array) -> pa.Array:
    """`TypeSpec.stripped`, step by step, for a whole column; what is not done after a few rounds
    goes one by one, since each round goes over all.
    """
    for _ in range(STRIP_ROUNDS):
        changed = False
        for part in reading.strips:
            for has_it, start, stop in (
                (pc.starts_with(strings, part), len(part), None),
                (pc.ends_with(strings, part), 0, -len(part)),
            ):
                if any_true(has_it):
                    changed = True
                    cut = pc.utf8_slice_codeunits(strings, start, stop)
                    # ends_with was asked before the beginning was cut off: ask again where both
                    # could be the same
                    still = has_it if start else pc.ends_with(strings, part)
                    strings = pc.if_else(still, cut, strings)
            if changed and reading.trims:
                strings = pc.utf8_trim(strings, characters=WHITE_SPACE)
        if not changed:
            return strings
    left = [
        pc.or_(pc.starts_with(strings, part), pc.ends_with(strings, part))
        for part in reading.strips
    ]
    longer = pc.fill_null(reduce(pc.or_, left), False)
    rest = [reading.stripped(text) for text in strings.filter(longer).to_pylist()]
    return pc.replace_with_mask(strings, longer, pa.array(rest, strings.type))


def _tried_again(
    reading: TypeSpec,
    strings: pa.Array,
    array: pa.Array,
    refused: pa.Array,
    strict: bool,
) -> tuple[pa.Array, pa.Array]:
    # Most refusals are for blanks and marks around the value: without these the kernel takes them.
    rows = pc.indices_nonzero(refused)
    texts = strings.take(rows)
    texts = (
        pc.utf8_trim(texts, characters=WHITE_SPACE)
        if strict
        else _prepared(reading, texts)[0]
    )
    values, still = stored(reading.type).of_texts(reading.options, texts)
    array = pc.replace_with_mask(array, refused, values)
    if still is None:
        return array, None
    mask = pc.replace_with_mask(refused, refused, pc.fill_null(still, False))
    return array, mask


def _by_unique(
    reading: TypeSpec, strings: pa.Array, read: Callable[[str], object]
) -> Column:
    """Few different strings: each is read once."""
    encoded = strings.dictionary_encode()
    outcomes = [tried(read, word) for word in encoded.dictionary.to_pylist()]
    return spread(outcomes, encoded.indices, reading.type)


def spread(outcomes: Sequence[object], numbers: pa.Array, kind: ValueType) -> Column:
    """A column out of few outcomes (values, or Bad): for each row the one of this number; null
    where the number is.
    """
    values = list(map(_sound, outcomes))
    column = Column(pa.array(values, value_type(kind)).take(numbers))
    bad = pa.array([isinstance(outcome, Bad) for outcome in outcomes], pa.bool_())
    if not any_true(bad):
        return column
    # The way back from outcomes to rows is only gone where some of them are bad.
    rows = true_rows(pc.fill_null(bad.take(numbers), False))
    for row, number in zip(
        rows, numbers.take(pa.array(rows, pa.int64())).to_pylist(), strict=True
    ):
        outcome = outcomes[number]
        assert isinstance(outcome, Bad)
        column.failures[row] = outcome
    return column


_UNKNOWN = object()


def _completed(
    array: pa.Array,
    refused: pa.Array,
    raw: Callable[[list[int]], list[JsonValue]],
    read: Callable[[str], object],
) -> Column:
    """Reads what a kernel refused one by one and puts it in;
    `raw` gives the values of some rows.
    """
    column = Column(array)
    if refused is None:
        return column
    values: dict[int, object] = {}
    known: dict[object, object] = {}
    rows = true_rows(refused)
    for row, value in zip(rows, raw(rows), strict=True):
        if type(value) is str:  # the same few words mostly
            outcome = known.get(value, _UNKNOWN)
            if outcome is _UNKNOWN:
                outcome = known[value] = tried(read, value)
        else:
            outcome = tried(read, value)
        if isinstance(outcome, Bad):
            column.failures[row] = outcome
        elif outcome is not None:
            values[row] = outcome
    column.array = with_values(array, values)
    return column


def _sound(outcome: object) -> object:
    """A value; null where there is something wrong with it."""
    return None if isinstance(outcome, Bad) else outcome
