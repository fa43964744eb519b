"""Which arrays are rows: cells of a table without names, a few parts that are unlike, coordinates;
and which row is the header of those below.
"""

from __future__ import annotations

from collections.abc import Sequence

from mukret.survey.forms import CODE, TEXT, form_of
from mukret.survey.naming import named_like_an_id
from mukret.survey.places import Place
from mukret.survey.shapes import in_array, unlike_parts
from mukret.values import JsonValue, Number, kind_of

MOST_COLUMNS = 50
# Longer arrays of numbers are series, not coordinates.
MOST_NUMBERS = 4
# Longer arrays of unlike things are lists all the same.
MOST_PARTS = 6


def look_like_rows(
    place: Place, arrays: Sequence[list[JsonValue]], length: int
) -> bool:
    """Whether arrays at a place, all of one length, are rows: each position is a column then."""
    if not in_array(place):
        return _are_coordinates(place, arrays, length) or _unlike_parts(arrays, length)
    if place.columns:
        return True
    # The first array of the whole survey decides; later ones are rows if it is one. Lists of lists
    # of lists are a shape, no table; objects are records of their own.
    first = arrays[0]
    holds_lists = any(type(cell) is list for cell in first)
    return not holds_lists and not all(type(cell) is dict for cell in first)


def _are_coordinates(
    place: Place, arrays: Sequence[list[JsonValue]], length: int
) -> bool:
    """Whether these could be coordinates: a few numbers, and no ids by the name."""
    numbers = 1 < length <= MOST_NUMBERS and all(
        type(cell) in (int, Number) for array in arrays for cell in array
    )
    return numbers and not named_like_an_id(place.step)


def _unlike_parts(arrays: Sequence[list[JsonValue]], length: int) -> bool:
    """Whether these are of unlike parts, as far as can be told: where one has only been null,
    others will tell.
    """
    if not 1 < length <= MOST_PARTS:
        return False
    columns = zip(*arrays, strict=True)
    kinds = [set(map(kind_of, column)) - {"null"} for column in columns]
    # All null so far: nothing speaks against it.
    if not any(kinds) or unlike_parts(kinds):
        return True
    return unlike_parts([known or {"array"} for known in kinds])


def heads(first: JsonValue, second: JsonValue) -> bool:
    """Whether the first row of an array names the columns of the rows below, of which this is the
    second.
    """
    # Where the rows below are words, too, nothing tells the names from them.
    return _names_columns(first) and type(second) is list and not _only_words(second)


def begins_with(rows: list[JsonValue], header: tuple[str, ...]) -> bool:
    """Whether an array of rows, not an empty one, has this header."""
    return type(rows[0]) is list and tuple(rows[0]) == header


def _names_columns(row: JsonValue) -> bool:
    """Whether a row holds names alone, no two of them alike."""
    return (
        type(row) is list
        and 1 < len(row) <= MOST_COLUMNS
        and _only_words(row)
        and len(set(row)) == len(row)
    )


def _only_words(row: list[JsonValue]) -> bool:
    return all(type(cell) is str and form_of(cell) in (TEXT, CODE) for cell in row)
