"""All tables of one batch: embedded texts read, rows found, fields evaluated in the order of the schedule."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from mukret.documents import BadDocument, Batch
from mukret.engine.deciding import decide, survive
from mukret.engine.embedded import BadText, innermost, unfolded
from mukret.engine.fates import SeenKeys
from mukret.engine.plan import Plan
from mukret.engine.table_batch import TableBatch
from mukret.rules.model import RESPONSE, Derive, Inherit, Rules


class BatchTables:
    """`tables` by name, that of the response among them. `batch` is what is left of the one given: documents that turn
    out to be bad are among the bad ones there."""

    def __init__(self, plan: Plan, batch: Batch) -> None:
        self.plan = plan
        self.rules = plan.rules
        self.batch = batch
        bad_texts = self.unfold() if self.rules.embedded else {}
        self.find()
        if bad_texts:
            self.blame(bad_texts)

    def find(self) -> None:
        """The rows of all tables."""
        response = TableBatch(self.plan.response, self.batch, None)
        self.tables: dict[str, TableBatch] = {RESPONSE: response}
        for plan in self.plan.tables:
            table, parent = plan.table, self.tables[plan.table.within or RESPONSE]
            kind = table.kind if table.within is None else None
            belongs = None if kind is None else lambda number, kind=kind: self.is_kind(kind, number)
            self.tables[table.name] = TableBatch(plan, self.batch, parent, belongs)

    def is_kind(self, name: str, number: int) -> bool:
        """Whether a document of the batch is of this kind."""
        batch, origin = self.batch, self.batch.origins[number]
        call = origin.call if origin else None
        return self.rules.kinds[name].fits(batch.documents[number], batch.sources[number].name, call)

    # ---- embedded texts

    def unfold(self) -> dict[int, list[BadText]]:
        """Reads what is embedded in the documents; gives what could not be read, by document."""
        found = {}
        for number, document in enumerate(self.batch.documents):
            self.batch.documents[number], bad = unfolded(document, self.rules.embedded)
            if bad:
                found[number] = bad
        return found

    def blame(self, bad_texts: Mapping[int, list[BadText]]) -> None:
        """Rejects the rows in which texts stand that are no JSON; documents in which none does are bad ones."""
        lost = {
            number: text for number, texts in bad_texts.items() for text in texts if not self.blame_rows(number, text)
        }
        if lost:
            kept = {number: texts for number, texts in bad_texts.items() if number not in lost}
            self.batch = _without(self.batch, lost)
            self.find()
            for number, texts in kept.items():
                moved = number - sum(other < number for other in lost)
                for text in texts:
                    self.blame_rows(moved, text)

    def blame_rows(self, document: int, text: BadText) -> bool:
        """Whether the text stands in a row of the document."""
        rows = [
            (table, row)
            for name, table in self.tables.items()
            if name != RESPONSE
            for row, owner in enumerate(table.documents)
            if owner == document
        ]
        places = [None if row in table.hollow else table.locate(row)[0] for table, row in rows]
        chosen = innermost(places, text)
        for number in chosen:
            (table, row), place = rows[number], places[number]
            itself = place is not None and place.location == text.location
            if itself:  # that it is no object says nothing more
                table.faults[row] = [fault for fault in table.faults.get(row, ()) if fault.bad.code != "row-shape"]
            table.blame(row, text.fault, readable=not itself)
        return bool(chosen)

    # ---- fields and fates

    def evaluate(self) -> None:
        """All fields of all rows."""
        for step in self.rules.schedule:
            table = self.tables[step.table]
            match step:
                case Inherit():
                    table.inherit(step.inherited)
                case Derive():
                    table.derive(step.field, self.tables)
                case _:
                    survive(table, step.without)

    def decide(self, seen: Mapping[str, SeenKeys]) -> None:
        """What becomes of all rows."""
        for plan in self.plan.tables:
            decide(self.tables[plan.table.name], seen[plan.table.name])


def _without(batch: Batch, lost: Mapping[int, BadText]) -> Batch:
    """The batch without some documents, which are among the bad ones."""
    kept = [number for number in range(len(batch.documents)) if number not in lost]
    bad = [
        BadDocument(batch.sources[number], batch.numbers[number], text.error.finding.inside(f"the text at {text.path}"))
        for number, text in lost.items()
    ]
    return replace(
        batch,
        documents=[batch.documents[number] for number in kept],
        sources=[batch.sources[number] for number in kept],
        numbers=[batch.numbers[number] for number in kept],
        origins=[batch.origins[number] for number in kept],
        raw={kept.index(number): raw for number, raw in batch.raw.items() if number not in lost},
        bad=[*batch.bad, *bad],
    )


@dataclass
class KindsSeen:
    """Whether each kind of response came, and how many documents were of none, where all tables want one."""

    rules: Rules
    seen: set[str] = field(default_factory=set)
    of_none: int = 0
    first: tuple[str, int] | None = None

    def see(self, tables: BatchTables) -> None:
        if not self.rules.kinds:
            return
        all_want_one = all(table.kind for table in self.rules.tables.values())
        for number, source in enumerate(tables.batch.sources):
            kinds = {kind for kind in self.rules.kinds if tables.is_kind(kind, number)}
            self.seen |= kinds
            if not kinds and all_want_one:
                self.of_none += 1
                self.first = self.first or (source.name, tables.batch.numbers[number])
