"""Fields whose values are keys of another table: a remark on it, and a lookup that could be made of
it.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from mukret.drafting.model import DraftField, DraftTable
from mukret.drafting.text import flow
from mukret.survey import PlaceReport
from mukret.survey.places import Place
from mukret.values import JsonValue

NAMING = ("name", "title", "label")


@dataclass
class DraftLinks:
    """`keys` has fields that are keys, by their place; `referring` fields of which a survey says
    what they refer to.
    """

    keys: dict[int, tuple[DraftTable, DraftField]] = field(default_factory=dict)
    referring: list[tuple[DraftTable, DraftField, PlaceReport]] = field(
        default_factory=list
    )

    def is_key(self, place: Place, table: DraftTable) -> bool:
        """Whether a place is a key of a table."""
        return id(place) in self.keys and self.keys[id(place)][0] is table

    def tell(self, reports: Iterable[PlaceReport]) -> None:
        """Says of each field that refers to a key of which table."""
        places: dict[str, list[Place]] = {}
        for report in reports:
            places.setdefault(report.path, []).append(report.place)
        for table, own_field, report in self.referring:
            for place in places.get(report.refers_to or "", ()):
                # A value that is in no key can't be looked up.
                if id(place) in self.keys:
                    target, key = self.keys[id(place)]
                    own_field.refers_to = f"{target.name}.{key.name}"
                    own_field.proposed = _lookup(table, own_field, target, key)


def _lookup(
    table: DraftTable, own_field: DraftField, target: DraftTable, key: DraftField
) -> str | None:
    """A lookup of the name that the other table has for the row; None if it has no name, or can't
    be found from here.
    """
    named = next((field for field in target.fields if field.name in NAMING), None)
    if (
        named is None
        or target is table
        # All parts of the key have to be at hand in the row.
        or not {*target.key} - {key.name} <= table.names()
    ):
        return None
    name = f"{own_field.name.removesuffix('_id').removesuffix('_code')}_{named.name}"
    if name in table.names():
        return None
    here = {key.name: own_field.name}
    names = [here.get(name, name) for name in target.key]
    by: JsonValue = names if len(names) > 1 else own_field.name
    lookup: dict[str, JsonValue] = {"in": target.name, "by": by, "give": named.name}
    return f"{name}: {flow({'lookup': lookup})}"
