"""Where rows and values come from, in the words of a data dictionary (Markdown, within one cell of
a table).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from mukret.rules.model import Field
from mukret.rules.rows import RowRules
from mukret.rules.sources import (
    At,
    Compute,
    ConstantValue,
    Fact,
    Lookup,
    ParentField,
    Rest,
)
from mukret.types.base import PLAIN, ReadingOptions

_TAKEN = {
    "first": "the first of",
    "last": "the last of",
    "all": "all of",
    "count": "how many there are of",
    "sum": "the sum of",
    "min": "the smallest of",
    "max": "the largest of",
    "join": "joined:",
}
_FACTS = {
    "name": "the name of the member in which the row stands",
    "position": "the place of the row among the others, from 0",
    "path": "the path of the row in its response",
    "depth": "how many rows it stands below, from 0",
    "kind": "the JSON kind of the row",
    "document": "the number of the response in its file, from 1",
    "file": "the file of the response",
    "page": "the number of the page",
    "fetched_at": "when the response was fetched",
    "url": "the address of the response",
    "call": "the call that was answered",
}


def read_by(rows: RowRules) -> str:
    """What becomes rows."""
    if rows.zip is not None:
        arrays = ", ".join(
            f"{code(name)} {code(str(path))}" for name, path in rows.zip.paths.items()
        )
        where_rows_are = f"the arrays {arrays}, side by side"
    else:
        where_rows_are = ", then ".join(code(str(path)) for path in rows.paths)
    parts = [where_rows_are]
    # In the order in which the engine does them.
    if rows.spread:
        parts.append("a list or one alone")
    if rows.header is not None:
        where = (
            "the first row" if rows.header.path is None else code(str(rows.header.path))
        )
        parts.append(f"arrays whose elements are named by {where}")
    if rows.recurse is not None:
        parts.append(f"with those below each, at {code(str(rows.recurse))}")
    if rows.when is not None:
        parts.append(f"where {code(rows.when.text)}")
    return "; ".join(parts)


def told_source(field: Field) -> str:
    """Where the values of a field come from, with how they are read if that is not plain."""
    told = [_of_source(field), *_options(field.reading.options)]
    if field.default is not None:
        told.append(f"{code(field.type.written(field.default))} if there is none")
    return "; ".join(told)


def _of_source(field: Field) -> str:
    match field.source:
        case At() as at:
            return _of_paths(at)
        case Compute(text):
            return f"= {code(text)}"
        case ConstantValue(None):
            return "always null"
        case ConstantValue(value):
            return f"always {code(field.type.written(value))}"
        case Fact(name):
            # A fact that we don't know by name is a variable of the request.
            return _FACTS.get(name) or f"{code(name)} of the request that was answered"
        case ParentField(name):
            return f"{code(name)} of the row above"
        case Rest():
            return "all members of the row that no other field reads"
        case Lookup() as lookup:
            return _of_lookup(lookup)


def _of_paths(at: At) -> str:
    paths = ", or else ".join(code(str(path)) for path in at.paths)
    taken = f"{_TAKEN[at.take]} {paths}" if at.take in _TAKEN else paths
    return f"{taken} by {code(at.separator)}" if at.take == "join" else taken


def _of_lookup(lookup: Lookup) -> str:
    pairs = zip(lookup.key, lookup.by, strict=True)
    where = " and ".join(f"{code(key)} is {code(by)}" for key, by in pairs)
    return f"{code(lookup.give)} of {code(lookup.name)} where {where}"


def _options(options: ReadingOptions) -> Iterator[str]:
    """What is done to a text before it is a value, as far as the rules ask for it."""
    for name, told in _OPTIONS.items():
        value = getattr(options, name)
        if value != getattr(PLAIN, name):
            yield told(value)


def _codes(texts: Iterable[str], between: str = ", ") -> str:
    return between.join(map(code, texts))


# In the order in which they work.
_OPTIONS: dict[str, Callable[[Any], str]] = {
    "blank": lambda texts: f"null for {_codes(sorted(texts))}",
    "capture": lambda pattern: f"the part captured by {code(pattern)}",
    "strip": lambda texts: f"without {_codes(texts)}",
    "split": lambda separator: f"split at {code(separator)}",
    "grouping": lambda mark: f"{code(mark)} between thousands",
    "point": lambda mark: f"{code(mark)} before the fraction",
    "percent": lambda _: "of percent",
    "accounting": lambda _: "negative in parentheses",
    "round": lambda way: f"rounded {way}",
    "format": lambda formats: f"written as {_codes(formats, ' or ')}",
    "zone": lambda zone: f"in the zone {zone}",
    "fold": lambda which: f"the {which} of two equal local times",
    "unit": lambda unit: f"in {unit}",
}


def code(text: str) -> str:
    """A text as code within a cell: in more backticks than stand in it (CommonMark,
    section 6.1).
    """
    plain = " ".join(text.split(" ")).replace("\n", " ").replace("|", "\\|")
    longest = max((len(run) for run in re.findall("`+", plain)), default=0)
    fence = "`" * (longest + 1)
    space = " " if longest or plain != plain.strip(" ") or not plain else ""
    return f"{fence}{space}{plain}{space}{fence}"
