"""Names of tables, fields and enums → names that Python takes and that don't get into each other's
way.
"""

from __future__ import annotations

import keyword
import re
from collections.abc import Collection, Iterable

_NOT_IN_A_NAME = re.compile(r"[^A-Za-z0-9]+")


def class_names(
    names: Iterable[str], ending: str, taken: Collection[str]
) -> dict[str, str]:
    """`sailing_stops` → `SailingStops` and the ending; a number behind it where that is taken
    already.
    """
    class_names_of: dict[str, str] = {}
    for name in names:
        words = [word for word in _NOT_IN_A_NAME.split(name) if word]
        joined = "".join(word[:1].upper() + word[1:] for word in words)
        class_names_of[name] = _free(
            _begun(joined) + ending, {*taken, *class_names_of.values()}
        )
    return class_names_of


def field_names(names: Iterable[str], taken: Collection[str]) -> dict[str, str]:
    """The same names, with a `_` behind those that mean something in Python or in the class.

    Two underscores at the beginning would make another name of it within a class.
    """
    python_names: dict[str, str] = {}
    for name in names:
        wanted = f"field{name}" if name.startswith("__") else name
        while (
            keyword.iskeyword(wanted)
            or wanted in taken
            or wanted in python_names.values()
        ):
            wanted += "_"
        python_names[name] = wanted
    return python_names


def member_names(words: Iterable[str]) -> dict[str, str]:
    """Words of an enum in capitals: `now boarding` → `NOW_BOARDING`."""
    names: dict[str, str] = {}
    for word in words:
        name = _NOT_IN_A_NAME.sub("_", word).strip("_").upper()
        names[word] = _free(_begun(name), set(names.values()))
    return names


def _begun(name: str) -> str:
    """With a letter in front, if it does not begin with one."""
    return name if name[:1].isalpha() else f"N{name}"


def _free(wanted: str, taken: Collection[str]) -> str:
    name, number = wanted, 1
    while name in taken or keyword.iskeyword(name):
        number += 1
        name = f"{wanted}_{number}"
    return name
