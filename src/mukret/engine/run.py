"""Batches of documents through the plan, from the first input to the last."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from mukret.documents import Batch, Finding, Source
from mukret.documents.batches import Decoding, Wanted, nothing_read_since
from mukret.documents.blocks import BLOCK_BYTES, Block, read_blocks
from mukret.documents.collector import collector_at_rest
from mukret.documents.doubled import is_sampled
from mukret.engine.answers import Answers, FieldName
from mukret.engine.batch_tables import BatchTables, KindsFound, kinds_found
from mukret.engine.coverage import Coverage, Unmatched
from mukret.engine.deciding import count_into, rejects_of
from mukret.engine.embedded import unfolded
from mukret.engine.fates import LastRows, SeenKeys, keys_of, settling_passes
from mukret.engine.first_look import NO_KINDS
from mukret.engine.misshapen import Misshapen
from mukret.engine.notices import notices
from mukret.engine.plan import make_plan
from mukret.engine.rejects import Reject, bad_document
from mukret.engine.sampling import Sample, Sampled
from mukret.engine.table_batch import TableBatch
from mukret.engine.tally import TableTally, Tally
from mukret.engine.workers import Workers, why_alone
from mukret.errors import Notice
from mukret.rules.model import RESPONSE, Field, Lookup, Rules
from mukret.rules.part import part_for
from mukret.rules.schedule import lookup_passes

NO_RULE_READS = "an answer that no rule reads"
"""Why an answer of an HTTP archive is passed over."""

Progress = Callable[[int], None]
"""Called after each batch with the bytes of input that it held."""


Encode = Callable[[str, Any], Any]
"""What is made of a record batch of a table, by its name, for a destination."""


@dataclass
class Output:
    """What a batch gives: the rows that are written, by table in the order of the rules, and the rejects.

    The rest is for the run: what was counted, the documents of the sample, the bytes of input. `encoded`: a worker has
    made of the record batches what the destination takes. `fates_before` are those of the rows around the arrays of a
    document that is read in parts. `above`: for each row of a table within others the number of the row that it stands
    in, among those of the nearest table above that is written; where the run is `linked`.
    """

    tables: dict[str, Any]
    rejects: list[Reject]
    tally: Tally
    kinds: KindsFound
    sampled: list[Sampled]
    size: int
    passed_over: Mapping[int, int]
    """Answers of HTTP archives that no rule reads, by the number of the source."""
    above: Mapping[str, Sequence[int]] = field(default_factory=dict)
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
        whole: Rules | None = None,
    ) -> None:
        """`whole`: the rules of which `rules` are a part."""
        self.rules = rules
        self.whole = whole or rules
        self.sources = sources
        self.plan = make_plan(rules, whole)
        self.batch_bytes = batch_bytes
        self.progress = progress
        self.alone = why_alone(rules) if workers > 1 else None
        """Why it is done by one process although more were asked for."""
        self.workers = 1 if self.alone else workers
        self.tally = self.nothing_counted()
        self.last: dict[str, LastRows] = {}
        self.answers: dict[FieldName, Answers] = {}
        """What lookups across the run find."""
        self.fates_before: Mapping[str, bytearray] = {}
        self.coverage = Coverage(self.plan)
        self.sample = Sample(rules, [array.names for array in self.plan.long.arrays])
        self.kinds = KindsFound()
        self.projection = self.plan.projection
        self.wanted: Wanted | None = None
        """The documents to be looked at in full; None: a sample."""
        self.every_part = False
        """Of documents in parts each part is looked at in full, not only the first."""
        self.refused_too = False
        """Documents that the rules can't read are looked at in full too."""
        self.observe: Callable[[BatchTables], None] | None = None
        """Called with the tables of each batch, before it is given out; not where workers share the work."""
        self.linked = False
        """Whether rows come with the number of the row that they stand in."""
        self.whole_documents = False
        """Whether no document is read in parts, however long it is."""
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
                self.pass_over(output.passed_over)
                if output.sampled:
                    self.sample.see(self.sampled_batch(output.sampled), [one.kinds for one in output.sampled])
                yield output
                if self.progress:
                    self.progress(output.size)
        if self.tally.documents == 0 and self.tally.bad_documents:
            reason = next(reason for reason in self.tally.reasons.values() if reason.table is None)
            example, count = reason.example, self.tally.bad_documents
            finding = example.finding or Finding(example.message)
            raise nothing_read_since(reason.file, reason.document, finding, example.hint, count)

    def pass_over(self, answers: Mapping[int, int]) -> None:
        """Counts answers of HTTP archives that no rule reads as passed over, as those are that are no JSON."""
        for number, count in answers.items():
            self.sources[number].passed_over[NO_RULE_READS] += count
            self.sources[number].documents -= count

    def here(self) -> Iterator[Output]:
        """All of it in this process."""
        self.prepare()
        seen = keys_of(self.rules.tables.values(), self.last)
        for batch in self.read():
            yield self.output(batch, seen)

    def blocks(self) -> Iterator[Block]:
        size = 0
        arrays = [] if self.whole_documents else [array.names for array in self.plan.long.arrays]
        for block in read_blocks(self.sources, self.batch_bytes, arrays):
            if self.most_bytes is not None and size >= self.most_bytes:
                self.cut_short = True
                return
            size += block.size
            yield block

    def decoding(self, wanted: Wanted | None = None) -> Decoding:
        return Decoding(wanted or self.wanted or is_sampled, self.projection, every_part=self.every_part)

    def read(self, wanted: Wanted | None = None) -> Iterator[Batch]:
        return map(self.decoding(wanted).batch, self.blocks())

    def prepare(self) -> None:
        """Reads the input through before, where the rules hang on all of it: once, or several times where one thing
        that is to be known hangs on another.

        So the answers of lookups across the run are gathered, and it is found out which row with a key is the last.
        """
        lookups = lookup_passes(self.whole, self.rules.tables)
        passes = settling_passes(self.rules.parents_first())
        if lookups or passes:
            for source in self.sources:
                source.keep()
        for looking in lookups:
            targets = [own.source.table for _, own in looking if isinstance(own.source, Lookup) and own.source.table]
            if not self.gathered(looking, part_for(self.whole, targets)):
                self.gathered(looking, self.whole)
        for names in passes:
            if not self.settled(names, part_for(self.rules, names)):
                self.settled(names, self.rules)

    def part(self, rules: Rules) -> Run:
        """A run of a part of the rules over the same input, at the same time."""
        if rules is self.rules:
            return self
        part = Run(rules, self.sources, batch_bytes=self.batch_bytes, whole=self.whole)
        part.started = self.started
        part.most_bytes = self.most_bytes
        part.answers = self.answers
        return part

    def gathered(self, looking: Sequence[tuple[str, Field]], rules: Rules) -> bool:
        """Gathers what some lookups find, by as much of the rules as they hang on; False as `settled`."""
        found = {(table, own.name): (own.source, Answers()) for table, own in looking if isinstance(own.source, Lookup)}
        part = self.part(rules)

        def note(tables: BatchTables) -> None:
            new = {table.table.name: table for table in tables.new}
            for lookup, answers in found.values():
                if lookup.table in new:
                    answers.add((form, value) for _, form, value in new[lookup.table].answered(lookup))

        enough = self.read_before(part, keys_of(rules.tables.values(), {}), note)
        if enough:
            self.answers.update({name: answers for name, (_, answers) in found.items()})
        return enough

    def settled(self, names: Sequence[str], rules: Rules) -> bool:
        """Finds the last row with each key of some tables, by as much of the rules as they hang on; False if that is
        too little to tell, since a text that can't be read may stand in rows of other tables."""
        for name in names:
            self.last.pop(name, None)
        return self.read_before(self.part(rules), keys_of(rules.tables.values(), self.last, names), lambda _: None)

    def read_before(self, part: Run, seen: Mapping[str, SeenKeys], note: Callable[[BatchTables], None]) -> bool:
        """Reads all of the input by a part of the rules; False if it was too little of them."""
        enough = True
        for batch in part.read(lambda number: False):
            tables = part.decided(batch, seen)
            enough = not tables.blamed or part.rules is self.whole
            if not enough:
                break
            note(tables)
            if self.progress:
                self.progress(batch.size)
        for source in self.sources:
            source.rewind()
        return enough

    def decided(self, batch: Batch, seen: Mapping[str, SeenKeys]) -> BatchTables:
        """The tables of a batch, the fates of all rows settled."""
        refused = batch.part.array is not None and not self.fates_before
        tables = BatchTables(self.plan, batch, self.started, self.answers, refused=refused)
        tables.evaluate()
        tables.decide(seen, self.fates_before)
        if batch.part.around:
            read = bool(tables.batch.documents)
            self.fates_before = {name: table.fates for name, table in tables.tables.items()} if read else {}
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
            tally.documents_left_out += tables.left_out
        tally.bad_documents += len(batch.bad)
        rejects = self.rejects(batch, new)
        tally.note(rejects)
        found = {table.table.name: table for table in new}
        written = {name: found[name].written() for name in self.schemas if name in found}
        passed_over = {self.order[source]: count for source, count in tables.passed_over.items()}
        sampled = self.sampled(tables.given if self.refused_too else batch)
        output = Output(written, rejects, tally, kinds, sampled, batch.size, passed_over)
        if self.linked:
            output.above = {name: above for name in written if (above := _above(found[name], self.schemas)) is not None}
        return output

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
        found = []
        for index, raw in batch.raw.items():
            source, origin = batch.sources[index], batch.origins[index]
            kinds = NO_KINDS
            if self.rules.kinds:
                call = origin.call if origin else None
                kinds = self.plan.acceptance.kinds_of(batch.documents[index], source.name, call)
            found.append(Sampled(self.order[id(source)], batch.numbers[index], batch.part, raw, kinds))
        return found

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

    def misshapen(self) -> list[Misshapen]:
        """Tables for one record that met lists of such, or the other way round."""
        return list(self.coverage.shapes.found.values())

    def notices(self) -> list[Notice]:
        """The warnings of the run."""
        return notices(self.rules, self.unmatched(), self.misshapen(), self.tally, self.sample, self.kinds)


def _above(table: TableBatch, written: Collection[str]) -> list[int] | None:
    """For each row that is written the number of the row it stands in among those that are written of the nearest table
    above; None where none is."""
    above = table
    rows: Sequence[int] = _written(table)
    while above.parent is not None and above.parent.table.name != RESPONSE:
        rows = above.owners if isinstance(rows, range) else [above.owners[row] for row in rows]
        above = above.parent
        if above.table.name in written:
            if not any(above.fates):
                return list(rows)
            numbers = {row: number for number, row in enumerate(_written(above))}
            return [numbers[row] for row in rows]
    return None


def _written(table: TableBatch) -> Sequence[int]:
    """The rows that are written."""
    return [row for row, fate in enumerate(table.fates) if not fate] if any(table.fates) else range(table.count)
