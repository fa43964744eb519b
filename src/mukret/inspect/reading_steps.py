"""The steps in which a value is read by its type, in words."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from mukret.codes import Code
from mukret.paths.regexps import captured
from mukret.semantics.rejects import sentence
from mukret.types import WHITE_SPACE, Bad, TypeSpec
from mukret.types.lists import ListOf, parts
from mukret.values import JsonValue, scalar_text, shown_text

MOST_NODES = 5


def reading_steps(reading: TypeSpec, value: JsonValue) -> Iterator[str]:
    """The steps of `TypeSpec.read`, those that change something."""
    if value is None:
        return
    # The order is that in which options work; a step that changes nothing is not told.
    if type(value) is str and reading.trims:
        trimmed = value.strip(WHITE_SPACE)
        if trimmed != value:
            yield f"trimmed: {shown_text(trimmed)}"
        value = trimmed
    text = scalar_text(value)
    blanks = reading.blanks if type(value) is str else reading.options.blank
    if text is not None and text in blanks:
        yield "blank: null"
        return
    pattern = reading.options.capture
    if pattern is not None and text is not None:
        part = captured(pattern, text)
        if part is None:
            yield f"does not match {pattern}"
            return
        value = part.strip(WHITE_SPACE) if reading.trims else part
        yield f"captured by {pattern}: {shown_text(value)}"
    yield from _conversion_steps(reading, value)


def _conversion_steps(reading: TypeSpec, value: JsonValue) -> Iterator[str]:
    """What becomes of the value that trimming and capturing leave."""
    # The longest first, as they are taken off.
    if type(value) is str and reading.strips:
        stripped = reading.stripped(value)
        if stripped != value:
            marks = ", ".join(map(shown_text, reading.strips))
            yield f"stripped of {marks}: {shown_text(stripped)}"
        value = stripped
    if isinstance(reading.type, ListOf):
        yield from list_steps(reading.type, reading, value)
    else:
        yield _read_as(reading)


def list_steps(kind: ListOf, reading: TypeSpec, value: JsonValue) -> Iterator[str]:
    """The steps of `ListOf.convert`."""
    options = reading.options
    if type(value) is list:
        yield from element_steps(kind, reading, value)
        return
    split = options.split if type(value) is str else None
    elements = [value] if split is None else parts(value, split)
    if split is not None:
        yield (
            f"split at {shown_text(split)}: "
            f"{', '.join(map(shown_text, elements[:MOST_NODES])) or 'nothing'}"
        )
    yield from element_steps(
        # These two have done their work on the whole text.
        kind,
        TypeSpec(kind, replace(options, capture=None, split=None)),
        elements,
    )


def element_steps(
    kind: ListOf, reading: TypeSpec, elements: Sequence[JsonValue]
) -> Iterator[str]:
    """The steps of `ListOf.convert_elements`."""
    options = reading.options
    return each_of(
        TypeSpec(kind.item if options.split is None else kind, options), elements
    )


def each_of(reading: TypeSpec, elements: Sequence[JsonValue]) -> Iterator[str]:
    """The steps of each of several values, in a line."""
    for number, element in enumerate(elements[:MOST_NODES]):
        steps = (
            ["null: left out"]
            if element is None
            else list(reading_steps(reading, element))
        )
        try:
            reading.read(element)
        # The trace goes on where the run stopped: which element it was is what is asked.
        except Bad as bad:
            steps.append(
                f"[{bad.code}]"
                if bad.code == Code.NO_MATCH
                else f"{sentence(bad, None)} [{bad.code}]"
            )
        yield f"[{number}] {shown_text(element)}: {', '.join(steps)}"
    if len(elements) > MOST_NODES:
        yield f"and {len(elements) - MOST_NODES:,} more"


def _read_as(reading: TypeSpec) -> str:
    options = reading.options
    given = {
        "grouping": options.grouping,
        "point": options.point,
        "zone": options.zone,
        "format": ", ".join(options.format),
        "unit": options.unit,
    }
    usual = {"point": ".", "format": "iso"}
    with_options = [
        f"{name} {shown_text(value)}"
        for name, value in given.items()
        # Only what is not the default: a line that anybody can take in.
        if value and value != usual.get(name)
    ]
    with_options += [
        name for name in ("percent", "accounting") if getattr(options, name)
    ]
    read = f"read as {reading.type.name}"
    return f"{read} ({', '.join(with_options)})" if with_options else read
