"""Batches of documents through the plan, from the first input to the last."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from mukret.documents import Batch, Finding, Source, nothing_read
from mukret.documents.batches import Decoding, Wanted
from mukret.documents.blocks import BLOCK_BYTES, Block, read_blocks
from mukret.documents.collector import collector_at_rest
from mukret.documents.doubled import is_sampled
from mukret.engine.batch_tables import BatchTables, KindsFound, kinds_found
from mukret.engine.coverage import Coverage, Unmatched
from mukret.engine.deciding import count_into, rejects_of
from mukret.engine.embedded import unfolded
from mukret.engine.fates import LastRows, SeenKeys, keys_of, settling_passes
from mukret.engine.notices import Notice, notices
from mukret.engine.plan import make_plan
from mukret.engine.rejects import Reject, bad_document
from mukret.engine.sampling import Sample, Sampled, sample_for
from mukret.engine.table_batch import TableBatch
from mukret.engine.tally import TableTally, Tally
from mukret.engine.workers import Workers, why_alone
from mukret.rules.model import RESPONSE, Rules
from mukret.rules.part import part_for

Progress = Callable[[int], None]
"""Called after each batch with the bytes of input that it held."""


Encode = Callable[[str, Any], Any]
"""What is made of a record batch of a table, by its name, for a destination."""


@dataclass
class Output:
    """What a batch gives: the rows that are written, by table in the order of the rules, and the rejects.

    The rest is for the run: what was counted, the documents of the sample, the bytes of input. `encoded`: a worker has
    made of the record batches what the destination takes. `fates_before` are those of the rows around the arrays of a
    document that is read in parts.
    """

    tables: dict[str, Any]
    rejects: list[Reject]
    tally: Tally
    kinds: KindsFound
    sampled: list[Sampled]
    size: int
    encoded: bool = False
    fates_before: Mapping[str, bytearray] | None = None


class Run:
    """One run of a set of rules over some sources.

    `batches` does the work, in so many processes as `workers` says if that is possible; afterwards `tally`, `unmatched`
    and `sample` hold what was counted and seen.
    """

    def __init__(
        self,
        rules: Rules,
        sources: Sequence[Source],
        *,
        batch_bytes: int = BLOCK_BYTES,
        progress: Progress | None = None,
        workers: int = 1,
    ) -> None:
        self.rules = rules
        self.sources = sources
        self.plan = make_plan(rules)
        self.batch_bytes = batch_bytes
        self.progress = progress
        self.alone = why_alone(rules) if workers > 1 else None
        """Why it is done by one process although more were asked for."""
        self.workers = 1 if self.alone else workers
        self.tally = self.nothing_counted()
        self.last: dict[str, LastRows] = {}
        self.fates_before: Mapping[str, bytearray] = {}
        self.coverage = Coverage(self.plan)
        self.sample: Sample = sample_for(rules)
        self.kinds = KindsFound()
        self.projection = self.plan.projection
        self.wanted: Wanted | None = None
        """The documents to be looked at in full; None: a sample."""
        self.observe: Callable[[BatchTables], None] | None = None
        """Called with the tables of each batch, before it is given out; not where workers share the work."""
        self.most_bytes: int | None = None
        """After so many bytes the input is taken to end."""
        self.cut_short = False
        """Whether there was more of it."""
        self.started = datetime.now(UTC)

    @cached_property
    def schemas(self) -> dict[str, Any]:
        """The Arrow schema of each table that is written, in the order of the rules."""
        plans = {plan.table.name: plan for plan in self.plan.tables}
        return {name: plans[name].schema for name, table in self.rules.tables.items() if table.columns}

    def nothing_counted(self) -> Tally:
        return Tally({name: TableTally() for name in self.rules.tables})

    def batches(self, encode: Encode | None = None) -> Iterator[Output]:
        """Reads everything. Raises InputError, also if not one document could be read; StoppedError for `bad: stop`.

        Workers, if there are any, apply `encode` to their record batches.
        """
        with collector_at_rest():
            for output in Workers(self, self.workers, encode).outputs() if self.workers > 1 else self.here():
                self.tally.merge(output.tally)
                self.kinds.merge(output.kinds)
                if output.sampled:
                    self.sample.see(self.sampled_batch(output.sampled))
                yield output
                if self.progress:
                    self.progress(output.size)
        if self.tally.documents == 0 and self.tally.bad_documents:
            reason = next(iter(self.tally.reasons.values()))
            raise nothing_read(reason.file, reason.example.finding or Finding(reason.example.message))

    def here(self) -> Iterator[Output]:
        """All of it in this process."""
        self.settle()
        seen = keys_of(self.rules.tables.values(), self.last)
        for batch in self.read():
            yield self.output(batch, seen)

    def blocks(self) -> Iterator[Block]:
        size = 0
        for block in read_blocks(self.sources, self.batch_bytes, [array.names for array in self.plan.long.arrays]):
            if self.most_bytes is not None and size >= self.most_bytes:
                self.cut_short = True
                return
            size += block.size
            yield block

    def decoding(self, wanted: Wanted | None = None) -> Decoding:
        return Decoding(wanted or self.wanted or is_sampled, self.projection)

    def read(self, wanted: Wanted | None = None) -> Iterator[Batch]:
        return map(self.decoding(wanted).batch, self.blocks())

    def settle(self) -> None:
        """Where the last row with a key is the one that is kept, the input is read through before, to know which that
        is: once, or once for each table of a chain of such tables within each other."""
        passes = settling_passes(self.rules.parents_first())
        if passes:
            for source in self.sources:
                source.keep()
        for names in passes:
            if not self.settled(names, part_for(self.rules, names)):
                self.settled(names, self.rules)

    def settled(self, names: Sequence[str], rules: Rules) -> bool:
        """Finds the last row with each key of some tables, by as much of the rules as they hang on; False if that is
        too little to tell, since a text that can't be read may stand in rows of other tables."""
        part = self
        if rules is not self.rules:
            part = Run(rules, self.sources, batch_bytes=self.batch_bytes)
            part.started = self.started
            part.most_bytes = self.most_bytes
        for name in names:
            self.last.pop(name, None)
        seen = keys_of(rules.tables.values(), self.last, names)
        enough = True
        for batch in part.read(lambda number: False):
            enough = not part.decided(batch, seen).blamed or part is self
            if not enough:
                break
            if self.progress:
                self.progress(batch.size)
        for source in self.sources:
            source.rewind()
        return enough

    def decided(self, batch: Batch, seen: Mapping[str, SeenKeys]) -> BatchTables:
        """The tables of a batch, the fates of all rows settled."""
        tables = BatchTables(self.plan, batch, self.started)
        tables.evaluate()
        tables.decide(seen, self.fates_before)
        if batch.part.around:
            self.fates_before = {name: table.fates for name, table in tables.tables.items()}
        return tables

    def output(self, batch: Batch, seen: Mapping[str, SeenKeys], decided: Callable[[], None] = lambda: None) -> Output:
        """What a batch gives. `decided` is called when no more keys will be asked for."""
        tables = self.decided(batch, seen)
        decided()
        if self.observe is not None:
            self.observe(tables)
        batch, new, tally, kinds = tables.batch, tables.new, self.nothing_counted(), KindsFound()
        for table in new:
            count_into(tally.tables[table.table.name], table)
            self.coverage.see(table)
        if tables.array is None:  # not another part of a document that was counted
            response = tables.tables[RESPONSE]
            tally.response_values_nulled += response.nulled
            self.coverage.see(response)
            kinds = kinds_found(tables)
            tally.documents += len(batch.documents)
        tally.bad_documents += len(batch.bad)
        rejects = self.rejects(batch, new)
        tally.note(rejects)
        found = {table.table.name: table for table in new}
        written = {name: found[name].written() for name in self.schemas if name in found}
        return Output(written, rejects, tally, kinds, self.sampled(batch), batch.size)

    def rejects(self, batch: Batch, tables: Sequence[TableBatch]) -> list[Reject]:
        """In the order of the input: document by document, then table by table, then row by row."""
        found: list[tuple[tuple[int, int, int], Reject]] = []
        for rank, table in enumerate(tables):
            for document, reject in rejects_of(table):
                source, number = batch.sources[document], batch.numbers[document]
                found.append(((self.order[id(source)], number, rank), reject))
        found += [((self.order[id(bad.source)], bad.number, 0), bad_document(bad)) for bad in batch.bad]
        return [reject for _, reject in sorted(found, key=lambda item: item[0])]

    @cached_property
    def order(self) -> dict[int, int]:
        """The number of each source, by its identity."""
        return {id(source): number for number, source in enumerate(self.sources)}

    def sampled(self, batch: Batch) -> list[Sampled]:
        """The documents of a batch that are to be looked at in full."""
        return [
            Sampled(self.order[id(batch.sources[index])], batch.numbers[index], batch.part, raw)
            for index, raw in batch.raw.items()
        ]

    def sampled_batch(self, sampled: Sequence[Sampled]) -> Batch:
        """These documents as a batch."""
        raw = {index: document.raw for index, document in enumerate(sampled)}
        return Batch(
            documents=[None] * len(sampled),
            sources=[self.sources[document.source] for document in sampled],
            numbers=[document.number for document in sampled],
            raw=raw,
            in_part=raw.get,
            part=sampled[0].part,
            finish=lambda document: unfolded(document, self.plan.embedded)[0],
        )

    def unmatched(self) -> list[Unmatched]:
        """The rules that found nothing in all of the input."""
        return self.coverage.unmatched()

    def notices(self) -> list[Notice]:
        """The warnings of the run."""
        return notices(self.rules, self.unmatched(), self.tally, self.sample, self.kinds)
