"""All tables of one batch: embedded texts read, rows found, fields evaluated in the order of the schedule."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import partial
from types import MappingProxyType
from typing import Self

from mukret.documents import BadDocument, Batch, Finding
from mukret.engine.conditions import passing
from mukret.engine.deciding import decide, survive
from mukret.engine.scanned import ScannedBatch
from mukret.engine.table_batch import TableBatch
from mukret.plan.compiled import Plan
from mukret.plan.first_look import NO_KINDS
from mukret.rules.model import RESPONSE, WHERE, Derive, Inherit, Rules
from mukret.semantics.acceptance import NOTHING_READ, Refused, Verdict
from mukret.semantics.answers import Resolved
from mukret.semantics.embedded import BadText, RowPlaces, excuses, unfolded
from mukret.semantics.fates import SeenKeys
from mukret.semantics.rejects import shown_value

MOST_EXPLAINED = 3
"""For so many bad documents of a batch it is found out what the rules may have meant."""


Fates = Mapping[str, bytearray]
"""What becomes of the rows of each table, by name."""


class BatchTables:
    """`tables` by name, that of the response among them. `batch` is what is left of the one `given`: documents that
    turn out to be bad are among the bad ones there."""

    def __init__(
        self,
        plan: Plan,
        batch: Batch,
        now: datetime,
        resolved: Resolved = MappingProxyType({}),
        *,
        refused: bool = False,
    ) -> None:
        """`refused`: this is a part of a document that was refused when what stands around its arrays was read."""
        self.plan = plan
        self.now = now
        self.resolved = resolved
        self.rules = plan.rules
        self.batch = self.given = batch
        self.array = None if batch.part.array is None else plan.long.arrays[batch.part.array]
        """Of a part of a document: the array of which it has some elements; only rows in these are new."""
        self.bad_texts = self.unfold() if self.rules.embedded else {}
        """Texts that could not be read, by document, which is held against the rows that they stand in."""
        self.blamed = bool(self.bad_texts)
        self.kinds = self.kinds_of_documents() if self.rules.kinds else None
        """The kinds of each document, if the rules know kinds."""
        self.left_out = 0
        """How many documents are of a kind that no table reads."""
        self.passed_over: Counter[int] = Counter()
        """Answers in HTTP archives that no rule reads, by the identity of their source."""
        if refused:
            self.keep([], {})
        elif self.array is None:
            self.refuse()
        self.find()
        if self.blamed:
            self.blame()

    # ---- documents

    def kinds_of_documents(self) -> list[frozenset[str]]:
        batch, acceptance = self.batch, self.plan.acceptance
        calls = [origin.call if origin else None for origin in batch.origins]
        if isinstance(batch, ScannedBatch):
            return kinds_of_scanned(batch, acceptance.rules, calls)
        return [
            acceptance.kinds_of(document, source.name, call)
            for document, source, call in zip(batch.documents, batch.sources, calls, strict=True)
        ]

    def refuse(self) -> None:
        """Takes away the documents that the rules can't read, and those that are left out on purpose."""
        bad: dict[int, BadDocument] = {}
        lost: set[int] = set()
        for number in self.doubtful():
            if any(not text.location for text in self.bad_texts.get(number, ())):
                continue  # it is a text that is no JSON: that says it all
            kinds = self.kinds[number] if self.kinds else NO_KINDS
            document = self.batch.whole(number)
            verdict = self.plan.acceptance.judge(document, kinds, explain=len(bad) < MOST_EXPLAINED)
            if isinstance(verdict, Refused):
                bad[number] = _refused(self.batch, number, verdict)
            elif verdict is Verdict.LEFT_OUT:
                lost.add(number)
        self.left_out = len(lost)
        over = self.unread_answers(bad)
        self.passed_over.update(id(self.batch.sources[number]) for number in over)
        bad = {number: found for number, found in bad.items() if number not in over}
        if bad or lost or over:
            gone = {*bad, *lost, *over}
            self.keep([number for number in range(len(self.batch.documents)) if number not in gone], bad)

    def doubtful(self) -> list[int]:
        """The numbers of the documents that have to be judged one by one."""
        if isinstance(self.batch, ScannedBatch):
            return self.plan.first_look.doubtful_scanned(self.batch.scan, self.kinds)
        return self.plan.first_look.doubtful(self.batch.documents, self.kinds)

    def unread_answers(self, bad: Mapping[int, BadDocument]) -> set[int]:
        """Of the documents in which no rule reads anything, the answers in HTTP archives of which another is read."""
        batch = self.batch
        read = {id(batch.sources[number]) for number in batch.answers if number not in bad}
        unread = {number for number, found in bad.items() if found.code == NOTHING_READ and number in batch.answers}
        return {number for number in unread if id(batch.sources[number]) in read}

    def keep(self, kept: list[int], bad: Mapping[int, BadDocument]) -> None:
        """Leaves these documents; others are bad ones."""
        self.batch = _without(self.batch, kept, list(bad.values()))
        before = self.bad_texts
        self.bad_texts = {now: before[number] for now, number in enumerate(kept) if number in before}
        if self.kinds is not None:
            self.kinds = [self.kinds[number] for number in kept]

    # ---- rows

    def find(self) -> None:
        """The rows of all tables."""
        excused = {number: excuses(texts) for number, texts in self.bad_texts.items()}
        response = TableBatch(self.plan.response, self.batch, None, excuses=excused)
        self.tables: dict[str, TableBatch] = {RESPONSE: response}
        for plan in self.plan.tables:
            table, parent = plan.table, self.tables[plan.table.within or RESPONSE]
            kind = table.kind if table.within is None else None
            # the kinds and not `self`, which would hold all of the batch in a cycle
            belongs = None if kind is None else partial(_is_kind, kind, self.kinds or [])
            self.tables[table.name] = TableBatch(plan, self.batch, parent, belongs, excused)
        if self.array is not None:
            for name in self.array.rows:
                self.tables[name].cut_at = len(self.array.names)

    # ---- embedded texts

    def unfold(self) -> dict[int, list[BadText]]:
        """Reads what is embedded in the documents; gives what could not be read, by document."""
        if isinstance(self.batch, ScannedBatch):
            return {}  # they stand unfolded in what was scanned
        embedded = self.plan.embedded  # and not `self`, which would hold the batch in a cycle
        self.batch.finish = lambda document: unfolded(document, embedded)[0]
        found = {}
        for number, document in enumerate(self.batch.documents):
            self.batch.documents[number], bad = unfolded(document, self.plan.embedded)
            if bad:
                found[number] = bad
        return found

    def blame(self) -> None:
        """Rejects the rows in which texts stand that are no JSON; documents in which one stands in no row are bad."""
        lost = self.blame_rows(self.bad_texts)
        if lost:
            kept = [number for number in range(len(self.batch.documents)) if number not in lost]
            self.keep(kept, {number: _unreadable(self.batch, number, text) for number, text in lost.items()})
            self.find()
            self.blame_rows(self.bad_texts)

    def blame_rows(self, bad_texts: Mapping[int, list[BadText]]) -> dict[int, BadText]:
        """The texts that stand in no row, by document."""
        rows: dict[int, list[tuple[TableBatch, int]]] = {document: [] for document in bad_texts}
        for name, table in self.tables.items():
            for row, document in enumerate(table.documents if name != RESPONSE else ()):
                if document in rows:
                    rows[document].append((table, row))
        lost: dict[int, BadText] = {}
        for document, texts in bad_texts.items():
            found = rows[document]
            places = [None if row in table.hollow else table.locate(row)[0] for table, row in found]
            index = RowPlaces(places)
            for text in texts:
                chosen = index.around(text.location)
                if not chosen:
                    lost.setdefault(document, text)
                for number in chosen:
                    place = places[number]
                    _blame(*found[number], text, itself=place is not None and place.location == text.location)
        return lost

    # ---- fields and fates

    def evaluate(self) -> None:
        """All fields of all rows."""
        for step in self.rules.schedule:
            table = self.tables[step.table]
            match step:
                case Inherit():
                    table.inherit(step.inherited)
                case Derive():
                    table.derive(step.field, self.tables, self.now, self.resolved)
                case _:
                    if table.table.where is not None and WHERE not in step.without:
                        table.prepare(table.table.where, self.tables, self.now)
                    survive(table, step.without)

    @property
    def new(self) -> list[TableBatch]:
        """The tables of which rows are met for the first time, parents first, without the response."""
        names = [plan.table.name for plan in self.plan.tables]
        return [self.tables[name] for name in names if self.array is None or name in self.array.tables]

    def decide(self, seen: Mapping[str, SeenKeys], around: Fates) -> None:
        """What becomes of all rows. `around` has the fates of rows that were met in the first part of a document."""
        for plan in self.plan.tables:
            table = self.tables[plan.table.name]
            if self.array is not None and plan.table.name not in self.array.tables:
                table.fates = around.get(plan.table.name, table.fates)  # nothing where the document was refused
                continue
            if table.table.where is not None:
                table.prepare(table.table.where, self.tables, self.now)
            decide(table, seen[plan.table.name])

    def decided(self, seen: Mapping[str, SeenKeys], around: Fates) -> Self:
        """These tables, the fates of all rows decided."""
        self.decide(seen, around)
        return self

    @property
    def fates_around(self) -> Fates:
        """The fates of the rows around the arrays of a document, for its parts; none where it was refused."""
        return {name: table.fates for name, table in self.tables.items()} if self.batch.documents else {}


def kinds_of_scanned(batch: ScannedBatch, rules: Rules, calls: Sequence[str | None]) -> list[frozenset[str]]:
    """The kinds of documents that were scanned; `calls` are those that they answered."""
    found: list[set[str]] = [set() for _ in calls]
    rows = batch.rows()
    for name, kind in rules.kinds.items():
        judgement = batch.plan.kinds.get(name)
        holds = [True] * len(calls)
        if judgement is not None:
            holds = passing(judgement, rows.column, rows.count).to_pylist()
        for kinds, source, call, here in zip(found, batch.sources, calls, holds, strict=True):
            if here and kind.came_by(source.name, call):
                kinds.add(name)
    return list(map(frozenset, found))


def _is_kind(kind: str, kinds: Sequence[frozenset[str]], number: int) -> bool:
    """Whether a document of the batch is of this kind."""
    return kind in kinds[number]


def _blame(table: TableBatch, row: int, text: BadText, *, itself: bool) -> None:
    """Notes a text in a row; where it is the row itself, that this is no object says nothing more."""
    if itself:
        table.faults[row] = [fault for fault in table.faults.get(row, ()) if fault.bad.code != "row-shape"]
    table.blame(row, text.fault, readable=not itself)


def _refused(batch: Batch, number: int, verdict: Refused) -> BadDocument:
    value = shown_value(batch.whole(number))
    finding = Finding(verdict.message)
    return BadDocument(batch.sources[number], batch.numbers[number], finding, verdict.code, value, verdict.hint)


def _unreadable(batch: Batch, number: int, text: BadText) -> BadDocument:
    finding = text.finding.inside(f"the text at {text.path}")
    return BadDocument(batch.sources[number], batch.numbers[number], finding)


def _without(batch: Batch, kept: list[int], bad: list[BadDocument]) -> Batch:
    """The batch with these documents alone; others are among the bad ones."""
    left = batch.only(kept) if isinstance(batch, ScannedBatch) else batch
    return replace(
        left,
        documents=left.documents if left is not batch else [batch.documents[number] for number in kept],
        sources=[batch.sources[number] for number in kept],
        numbers=[batch.numbers[number] for number in kept],
        origins=[batch.origins[number] for number in kept],
        raw={now: batch.raw[number] for now, number in enumerate(kept) if number in batch.raw},
        answers={now for now, number in enumerate(kept) if number in batch.answers},
        in_part=lambda now: batch.in_part(kept[now]),
        full={now: batch.full[number] for now, number in enumerate(kept) if number in batch.full},
        bad=[*batch.bad, *bad],
    )


@dataclass
class KindsFound:
    """Which kinds of responses came, and how many documents were of none, where all tables want one."""

    seen: set[str] = field(default_factory=set)
    of_none: int = 0
    first: tuple[str, int] | None = None

    def merge(self, later: KindsFound) -> None:
        """Adds what was found later in the input."""
        self.seen |= later.seen
        self.of_none += later.of_none
        self.first = self.first or later.first


def kinds_found(tables: BatchTables) -> KindsFound:
    """The kinds of the documents of a batch."""
    found, rules = KindsFound(), tables.rules
    all_want_one = all(table.kind for table in rules.tables.values())
    for number, kinds in enumerate(tables.kinds or ()):
        found.seen |= kinds
        if not kinds and all_want_one:
            found.of_none += 1
            found.first = found.first or (tables.batch.sources[number].name, tables.batch.numbers[number])
    return found
