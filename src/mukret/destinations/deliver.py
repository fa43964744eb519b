"""A run, delivered: its tables, rejects and record into a folder, or one table into a stream."""

from __future__ import annotations

import json
from collections.abc import Mapping
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import Any, BinaryIO

from mukret.destinations import csv, csv_metadata
from mukret.destinations.behind import WriteBehind
from mukret.destinations.formats import ending_of, table_file
from mukret.destinations.publish import RUN_FILE, folder_to_publish
from mukret.engine.run import Run
from mukret.engine.tally import Tally
from mukret.errors import StoppedError, UsageError, if_interrupted
from mukret.rules.model import Rules
from mukret.version import __version__

REJECTS_FILE = "rejects.jsonl"


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
                hint="leave out --max-rejects to see them in rejects.jsonl",
            )


def deliver_folder(
    run: Run, target: str, limit: RejectLimit | None = None, form: str = "csv", *, titles: bool = False
) -> dict[str, Any]:
    """Does the run and publishes a folder with one file per table, of a format of FORMATS, the rejects, and the record,
    which is returned; beside CSV also what the files hold. `titles`: these head the columns of CSV, and not the names.

    Raises OutputError, InputError and StoppedError; nothing is published then.
    """
    with folder_to_publish(target) as folder:
        with ExitStack() as stack:
            ending = ending_of(form)
            opened = {name: stack.enter_context(open(folder / f"{name}{ending}", "wb")) for name in run.schemas}
            rejects = stack.enter_context(open(folder / REJECTS_FILE, "wb"))
            files = {
                name: table_file(form, run.rules.tables[name], run.schemas[name], file, titles=titles)
                for name, file in opened.items()
            }
            writer = stack.enter_context(WriteBehind())
            for output in run.batches(lambda name, batch: files[name].encode(batch)):
                for name, batch in output.tables.items():
                    writer.do(partial(files[name].add if output.encoded else files[name].write, batch))
                rejects.writelines(reject.line() + b"\n" for reject in output.rejects)
                if limit:
                    limit.check(run.tally, finished=False)
            for table in files.values():
                writer.do(table.close)
        if limit:
            limit.check(run.tally, finished=True)
        described = {csv_metadata.FILE: csv_metadata.csv_metadata(run.rules)} if form == "csv" else {}
        names = [*(f"{name}{ending}" for name in run.schemas), *described, REJECTS_FILE, RUN_FILE]
        record = run_record(run, names)
        for name, content in {**described, RUN_FILE: record}.items():
            (folder / name).write_text(json.dumps(content, indent=2, ensure_ascii=False) + "\n", encoding="utf-8")
    return record


def deliver_table(
    run: Run, name: str, stream: BinaryIO, limit: RejectLimit | None = None, *, titles: bool = False
) -> dict[str, Any]:
    """Does the run and writes one table as CSV to a stream, as it comes: what was written before an error stays."""
    outcome = "the output is cut short"
    if name not in run.schemas:
        known = ", ".join(run.schemas)
        raise UsageError("unknown-table", f"no table {name} to write", hint=f"tables of these rules: {known}")
    file = csv.CsvFile(run.rules.tables[name], stream, titles=titles)
    with if_interrupted(outcome):
        for output in run.batches(lambda other, batch: file.encode(batch) if other == name else None):
            if name in output.tables:
                found = output.tables[name]
                file.add(found if output.encoded else file.lines(found))
            stream.flush()
            if limit:
                limit.check(run.tally, finished=False, outcome=outcome)
        if limit:
            limit.check(run.tally, finished=True, outcome=outcome)
    return run_record(run, [])


def run_record(run: Run, files: list[str]) -> dict[str, Any]:
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
        "response": {"values_nulled": run.tally.response_values_nulled},
        "unmatched": [unmatched.as_json() for unmatched in run.unmatched()],
        "sample": run.sample.as_json(),
        "files": files,
    }


def _instant(moment: datetime) -> str:
    return moment.isoformat(timespec="seconds").replace("+00:00", "Z")


def _also_read(rules: Rules) -> dict[str, Any]:
    """The files that the rules file includes or refers to, if there are any."""
    files = [{"file": file, "sha256": sha256} for file, sha256 in rules.included.items()]
    return {"includes": files} if files else {}
