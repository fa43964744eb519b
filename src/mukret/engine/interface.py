"""What programs call: `extract` for whole tables, `stream` for batches in bounded memory (`one.py`
is for a single response).
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from mukret.codes import Code
from mukret.documents import Origin, Source, find_sources, given_sources
from mukret.engine.coverage import Unmatched
from mukret.engine.run import Links, Output, Run
from mukret.errors import UsageError
from mukret.rules.model import Rules
from mukret.semantics.one import origin_of, wanted_rules
from mukret.semantics.records import Record, known, nested, parsed
from mukret.semantics.rejects import Reject
from mukret.semantics.tally import Tally

if TYPE_CHECKING:
    import pyarrow as pa

Inputs = str | os.PathLike[str] | Iterable[str | os.PathLike[str]]


@dataclass(frozen=True)
class Result:
    """The whole of a run.

    `tables`: name → pyarrow.Table, in the order of the rules, tables without rows included.
    `rejects`: the rows and documents that were set aside, with their problems. `tally`: the counts.
    `unmatched`: rules that found nothing.
    """

    tables: dict[str, pa.Table]
    rejects: list[Reject]
    tally: Tally
    unmatched: list[Unmatched]
    rules: Rules
    above: Mapping[str, Sequence[int]]
    """For each row of a table within others the number of the row that it stands in."""

    def records(self, name: str) -> list[Record]:
        """The rows of a table as dicts of Python's values: int, Decimal, float, bool, date, time,
        datetime (instants with a zone, UTC), timedelta, str (enums by name), list; what has the
        type `json` parsed. Raises UsageError.
        """
        return parsed(
            self.tables[known(name, self.tables)].to_pylist(), self.rules, name
        )

    def nested(self, name: str) -> list[Record]:
        """The same, each with the rows of the tables within as lists under the names of these.

        Raises UsageError.
        """
        known(name, self.tables)
        return nested(
            self.rules,
            {table: self.records(table) for table in self.tables},
            self.above,
            name,
        )

    def frame(self, name: str) -> Any:
        """A table as a pandas.DataFrame of Arrow-backed columns: nulls stay nulls, decimals and
        instants exact.

        Needs the extra `mukret[pandas]`. Raises UsageError without it, and for a table that is not
        there.
        """
        known(name, self.tables)
        try:
            import pandas
        except ImportError:
            hint = "pip install 'mukret[pandas]'"
            raise UsageError(
                Code.MISSING_EXTRA,
                "data frames need pandas, which is not installed",
                hint=hint,
            ) from None
        # The types of pandas itself make floats of integers with nulls, and round decimals.
        return self.tables[name].to_pandas(types_mapper=pandas.ArrowDtype)


def extract(
    rules: Rules,
    inputs: Inputs | None = None,
    *,
    documents: Any = None,
    origin: Origin | str | None = None,
    workers: int = 1,
) -> Result:
    """Reads files, folders or globs by some rules, or documents that are in hand, all into memory.

    `documents`: a parsed object, JSON text, bytes, an open file, or an iterable of these (a list is
    one; a document that is an array stands in a list); `origin`: the address that they come from,
    for the rules' facts; `workers`: so many threads share the work. Raises InputError (an input
    that can't be opened, or nothing in it can be read), StoppedError (`bad: stop`), and UsageError
    for what makes no sense.
    """
    import pyarrow as pa

    run = Run(
        wanted_rules(rules),
        _sources(inputs, documents, origin),
        workers=_threads(workers),
    )
    # Rows above are linked block by block, and counted on, since numbers must be those of whole
    # tables.
    links = RowsAbove(run)
    batches: dict[str, list[pa.RecordBatch]] = {name: [] for name in run.schemas}
    rejects: list[Reject] = []
    for output in run.batches(links=Links.BY_BATCH):
        rejects += output.rejects
        links.see(output)
        for name, batch in output.tables.items():
            batches[name].append(batch)
    tables = {
        name: pa.Table.from_batches(batches[name], schema)
        for name, schema in run.schemas.items()
    }
    return Result(tables, rejects, run.tally, run.unmatched(), run.rules, links.above)


def stream(
    rules: Rules,
    inputs: Inputs | None = None,
    *,
    documents: Any = None,
    origin: Origin | str | None = None,
    workers: int = 1,
) -> Iterator[tuple[str, pa.RecordBatch]]:
    """The tables batch by batch: pairs of a table's name and a pyarrow.RecordBatch; empty batches
    are left out.

    Rows that are rejected are left out too: use `extract`, or the command line, where they are to
    be looked at. Takes what `extract` takes, documents as they come, and raises as it does.
    """
    run = Run(
        wanted_rules(rules),
        _sources(inputs, documents, origin),
        workers=_threads(workers),
    )
    for output in run.batches():
        yield from (
            # A block may have no rows for a table.
            (name, batch)
            for name, batch in output.tables.items()
            if batch.num_rows
        )


class RowsAbove:
    """The rows above, batch by batch, as numbers in whole tables.

    Parts of a document that is read in parts stand in rows of its first part.
    """

    def __init__(self, run: Run) -> None:
        self.run = run
        self.above: dict[str, list[int]] = {}
        self.counts: dict[str, int] = {}
        # Where in each table the rows of the last batch with rows of it begin.
        self.first: dict[str, int] = {}

    def see(self, output: Output) -> None:
        for name, batch in output.tables.items():
            self.first[name] = self.counts.get(name, 0)
            self.counts[name] = self.first[name] + batch.num_rows
        for name, rows in output.above.items():
            around = self.run.rules.around(name, self.run.schemas)
            # Numbers are those in the batch; rows of a parent come in the same one.
            begins = self.first[around or ""]
            self.above.setdefault(name, []).extend(begins + row for row in rows)


def _threads(workers: Any) -> int:
    if type(workers) is not int or workers < 1:
        raise UsageError(
            Code.USAGE, f"{workers!r} workers", hint="a number of threads, from 1 on"
        )
    return workers


def _sources(inputs: Any, documents: Any, origin: Origin | str | None) -> list[Source]:
    if (inputs is None) == (documents is None):
        raise UsageError(
            Code.USAGE,
            "files or documents, one of them",
            hint="extract(rules, ['a.json']), or documents=…",
        )
    if documents is not None:
        return given_sources(documents, origin_of(origin))
    if origin is not None:
        raise UsageError(
            Code.USAGE,
            "origin is for documents: files have their own",
            hint="leave it out",
        )
    listed = [inputs] if isinstance(inputs, str | os.PathLike) else inputs
    # A mapping is iterable as well: a parsed document that was given in the place of paths.
    if not isinstance(listed, Iterable) or isinstance(listed, Mapping | bytes):
        raise UsageError(
            Code.USAGE,
            f"a path is wanted, not a {type(inputs).__name__}",
            hint="documents=… takes responses",
        )
    paths = list(listed)
    for path in paths:
        if not isinstance(path, str | os.PathLike):
            hint = "documents=… takes responses"
            raise UsageError(
                Code.USAGE, f"a path is wanted, not a {type(path).__name__}", hint=hint
            )
    return find_sources(paths)
