"""Files → tables as DataFrames, everything resolved."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import cached_property
from typing import TYPE_CHECKING

from pyspark.sql import DataFrame, SparkSession
from pyspark.sql import functions as F
from pyspark.sql.pandas.types import from_arrow_schema

from mukret.destinations.deliver import record_of
from mukret.documents import Diagnosis
from mukret.documents.batches import nothing_read_since
from mukret.engine.coverage import Unmatched
from mukret.errors import Notice
from mukret.parts.together import Together
from mukret.plan.compiled import make_plan
from mukret.rules.model import Rules
from mukret.rules.part import part_for
from mukret.rules.schedule import lookup_passes
from mukret.semantics.answers import FieldName
from mukret.semantics.tally import Tally
from mukret.spark.evaluating import PieceTold, ranks_of, spark_schema, unresolved_tables
from mukret.spark.frame import SCHEMA, EntryKind, unpacked_rows
from mukret.spark.in_order import has_keys_that_recurse, left_out_in_order
from mukret.spark.jobs import KEPT, cluster_errors, facts_of, for_each_piece, in_batches
from mukret.spark.key_resolution import corrected, resolved
from mukret.spark.keys import left_out
from mukret.spark.pieces import Paths, find_inputs
from mukret.spark.planning import Planned, planned
from mukret.spark.rejected import COLUMNS, LINES, column_batches, line_batches
from mukret.spark.work import FACTS, AnswersFound, Work, answers_found, evaluated, sent
from mukret.values import JsonValue

if TYPE_CHECKING:
    import pyarrow as pa

# Keys are resolved in no more tasks: each reads something of each that went before.
MOST_PARTITIONS = 10_000


class Extracted(dict[str, DataFrame]):
    """The tables by name, in the order of the rules, those without rows included.

    Everything is read and resolved; rows are kept by the cluster until `release` (executors that
    are lost are made up for). Columns have the types of the rules; enums, and what has the type
    `json`, are texts.
    """

    def __init__(
        self,
        session: SparkSession,
        rules: Rules,
        together: Together,
        started: datetime,
        inputs: Sequence[Mapping[str, JsonValue]],
    ) -> None:
        super().__init__()
        self.session = session
        self.rules = rules
        self.together = together
        self.started = started
        self.inputs = inputs
        self.kept: list[DataFrame] = []

    @property
    def tally(self) -> Tally:
        """The counts of the whole run."""
        return self.together.tally

    @property
    def unmatched(self) -> list[Unmatched]:
        """Rules that found nothing."""
        return self.together.unmatched

    def notices(self) -> list[Notice]:
        """The warnings of the run."""
        return self.together.notices

    @cached_property
    def schemas(self) -> dict[str, pa.Schema]:
        """The Arrow schema of each table with columns."""
        return schemas_of(self.rules)

    @cached_property
    def reject_lines(self) -> DataFrame:
        """The lines of `rejects.jsonl` in their order, in the column `line`."""
        lines = [
            frame.where(F.col("kind") == int(EntryKind.REJECTS)).mapInArrow(
                line_batches, LINES
            )
            for frame in self.kept
        ]
        together = lines[0] if len(lines) == 1 else lines[0].union(lines[1])
        # The order of the input, which the keys of entries give back.
        return together.orderBy("piece", "block", "document", "rank", "number").select(
            "line"
        )

    @cached_property
    def rejects(self) -> DataFrame:
        """The rows and documents that were set aside: file, document, path, table, rows (if it
        stands for several), and problems with field, code, path, value (as JSON) and message.
        """
        return self.reject_lines.mapInArrow(column_batches, COLUMNS)

    def record(self) -> dict[str, JsonValue]:
        """What `run.json` holds."""
        unmatched = [rule.as_json() for rule in self.unmatched]
        together = self.together
        return record_of(
            self.rules,
            self.schemas,
            self.tally,
            self.started,
            self.inputs,
            unmatched,
            together.sample,
        )

    def release(self) -> None:
        """Lets the cluster forget the rows; the tables can't be used any more."""
        for frame in self.kept:
            frame.unpersist()


def schemas_of(rules: Rules) -> dict[str, JsonValue]:
    plans = {plan.table.name: plan for plan in make_plan(rules, None).tables}
    return {
        name: plans[name].schema
        for name, table in rules.tables.items()
        if table.columns
    }


def extract(
    session: SparkSession,
    rules: Rules,
    paths: Paths,
    *,
    newest: bool = False,
    piece_bytes: int | None = None,
) -> Extracted:
    """Reads files by some rules on a cluster.

    `paths`: files, folders or globs that all machines find in the same place, or addresses
    (`s3://BUCKET/feed`). `newest`: of folders that `collect` wrote the newest answers alone.
    `piece_bytes`: how much a task reads; if it is not said as much as Spark's setting
    `spark.sql.files.maxPartitionBytes` allows. Files of JSON Lines are split, everything else is
    read by one task each. Rows, rejects and counts are those of one machine, with the keys of all
    of the input; the order of rows is not promised.

    Raises InputError (an input that can't be opened, nothing can be read, or Spark gave up),
    StoppedError (`bad: stop`) and UsageError.
    """
    inputs = find_inputs(paths, newest=newest)
    with cluster_errors():
        return extract_planned(session, rules, planned(session, inputs, piece_bytes))


def extract_planned(
    session: SparkSession, rules: Rules, plan: Planned, started: datetime | None = None
) -> Extracted:
    """Reads the pieces of some files. Raises as `extract`, and Spark's own errors."""
    return _Extracting(session, rules, plan, started or datetime.now(UTC)).extracted()


class _Extracting:
    def __init__(
        self, session: SparkSession, rules: Rules, plan: Planned, started: datetime
    ) -> None:
        self.session = session
        self.rules = rules
        self.rules_sent = sent(rules)
        self.plan = plan
        self.pieces = plan.pieces
        self.started = started

    def work(
        self, rules: Rules | None = None, answers: AnswersFound | None = None
    ) -> Work:
        return Work(
            self.rules_sent if rules is None else sent(rules),
            self.rules_sent,
            self.started,
            answers or {},
        )

    def extracted(self) -> Extracted:
        work = self.work(answers=self.answers())
        # Kept, since three things are asked of it: what was told, what is to be resolved, and the
        # rows.
        frame = for_each_piece(
            self.session, self.pieces, in_batches(evaluated, work), SCHEMA
        ).persist(KEPT)
        try:
            told = self.told(frame)
            together = Together(self.rules, (piece.told for piece in told))
            inputs = self.plan.read(piece.inputs for piece in told)
            extracted = Extracted(
                self.session, self.rules, together, self.started, inputs
            )
            extracted.kept.append(frame)
            self.count(extracted, told)
            self.resolve(extracted, work, frame)
        except BaseException:
            frame.unpersist()
            raise
        return extracted

    def answers(self) -> AnswersFound:
        """What lookups across the run find: the input is read for that, as often as they hang on
        each other.
        """
        known: dict[FieldName, Mapping[bytes, object]] = {}
        for looking in lookup_passes(self.rules, self.rules.tables):
            names = [(table, field.name) for table, field in looking]
            targets = [table for _, field in looking for table in field.reads.rows]
            answers = self.gathered(
                self.work(part_for(self.rules, targets), known), names
            )
            # A part of the rules was tried first; where rows hang on more, all of them are run.
            known.update(
                answers or self.gathered(self.work(answers=known), names) or {}
            )
        return known

    def gathered(
        self, work: Work, names: Sequence[FieldName]
    ) -> dict[FieldName, dict[bytes, object]] | None:
        """The answers of all pieces; None where they hang on more of the rules."""
        task = in_batches(answers_found, work, names)
        facts = facts_of(for_each_piece(self.session, self.pieces, task, FACTS))
        if any(fact is None for fact in facts):
            return None
        known: dict[FieldName, dict[bytes, object]] = {name: {} for name in names}
        for fact in facts:
            for name, values in fact.items():
                for key, value in values.items():
                    # Pieces come in the order of the input: the first row with a key counts.
                    known[name].setdefault(key, value)
        return known

    def told(self, frame: DataFrame) -> list[PieceTold]:
        """What all pieces tell. Raises the first error that one of them met."""
        told = frame.where(
            F.col("kind").isin(int(EntryKind.TOLD), int(EntryKind.ERROR))
        )
        return list(facts_of(told.select("piece", "payload")))

    def count(self, extracted: Extracted, told: Sequence[PieceTold]) -> None:
        """Counts why rows were rejected. Raises InputError if not one document could be read."""
        for piece in told:
            extracted.tally.merge(
                Tally(
                    {},
                    reasons={
                        (why.table, why.field, why.code): why for why in piece.reasons
                    },
                )
            )
        # As a run on one machine: that no document can be read is an error.
        if not extracted.tally.documents and extracted.tally.bad_documents:
            reason = next(
                reason
                for reason in extracted.tally.reasons.values()
                if reason.table is None
            )
            example, count = reason.example, extracted.tally.bad_documents
            finding = example.finding or Diagnosis(example.message)
            raise nothing_read_since(
                reason.file, reason.document, finding, example.hint, count
            )

    def resolve(self, extracted: Extracted, work: Work, frame: DataFrame) -> None:
        """Makes the tables."""
        with_open_keys = unresolved_tables(self.rules)
        rows = frame
        if with_open_keys:
            gone: list[DataFrame] = []
            rows = self.resolved(work, frame, gone).persist(KEPT)
            extracted.kept.append(rows)
            for fact in facts_of(
                rows.where(F.col("kind") == int(EntryKind.TOLD)).select(
                    "piece", "payload"
                )
            ):
                corrected(fact, extracted.tally)
            # What was only kept for resolver is let go as soon as the rows are there.
            for known in gone:
                known.unpersist()
        self.put_reasons_in_order(extracted.tally)
        for name, schema in extracted.schemas.items():
            extracted[name] = _table(
                rows if name in with_open_keys else frame, name, spark_schema(schema)
            )

    def put_reasons_in_order(self, tally: Tally) -> None:
        """As one machine meets them, which keys are no exception to."""
        files = {file.source().name: file.number for file in self.plan.inputs}
        ranks = ranks_of(self.rules)
        met = sorted(
            tally.reasons.items(),
            key=lambda item: (
                # By the first case of each: so one machine would have met them.
                files.get(item[1].file, 0),
                item[1].document,
                ranks.get(item[1].table or "", 0),
            ),
        )
        tally.reasons = dict(met)

    def resolved(
        self, work: Work, frame: DataFrame, kept: list[DataFrame]
    ) -> DataFrame:
        """The blocks again, with the rows that are left out beside them: piece by piece, each by
        one task.
        """
        blocks = frame.where(F.col("kind") == int(EntryKind.UNRESOLVED))
        partitions = min(len(self.pieces), MOST_PARTITIONS)
        of_piece = F.floor(F.col("piece") * partitions / len(self.pieces)).cast("int")
        if has_keys_that_recurse(self.rules):
            gone = left_out_in_order(self.session, self.rules, frame)
        else:
            gone = left_out(self.rules, frame, kept)
        together = blocks.union(gone).repartitionById(partitions, of_piece)
        # Entries of a block come together, with what is left out of it behind its rows.
        in_order = together.sortWithinPartitions("piece", "block", "kind")
        task = in_batches(resolved, work)
        return in_order.mapInArrow(task, SCHEMA)


def _table(frame: DataFrame, name: str, schema: pa.Schema) -> DataFrame:
    rows = frame.where(
        (F.col("kind") == int(EntryKind.ROWS)) & (F.col("name") == name)
    ).select("payload")
    return rows.mapInArrow(_unpacked, from_arrow_schema(schema))


def _unpacked(batches: Iterable[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
    for batch in batches:
        for payload in batch.column("payload"):
            yield from unpacked_rows(payload.as_buffer())
