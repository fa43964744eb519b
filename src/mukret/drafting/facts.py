"""Fields of the response: what stands beside the lists and says something of what is in them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from mukret.drafting.meanings import is_about_the_answer, is_when_made
from mukret.drafting.model import DraftField
from mukret.drafting.names import WRAPPERS, fresh, joined
from mukret.drafting.place_roles import facts_of, path, steps_of
from mukret.drafting.readings import example_note, reading_of
from mukret.survey import PlaceReport
from mukret.survey.places import Place

# What stands deeper beside the lists is not taken for a fact of the response.
DEEPEST = 3


def response_fields(
    root: Place, documents: int, report: Callable[[Place], PlaceReport]
) -> tuple[list[DraftField], DraftField | None]:
    """Fields for tables to inherit; and the one among them that all inherit: what tells one
    document from another, a moment rather than a number, or when a single one was made.
    """
    scalars = list(facts_of(root))
    telling = _telling(scalars, documents, report)
    fields: list[DraftField] = []
    for place in dict.fromkeys([*telling, *filter(_is_told, scalars)]):
        steps = [step for step in steps_of(place) if step not in WRAPPERS]
        # The name of what tells documents apart stands in every table: it is kept short.
        name = joined(steps[-1:] if place in telling else steps) or "document"
        name = fresh(name, {field.name for field in fields})
        fields.append(_field(report(place), name, path(place, root)))
    return fields, fields[0] if telling else None


def _telling(
    scalars: Sequence[Place], documents: int, report: Callable[[Place], PlaceReport]
) -> list[Place]:
    """The place that tells one document from another best, or none."""
    telling = [place for place in scalars if _tells_apart(report(place), documents)]
    # Of several that tell documents apart the moment is the one that rows are asked for by.
    telling.sort(key=lambda place: not _is_moment(report(place)))
    # One document tells nothing of the next: only a moment is certain to differ.
    if documents < 2:
        telling = [
            place
            for place in telling
            if _is_moment(report(place)) and is_when_made(place)
        ]
    return telling[:1]


def _field(report: PlaceReport, name: str, at: str) -> DraftField:
    reading = reading_of(report)
    field = DraftField(
        name,
        {"at": at},
        dict(reading.options),
        odd=reading.odd,
        note=example_note(report),
    )
    # What the reading could not decide is said beside the field.
    for remark in reading.remarks:
        field.remark(remark)
    return field


def _tells_apart(report: PlaceReport, documents: int) -> bool:
    values = report.place.values
    sound = (
        bool(report.looks)
        and not report.looks[0].odd
        and not is_about_the_answer(report.place)
    )
    # Once in each document, and never the same.
    return values.count == documents == values.distinct and (
        sound or (bool(report.looks) and _is_moment(report))
    )


def _is_moment(report: PlaceReport) -> bool:
    return report.looks[0].name in ("timestamp", "epoch", "date")


def _is_told(place: Place) -> bool:
    """Whether a value says something of what is in the lists, and not of the answer as such."""
    return (
        len(steps_of(place)) <= DEEPEST
        and not is_about_the_answer(place)
        and bool(set(place.kinds) - {"null"})
    )
