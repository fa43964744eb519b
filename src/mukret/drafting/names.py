"""Names of tables and fields: snake_case, out of the names that members have."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Container, Iterable

_HUMP = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")
_NUMBERED = re.compile(r"^\d+[.:)] (?=[A-Za-z])")
_OTHER = re.compile(r"[^0-9A-Za-z]+")
# Letters of a name: databases take no more.
LONGEST = 63
# Names that say nothing of what is in a list: the one above says more.
GENERIC = {
    "response",
    "item",
    "items",
    "result",
    "results",
    "data",
    "record",
    "records",
    "list",
    "rows",
    "entries",
    "elements",
}
# Words that are no names in YAML.
NO_NAMES = {"null", "true", "false"}
# Names of objects that only hold what a record has.
WRAPPERS = {
    "attributes",
    "data",
    "fields",
    "properties",
    "relationships",
    "value",
    "values",
}
# Names that say what they are only together with what has them.
BARE = {
    "id",
    "ids",
    "code",
    "key",
    "no",
    "nr",
    "num",
    "number",
    "ref",
    "reference",
    "name",
    "uuid",
    "guid",
    "slug",
}
# Names of which the same is true where they stand in an object within the record.
VAGUE = {
    "type",
    "kind",
    "value",
    "unit",
    "amount",
    "count",
    "total",
    "date",
    "time",
    "status",
    "label",
    "title",
}


def snake_case(name: str) -> str:
    """A name as it can stand in an expression; empty if nothing of it can.

    Numbers of an enumeration (`1. open`) are dropped.
    """
    name = _NUMBERED.sub("", name)
    name = (
        # Letters without their accents: expressions and databases take these without quotes.
        unicodedata.normalize("NFKD", name.replace("ß", "ss"))
        .encode("ascii", "ignore")
        .decode()
    )
    words = _OTHER.sub("_", _HUMP.sub("_", name)).strip("_").lower()
    return (
        f"n_{words}"
        if words[:1].isdigit()
        else f"{words}_"
        if words in NO_NAMES
        else words
    )


def joined(steps: Iterable[str]) -> str:
    """A name made of the names on the way to something."""
    return snake_case("_".join(_NUMBERED.sub("", step) for step in steps))


def singular(name: str) -> str:
    """The singular of an English plural: `sailings` → sailing."""
    # English alone: a name in another language is at worst left as it is.
    for ending, replacement in (
        ("ies", "y"),
        ("sses", "ss"),
        ("xes", "x"),
        ("ches", "ch"),
        ("ss", "ss"),
        ("us", "us"),
    ):
        if name.endswith(ending):
            return name.removesuffix(ending) + replacement
    return name.removesuffix("s") or name


def fresh(name: str, taken: Container[str]) -> str:
    """The name, cut to the length that is allowed; if it is taken, with the first free number
    behind it.
    """
    candidate = fitting(name)
    number = 1
    while candidate in taken:
        number += 1
        candidate = f"{fitting(name, len(str(number)) + 1)}_{number}"
    return candidate


def fitting(name: str, room: int = 0) -> str:
    """The name, or the end of one that is too long, from the beginning of a word on; `room` is left
    for what comes behind it.
    """
    most = LONGEST - room
    words = name.split("_")
    while len(name) > most and len(words) > 1:
        words = words[1:]
        name = "_".join(words)
    name = name[:most].rstrip("_") if len(name) > most else name
    return name if name[:1].isalpha() else f"n_{name}"[:most]
