"""Batches of documents through the plan, from the first input to the last."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from mukret.documents import Batch, Finding, Source, nothing_read, read_batches
from mukret.documents.batches import Wanted
from mukret.documents.blocks import BLOCK_BYTES
from mukret.documents.collector import collector_at_rest
from mukret.documents.doubled import is_sampled
from mukret.engine.batch_tables import BatchTables, KindsSeen
from mukret.engine.coverage import Coverage, Unmatched
from mukret.engine.deciding import count_into, rejects_of
from mukret.engine.fates import LastRows, SeenKeys, keys_of, settling_passes
from mukret.engine.notices import Notice, notices
from mukret.engine.plan import make_plan
from mukret.engine.rejects import Reject, bad_document
from mukret.engine.sampling import Sample, sample_for
from mukret.engine.table_batch import TableBatch
from mukret.engine.tally import TableTally, Tally
from mukret.rules.model import RESPONSE, Rules

Progress = Callable[[int], None]
"""Called after each batch with the bytes of input that it held."""


@dataclass
class Output:
    """What a batch gives: the rows that are written, by table in the order of the rules, and the rejects."""

    tables: dict[str, Any]
    rejects: list[Reject]


class Run:
    """One run of a set of rules over some sources.

    `batches` does the work; afterwards `tally`, `unmatched` and `sample` hold what was counted and seen.
    """

    def __init__(
        self,
        rules: Rules,
        sources: Sequence[Source],
        *,
        batch_bytes: int = BLOCK_BYTES,
        progress: Progress | None = None,
    ) -> None:
        self.rules = rules
        self.sources = sources
        self.plan = make_plan(rules)
        self.batch_bytes = batch_bytes
        self.progress = progress
        self.tally = Tally({name: TableTally() for name in rules.tables})
        self.last: dict[str, LastRows] = {}
        self.fates_before: dict[str, bytearray] = {}
        self.coverage = Coverage(self.plan)
        self.sample: Sample = sample_for(rules)
        self.kinds = KindsSeen(rules)
        self.projection = self.plan.projection
        self.started = datetime.now(UTC)

    @cached_property
    def schemas(self) -> dict[str, Any]:
        """The Arrow schema of each table that is written, in the order of the rules."""
        plans = {plan.table.name: plan for plan in self.plan.tables}
        return {name: plans[name].schema for name, table in self.rules.tables.items() if table.columns}

    def batches(self) -> Iterator[Output]:
        """Reads everything. Raises InputError, also if not one document could be read; StoppedError for `bad: stop`."""
        with collector_at_rest():
            self.settle()
            seen = keys_of(self.rules.tables.values(), self.last)
            for batch in self.read(is_sampled):
                yield self.output(batch, seen)
        if self.tally.documents == 0 and self.tally.bad_documents:
            reason = next(iter(self.tally.reasons.values()))
            raise nothing_read(reason.file, reason.example.finding or Finding(reason.example.message))

    def read(self, wanted: Wanted) -> Iterator[Batch]:
        arrays = [array.names for array in self.plan.long.arrays]
        for batch in read_batches(self.sources, wanted, self.batch_bytes, self.projection, arrays):
            yield batch
            if self.progress:
                self.progress(batch.size)

    def settle(self) -> None:
        """Where the last row with a key is the one that is kept, the input is read through before, to know which that
        is: once, or once for each table of a chain of such tables within each other."""
        passes = settling_passes(self.rules.parents_first())
        if passes:
            for source in self.sources:
                source.keep()
        for names in passes:
            seen = keys_of(self.rules.tables.values(), self.last, names)
            for batch in self.read(lambda number: False):
                self.decided(batch, seen)
            for source in self.sources:
                source.rewind()

    def decided(self, batch: Batch, seen: Mapping[str, SeenKeys]) -> BatchTables:
        """The tables of a batch, the fates of all rows settled."""
        tables = BatchTables(self.plan, batch, self.started)
        tables.evaluate()
        tables.decide(seen, self.fates_before)
        if tables.array is None:
            self.fates_before = {name: table.fates for name, table in tables.tables.items()}
        return tables

    def output(self, batch: Batch, seen: Mapping[str, SeenKeys]) -> Output:
        tables = self.decided(batch, seen)
        batch, new = tables.batch, tables.new
        for table in new:
            count_into(self.tally.tables[table.table.name], table)
            self.coverage.see(table)
        if tables.array is None:  # not another part of a document that was counted
            response = tables.tables[RESPONSE]
            self.tally.response_values_nulled += response.nulled
            self.coverage.see(response)
            self.kinds.see(tables)
            self.tally.documents += len(batch.documents)
        self.tally.bad_documents += len(batch.bad)
        rejects = self.rejects(batch, new)
        self.tally.note(rejects)
        self.sample.see(batch)
        found = {table.table.name: table for table in new}
        return Output({name: found[name].written() for name in self.schemas if name in found}, rejects)

    def rejects(self, batch: Batch, tables: Sequence[TableBatch]) -> list[Reject]:
        """In the order of the input: document by document, then table by table, then row by row."""
        order = {id(source): number for number, source in enumerate(self.sources)}
        found: list[tuple[tuple[int, int, int], Reject]] = []
        for rank, table in enumerate(tables):
            for document, reject in rejects_of(table):
                source, number = batch.sources[document], batch.numbers[document]
                found.append(((order[id(source)], number, rank), reject))
        found += [((order[id(bad.source)], bad.number, 0), bad_document(bad)) for bad in batch.bad]
        return [reject for _, reject in sorted(found, key=lambda item: item[0])]

    def unmatched(self) -> list[Unmatched]:
        """The rules that found nothing in all of the input."""
        return self.coverage.unmatched()

    def notices(self) -> list[Notice]:
        """The warnings of the run."""
        return notices(self.rules, self.unmatched(), self.tally, self.sample, self.kinds)
