"""A single response in a service: without Arrow, by the plain evaluator, as quickly as one can be
read.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from mukret.codes import Code
from mukret.documents import NotJson, Origin, decode, given_text
from mukret.documents.given import NAME, GivenDocument
from mukret.errors import InputError, UsageError
from mukret.rules.model import Rules
from mukret.semantics.outcomes import RowOutcome
from mukret.semantics.records import Record, known, nested, parsed
from mukret.semantics.reference import BadResponse, Document, LeftOut, ReferenceRun, Row
from mukret.semantics.rejects import Problem, Reject
from mukret.types import TypedValue
from mukret.values import JsonValue


@dataclass(frozen=True)
class One:
    """What one response gives: its rows, by table in the order of the rules, and what was set
    aside.
    """

    rows: Mapping[str, list[Record]]
    rejects: list[Reject]
    rules: Rules
    above: Mapping[str, Sequence[int]]

    def records(self, name: str) -> list[Record]:
        """As those of `Result`. Raises UsageError."""
        return parsed(
            [dict(row) for row in self.rows[known(name, self.rows)]], self.rules, name
        )

    def nested(self, name: str) -> list[Record]:
        """As those of `Result`. Raises UsageError."""
        known(name, self.rows)
        return nested(
            self.rules,
            {table: self.records(table) for table in self.rows},
            self.above,
            name,
        )


def extract_one(
    rules: Rules, document: GivenDocument, *, origin: Origin | str | None = None
) -> One:
    """What one response gives, as a service wants it: nothing is compiled, and calls of several
    threads don't meet.

    `document`: a parsed object, JSON text, bytes, or an open file. A document that the rules can't
    read is a reject; one of a kind that no table reads gives nothing. Raises InputError (it is no
    JSON), StoppedError and UsageError.
    """
    given = Document(_only_document(document), NAME, 1, origin_of(origin))
    run = ReferenceRun(wanted_rules(rules))
    written = [name for name, table in rules.tables.items() if table.columns]
    nothing: dict[str, list[dict[str, TypedValue]]] = {name: [] for name in written}
    try:
        # Lookups within one document only: the run is this document.
        if rules.looks_ahead:
            run.prepare([given])
        all_rows, rejects = run.document(given)
    except BadResponse as bad:
        return One(nothing, [_refused(bad)], rules, {})
    except LeftOut:
        return One(nothing, [], rules, {})
    rows = {name: _to_write(all_rows[name]) for name in written}
    values = {}
    for name in written:
        values[name] = [_kept(rules, name, row) for row in rows[name]]
    return One(values, rejects, rules, _above(rules, rows))


def _to_write(rows: Sequence[Row]) -> list[Row]:
    return [row for row in rows if row.outcome == RowOutcome.WRITTEN]


def _only_document(given: GivenDocument) -> JsonValue:
    """The JSON value of a document that a program gave. Raises UsageError and InputError."""
    texts = list(given_text(given))
    # A web request gives one; several in one text would be several answers.
    if len(texts) != 1:
        message = f"there are {len(texts)} documents in it, not one"
        raise UsageError(
            Code.NO_DOCUMENT, message, hint="extract(rules, documents=…) takes many"
        )
    try:
        return decode(texts[0])
    except NotJson as error:
        raise InputError(
            Code.NOTHING_READ, f"the document is no JSON: {error.finding}"
        ) from None


def _refused(bad: BadResponse) -> Reject:
    return Reject(
        NAME,
        1,
        None,
        None,
        (Problem(None, bad.code, None, None, bad.message, None, bad.hint),),
    )


def _kept(rules: Rules, table: str, row: Row) -> Record:
    return {column: row.values[column] for column, _ in rules.tables[table].columns}


def _above(rules: Rules, rows: Mapping[str, list[Row]]) -> dict[str, list[int]]:
    """For each row the number of the row that it stands in,
    of the nearest table that is written.
    """
    numbers = {
        # By identity: two rows may be equal.
        id(row): number
        for rows_of_table in rows.values()
        for number, row in enumerate(rows_of_table)
    }
    above: dict[str, list[int]] = {}
    for name, rows_of_table in rows.items():
        if rules.tables[name].within is not None:
            owners = [_nearest_in(numbers, row) for row in rows_of_table]
            if None not in owners:
                above[name] = [owner for owner in owners if owner is not None]
    return above


def _nearest_in(numbers: Mapping[int, int], row: Row) -> int | None:
    parent = row.parent
    while parent is not None and id(parent) not in numbers:
        parent = parent.parent
    return numbers[id(parent)] if parent is not None else None


def wanted_rules(rules: object) -> Rules:
    # A path in its place is the most likely slip.
    if not isinstance(rules, Rules):
        hint = 'rules = mukret.load_rules("feed.rules.yaml")'
        raise UsageError(
            Code.USAGE,
            f"rules are wanted first, not a {type(rules).__name__}",
            hint=hint,
        )
    return rules


def origin_of(origin: Origin | str | None) -> Origin | None:
    return Origin(origin) if isinstance(origin, str) else origin
