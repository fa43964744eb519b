"""Which documents the rules can read: those that have what every document of their kind must have,
and in which a rule reads something.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import Enum

from mukret.codes import Code
from mukret.paths import Filter, Path, Segment, Slice, Wildcard, nearest_existing
from mukret.paths.filters import queries_in
from mukret.paths.locate import path_text
from mukret.rules.model import Field, Rules, Table
from mukret.rules.sources import At, Rest
from mukret.text import counted, shortened
from mukret.values import JsonValue, holds_nothing, kind_of

MOST_WANTED, MOST_NEAR = 5, 3
# So many elements of an array are looked at to see what it holds.
LOOKED_AT = 5


DOCUMENT_SHAPE, NOTHING_READ = Code.DOCUMENT_SHAPE, Code.NOTHING_READ


class Verdict(Enum):
    READ = "read"
    LEFT_OUT = "left out"
    """It is of a kind that no table reads."""


@dataclass(frozen=True)
class Refused:
    """Why a document is a bad one, and what may have been meant."""

    code: str
    message: str
    hint: str | None = None


class All(Enum):
    """What a rule can look for beside a path."""

    MEMBERS = "whatever members an object has"
    ELEMENTS = "whatever elements an array has"
    ANYTHING = "whatever there is"


@dataclass(frozen=True)
class Sought:
    """What a rule looks for first in a document (only in those of `kind`, if there is one).

    `as_record`: the document is a row itself, and this is one of its members.
    """

    kind: str | None
    target: Path | All
    as_record: bool = False

    @property
    def segment(self) -> Segment | None:
        return self.target.segments[0] if isinstance(self.target, Path) else None

    def finds(self, document: JsonValue) -> bool:
        """Whether the document has it; for `[*]`, a slice and a filter any array will do."""
        match self.target:
            case Path():
                return _finds_a_step(self.target.segments[0], document)
            case All.MEMBERS:
                return type(document) is dict
            case All.ELEMENTS:
                return type(document) is list
        # Anything at all.
        return True


def _finds_a_step(segment: Segment, document: JsonValue) -> bool:
    some = any(
        isinstance(selector, Wildcard | Slice | Filter)
        for selector in segment.selectors
    )
    if some and not segment.descend and type(document) is list:
        return True
    # The first node is enough: lists may be long.
    return next((True for _ in segment.values(document, document)), False)


class Acceptance:
    """Judges documents by some rules."""

    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self.looks = tuple(dict.fromkeys(_looks(rules)))
        self.kinds_read = {table.kind for table in rules.tables.values()}

    def kinds_of(
        self, document: JsonValue, file: str, call: str | None
    ) -> frozenset[str]:
        """The kinds that a document is of."""
        return frozenset(
            name
            for name, kind in self.rules.kinds.items()
            if kind.fits(document, file, call)
        )

    def must_have(self, kinds: frozenset[str]) -> Iterator[Path]:
        """What documents of these kinds must have."""
        yield from self.rules.must_have
        for name in self.rules.kinds:
            if name in kinds:
                yield from self.rules.kinds[name].must_have

    def looks_into(self, kinds: frozenset[str]) -> list[Sought]:
        """The looks into documents of these kinds."""
        return [look for look in self.looks if look.kind is None or look.kind in kinds]

    def judge(
        self, document: JsonValue, kinds: frozenset[str], *, explain: bool = True
    ) -> Verdict | Refused:
        """What becomes of a document, once its embedded texts are read.

        `explain`: also what may have been meant.
        """
        for path in self.must_have(kinds):
            if all(value is None for value in path.values(document)):
                return _without(path, document, explain=explain)
        looks = self.looks_into(kinds)
        # A document that holds nothing at all is an answer without records, not one of another
        # shape.
        nothing_to_find = not self.looks or holds_nothing(document)
        if nothing_to_find or any(look.finds(document) for look in looks):
            return Verdict.READ
        if kinds and not kinds & self.kinds_read:
            return Verdict.LEFT_OUT
        hint = _meant(document, looks) if explain else None
        return Refused(
            NOTHING_READ, f"no rule reads anything in {_described(document)}", hint
        )


def _described(document: JsonValue) -> str:
    """`it, an object with the member error`."""
    if type(document) is dict:
        # Names alone: values may be somebody's data.
        names = ", ".join(shortened(name, 20) for name in list(document)[:3])
        more = ", …" if len(document) > 3 else ""
        return (
            f"it: an object with {'the member' if len(document) == 1 else 'the members'} "
            f"{names}{more}"
        )
    if type(document) is list:
        return f"it: an array of {counted(len(document), 'element')}"
    return f"it: a {kind_of(document)}"


def _meant(document: JsonValue, looks: Sequence[Sought]) -> str:
    """What the rules look for, and what may be meant by it."""
    inside = _in_elements(document, looks)
    if inside is not None:
        way = 'rows: "$[*]"' if inside.as_record else 'rows that begin with "$[*]"'
        return f"it is a list, and what the rules look for stands in its elements: write {way}"
    paths = [look.target for look in looks if isinstance(look.target, Path)]
    # Paths of which something is there say most; else what was looked for is named.
    near = list(_near_paths(paths, document))
    if near:
        return "; ".join(dict.fromkeys(near[:MOST_NEAR]))
    wanted = list(dict.fromkeys(path_text(path.segments[:1]) for path in paths))
    if not wanted:
        return "no table reads documents of its kind"
    more = ", …" if len(wanted) > MOST_WANTED else ""
    return f"the rules look for {', '.join(wanted[:MOST_WANTED])}{more}"


def _near_paths(paths: Iterable[Path], document: JsonValue) -> Iterator[str]:
    """Paths of the document that may have been meant by these."""
    for path in paths:
        near = nearest_existing(path, [document])
        if near is not None and near.meant:
            yield near.text


def _without(path: Path, document: JsonValue, *, explain: bool) -> Refused:
    """The refusal of a document that lacks what each must have."""
    near = nearest_existing(path, [document]) if explain else None
    message = f"{path.text} finds nothing, and every document must have it"
    return Refused(DOCUMENT_SHAPE, message, near.text if near else None)


def _in_elements(document: JsonValue, looks: Sequence[Sought]) -> Sought | None:
    """The first of these looks that finds something in an element of a document that is a list."""
    if type(document) is not list:
        return None
    # The first ones are as good as all, for a hint.
    for element in document[:LOOKED_AT]:
        for look in looks:
            if _looks_for_a_member(look, element):
                return look
    return None


def _looks_for_a_member(look: Sought, element: JsonValue) -> bool:
    """Whether the first step leads to a member that an element of the document has."""
    segment = look.segment
    if segment is None or segment.takes != (dict,) or segment.descend:
        return False
    return type(element) is dict and _finds_a_step(segment, element)


def _looks(rules: Rules) -> Iterator[Sought]:
    """All that rules look for first in a document."""
    yield from _of_fields(rules.response_fields, None, as_record=False)
    for table in rules.tables.values():
        if table.within is None:
            yield from _of_rows(rules, table, table.kind)


def _of_rows(rules: Rules, table: Table, kind: str | None) -> Iterator[Sought]:
    """What is looked for where the rows of a table are found by a path."""
    rows = table.rows
    for path in rows.named_paths:
        if path.segments:
            yield Sought(kind, path)
        elif rows.zip is not None:
            yield Sought(kind, All.ANYTHING)
        else:
            yield from _of_the_document(rules, table, kind)
    # A condition may look at the document around the rows: it wants to find something there, too.
    if rows.when is not None:
        asked = [query for query, _ in queries_in(rows.when.logical) if query.absolute]
        yield from (
            Sought(kind, Path(rows.when.text, query.segments))
            for query in asked
            if query.segments
        )


def _of_the_document(rules: Rules, table: Table, kind: str | None) -> Iterator[Sought]:
    """What is looked for where the document itself is the row: what its fields read, and the tables
    within.
    """
    rows = table.rows
    if rows.spread:
        yield Sought(kind, All.ELEMENTS)
    # Where the document is the row itself there is no list to be missing: its fields tell.
    yield from _of_fields(table.fields, kind, as_record=True)
    if rows.when is not None:
        asked = [
            query for query, _ in queries_in(rows.when.logical) if not query.absolute
        ]
        yield from (
            Sought(kind, Path(rows.when.text, query.segments), True)
            for query in asked
            if query.segments
        )
    if rows.recurse is not None:
        yield Sought(kind, rows.recurse)
    for child in rules.tables.values():
        if child.within == table.name:
            yield from _of_rows(rules, child, kind)


def _of_fields(
    fields: Sequence[Field], kind: str | None, *, as_record: bool
) -> Iterator[Sought]:
    for field in fields:
        match field.source:
            case At(paths=paths):
                for path in paths:
                    target = path if path.segments else All.ANYTHING
                    yield Sought(kind, target, as_record)
            # Any member at all is enough for it.
            case Rest():
                yield Sought(kind, All.MEMBERS)
