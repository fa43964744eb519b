"""The keys of drafted tables: what tells rows apart, as far as a sample can say."""

from __future__ import annotations

from mukret.drafting.draft_fields import DraftFields
from mukret.drafting.model import DraftField, DraftTable
from mukret.drafting.names import BARE, fresh, singular
from mukret.drafting.place_roles import (
    holds_lists,
    key_rank,
    names_its_parent,
    path,
    scalars_of,
    steps_of,
)
from mukret.survey.naming import named_like_an_id
from mukret.survey.places import Place

# Of fewer values, or those of one document, that none comes twice says little, unless they are
# named like ids.
FEWEST_UNIQUE = 20


class DraftKeys:
    """Gives the tables of a draft their keys. `documents` and `files`: how many were surveyed."""

    def __init__(self, fields: DraftFields, *, documents: int, files: int) -> None:
        self.fields = fields
        self.documents = documents
        self.files = files

    def give_key(self, inner: Place, table: DraftTable) -> None:
        """The field that tells the rows of a table apart, everywhere or below one row of the
        parent.
        """
        if table.key or table.options.get("recurse"):
            return
        # Found in a sample, a key is a guess: what is named like an id is taken first, and of
        # several the one that stands nearest to the record itself.
        candidates = [place for place in scalars_of(inner) if self.may_be_key(place)]
        candidates.sort(key=lambda place: (key_rank(place), len(steps_of(place))))
        for place in candidates:
            everywhere = (
                self.fields.report(place).unique == "everywhere" or place.nodes == 1
            )
            if everywhere or _knows_its_parent(table):
                self.key_field(place, inner, table, everywhere=everywhere)
                return
        if holds_lists(inner):
            self.joined(table)

    def key_field(
        self, place: Place, inner: Place, table: DraftTable, *, everywhere: bool
    ) -> None:
        steps = tuple(steps_of(place)[len(steps_of(inner)) :])
        name = self.fields.name(table, place, steps)
        if name in BARE:
            name = f"{singular(table.name)}_{name}"
        field = self.fields.field(
            table, self.fields.report(place), name, {"at": path(place, inner)}
        )
        field.required = True
        self.fields.links.keys[id(place)] = (table, field)
        table.key = [field.name] if everywhere else [*table.inherit, field.name]

    def joined(self, table: DraftTable) -> None:
        """Gives the rows of a table without an id what tells them apart for tables within: their
        position, and where the response came from, or of which moment it is; with that it is a key.
        """
        name = fresh(f"{singular(table.name)}_position", self.fields.taken(table))
        field = DraftField(name, {"fact": "position"}, comment="for want of an id")
        table.fields.append(field)
        # With the key of the parent the position is a key.
        if _knows_its_parent(table):
            table.key = [*table.inherit, field.name]
            return
        if table.within is None:
            table.inherit = [source.name for source in self.came_from()]
        field.comment = "for want of an id: tells rows apart within one response"
        table.joined_by = [*table.inherit, field.name]

    def came_from(self) -> list[DraftField]:
        """Fields of the response that say which file and document it is;
        none if there is but one.
        """
        facts = ["file"] if self.files > 1 else []
        # Files with one document each are told apart by their name.
        if self.documents > self.files:
            facts.append("document")
        for fact in facts:
            if not any(
                field.source == {"fact": fact} for field in self.fields.draft.response
            ):
                taken = self.fields.response_names | {
                    table.name for table in self.fields.draft.tables
                }
                self.fields.draft.response.append(
                    DraftField(fresh(fact, taken), {"fact": fact})
                )
        return [
            field
            for field in self.fields.draft.response
            if field.source.get("fact") in facts
        ]

    def may_be_key(self, place: Place) -> bool:
        report = self.fields.report(place)
        lacking = not report.always or report.nulls
        if lacking or report.refers_to or names_its_parent(place):
            return False
        if not report.unique:
            # One record of one document: nothing can be said of its values, only of the name.
            return place.nodes == self.documents == 1 and key_rank(place) == 0
        if named_like_an_id(place.step):
            return True
        # Numbers that differ today may not tomorrow.
        if report.looks[0].name in ("whole number", "number in text"):
            return False
        many = place.values.count >= FEWEST_UNIQUE and self.documents > 1
        return many and report.unique == "everywhere"

    @staticmethod
    def own_key(table: DraftTable, field: DraftField, *, alone: bool) -> None:
        """A member's name is unique in its object."""
        if alone:
            table.key = [field.name]
        elif _knows_its_parent(table):
            table.key = [*table.inherit, field.name]


def _knows_its_parent(table: DraftTable) -> bool:
    """Whether what a table inherits tells the rows above it apart."""
    return bool(table.inherit) and (table.within is None or bool(table.within.key))
