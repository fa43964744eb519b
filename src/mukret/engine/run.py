"""Batches of documents through the plan, from the first input to the last."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from enum import Enum, auto
from functools import cached_property, partial
from itertools import chain
from typing import TYPE_CHECKING

from mukret.documents import Batch, Diagnosis, Source
from mukret.documents.batches import (
    Decoding,
    DocumentFilter,
    nothing_read_since,
    nothing_wanted,
)
from mukret.documents.blocks import BLOCK_BYTES, Block, read_blocks
from mukret.documents.doubled import is_sampled
from mukret.documents.gc_pause import gc_paused
from mukret.engine.accepting import KindsFound, kinds_found
from mukret.engine.ahead import Ahead
from mukret.engine.coverage import Coverage, Unmatched
from mukret.engine.decided import DecidedRows, DecidedTable, RowOutcomes, decided
from mukret.engine.evaluating import EvaluatedRows, evaluated
from mukret.engine.found_rows import find_rows
from mukret.engine.misshapen import Misshapen
from mukret.engine.notices import notices
from mukret.engine.passes import KnownBefore, Passes
from mukret.engine.sampling import Sample, Sampled
from mukret.engine.scanning import Scanning
from mukret.errors import InputError, Notice
from mukret.plan.compiled import make_plan
from mukret.plan.first_look import NO_KINDS
from mukret.rules.model import RESPONSE, Rules
from mukret.semantics.answers import Resolved
from mukret.semantics.embedded import unfolded
from mukret.semantics.outcomes import NoKeysResolved, SeenKeys, keys_of
from mukret.semantics.rejects import Reject, bad_document
from mukret.semantics.tally import TableTally, Tally

if TYPE_CHECKING:
    import pyarrow as pa

# Why an answer of an HTTP archive is passed over.
NO_RULE_READS = "an answer that no rule reads"

# Called after each batch with the bytes of input that it held.
Progress = Callable[[int], None]


_NO_ANSWERS: Resolved = {}

# Looks at the tables of a batch, and changes nothing.
Observer = Callable[[DecidedRows], None]


@dataclass(frozen=True)
class Output:
    """What a batch gives: the rows that are written, by table in the order of the rules, and the
    rejects.

    The rest is for the run: what was counted, the documents of the sample, the bytes of input.
    `above`: for each row of a table within others the number of the row that it stands in, among
    those of the nearest table above that is written; where the run is linked.
    """

    tables: dict[str, pa.Table]
    rejects: list[Reject]
    tally: Tally
    kinds: KindsFound
    sampled: list[Sampled]
    size: int
    passed_over: Mapping[int, int]
    """Answers of HTTP archives that no rule reads, by the number of the source."""
    above: Mapping[str, Sequence[int]] = field(default_factory=dict)


class Links(Enum):
    """Whether rows come with the number of the row that they stand in.

    WHOLE: and no document is read in parts.
    """

    NONE = auto()
    BY_BATCH = auto()
    WHOLE = auto()


@dataclass(frozen=True)
class InFull:
    """Which documents are looked at in full, for what no rule reads.

    `wanted`: by their number; None: a sample. `every_part`: of documents in parts each one, not
    only the first. `refused_too`: also those that can't be read.
    """

    wanted: DocumentFilter | None = None
    every_part: bool = False
    refused_too: bool = False


class Run:
    """One run of a set of rules over some sources.

    `batches` does the work, in so many threads as `workers` says; afterwards `tally`, `unmatched`
    and `sample` hold what was counted and seen. `decided_rows` gives the rows themselves, for
    previews and traces.
    """

    def __init__(
        self,
        rules: Rules,
        sources: Sequence[Source],
        *,
        batch_bytes: int = BLOCK_BYTES,
        most_bytes: int | None = None,
        progress: Progress | None = None,
        workers: int = 1,
        whole: Rules | None = None,
        in_full: InFull = InFull(),  # it is frozen
        observer: Observer | None = None,
        started: datetime | None = None,
        resolves_keys: bool = True,
        answers: Resolved = _NO_ANSWERS,
    ) -> None:
        """`most_bytes`: reading stops after so many.

        `whole`: the rules of which `rules` are a part. `observer` is called with the tables of each
        batch before it is given out. Not `resolves_keys`: the sources are a share of the input, so
        rows are kept whose keys came before, each batch is of one source, and `answers` are what
        lookups across the run find.
        """
        self.rules = rules
        self.whole = whole or rules
        self.sources = sources
        self.plan = make_plan(rules, whole)
        self.batch_bytes = batch_bytes
        self.most_bytes = most_bytes
        self.progress = progress
        self.workers = workers
        self.in_full = in_full
        self.observer = observer
        self.resolves_keys = resolves_keys
        self.answers = answers
        self.tally = self.nothing_counted()
        self.coverage = Coverage(self.plan)
        self.sample = Sample(rules, [array.names for array in self.plan.long.arrays])
        self.kinds = KindsFound()
        # Whether there was more of the input than `most_bytes`.
        self.cut_short = False
        self.started = started or datetime.now(UTC)

    @cached_property
    def schemas(self) -> dict[str, pa.Schema]:
        """The Arrow schema of each table that is written, in the order of the rules."""
        plans = {plan.table.name: plan for plan in self.plan.tables}
        return {
            name: plans[name].schema
            for name, table in self.rules.tables.items()
            if table.columns
        }

    def nothing_counted(self) -> Tally:
        return Tally({name: TableTally() for name in self.rules.tables})

    def batches(self, links: Links = Links.NONE) -> Iterator[Output]:
        """Reads everything.

        Raises InputError, also if not one document could be read; StoppedError for `bad: stop`.
        """
        with gc_paused():
            for rows in self.decided_in_order(
                self.blocks(links), self.decoding(), self.known()
            ):
                if self.observer is not None:
                    self.observer(rows)
                yield self.counted(self.output(rows, links))
        if (
            self.tally.documents == 0
            and self.tally.bad_documents
            and self.resolves_keys
        ):
            # Documents that can't be read are rejects, one by one. That none could is an error of
            # the run.
            reason = next(
                reason for reason in self.tally.reasons.values() if reason.table is None
            )
            example, count = reason.example, self.tally.bad_documents
            finding = example.finding or Diagnosis(example.message)
            raise nothing_read_since(
                reason.file, reason.document, finding, example.hint, count
            )

    def pass_over(self, answers: Mapping[int, int]) -> None:
        """Counts answers of HTTP archives that no rule reads as passed over, as those are that are
        no JSON.
        """
        for number, count in answers.items():
            self.sources[number].passed_over[NO_RULE_READS] += count
            self.sources[number].documents -= count

    def counted(self, output: Output) -> Output:
        """The output of a batch, added to the counts of the run."""
        self.tally.merge(output.tally)
        self.kinds.merge(output.kinds)
        self.pass_over(output.passed_over)
        if output.sampled:
            # What is in a few documents beyond what the rules read, for the warnings at the end.
            self.sample.see(
                self.sampled_batch(output.sampled),
                [sampled.kinds for sampled in output.sampled],
            )
        if self.progress:
            self.progress(output.size)
        return output

    def decided_rows(self, *, whole: bool = False) -> Iterator[DecidedRows]:
        """The rows of every batch, everything decided.

        `whole`: no document is read in parts. Raises InputError.
        """
        blocks = self.blocks(Links.WHOLE if whole else Links.NONE)
        yield from self.decided_in_order(
            blocks, self.decoding(nothing_wanted), self.known()
        )

    def decided_in_order(
        self, blocks: Iterable[Block], decoding: Decoding, known: KnownBefore
    ) -> Iterator[DecidedRows]:
        tables = self.rules.tables.values()
        seen: Mapping[str, SeenKeys] = {
            table.name: NoKeysResolved() for table in tables
        }
        # Parts leave keys to the merge, and see each row as the first.
        if self.resolves_keys:
            seen = keys_of(tables, known.last)
        yield from self.decided(blocks, decoding, seen, known)

    def decided(
        self,
        blocks: Iterable[Block],
        decoding: Decoding,
        seen: Mapping[str, SeenKeys],
        known: KnownBefore,
    ) -> Iterator[DecidedRows]:
        """The one way of blocks through the plan: each is evaluated on its own, perhaps by threads
        at once; what becomes of the rows is decided in the order of the input.

        What stands around the arrays of a document that is read in parts comes first, and its
        outcomes are those of the parts, too, so that it is waited for.
        """
        # Blocks are evaluated ahead, by threads, in any order. What becomes of rows (keys!) is
        # decided here, in the order of the input, by one.
        around: RowOutcomes = {}
        with Ahead[EvaluatedRows](self.workers) as ahead:
            for block in _errors_last(blocks):
                if isinstance(block, InputError):
                    yield from (decided(rows, seen, around) for rows in ahead.rest())
                    raise block
                # Parts of a document whose surroundings were refused are refused with them.
                refused = block.in_part and not around
                ahead.add(
                    partial(self.evaluated, block, decoding, known, refused=refused)
                )
                # What stands around the arrays must be decided before the parts that hang on it are
                # begun.
                for rows in ahead.rest() if block.around else ahead.ready():
                    rows_decided = decided(rows, seen, around)
                    yield rows_decided
                if block.around:
                    around = rows_decided.row_outcomes
            yield from (decided(rows, seen, around) for rows in ahead.rest())

    def evaluated(
        self, block: Block, decoding: Decoding, known: KnownBefore, *, refused: bool
    ) -> EvaluatedRows:
        """The rows of a block with all their fields.

        `refused`: it is a part of a document of which no row can be read.
        """
        return evaluated(
            find_rows(self.plan, decoding.batch(block), refused=refused),
            self.started,
            known.answers,
        )

    # ---- the input

    def blocks(self, links: Links = Links.NONE) -> Iterator[Block]:
        size = 0
        arrays = (
            []
            if links is Links.WHOLE
            else [array.names for array in self.plan.long.arrays]
        )
        # Where keys are resolved later each source stands for itself: blocks then never hold pieces
        # of two files.
        together = (
            [self.sources]
            if self.resolves_keys
            else [[source] for source in self.sources]
        )
        for block in chain.from_iterable(
            read_blocks(some, self.batch_bytes, arrays) for some in together
        ):
            if self.most_bytes is not None and size >= self.most_bytes:
                self.cut_short = True
                return
            size += block.size
            yield block

    def decoding(self, wanted: DocumentFilter | None = None) -> Decoding:
        wanted = wanted or self.in_full.wanted or is_sampled
        if self.plan.scan is not None:
            return Scanning(self.plan.scan, wanted, every_part=self.in_full.every_part)
        return Decoding(wanted, every_part=self.in_full.every_part)

    def known(self) -> KnownBefore:
        """What must be known of the whole input before a row is written."""
        if not self.resolves_keys:
            return KnownBefore(answers=dict(self.answers))
        return Passes(self.rules, self.whole, self.sources, self.by_part).known()

    def by_part(
        self, rules: Rules, known: KnownBefore, seen: Mapping[str, SeenKeys]
    ) -> Iterator[DecidedRows]:
        """The rows of the whole input by a part of the rules."""
        part = self
        if rules is not self.rules:
            part = Run(
                rules,
                self.sources,
                batch_bytes=self.batch_bytes,
                most_bytes=self.most_bytes,
                workers=self.workers,
                whole=self.whole,
                started=self.started,
            )
        # A part of the rules looks at the same blocks; progress is told by whoever reads last.
        for rows in part.decided(
            part.blocks(), part.decoding(nothing_wanted), seen, known
        ):
            yield rows
            if self.progress:
                self.progress(rows.batch.size)

    # ---- what comes of it

    def output(self, rows: DecidedRows, links: Links = Links.NONE) -> Output:
        """What a batch gives."""
        batch, new, documents = rows.batch, rows.new, rows.found.documents
        tally, kinds = self.nothing_counted(), KindsFound()
        for table in new:
            tally.tables[table.name] = table.tally
            self.coverage.see(table)
        if rows.found.array is None:  # not another part of a document that was counted
            response = rows.tables[RESPONSE]
            tally.response_values_nulled += response.columns.nulled
            self.coverage.see(response)
            kinds = kinds_found(documents, self.rules)
            tally.documents += len(batch.documents)
            tally.documents_left_out += documents.left_out
        tally.bad_documents += len(batch.bad)
        rejects = self.rejects(batch, new)
        tally.note(rejects)
        decided_tables = {table.name: table for table in new}
        written = {
            name: decided_tables[name].written()
            for name in self.schemas
            if name in decided_tables
        }
        passed_over = {
            self.order[source]: count for source, count in documents.passed_over.items()
        }
        sampled = self.sampled(rows.found.given if self.in_full.refused_too else batch)
        output = Output(
            written, rejects, tally, kinds, sampled, batch.size, passed_over
        )
        if links is Links.NONE:
            return output
        return replace(output, above=self.numbers_above(rows, written))

    def numbers_above(
        self, rows: DecidedRows, written: Collection[str]
    ) -> dict[str, Sequence[int]]:
        """For each table that is within one that is written: the row above each of its rows."""
        above: dict[str, Sequence[int]] = {}
        for table in rows.new:
            if table.name in written:
                numbers = _above(table, rows.tables, self.schemas)
                if numbers is not None:
                    above[table.name] = numbers
        return above

    def rejects(self, batch: Batch, tables: Sequence[DecidedTable]) -> list[Reject]:
        """In the order of the input: document by document, then table by table, then row by row."""
        placed: list[tuple[tuple[int, int, int], Reject]] = []
        for rank, table in enumerate(tables):
            for document, reject in table.rejects():
                source, number = batch.sources[document], batch.numbers[document]
                placed.append(((self.order[id(source)], number, rank), reject))
        placed += [
            ((self.order[id(bad.source)], bad.number, 0), bad_document(bad))
            for bad in batch.bad
        ]
        # Documents that can't be read come from another side than rows.
        return [reject for _, reject in sorted(placed, key=lambda item: item[0])]

    @cached_property
    def order(self) -> dict[int, int]:
        """The number of each source, by its identity."""
        return {id(source): number for number, source in enumerate(self.sources)}

    def sampled(self, batch: Batch) -> list[Sampled]:
        """The documents of a batch that are to be looked at in full."""
        sampled = []
        for index, raw in batch.raw.items():
            source, origin = batch.sources[index], batch.origins[index]
            # Raw texts were not judged when they were scanned; what kind they are is asked here, of
            # few.
            kinds = NO_KINDS
            if self.rules.kinds:
                call = origin.call if origin else None
                kinds = self.plan.acceptance.kinds_of(
                    batch.documents[index], source.name, call
                )
            sampled.append(
                Sampled(
                    self.order[id(source)], batch.numbers[index], batch.part, raw, kinds
                )
            )
        return sampled

    def sampled_batch(self, sampled: Sequence[Sampled]) -> Batch:
        """These documents as a batch."""
        raw = {index: document.raw for index, document in enumerate(sampled)}
        return Batch(
            # Decoded where they are looked at: most of them are dropped before.
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
        return notices(
            self.rules,
            self.unmatched(),
            self.misshapen(),
            self.tally,
            self.sample,
            self.kinds,
        )


def _errors_last(blocks: Iterable[Block]) -> Iterator[Block | InputError]:
    """The blocks, and at the end what keeps the input from being read further: what was read before
    goes before it.
    """
    try:
        yield from blocks
    except InputError as error:
        yield error


def _above(
    table: DecidedTable, tables: Mapping[str, DecidedTable], written: Collection[str]
) -> Sequence[int] | None:
    """For each row that is written the number of the row it stands in among those that are written
    of the nearest table above; None where none is.
    """
    rows = table.written_rows
    # Tables in between that are not written are stepped over: by owners of owners.
    while table.table.within is not None:
        owners = table.rows.owners
        rows = owners if isinstance(rows, range) else [owners[row] for row in rows]
        table = tables[table.table.within]
        if table.name in written:
            if table.outcomes.all_written:
                return list(rows)
            numbers = {row: number for number, row in enumerate(table.written_rows)}
            return [numbers[row] for row in rows]
    return None
