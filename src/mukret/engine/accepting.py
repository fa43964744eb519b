"""Which documents of a batch are read, and of which kind each is; others can't be read, or are left
out on purpose.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from typing import TypeVar

from mukret.documents import BadDocument, Batch, Diagnosis
from mukret.documents.origin import Origin
from mukret.engine.conditions import passing
from mukret.engine.scanned import ScannedBatch
from mukret.plan.compiled import Plan
from mukret.plan.first_look import NO_KINDS
from mukret.rules.model import Rules
from mukret.semantics.acceptance import NOTHING_READ, Refused, Verdict
from mukret.semantics.embedded import BadText, unfolded
from mukret.semantics.rejects import shown_value

# For so many bad documents of a batch it is found out what the rules may have meant.
MOST_EXPLAINED = 3

Kept = TypeVar("Kept")


@dataclass(frozen=True)
class Accepted:
    """A batch without the documents that are refused; these are among its bad ones.

    `kinds` of each document, if the rules know kinds. `bad_texts`: embedded texts that could not be
    read, by document; they are faults of the rows that they stand in. `left_out`: how many
    documents are of a kind that no table reads. `passed_over`: answers in HTTP archives that no
    rule reads, by the identity of their source.
    """

    batch: Batch
    kinds: Sequence[frozenset[str]] | None = None
    bad_texts: Mapping[int, Sequence[BadText]] = field(default_factory=dict)
    left_out: int = 0
    passed_over: Mapping[int, int] = field(default_factory=dict)

    def without(
        self, bad: Mapping[int, BadDocument], others: Set[int] = frozenset()
    ) -> Accepted:
        """The same without documents that are bad, and some others."""
        if not bad and not others:
            return self
        # Numbers of documents change with this: whatever is kept by number must be kept by the new
        # one.
        kept = [
            number
            for number in range(len(self.batch.documents))
            if number not in bad and number not in others
        ]
        texts = {
            now: self.bad_texts[number]
            for now, number in enumerate(kept)
            if number in self.bad_texts
        }
        kinds = None if self.kinds is None else [self.kinds[number] for number in kept]
        return replace(
            self,
            batch=_only(self.batch, kept, list(bad.values())),
            kinds=kinds,
            bad_texts=texts,
        )


def accepted(plan: Plan, batch: Batch, *, refused: bool) -> Accepted:
    """The documents of a batch that the rules read.

    `refused`: it is a part of a document that was refused when what stands around its arrays was
    read.
    """
    bad_texts = _unfold(plan, batch) if plan.rules.embedded else {}
    kinds = _kinds_of_documents(plan, batch) if plan.rules.kinds else None
    whole = Accepted(batch, kinds, bad_texts)
    if refused:
        return whole.without({}, set(range(len(batch.documents))))
    # Judged with its first part, which has all that stands around the array.
    if batch.part.array is not None:
        return whole
    return _judged(plan, whole)


def _unfold(plan: Plan, batch: Batch) -> dict[int, list[BadText]]:
    """Reads what is embedded in the documents; gives what could not be read, by document."""
    if isinstance(batch, ScannedBatch):
        return {}  # they stand unfolded in what was scanned
    embedded = plan.embedded
    batch.finish = lambda document: unfolded(document, embedded)[0]
    bad_texts = {}
    for number, document in enumerate(batch.documents):
        batch.documents[number], bad = unfolded(document, embedded)
        if bad:
            bad_texts[number] = bad
    return bad_texts


def _kinds_of_documents(plan: Plan, batch: Batch) -> list[frozenset[str]]:
    calls = list(map(_call_of, batch.origins))
    # The scan has asked already; nothing is decoded for it.
    if isinstance(batch, ScannedBatch):
        return kinds_of_scanned(batch, plan.acceptance.rules, calls)
    return [
        plan.acceptance.kinds_of(document, source.name, call)
        for document, source, call in zip(
            batch.documents, batch.sources, calls, strict=True
        )
    ]


def kinds_of_scanned(
    batch: ScannedBatch, rules: Rules, calls: Sequence[str | None]
) -> list[frozenset[str]]:
    """The kinds of documents that were scanned; `calls` are those that they answered."""
    kinds_of: list[set[str]] = [set() for _ in calls]
    rows = batch.rows()
    for name, kind in rules.kinds.items():
        # A kind without a condition on the document is told by where the answer came from alone.
        judgement = batch.plan.kinds.get(name)
        holds = [True] * len(calls)
        if judgement is not None:
            holds = passing(judgement, rows.column, rows.count).to_pylist()
        for kinds, source, call, here in zip(
            kinds_of, batch.sources, calls, holds, strict=True
        ):
            if here and kind.came_by(source.name, call):
                kinds.add(name)
    return list(map(frozenset, kinds_of))


def _judged(plan: Plan, whole: Accepted) -> Accepted:
    """Without the documents that the rules can't read, and those that are left out on purpose."""
    batch = whole.batch
    bad: dict[int, BadDocument] = {}
    left_out: set[int] = set()
    for number in _doubtful(plan, whole):
        if any(not text.location for text in whole.bad_texts.get(number, ())):
            continue  # it is a text that is no JSON: that says it all
        kinds = whole.kinds[number] if whole.kinds else NO_KINDS
        verdict = plan.acceptance.judge(
            batch.whole(number), kinds, explain=len(bad) < MOST_EXPLAINED
        )
        if isinstance(verdict, Refused):
            bad[number] = _refused(batch, number, verdict)
        elif verdict is Verdict.LEFT_OUT:
            left_out.add(number)
    unread = _unread_answers(batch, bad)
    passed_over = Counter(id(batch.sources[number]) for number in unread)
    bad = {number: document for number, document in bad.items() if number not in unread}
    return replace(
        whole.without(bad, left_out | unread),
        left_out=len(left_out),
        passed_over=passed_over,
    )


def _doubtful(plan: Plan, whole: Accepted) -> list[int]:
    """The numbers of the documents that have to be judged one by one."""
    if isinstance(whole.batch, ScannedBatch):
        return plan.first_look.doubtful_scanned(whole.batch.scan, whole.kinds)
    return plan.first_look.doubtful(whole.batch.documents, whole.kinds)


def _unread_answers(batch: Batch, bad: Mapping[int, BadDocument]) -> set[int]:
    """Of the documents in which no rule reads anything, the answers in HTTP archives of which
    another is read.
    """
    read = {id(batch.sources[number]) for number in batch.answers if number not in bad}
    unread = {
        number
        for number, document in bad.items()
        if document.code == NOTHING_READ and number in batch.answers
    }
    # An archive holds all that a page asked for: that much of it is nobody's rows is usual.
    return {number for number in unread if id(batch.sources[number]) in read}


def _refused(batch: Batch, number: int, verdict: Refused) -> BadDocument:
    # Of the document as it stood, cut: it is there to be recognised.
    value = shown_value(batch.whole(number))
    finding = Diagnosis(verdict.message)
    return BadDocument(
        batch.sources[number],
        batch.numbers[number],
        finding,
        verdict.code,
        value,
        verdict.hint,
    )


def _only(batch: Batch, kept: Sequence[int], bad: Sequence[BadDocument]) -> Batch:
    """The batch with these documents alone; others are among the bad ones."""
    if isinstance(batch, ScannedBatch):
        left: Batch = batch.only(kept)
    else:
        left = replace(batch, documents=[batch.documents[number] for number in kept])
    renumbered = {number: now for now, number in enumerate(kept)}
    # Both kinds of batch share what is known of documents; what they are made of they keep apart.
    return replace(
        left,
        sources=[batch.sources[number] for number in kept],
        numbers=[batch.numbers[number] for number in kept],
        origins=[batch.origins[number] for number in kept],
        raw=_renumbered(batch.raw, renumbered),
        full=_renumbered(batch.full, renumbered),
        answers={
            renumbered[number] for number in batch.answers if number in renumbered
        },
        in_part=lambda now: batch.in_part(kept[now]),
        bad=[*batch.bad, *bad],
    )


def _renumbered(
    by_document: Mapping[int, Kept], numbers: Mapping[int, int]
) -> dict[int, Kept]:
    """What is kept of documents, by their new numbers in a batch; those without one are gone."""
    return {
        numbers[number]: kept
        for number, kept in by_document.items()
        if number in numbers
    }


@dataclass
class KindsFound:
    """Which kinds of responses came, and how many documents were of none, where all tables want
    one.
    """

    seen: set[str] = field(default_factory=set)
    of_none: int = 0
    first: tuple[str, int] | None = None

    def merge(self, later: KindsFound) -> None:
        """Adds what was found later in the input."""
        self.seen |= later.seen
        self.of_none += later.of_none
        self.first = self.first or later.first


def kinds_found(documents: Accepted, rules: Rules) -> KindsFound:
    """The kinds of the documents of a batch."""
    counted_kinds = KindsFound()
    all_want_one = all(table.kind for table in rules.tables.values())
    for number, kinds in enumerate(documents.kinds or ()):
        counted_kinds.seen |= kinds
        # Where a table reads documents of any kind, one of none is nothing to warn of.
        if not kinds and all_want_one:
            counted_kinds.of_none += 1
            counted_kinds.first = counted_kinds.first or (
                documents.batch.sources[number].name,
                documents.batch.numbers[number],
            )
    return counted_kinds


def _call_of(origin: Origin | None) -> str | None:
    return origin.call if origin else None
