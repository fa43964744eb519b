"""The reference evaluator: a document, a row, a value at a time.

Short and obvious, not fast. What it gives is what the rules mean; the engine must give the same (a
property test holds them together). `check` runs examples through it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime

from mukret.codes import Code
from mukret.documents.origin import Origin
from mukret.expressions import NOW, Expression, aggregated, evaluate
from mukret.paths import Path, normalized
from mukret.rules.model import (
    RESPONSE,
    WHERE,
    Derive,
    Field,
    Inherit,
    Inherited,
    Rules,
    Step,
    Table,
)
from mukret.rules.rows import DOCUMENT, FoundRow, Refusal, RowPlace
from mukret.rules.schedule import lookup_passes
from mukret.rules.sources import (
    At,
    Compute,
    ConstantValue,
    Fact,
    Lookup,
    ParentField,
    Rest,
)
from mukret.semantics.acceptance import Acceptance, Refused, Verdict
from mukret.semantics.answers import Answers, FieldName, Known
from mukret.semantics.choosing import choose
from mukret.semantics.embedded import BadText, RowPlaces, excuses, unfolded
from mukret.semantics.facts import document_fact
from mukret.semantics.outcomes import (
    LastRows,
    RowOutcome,
    in_key,
    key_hash,
    keys_of,
    last_key_passes,
)
from mukret.semantics.rejects import (
    Fault,
    Reject,
    duplicate,
    key_missing,
    parent_rejected,
    refused,
    reject,
    required,
    stopped,
    unreadable,
    where_failed,
)
from mukret.semantics.rests import rest_of
from mukret.semantics.taking import taken
from mukret.semantics.tally import TableTally
from mukret.types import Bad
from mukret.values import JsonValue, kind_of


@dataclass
class Row:
    """A row of a table, or a document with the fields of `response`.

    `broken` are fields whose value is bad: expressions that read them are not evaluated. `above` is
    the row above it in a table that recurses. `readable`: its own fields can be read.
    """

    found: FoundRow
    place: RowPlace
    parent: Row | None
    origin: str
    name: str | None = None
    above: Row | None = None
    readable: bool = True
    values: dict[str, object] = field(default_factory=dict)
    broken: set[str] = field(default_factory=set)
    faults: list[Fault] = field(default_factory=list)
    nulled: int = 0
    outcome: RowOutcome = RowOutcome.WRITTEN
    unknown: bool = False

    @property
    def node(self) -> JsonValue:
        return self.found.node

    @property
    def is_placeholder(self) -> bool:
        return self.found.is_placeholder

    def ancestor(self, origin: str) -> Row:
        row = self
        while row.origin != origin:
            assert row.parent is not None
            row = row.parent
        return row


@dataclass
class Document:
    """A document and its place in the run.

    Texts embedded in it are read once, however often it is evaluated.
    """

    value: JsonValue
    file: str = "-"
    number: int = 1
    origin: Origin | None = None
    bad_texts: list[BadText] | None = None

    def unfold(self, paths: Sequence[Path]) -> list[BadText]:
        if self.bad_texts is None:
            self.value, self.bad_texts = unfolded(self.value, paths)
        return self.bad_texts


class NotRead(Exception):
    """A document that gives no rows."""


class BadResponse(NotRead):
    """A document that the rules refuse."""

    def __init__(self, code: str, message: str, hint: str | None = None) -> None:
        super().__init__(message)
        self.code = code
        self.message = message
        self.hint = hint


class LeftOut(NotRead):
    """A document of a kind that no table reads."""


class ReferenceRun:
    """Evaluates documents one after the other; keys are remembered over the whole run.

    Where the last row with a key is kept, `prepare` must have seen all documents before the first
    is evaluated.
    """

    def __init__(self, rules: Rules, now: datetime | None = None) -> None:
        self.rules = rules
        self.now = now or datetime.now(UTC)
        self.tables = rules.parents_first()
        self.acceptance = Acceptance(rules)
        self.last: dict[str, LastRows] = {}
        # What lookups across the run find.
        self.across: dict[FieldName, Known] = {}
        self.begin()

    def begin(self, finding_last: Iterable[str] = ()) -> None:
        self.seen = keys_of(self.tables, self.last, frozenset(finding_last))
        self.tally = {name: TableTally() for name in self.rules.tables}

    def prepare(self, documents: list[Document]) -> None:
        """Gathers what lookups across the run find, and finds out which rows are the last ones with
        their keys.
        """
        # Each reading of all documents can use what earlier ones gathered; documents that can't be
        # read give nothing.
        for looking in lookup_passes(self.rules):
            self.begin()
            gathered = {
                (table, own_field.name): (own_field.source, Answers())
                for table, own_field in looking
            }
            for document in documents:
                reading = OneDocument(self, document)
                with suppress(NotRead):
                    reading.evaluate()
                    for lookup, answers in gathered.values():
                        assert isinstance(lookup, Lookup)
                        answers.add(
                            reading.answers_of(lookup, str(lookup.table)).items()
                        )
            self.across.update(
                {name: answers for name, (_, answers) in gathered.items()}
            )
        for names in last_key_passes(self.tables):
            self.begin(names)
            for document in documents:
                with suppress(NotRead):
                    self.document(document)
        self.begin()

    def document(self, document: Document) -> tuple[dict[str, list[Row]], list[Reject]]:
        """All rows of a document by table, and the records of those rejected.

        Raises StoppedError for `bad: stop`, and NotRead.
        """
        return OneDocument(self, document).evaluate()


class OneDocument:
    """The rows of one document; after `evaluate` they are as they are written or rejected."""

    def __init__(self, run: ReferenceRun, document: Document) -> None:
        self.run = run
        self.rules = run.rules
        self.document = document
        self.refusals: dict[str, list[tuple[Row, Refusal]]] = {}
        # The rows of each looked-up table by their keys, made when the first row asks.
        self.answers: dict[tuple[str, Lookup], dict[tuple[object, ...], object]] = {}
        self.surviving: dict[str, list[Row]] = {}
        self.bad_texts = document.unfold([item.path for item in self.rules.embedded])
        self.excuses = excuses(self.bad_texts)
        self.response = Row(FoundRow((), document.value), DOCUMENT, None, RESPONSE)
        self.rows: dict[str, list[Row]] = {RESPONSE: [self.response]}
        call = document.origin.call if document.origin else None
        self.kinds = run.acceptance.kinds_of(document.value, document.file, call)

    def evaluate(self) -> tuple[dict[str, list[Row]], list[Reject]]:
        """The rows of all tables, and those that are rejected.

        Raises BadResponse for a document that the rules refuse, LeftOut for one of a kind that no
        table reads.
        """
        self.judge()
        for table in self.run.tables:
            self.find(table)
        self.attach_text_faults()
        for step in self.rules.schedule:
            self.take(step)
        rejects: list[Reject] = []
        # Parents first: what becomes of a row hangs on what becomes of the row above it.
        for table in self.run.tables:
            for number, row in enumerate(self.rows[table.name]):
                self.decide(row, table, number)
            self.run.seen[table.name].looked_at(len(self.rows[table.name]))
            self.count(table.name)
            rejects += self.rejects(table.name)
        return {name: self.rows[name] for name in self.rules.tables}, rejects

    def take(self, step: Step) -> None:
        """One step of the schedule, for all rows of its table."""
        rows = self.rows[step.table]
        # Row by row where the engine goes by columns: the same steps in the same order.
        match step:
            case Inherit():
                for row in rows:
                    self.inherit(row, step.inherited)
            case Derive():
                for row in rows:
                    self.read(row, step.field)
            case _:
                table = self.rules.tables[step.table]
                self.surviving[step.table] = [
                    row for row in rows if self.survives(row, table, step.without)
                ]

    def judge(self) -> None:
        """Whether the rules can read the document at all. Raises NotRead."""
        if any(not text.location for text in self.bad_texts):
            return  # it is a text that is no JSON: that says it all
        verdict = self.run.acceptance.judge(self.document.value, self.kinds)
        if isinstance(verdict, Refused):
            raise BadResponse(verdict.code, verdict.message, verdict.hint)
        if verdict is Verdict.LEFT_OUT:
            raise LeftOut

    # ---- rows

    def find(self, table: Table) -> None:
        """The rows of a table, and which of them can't be read."""
        rows: list[Row] = []
        self.rows[table.name] = rows
        self.refusals[table.name] = []
        if table.kind is not None and table.kind not in self.kinds:
            return
        for parent in self.rows[table.within or RESPONSE]:
            # Below a row that is no object nothing is looked for: the row itself is told.
            if not (parent.readable or parent.is_placeholder):
                continue
            below = table.rows.find(
                parent.node,
                is_placeholder=parent.is_placeholder,
                excused=self.excuses.below(parent.place),
            )
            if below.refusal is not None:
                self.refusals[table.name].append((parent, below.refusal))
            first = len(rows)
            for item in below.rows:
                row = _found(item, parent, table)
                row.above = rows[first + item.above] if item.above is not None else None
                rows.append(row)

    def attach_text_faults(self) -> None:
        """Notes embedded texts that are no JSON with the rows that they stand in or hold."""
        if not self.bad_texts:
            return
        rows = [row for table in self.run.tables for row in self.rows[table.name]]
        places = RowPlaces(map(_place_of, rows))
        for text in self.bad_texts:
            chosen = places.around(text.location)
            if not chosen:
                message = f"the text at {text.path} is no JSON: {text.finding.message}"
                raise BadResponse(Code.NOT_JSON, message)
            for number in chosen:
                row = rows[number]
                # It is the row: that it is no object says nothing more.
                if row.place.location == text.location:
                    row.faults = [
                        fault
                        for fault in row.faults
                        if fault.bad.code != Code.ROW_SHAPE
                    ]
                    row.readable = False
                row.faults.append(text.fault)

    # ---- one field

    def inherit(self, row: Row, inherited: Inherited) -> None:
        assert row.parent is not None
        name, source = inherited.name, row.parent.ancestor(inherited.origin)
        row.values[name] = source.values[name]
        if name in source.broken:
            row.broken.add(name)
            if inherited.origin == RESPONSE:
                table = self.rules.tables[row.origin]
                # Inherited fields stand before a table's own, so their faults do: ranks below zero.
                rank = table.inherit.index(inherited) - len(table.inherit)
                row.faults += [
                    Fault(
                        rank, name, fault.bad, fault.field, (source.place, source.node)
                    )
                    for fault in source.faults
                    if fault.name == name
                ]

    def read(self, row: Row, field: Field) -> None:
        """One field of one row: its value, or what is wrong with it."""
        row.values[field.name] = None
        if row.is_placeholder:
            return
        if self.is_tainted(row, field):
            row.broken.add(field.name)
            return
        nulled = False
        try:
            row.values[field.name] = self.value(row, field)
        except Bad as bad:
            nulled = bad.nulled or field.bad == "null"
            row.nulled += nulled
            if not nulled:
                self.bad(row, field, bad)
                return
        if row.values[field.name] is None:
            if field.required:
                self.bad(row, field, required())
            # A value that was bad and is null stays null: a default would hide that there was one.
            elif not nulled:
                row.values[field.name] = field.default

    def is_tainted(self, row: Row, field: Field) -> bool:
        """Whether something that a field is made of could not be read: it has no value then, and
        what is to blame is told once, where it stands.
        """
        if (
            not row.readable
            or row.broken & set(field.reads.fields)
            or self.is_unknown(row, field)
        ):
            return True
        # The row above was read before this one.
        if isinstance(field.source, ParentField) and row.above is not None:
            return field.source.field in row.above.broken
        return False

    def is_unknown(self, row: Row, own_field: Field) -> bool:
        """Whether it is a lookup across the run of which the answers are still to be gathered."""
        across = isinstance(own_field.source, Lookup) and own_field.source.across_run
        return across and (row.origin, own_field.name) not in self.run.across

    def bad(self, row: Row, own_field: Field, bad: Bad) -> None:
        fields = (
            self.rules.response_fields
            if row.origin == RESPONSE
            else self.rules.tables[row.origin].fields
        )
        fault = Fault(fields.index(own_field), own_field.name, bad, own_field)
        # The run ends with the first one, wherever it is: nothing is published.
        if own_field.bad == "stop":
            document = f"{self.document.file}, document {self.document.number}"
            raise stopped(fault, row.place, row.node, document, self.excuses)
        row.broken.add(own_field.name)
        row.faults.append(fault)

    def value(self, row: Row, own_field: Field) -> object:
        match own_field.source:
            case At():
                return taken(
                    own_field.source,
                    own_field.reading,
                    choose(own_field.source, row.node, self.excuses.below(row.place)),
                )
            case Compute():
                return self.computed(row, own_field.source.expression)
            case ConstantValue():
                return own_field.source.value
            case Fact():
                fact = self.fact(row, own_field.source.name)
                try:
                    return own_field.reading.read(fact)
                except Bad as bad:
                    raise bad.about(fact) from None
            case ParentField():
                return (
                    row.above.values[own_field.source.field]
                    if row.above is not None
                    else None
                )
            case Rest():
                return own_field.reading.read(
                    rest_of(row.node, own_field.source.touched)
                )
            # Across the run the answers were found in a pass of their own.
            case Lookup():
                if own_field.source.across_run:
                    form = own_field.source.form(
                        tuple(row.values[name] for name in own_field.source.by)
                    )
                    return self.run.across[row.origin, own_field.name].get_all([form])[
                        0
                    ]
                return self.look_up(row, own_field.source)

    def computed(self, row: Row, expression: Expression) -> object:
        values = {**row.values, NOW: self.run.now}
        for aggregate in expression.aggregates():
            rows = [
                below
                for below in self.surviving[aggregate.table]
                if below.parent is row
            ]
            # Without a field it counts the rows, whatever they hold.
            given: list[object] = [None] * len(rows)
            if aggregate.field:
                given = [below.values[aggregate.field] for below in rows]
            try:
                values[aggregate.key] = aggregated(aggregate, given)
            # Kept as a value: the expression may not need it (COALESCE, CASE).
            except Bad as bad:
                values[aggregate.key] = bad
        return evaluate(expression, values)

    def fact(self, row: Row, name: str) -> JsonValue:
        # Facts of the row; those below are of its document.
        match name:
            case "name":
                return row.name
            case "position":
                return row.found.position
            case "depth":
                return row.found.depth
            case "kind":
                return kind_of(row.node)
            case "path":
                return normalized(row.place.location)
        return document_fact(
            name, self.document.file, self.document.number, self.document.origin
        )

    def look_up(self, row: Row, lookup: Lookup) -> object:
        form = lookup.form(tuple(row.values[name] for name in lookup.by))
        # A part of the key is null, which equals nothing.
        if form is None:
            return None
        if lookup.table is None:
            return lookup.answers.get(form)
        known = self.answers.get((lookup.table, lookup))
        if known is None:
            known = self.answers[lookup.table, lookup] = self.answers_of(
                lookup, lookup.table
            )
        return known.get(form)

    def answers_of(
        self, lookup: Lookup, table: str
    ) -> dict[tuple[object, ...], object]:
        """What the surviving rows of a table give, by their keys; the first of several with a key
        counts.
        """
        answers: dict[tuple[object, ...], object] = {}
        for row in self.surviving[table]:
            form = lookup.form(tuple(row.values[name] for name in lookup.key))
            if form is not None and lookup.give not in row.broken:
                answers.setdefault(form, row.values[lookup.give])
        return answers

    # ---- what becomes of a row

    def survives(self, row: Row, table: Table, without: frozenset[str]) -> bool:
        """Whether a row is neither rejected nor filtered for itself, as far as other fields than
        these say.
        """
        if row.is_placeholder or any(
            fault.name is None or fault.name not in without for fault in row.faults
        ):
            return False
        if any(self.lacks(row, name) for name in table.key if name not in without):
            return False
        # What is decided by fields that hang on the answer is taken to be well.
        if (
            table.where is None
            or row.broken - without
            or {*table.where.fields(), WHERE} & without
        ):
            return True
        try:
            return bool(self.computed(row, table.where))
        except Bad:
            return False

    @staticmethod
    def lacks(row: Row, name: str) -> bool:
        return row.values[name] is None and name not in row.broken

    def decide(self, row: Row, table: Table, number: int) -> None:
        """What becomes of a row: rejected for itself or with the row above, filtered, a duplicate,
        or written. The order is the contract: what is wrong with a row is told before a filter
        hides it, and only rows that are left compete for a key.
        """
        passes = self.passes(row, table)
        above = row.above or row.parent
        # Its own faults come first: somebody can mend them.
        if row.faults:
            row.outcome = RowOutcome.REJECTED
        elif above is not None and above.outcome != RowOutcome.WRITTEN:
            row.outcome = above.outcome
            if row.outcome == RowOutcome.REJECTED:
                row.faults.append(parent_rejected(above.origin))
        elif not passes:
            row.outcome = RowOutcome.FILTERED
            row.unknown = passes is None
        elif table.key and not row.is_placeholder:
            self.compare_key(row, table, number)

    def passes(self, row: Row, table: Table) -> object:
        """What the condition of the table says of a row: true, false, or None if it is unknown.

        What is wrong with its key, or with the condition, is noted.
        """
        if row.is_placeholder:
            return True
        row.faults += [key_missing(name) for name in table.key if self.lacks(row, name)]
        # A condition on fields that could not be read says nothing.
        if table.where is None or row.faults or row.broken:
            return True
        try:
            return self.computed(row, table.where)
        except Bad as bad:
            row.faults.append(where_failed(bad))
            return True

    def compare_key(self, row: Row, table: Table, number: int) -> None:
        # 1 and 1.0 are one key, and so are both zeros of a float.
        key = tuple(in_key(row.values[name]) for name in table.key)
        row.outcome = RowOutcome(
            self.run.seen[table.name].row_outcomes(key_hash(key), [number])[0]
        )
        if row.outcome == RowOutcome.REJECTED:
            types = table.types
            values = zip(table.key, key, strict=True)
            row.faults.append(
                duplicate({name: types[name].written(value) for name, value in values})
            )

    # ---- results

    def count(self, name: str) -> None:
        tally, rows = self.run.tally[name], self.rows[name]
        row_outcomes = [row.outcome for row in rows]
        # Rows that could not be made are seen, and rejected.
        refused_rows = sum(refusal.count for _, refusal in self.refusals[name])
        tally.rows_seen += len(rows) + refused_rows
        tally.rows_written += row_outcomes.count(RowOutcome.WRITTEN)
        tally.rows_rejected += row_outcomes.count(RowOutcome.REJECTED) + refused_rows
        tally.rows_filtered += row_outcomes.count(RowOutcome.FILTERED)
        tally.rows_deduplicated += row_outcomes.count(RowOutcome.DEDUPLICATED)
        tally.values_nulled += sum(row.nulled for row in rows)
        tally.rows_filtered_unknown += sum(row.unknown for row in rows)

    def rejects(self, name: str) -> list[Reject]:
        """In the order of the parents; rows that are refused as a whole stand where their rows
        would.
        """
        file, number = self.document.file, self.document.number
        table = self.rules.tables[name]
        # Rows that are refused together have no number of their own: they are sorted by their
        # parent.
        order = {
            id(parent): place
            for place, parent in enumerate(self.rows[table.within or RESPONSE])
        }
        records = [
            (order[id(parent)], refused(file, number, name, parent.place, refusal))
            for parent, refusal in self.refusals[name]
        ]
        records += [
            (
                order[id(row.parent)],
                reject(
                    file, number, name, row.place, row.node, row.faults, self.excuses
                ),
            )
            for row in self.rows[name]
            if row.outcome == RowOutcome.REJECTED
        ]
        return [record for _, record in sorted(records, key=lambda item: item[0])]


def _found(item: FoundRow, parent: Row, table: Table) -> Row:
    row = Row(item, parent.place.of(item), parent, table.name, item.name(parent.name))
    if item.fault is not None:
        row.faults.append(unreadable(item.fault))
    row.readable = item.fault is None and not item.is_placeholder
    return row


def _place_of(row: Row) -> RowPlace | None:
    """Where a row stands; a placeholder stands nowhere."""
    return None if row.is_placeholder else row.place
