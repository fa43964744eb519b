"""The fields of drafted tables: their names, each once, and how their values are read."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from mukret.drafting.links import DraftLinks
from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.drafting.names import (
    BARE,
    VAGUE,
    WRAPPERS,
    fitting,
    fresh,
    joined,
    snake_case,
)
from mukret.drafting.place_roles import always_empty, holders, path
from mukret.drafting.private import example
from mukret.drafting.readings import DraftReading, example_note, reading_of
from mukret.paths.locate import path_text
from mukret.survey import PlaceReport
from mukret.survey.naming import named_like_an_id
from mukret.survey.places import Place
from mukret.types.names import SIMPLE
from mukret.values import JsonValue

# Words that name a type already.
NOT_FOR_ENUMS = {*SIMPLE, "decimal", "list"}


class DraftFields:
    """Puts fields into the tables of a draft, and what is left out into its list of ignored paths.

    `report`: what a survey says of a place.
    """

    def __init__(
        self,
        draft: Draft,
        links: DraftLinks,
        report: Callable[[Place], PlaceReport],
    ) -> None:
        self.draft = draft
        self.links = links
        self.report = report

    @property
    def response_names(self) -> set[str]:
        return {field.name for field in self.draft.response}

    def names_of_tables(self) -> Iterator[str]:
        """The names of the tables so far and of their fields."""
        for table in self.draft.tables:
            yield table.name
            yield from (field.name for field in table.fields)

    def taken(self, table: DraftTable) -> set[str]:
        """Names that a field of a table can't have: expressions tell tables and fields apart by
        their names.
        """
        return table.names() | {other.name for other in self.draft.tables}

    def finish(self, table: DraftTable) -> None:
        """Gives a table without fields one: the position of the row."""
        if not table.fields:
            table.fields.append(
                DraftField(fresh("position", self.taken(table)), {"fact": "position"})
            )

    def scalar(
        self,
        place: Place,
        base: Place,
        table: DraftTable | None,
        names: tuple[str, ...],
    ) -> None:
        if table is None:
            if path(place, base) not in [
                field.source.get("at") for field in self.draft.response
            ]:
                self.ignore(place, self.words_for(place))
            return
        if set(place.kinds) <= {"null"}:
            self.ignore(place, self.words_for(place))
            return
        if self.links.is_key(place, table):
            return  # it stands at the head of the table
        self.field(
            table,
            self.report(place),
            self.name(table, place, names),
            {"at": path(place, base)},
        )

    def name(self, table: DraftTable, place: Place, names: tuple[str, ...]) -> str:
        """A name for a field: its member, with as many of those above as tell it apart."""
        *above, last = names or ("",)
        plain = [step for step in above if step not in WRAPPERS]
        # An object that holds one thing adds nothing to the name of that, if it has one that says
        # something.
        alone = holders(place) if snake_case(last) not in BARE | VAGUE else set()
        telling = [step for step in plain if step not in alone]
        candidates = [
            joined([*steps, last]) or "value" for steps in (telling, plain, above)
        ]
        free = (name for name in candidates if name not in self.taken(table))
        return fitting(next(free, candidates[-1]))

    def field(
        self,
        table: DraftTable,
        report: PlaceReport,
        name: str,
        source: dict[str, JsonValue],
    ) -> DraftField:
        reading = reading_of(report)
        if (
            name == table.name
        ):  # expressions tell tables and fields apart by their names
            several = f"{name}_rows" if name.endswith("s") else f"{name}s"
            table.name = fresh(several, self.taken(table) | self.response_names)
        name = fresh(name, self.taken(table))
        field = DraftField(
            name, source, dict(reading.options), note=example_note(report)
        )
        self.read(field, reading)
        table.fields.append(field)
        if report.refers_to:
            self.links.referring.append((table, field, report))
        return field

    def read(self, field: DraftField, reading: DraftReading) -> None:
        field.odd = reading.odd
        for remark in reading.remarks:
            field.remark(remark)
        if reading.words:
            # The same words are one enum, whatever fields have them.
            same = (
                name
                for name, words in self.draft.enums.items()
                if words == reading.words
            )
            name = next(same, None) or fresh(
                field.name, {*self.draft.enums, *NOT_FOR_ENUMS}
            )
            self.draft.enums[name] = reading.words
            field.reading["type"] = name

    def list_field(
        self, inner: Place, base: Place, table: DraftTable, names: tuple[str, ...]
    ) -> None:
        report = self.report(inner)
        reading = reading_of(report)
        name = fresh(joined(names) or "values", self.taken(table))
        source: dict[str, JsonValue] = {"at": path(inner, base), "take": "all"}
        field = DraftField(
            name, source, dict(reading.options), note=example_note(report)
        )
        self.read(field, reading)
        # Read as one of its elements would be.
        field.reading["type"] = f"list({field.type})"
        table.fields.append(field)

    def whole(
        self, place: Place, base: Place, table: DraftTable, names: tuple[str, ...]
    ) -> None:
        name = fresh(joined(names) or "value", self.taken(table))
        table.fields.append(
            DraftField(name, {"at": path(place, base)}, {"type": "json"})
        )

    def point_upwards(self, table: DraftTable) -> None:
        """The id of the row above, in rows that stand below each other."""
        known = next(
            (field for field in table.fields if named_like_an_id(field.name)), None
        )
        if known is not None:
            name = fresh(f"above_{known.name}", self.taken(table))
            table.fields.append(DraftField(name, {"parent": known.name}))

    def ignore(self, place: Place, words: str) -> None:
        """Leaves out what stands at a place; what holds nothing today is new on the day when it
        does.
        """
        if place.parent is not None and not always_empty(place):
            self.draft.ignored.setdefault(path_text(place.segments()), words)

    def words_for(self, place: Place) -> str:
        if any(look.name == "JSON in text" for look in self.report(place).looks):
            return "JSON in text: response.embedded reads it"
        examples = place.values.examples or (
            place.elements.values.examples if place.elements else []
        )
        kinds = " or ".join(kind for kind in place.kinds if kind != "null")
        return f"e.g. {example(place, examples[0])}" if examples else kinds
