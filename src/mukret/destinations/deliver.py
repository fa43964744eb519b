"""A run, delivered: its tables, rejects and record into a destination."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import TYPE_CHECKING, Protocol

from mukret.codes import Code
from mukret.destinations.behind import WriteBehind
from mukret.destinations.contract import (
    PLAIN,
    Delivery,
    Destination,
    RowsToWrite,
    WriteOptions,
)
from mukret.destinations.publish import not_written
from mukret.documents import Source
from mukret.engine.run import Links, Run
from mukret.errors import Interrupted, StoppedError
from mukret.rules.model import Rules
from mukret.semantics.rejects import Reject
from mukret.semantics.tally import Tally
from mukret.values import JsonValue
from mukret.version import __version__

if TYPE_CHECKING:
    import pyarrow as pa


@dataclass(frozen=True)
class RejectLimit:
    """How many rejected rows and bad documents are still clean: a number,
    or a share of all rows.
    """

    number: int | None = None
    percent: float | None = None

    @classmethod
    def parse(cls, text: str) -> RejectLimit:
        """`12` or `0.5%`. Raises ValueError."""
        if text.endswith("%"):
            share = float(text[:-1])
            if not 0 <= share <= 100:
                raise ValueError(text)
            return cls(percent=share)
        # `-1` and `1e3` are no numbers of rows.
        if not text.isdecimal():
            raise ValueError(text)
        return cls(number=int(text))

    def allows(self, tally: Tally) -> bool:
        if self.number is not None:
            return tally.findings <= self.number
        everything = tally.rows_seen + tally.bad_documents
        return tally.findings * 100 <= (self.percent or 0) * everything

    def check(
        self, tally: Tally, *, finished: bool, outcome: str = "nothing was published"
    ) -> None:
        """Raises StoppedError above the limit.

        A share of the rows can only be judged when the run is finished.
        """
        # A share may still sink while rows come.
        if (finished or self.number is not None) and not self.allows(tally):
            allowed = (
                f"{self.number}" if self.number is not None else f"{self.percent:g}%"
            )
            raise StoppedError(
                Code.TOO_MANY_REJECTS,
                f"{tally.findings} rejects, more than the {allowed} allowed; {outcome}",
                hint=(
                    "without --max-rejects all of it is written, with each reject and its "
                    "reasons on record"
                ),
            )


class RowsAndRejects(Protocol):
    """What comes together of an extraction."""

    @property
    def tables(self) -> Mapping[str, JsonValue]: ...

    @property
    def rejects(self) -> Sequence[Reject]: ...

    @property
    def above(self) -> Mapping[str, Sequence[int]]: ...


@dataclass(frozen=True)
class Extraction:
    """What is delivered: of a run, or of parts that are merged.

    `tally` grows while `batches` are taken; `record` is what is known after the last of them.
    """

    rules: Rules
    schemas: Mapping[str, pa.Schema]
    tally: Tally
    batches: Callable[[Links], Iterator[RowsAndRejects]]
    record: Callable[[], dict[str, JsonValue]]


def deliver(
    run: Run,
    destination: Destination,
    limit: RejectLimit | None = None,
    options: WriteOptions = PLAIN,
    *,
    skip_seen: bool = False,
) -> dict[str, JsonValue]:
    """Does the run and publishes what it gives; returns the record of the run.

    `skip_seen`: inputs whose content is there already are passed over. Raises as
    `deliver_extraction`.
    """
    skipped: list[Source] = []

    def batches(links: Links) -> Iterator[RowsAndRejects]:
        if skip_seen:
            # When the destination is open: only then it can say what it took before, and nobody
            # else adds to it.
            skipped.extend(_skipped(run, destination.taken()))
        yield from run.batches(links)

    def record() -> dict[str, JsonValue]:
        over = [
            {"file": source.name, "sha256": source.content_hash()} for source in skipped
        ]
        return {**run_record(run), **({"skipped": over} if skip_seen else {})}

    extraction = Extraction(run.rules, run.schemas, run.tally, batches, record)
    return deliver_extraction(extraction, destination, limit, options)


def deliver_extraction(
    extraction: Extraction,
    destination: Destination,
    limit: RejectLimit | None = None,
    options: WriteOptions = PLAIN,
) -> dict[str, JsonValue]:
    """Publishes all that an extraction gives; returns its record.

    Raises OutputError, InputError and StoppedError; the destination is as it was before then, if it
    can be. An interrupt says what has become of it.
    """
    try:
        return _delivered(extraction, destination, limit, options)
    except BrokenPipeError:  # whoever reads a stream has seen enough
        raise
    except OSError as error:
        raise not_written(destination.target, error) from None
    except KeyboardInterrupt:
        raise Interrupted(destination.outcome) from None


def _delivered(
    extraction: Extraction,
    destination: Destination,
    limit: RejectLimit | None,
    options: WriteOptions,
) -> dict[str, JsonValue]:
    try:
        destination.open(Delivery(extraction.rules, extraction.schemas, options))
        # Which row lies in which is found out only for those who nest them.
        links = Links.WHOLE if destination.linked else Links.NONE
        with WriteBehind() as writer:
            for output in extraction.batches(links):
                writer.do(
                    partial(destination.write, RowsToWrite(output.tables, output.above))
                )
                if output.rejects:
                    writer.do(partial(destination.set_aside, output.rejects))
                if limit:
                    # While it runs, too: a run that fails at its end has cost the whole night.
                    limit.check(
                        extraction.tally, finished=False, outcome=destination.outcome
                    )
        if limit:
            limit.check(extraction.tally, finished=True, outcome=destination.outcome)
        record = extraction.record()
        destination.publish(record)
        return record
    # Also for an interrupt: nothing half written stays.
    except BaseException:
        destination.abort()
        raise


def _skipped(run: Run, taken: set[str]) -> list[Source]:
    """Takes the sources away whose content is known, each copy of one after the first too."""
    known = set(taken)
    left: list[Source] = []
    skipped: list[Source] = []
    for source in run.sources:
        digest = source.content_hash()
        (skipped if digest in known else left).append(source)
        # The second copy of a file would give every row twice.
        known.add(digest)
    run.sources = left
    return skipped


def run_record(run: Run) -> dict[str, JsonValue]:
    """What `run.json` holds: enough to say later what was read, by which rules, and what became of
    it.
    """
    unmatched = [unmatched.as_json() for unmatched in run.unmatched()]
    return record_of(
        run.rules,
        run.schemas,
        run.tally,
        run.started,
        inputs_of(run),
        unmatched,
        run.sample.as_json(),
    )


def inputs_of(run: Run) -> list[dict[str, JsonValue]]:
    """What was read of each input of a run."""
    return [
        {
            "file": source.name,
            # Of the bytes as they stood in the file, packed or not, so that anybody can check them.
            "sha256": source.sha256,
            "bytes": source.size,
            "documents": source.documents,
            "compression": source.compression,
            "passed_over": dict(source.passed_over),
        }
        for source in run.sources
    ]


def record_of(
    rules: Rules,
    written: Collection[str],
    tally: Tally,
    started: datetime,
    inputs: Sequence[Mapping[str, JsonValue]],
    unmatched: Sequence[Mapping[str, JsonValue]],
    sample: Mapping[str, JsonValue],
) -> dict[str, JsonValue]:
    """The same, out of its members that are known only when all is done.

    `written` are the tables with columns.
    """
    counts: Mapping[str, JsonValue] = tally.as_json()
    return {
        "mukret": __version__,
        "rules": {"file": rules.file, "sha256": rules.sha256, **_also_read(rules)},
        "inputs": list(inputs),
        "started": _instant(started),
        "finished": _instant(datetime.now(UTC)),
        **counts,
        **_described(rules, written),
        "response": {"values_nulled": tally.response_values_nulled},
        "unmatched": list(unmatched),
        "sample": dict(sample),
        # Filled by the folder that writes them; its place among the keys is here.
        "files": [],
    }


def _described(rules: Rules, written: Collection[str]) -> dict[str, JsonValue]:
    """What one must know of the tables that are written to read them again: the names of the types
    of their columns, the keys, and the tables that they stand in.
    """
    tables = [rules.tables[name] for name in written]
    around = {table.name: rules.around(table.name, written) for table in tables}
    return {
        "columns": {table.name: table.column_types for table in tables},
        "keys": {
            table.name: list(table.key)
            for table in tables
            # A key with a field that is not written tells no row of the delivery apart.
            if set(table.key) <= dict(table.columns).keys()
        },
        "within": {name: above for name, above in around.items() if above is not None},
    }


def _instant(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds").replace("+00:00", "Z")


def _also_read(rules: Rules) -> dict[str, JsonValue]:
    """The files that the rules file includes or refers to, if there are any."""
    files = [
        {"file": file, "sha256": sha256} for file, sha256 in rules.included.items()
    ]
    return {"includes": files} if files else {}
