"""Embedded JSON: a text that holds JSON is replaced by its value before any path is applied."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from mukret.codes import Code
from mukret.documents.decode import NotJson, decode
from mukret.documents.diagnose import Diagnosis
from mukret.paths import Location, Path, normalized
from mukret.rules.rows import Excuses, RowPlace
from mukret.semantics.rejects import TEXT_RANK, Fault
from mukret.types import Bad
from mukret.values import JsonValue


@dataclass(frozen=True)
class BadText:
    """A text that was to be JSON and is not, and where it stands."""

    location: Location
    text: str
    finding: Diagnosis

    @property
    def path(self) -> str:
        return normalized(self.location)

    @property
    def fault(self) -> Fault:
        """What is wrong with the row that it stands in."""
        finding = self.finding
        told = (
            f"embedded text that is not JSON: {finding.message} (character {finding.column} of "
            f"line {finding.line})"
        )
        bad = Bad(Code.NOT_JSON, told, value=self.text, told=True)
        # Before faults of fields: these read in the text that could not be read.
        return Fault(TEXT_RANK, None, bad, origin=(RowPlace(self.location), None))


def excuses(texts: Iterable[BadText]) -> Excuses:
    """What is on record already, with these texts."""
    return Excuses(frozenset(text.location for text in texts))


def unfolded(
    document: JsonValue, paths: Sequence[Path]
) -> tuple[JsonValue, list[BadText]]:
    """The document with the texts at these places read, in this order, so that one may stand in
    another; and those that could not be. The document is changed.
    """
    bad_texts: dict[Location, BadText] = {}
    for path in paths:
        for location, text in path.nodes(document):
            if type(text) is not str or location in bad_texts:
                continue
            try:
                value = decode(text.encode())
            except NotJson as error:
                bad_texts[location] = BadText(location, text, error.finding)
                continue
            # A new document with the same parts: what was decoded is never changed, others hold it.
            document = _put(document, location, value)
    return document, list(bad_texts.values())


def _put(document: JsonValue, location: Location, value: JsonValue) -> JsonValue:
    # The document as a whole is the text.
    if not location:
        return value
    holder = document
    for step in location[:-1]:
        holder = holder[step]
    holder[location[-1]] = value
    return document


class RowPlaces:
    """Finds the innermost of some rows around a place in the document; A row that is None is a
    placeholder's, and stands nowhere.
    """

    def __init__(self, places: Iterable[RowPlace | None]) -> None:
        self.rows: dict[Location, list[int]] = {}
        for number, place in enumerate(places):
            for root in _roots(place) if place is not None else ():
                self.rows.setdefault(root, []).append(number)

    def around(self, location: Location) -> list[int]:
        """The numbers of the rows that have the innermost node around a place, itself included."""
        # From the place itself upwards: the first row met is the innermost.
        lengths = range(len(location), -1, -1)
        return next(
            (
                self.rows[location[:length]]
                for length in lengths
                if location[:length] in self.rows
            ),
            [],
        )


def _roots(place: RowPlace) -> Iterable[Location]:
    """The nodes that a row consists of: several, if a zip put it together."""
    members = dict.fromkeys(place.members.values()) if place.members else {}
    return members if place.location in members else [place.location]
