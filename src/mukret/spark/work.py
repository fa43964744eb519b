"""What an executor is sent to do: the rules, and what must be known to begin."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import lru_cache
from typing import Any

import pyarrow as pa
from pyspark import cloudpickle

from mukret.codes import Code
from mukret.documents.sources import Stretch
from mukret.documents.stretches import stretches
from mukret.engine.run import Run
from mukret.errors import MukretError, UsageError
from mukret.rules.model import Rules
from mukret.rules.sources import Lookup
from mukret.semantics.answers import Answers, FieldName, Form
from mukret.semantics.outcomes import key_hash
from mukret.spark.frame import Entry, EntryKind, entry_batch, packed_fact, unpacked_fact
from mukret.spark.pieces import Input, Piece
from mukret.version import __version__

# What lookups across the run find, by the field that looks and the hash of a key.
AnswersFound = Mapping[FieldName, Mapping[bytes, object]]
FACTS = "piece int, payload binary"
_FACTS = pa.schema([("piece", pa.int32()), ("payload", pa.binary())])


@dataclass(frozen=True)
class Work:
    """`whole` are the rules of which `rules` are a part; both are pickled.

    `started`: the time of the run.
    """

    rules: bytes
    whole: bytes
    started: datetime
    answers: AnswersFound = field(default_factory=dict)
    version: str = __version__

    def run(self, piece: Piece) -> Run:
        """Raises UsageError where another version stands here than where the run began."""
        # Entries are packed by one version and taken apart by another: they would not fit.
        if self.version != __version__:
            message = f"the executors have Mukret {__version__}, and the driver {self.version}"
            raise UsageError(
                Code.NOT_SUPPORTED,
                message,
                hint="install the same version on all machines",
            )
        sources = [file.source() for file in piece]
        answers = {name: as_answers(values) for name, values in self.answers.items()}
        rules, whole = loaded(self.rules), loaded(self.whole)
        return Run(
            rules,
            sources,
            whole=whole,
            started=self.started,
            resolves_keys=False,
            answers=answers,
        )


def sent(rules: Rules) -> bytes:
    """Rules as they travel."""
    pickled: bytes = cloudpickle.dumps(rules)  # type: ignore[no-untyped-call]
    return pickled


@lru_cache(maxsize=4)
def loaded(pickled: bytes) -> Rules:
    rules: Rules = cloudpickle.loads(pickled)
    return rules


def as_answers(values: Mapping[bytes, object]) -> Answers:
    answers = Answers()
    answers.few = dict(values)
    return answers


def pieces_in(batches: Iterable[pa.RecordBatch]) -> Iterator[tuple[int, Piece]]:
    """What a task is given: the numbers of pieces, and the inputs of each."""
    for batch in batches:
        columns = (batch.column(name).to_pylist() for name in ("piece", "payload"))
        for piece, payload in zip(*columns, strict=True):
            yield piece, unpacked_fact(payload)


def _fact(piece: int, fact: object) -> object:
    return pa.RecordBatch.from_arrays(
        [pa.array([piece], pa.int32()), pa.array([packed_fact(fact)])], schema=_FACTS
    )


# ---- before: how long files are cut, and what lookups across the run find


@dataclass(frozen=True)
class LookedThrough:
    """A long file that was read through.

    `stretches` is None for what has to be read by one, which tells the rest.
    """

    stretches: Sequence[Stretch] | None
    sha256: str
    size: int


def looked_through(
    size: int, batches: Iterable[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    """Long files → where they are cut, into stretches of about `size` bytes."""
    for number, [file] in pieces_in(batches):
        yield _fact(number, _caught(_look_through, file, size))


def _look_through(file: Input, size: int) -> LookedThrough:
    source = file.source()
    return LookedThrough(stretches(source, size), source.sha256, source.size)


def answers_found(
    work: Work, looking: Sequence[FieldName], batches: Iterable[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    """What each piece gives to some lookups, the first of each key; None where that hangs on more
    of the rules.
    """
    for number, piece in pieces_in(batches):
        yield _fact(number, _caught(_answers, work, looking, piece))


def _answers(
    work: Work, looking: Sequence[FieldName], piece: Piece
) -> dict[FieldName, dict[bytes, object]] | None:
    run = work.run(piece)
    lookups = {
        (table, own_field.name): own_field.source
        for table, own_field in run.whole.all_fields()
        if (table, own_field.name) in looking and isinstance(own_field.source, Lookup)
    }
    answers: dict[FieldName, dict[bytes, object]] = {name: {} for name in lookups}
    for rows in run.decided_rows():
        # A part of the rules is too little where a row is to blame for what others read.
        if rows.found.has_text_faults and run.rules is not run.whole:
            return None
        new = {table.name: table.columns for table in rows.new}
        for name, lookup in lookups.items():
            if lookup.table in new:
                answered = new[lookup.table].answered(lookup)
                note_first(
                    answers[name], ((form, value) for _, form, value in answered)
                )
    return answers


def note_first(known: dict[bytes, object], rows: Iterable[tuple[Form, object]]) -> None:
    """Notes values by key; of several the first counts."""
    for form, value in rows:
        known.setdefault(key_hash(form), value)


def _caught(function: Any, *arguments: Any) -> Any:
    """What a function gives, or the error that it ends with: a task that fails would be tried
    again.
    """
    try:
        return function(*arguments)
    except MukretError as error:
        return error


# ---- the work itself


def evaluated(
    work: Work, batches: Iterable[pa.RecordBatch]
) -> Iterator[pa.RecordBatch]:
    """Pieces → entries."""
    from mukret.spark.evaluating import Evaluating

    for number, piece in pieces_in(batches):
        try:
            run = work.run(piece)
            for entries in Evaluating(number, run).entries(piece):
                yield entry_batch(entries)
        # As an entry, so that the driver raises it as it is; Spark would wrap it and try again.
        except MukretError as error:
            yield entry_batch(
                [Entry(number, 0, EntryKind.ERROR, "", packed_fact(error))]
            )
