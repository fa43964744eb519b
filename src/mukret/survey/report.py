"""What a survey found, ready to be shown: places in their order, lists of records, references,
surprises.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from mukret.documents import BadDocument
from mukret.survey.look import Look
from mukret.survey.places import Place, Where
from mukret.survey.relations import Sorts
from mukret.values import JsonValue

MOST_BAD = 20


@dataclass(frozen=True)
class Surprise:
    """Something that rules should not be written without knowing.

    `path` is the place, `where` the first case.
    """

    code: str
    message: str
    path: str
    where: Where | None = None

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "code": self.code,
            "message": self.message,
            "path": self.path,
            "where": _where_json(self.where),
        }


@dataclass(frozen=True)
class Headed:
    """A member that holds rows, and one beside it with the names of their columns: texts, or
    records in which `within` is the name.
    """

    rows: str
    names: str
    within: str | None = None


@dataclass(frozen=True)
class PlaceReport:
    """One place: how often it is there, what stands there, what that looks like."""

    place: Place
    path: str
    looks: tuple[Look, ...]
    words: tuple[tuple[JsonValue, int], ...]
    unique: str | None
    shape: tuple[str, ...]
    """What its arrays or objects are, in words: `names are data`, `rows with a header`, `an object
    now and then` …
    """
    refers_to: str | None = None
    sorts: Sorts | None = None
    parallel: tuple[tuple[str, str], ...] = ()
    """Pairs of members that are arrays of equal length."""
    headed: tuple[Headed, ...] = ()

    @property
    def shape_beside_names(self) -> tuple[str, ...]:
        """The shape without the first words, where these say that names are data."""
        return self.shape if self.place.members is None else self.shape[1:]

    @property
    def present(self) -> int:
        return self.place.nodes

    @property
    def of(self) -> int:
        """How many objects could have it; for elements and documents, how many there are."""
        parent = self.place.parent
        if parent is None or self.place.step is None:
            return self.place.nodes
        return parent.objects

    @property
    def always(self) -> bool:
        """Whether it is there wherever it could be; of a place that holds itself that can't be
        said.
        """
        return self.present == self.of or self.place.recursive

    @property
    def nulls(self) -> int:
        return self.place.count("null")

    def as_json(self) -> dict[str, JsonValue]:
        place, values = self.place, self.place.values
        report: dict[str, JsonValue] = {
            "path": self.path,
            "present": self.present,
            "of": self.of,
            "kinds": {kind: seen.count for kind, seen in place.kinds.items()},
            "looks": [_look_json(look) for look in self.looks],
            "examples": list(values.examples),
        }
        if values.count:
            report |= {"distinct": values.distinct, "unique": self.unique}
        if self.words:
            report["words"] = [
                {"value": value, "count": count} for value, count in self.words
            ]
        if place.numbers.low is not None:
            report |= {"low": place.numbers.low, "high": place.numbers.high}
        if place.count("boolean"):
            report["true"] = place.trues
        if place.longest:
            report["longest"] = place.longest
        # Members stand where there is something to say, so that a script can ask for them.
        return report | self._containers() | self._relations()

    def _containers(self) -> dict[str, JsonValue]:
        report: dict[str, JsonValue] = {}
        lengths, names = self.place.lengths, self.place.names
        if lengths.lists:
            report["lengths"] = {
                "lists": lengths.lists,
                "empty": lengths.empty,
                "shortest": lengths.shortest,
                "longest": lengths.longest,
                "elements": lengths.total,
            }
        # A bounded number of names: they are data, and may be millions.
        if self.place.members is not None:
            report["names"] = {
                "distinct": names.distinct,
                "examples": list(names.examples),
            }
        return report

    def _relations(self) -> dict[str, JsonValue]:
        report: dict[str, JsonValue] = {}
        # Members that say nothing are left out: the report has a part for each place.
        if self.shape:
            report["shape"] = list(self.shape)
        if self.refers_to:
            report["refers_to"] = self.refers_to
        if self.sorts:
            sorts = [
                {"value": sort.word, "count": sort.count, "members": list(sort.members)}
                for sort in self.sorts.sorts
            ]
            report["sorts"] = {
                "member": self.sorts.member,
                "looked_at": self.sorts.looked_at,
                "sorts": sorts,
            }
        return report


@dataclass(frozen=True)
class RecordList:
    """A list whose elements are records: objects, or arrays of columns.

    `by_name`: they stand in objects instead, under names that are data; `lists` counts these, and
    how many each holds was not counted.
    """

    path: str
    records: int
    lists: int
    shortest: int | None
    longest: int | None
    by_name: bool = False

    def as_json(self) -> dict[str, JsonValue]:
        return dict(vars(self))


@dataclass
class SurveyReport:
    documents: int
    files: int
    size: int
    roots: int
    path: str | None
    passed_over: dict[str, int]
    bad: list[BadDocument]
    bad_documents: int
    places: list[PlaceReport] = field(default_factory=list)
    lists: list[RecordList] = field(default_factory=list)
    surprises: list[Surprise] = field(default_factory=list)
    hint: str | None = None
    """What stands nearest to a path that found nothing."""

    def as_json(self) -> dict[str, JsonValue]:
        """The report as JSON values; numbers of the data digit for digit."""
        return {
            "documents": self.documents,
            "files": self.files,
            "bytes": self.size,
            "path": self.path,
            "found": self.roots,
            "bad_documents": self.bad_documents,
            "passed_over": self.passed_over,
            "records": [part.as_json() for part in self.lists],
            "surprises": [part.as_json() for part in self.surprises],
            "places": [part.as_json() for part in self.places],
        }


def _look_json(look: Look) -> dict[str, JsonValue]:
    shown: dict[str, JsonValue] = {"look": look.name, "count": look.count}
    if look.detail:
        shown["detail"] = look.detail
    if look.reading:
        shown["reading"] = dict(look.reading)
    # With the place of each: a count alone can't be looked into.
    if look.odd:
        shown["odd"] = [
            {
                "example": odd.example,
                "count": odd.count,
                "where": _where_json(odd.where),
            }
            for odd in look.odd
        ]
    return shown


def _where_json(where: Where | None) -> dict[str, JsonValue] | None:
    return where._asdict() if where else None


def share(part: int, whole: int) -> str:
    """How much of a whole, so that nearly all never reads as all: `all`, `98.3%`, `3 of 400`,
    `none`.
    """
    if part == whole:
        return "all"
    counts = f"{part:,} of {whole:,}"
    if len(counts) <= 10:
        return counts
    percent = int(1000 * part / whole) / 10
    return f"{percent}%" if percent else "<0.1%"
