"""What is on record about a rejected row: each problem with its place, the value that stood there,
and a sentence.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import msgspec

from mukret.codes import Code
from mukret.documents import BadDocument, Diagnosis
from mukret.errors import StoppedError
from mukret.paths import Location, normalized
from mukret.rules.model import Field
from mukret.rules.rows import NO_EXCUSES, Excuses, Refusal, RowPlace, would_stand
from mukret.rules.sources import At
from mukret.semantics.choosing import choose
from mukret.text import escaped, shortened
from mukret.types import Bad
from mukret.types.taken import GATHERINGS
from mukret.values import JsonValue, json_text, shown_text

LONGEST_VALUE = 200
PARENT_REJECTED = Code.PARENT_REJECTED


@dataclass(frozen=True)
class Problem:
    """`path` is a normalized path (RFC 9535) in the document; `value` is what stood there,
    shortened.

    A document that can't be read has a `finding` instead of a path, and perhaps a `hint` about what
    was meant.
    """

    field: str | None
    code: str
    path: str | None
    value: JsonValue
    message: str
    finding: Diagnosis | None = None
    hint: str | None = None

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "field": self.field,
            "code": self.code,
            "path": self.path,
            "value": self.value,
            "message": self.message,
        }


@dataclass(frozen=True)
class Reject:
    """A rejected row, or (with `table` and `path` None) a document that could not be read.

    `rows`: for how many rows it stands, where they can't be told apart.
    """

    file: str
    document: int
    path: str | None
    table: str | None
    problems: tuple[Problem, ...]
    rows: int | None = None

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "file": self.file,
            "document": self.document,
            "path": self.path,
            "table": self.table,
            **({"rows": self.rows} if self.rows is not None else {}),
            "problems": [problem.as_json() for problem in self.problems],
        }

    def line(self) -> bytes:
        """The reject as one line of `rejects.jsonl`, without the line end; the values keep their
        digits.
        """
        record = self.as_json()
        for problem in record["problems"]:
            problem["value"] = msgspec.Raw(json_text(problem["value"]).encode())
        return msgspec.json.encode(record)


@dataclass(frozen=True)
class Fault:
    """A problem before its place is looked up. `field` is None for problems of the row as a whole.

    `origin` is the place and node that the field was read from, where that is not the row's own.
    """

    rank: int
    name: str | None
    bad: Bad
    field: Field | None = None
    origin: tuple[RowPlace, JsonValue] | None = None


# A row's shape comes before its fields (their rank is their place in the file), the rest after
# them, in this order.
SHAPE_RANK, TEXT_RANK, KEY_RANK, WHERE_RANK, PARENT_RANK, DUPLICATE_RANK = (
    -1_000_001,
    -1_000_000,
    1_000_000,
    1_000_001,
    1_000_002,
    1_000_003,
)


def required() -> Bad:
    return Bad(Code.REQUIRED, "nothing where a value is required", told=True)


def unreadable(bad: Bad) -> Fault:
    """A row that can't be read at all."""
    return Fault(SHAPE_RANK, None, bad)


def key_missing(name: str) -> Fault:
    return Fault(
        KEY_RANK,
        name,
        Bad(Code.KEY_MISSING, f"{name} is null, and part of the key", told=True),
    )


def where_failed(bad: Bad) -> Fault:
    return Fault(
        # Behind the faults of fields: most conditions fail for one of these.
        WHERE_RANK,
        None,
        Bad(
            Code.WHERE,
            f"the condition can't be evaluated: {sentence(bad, None)}",
            told=True,
        ),
    )


@cache
def parent_rejected(table: str) -> Fault:
    return Fault(
        PARENT_RANK,
        None,
        Bad(PARENT_REJECTED, f"its row of {table} was rejected", told=True),
    )


def duplicate(key: dict[str, JsonValue]) -> Fault:
    shown = ", ".join(
        # Keys may be texts of any length, with line ends in them.
        f"{name} {shortened(escaped(str(value)))}"
        for name, value in key.items()
    )
    return Fault(
        DUPLICATE_RANK,
        None,
        Bad(Code.DUPLICATE, f"the key was there before: {shown}", value=key, told=True),
    )


def reject(
    file: str,
    document: int,
    table: str,
    place: RowPlace,
    node: JsonValue,
    faults: list[Fault],
    excuses: Excuses = NO_EXCUSES,
) -> Reject:
    """The record of a rejected row, with the place and value of each fault looked up in the row's
    node.
    """
    ordered = (
        sorted(faults, key=lambda fault: fault.rank) if len(faults) > 1 else faults
    )
    path = normalized(place.location)
    problems = tuple(problem(fault, place, node, path, excuses) for fault in ordered)
    return Reject(file, document, path, table, problems)


def refused(
    file: str, document: int, table: str, above: RowPlace, refusal: Refusal
) -> Reject:
    """The record of rows that can't be told apart, at the place in which they were looked for."""
    bad, path = refusal.bad, normalized(above.location)
    return Reject(
        file,
        document,
        path,
        table,
        (Problem(None, bad.code, path, None, bad.expected),),
        # One record for all of them: they can't be told apart.
        refusal.count,
    )


def problem(
    fault: Fault,
    place: RowPlace,
    node: JsonValue,
    path: str | None = None,
    excuses: Excuses = NO_EXCUSES,
) -> Problem:
    """`path` is that of the row, if it is known already."""
    bad, row = fault.bad, place.location
    place, node = fault.origin or (place, node)
    location, value = place.location, bad.value
    # A node below the row was in the way; else the value is looked for by the path of the field.
    if bad.location is not None:
        location = place.below(bad.location)
    elif fault.field is not None and isinstance(fault.field.source, At):
        location, value = where_it_stood(fault.field.source, bad, place, node, excuses)
    elif bad.code in (Code.ROW_SHAPE, Code.HEADER):
        value = node
    there = path if path is not None and location is row else normalized(location)
    return Problem(
        fault.name, bad.code, there, shown_value(value), sentence(bad, value)
    )


def several(count: int) -> Bad:
    return Bad(
        Code.SEVERAL,
        f"{count} nodes where one was wanted (take says which counts)",
        told=True,
    )


def stopped(
    fault: Fault,
    row: RowPlace,
    node: JsonValue,
    place: str,
    excuses: Excuses = NO_EXCUSES,
) -> StoppedError:
    """The error that ends the run where the rules say `bad: stop`."""
    told = problem(fault, row, node, None, excuses)
    return StoppedError(
        Code.STOPPED,
        f"{fault.name}: {told.message} ({told.code})",
        place=f"{told.path} in {place}",
        hint="the rules say bad: stop here; nothing was published",
    )


def where_it_stood(
    at: At, bad: Bad, place: RowPlace, node: JsonValue, excuses: Excuses
) -> tuple[Location, JsonValue]:
    """Where the value stood that could not be read, and the value; for a missing one where it would
    have stood.
    """
    try:
        nodes = choose(at, node, excuses.below(place)).nodes
    except Bad as other_kind:  # it was nulled, and something is required
        return place.below(other_kind.location or ()), other_kind.value
    if not nodes:
        return place.below(would_stand(at.paths[0])), None
    gathers = at.take in GATHERINGS
    # No single node is to blame: where several are, or what was made of all of them.
    if bad.code == Code.SEVERAL or (bad.index is None and gathers):
        return place.location, [value for _, value in nodes]
    if bad.index is not None and (gathers or at.take == "all"):
        inner, value = nodes[bad.index]
        return place.below(inner), value
    inner, value = nodes[-1 if at.take == "last" else 0]
    if bad.index is None:
        return place.below(inner), value
    # One node that was a list, or a text that was split: the element of this number in it.
    if type(value) is list:
        inner = (*inner, bad.index)
    return place.below(inner), bad.value


def sentence(bad: Bad, value: JsonValue) -> str:
    """`expected a number, such as 1204.50, not "ask crew"`."""
    if bad.told:
        return bad.expected
    return (
        f"expected {bad.expected}"
        # `not null` would say that null was there, where nothing was.
        if value is None
        else f"expected {bad.expected}, not {shown_text(value)}"
    )


def shown_value(value: JsonValue) -> JsonValue:
    """A value for the record: as it stood; if it is long, the beginning of its text."""
    if value is None or type(value) is bool:
        return value
    text = value if type(value) is str else json_text(value, LONGEST_VALUE)
    if len(text) <= LONGEST_VALUE:
        return value
    return shortened(text, LONGEST_VALUE)


def bad_document(document: BadDocument) -> Reject:
    """The record of a document that can't be read."""
    finding = document.finding
    # In one line of JSON a caret below can't be shown: the place is marked within the text.
    excerpt = (
        f": {finding.excerpt[: finding.caret]}▸{finding.excerpt[finding.caret :]}"
        if finding.excerpt
        else ""
    )
    value = finding.excerpt or document.value
    problem = Problem(
        None, document.code, None, value, f"{finding}{excerpt}", finding, document.hint
    )
    return Reject(document.source.name, document.number, None, None, (problem,))
