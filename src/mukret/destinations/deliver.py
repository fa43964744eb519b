"""A run, delivered: its tables, rejects and record into a destination."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import Any

from mukret.destinations.behind import WriteBehind
from mukret.destinations.contract import PLAIN, Delivery, Destination, Options, Rows
from mukret.destinations.publish import not_written
from mukret.documents import Source
from mukret.engine.run import Links, Run
from mukret.errors import Interrupted, StoppedError
from mukret.rules.model import Rules
from mukret.semantics.tally import Tally
from mukret.version import __version__


@dataclass(frozen=True)
class RejectLimit:
    """How many rejected rows and bad documents are still clean: a number, or a share of all rows."""

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
        if not text.isdecimal():
            raise ValueError(text)
        return cls(number=int(text))

    def allows(self, tally: Tally) -> bool:
        if self.number is not None:
            return tally.findings <= self.number
        everything = tally.rows_seen + tally.bad_documents
        return tally.findings * 100 <= (self.percent or 0) * everything

    def check(self, tally: Tally, *, finished: bool, outcome: str = "nothing was published") -> None:
        """Raises StoppedError above the limit; while the run goes on only an absolute one can be judged."""
        if (finished or self.number is not None) and not self.allows(tally):
            allowed = f"{self.number}" if self.number is not None else f"{self.percent:g}%"
            raise StoppedError(
                "too-many-rejects",
                f"{tally.findings} rejects, more than the {allowed} allowed; {outcome}",
                hint="without --max-rejects all of it is written, with each reject and its reasons on record",
            )


def deliver(
    run: Run,
    destination: Destination,
    limit: RejectLimit | None = None,
    options: Options = PLAIN,
    *,
    skip_seen: bool = False,
) -> dict[str, Any]:
    """Does the run and publishes what it gives; returns the record of the run. `skip_seen`: inputs whose content is
    there already are passed over.

    Raises OutputError, InputError and StoppedError; the destination is as it was before then, if it can be. An
    interrupt says what has become of it.
    """
    try:
        return _delivered(run, destination, limit, options, skip_seen=skip_seen)
    except BrokenPipeError:  # whoever reads a stream has seen enough
        raise
    except OSError as error:
        raise not_written(destination.target, error) from None
    except KeyboardInterrupt:
        raise Interrupted(destination.outcome) from None


def _delivered(
    run: Run, destination: Destination, limit: RejectLimit | None, options: Options, *, skip_seen: bool
) -> dict[str, Any]:
    try:
        destination.open(Delivery(run.rules, run.schemas, options))
        links = Links.WHOLE if destination.linked else Links.NONE
        skipped = _skipped(run, destination.taken()) if skip_seen else []
        with WriteBehind() as writer:
            for output in run.batches(links):
                writer.do(partial(destination.write, Rows(output.tables, output.above)))
                if output.rejects:
                    writer.do(partial(destination.set_aside, output.rejects))
                if limit:
                    limit.check(run.tally, finished=False, outcome=destination.outcome)
        if limit:
            limit.check(run.tally, finished=True, outcome=destination.outcome)
        record = run_record(run)
        if skip_seen:
            record["skipped"] = [{"file": source.name, "sha256": source.content_hash()} for source in skipped]
        destination.publish(record)
        return record
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
        known.add(digest)
    run.sources = left
    return skipped


def run_record(run: Run) -> dict[str, Any]:
    """What `run.json` holds: enough to say later what was read, by which rules, and what became of it."""
    counts: Mapping[str, Any] = run.tally.as_json()
    return {
        "mukret": __version__,
        "rules": {"file": run.rules.file, "sha256": run.rules.sha256, **_also_read(run.rules)},
        "inputs": [
            {
                "file": source.name,
                "sha256": source.sha256,
                "bytes": source.size,
                "documents": source.documents,
                "compression": source.compression,
                "passed_over": dict(source.passed_over),
            }
            for source in run.sources
        ],
        "started": _instant(run.started),
        "finished": _instant(datetime.now(UTC)),
        **counts,
        **_described(run.rules, run.schemas),
        "response": {"values_nulled": run.tally.response_values_nulled},
        "unmatched": [unmatched.as_json() for unmatched in run.unmatched()],
        "sample": run.sample.as_json(),
        "files": [],
    }


def _described(rules: Rules, written: Collection[str]) -> dict[str, Any]:
    """What one must know of the tables that are written to read them again: the names of the types of their columns,
    the keys, and the tables that they stand in."""
    tables = [rules.tables[name] for name in written]
    around = {table.name: rules.around(table.name, written) for table in tables}
    return {
        "columns": {table.name: {name: kind.name for name, kind in table.columns} for table in tables},
        "keys": {table.name: list(table.key) for table in tables if set(table.key) <= dict(table.columns).keys()},
        "within": {name: above for name, above in around.items() if above is not None},
    }


def _instant(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds").replace("+00:00", "Z")


def _also_read(rules: Rules) -> dict[str, Any]:
    """The files that the rules file includes or refers to, if there are any."""
    files = [{"file": file, "sha256": sha256} for file, sha256 in rules.included.items()]
    return {"includes": files} if files else {}
