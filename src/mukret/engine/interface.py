"""What programs call: `extract` for whole tables, `stream` for batches in bounded memory."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from mukret.documents import find_sources
from mukret.engine.coverage import Unmatched
from mukret.engine.rejects import Reject
from mukret.engine.run import Run
from mukret.engine.tally import Tally
from mukret.errors import UsageError
from mukret.rules.model import Rules
from mukret.text import did_you_mean

Inputs = str | os.PathLike[str] | Iterable[str | os.PathLike[str]]


@dataclass(frozen=True)
class Result:
    """The whole of a run.

    `tables`: name → pyarrow.Table, in the order of the rules, tables without rows included. `rejects`: the rows and
    documents that were set aside, with their problems. `tally`: the counts. `unmatched`: rules that found nothing.
    """

    tables: dict[str, Any]
    rejects: list[Reject]
    tally: Tally
    unmatched: list[Unmatched]

    def frame(self, name: str) -> Any:
        """A table as a pandas.DataFrame of Arrow-backed columns: nulls stay nulls, decimals and instants exact.

        Needs the extra `mukret[pandas]`. Raises UsageError without it, and for a table that is not there.
        """
        if name not in self.tables:
            raise UsageError("unknown-table", f"no table {name}", hint=did_you_mean(name, self.tables))
        try:
            import pandas
        except ImportError:
            hint = "pip install 'mukret[pandas]'"
            raise UsageError("missing-extra", "data frames need pandas, which is not installed", hint=hint) from None
        return self.tables[name].to_pandas(types_mapper=pandas.ArrowDtype)


def extract(rules: Rules, inputs: Inputs) -> Result:
    """Reads files, folders or globs by some rules, all into memory.

    Raises InputError (an input that can't be opened, or nothing in it can be read) and StoppedError (`bad: stop`).
    """
    import pyarrow as pa

    run = Run(rules, find_sources(_listed(inputs)))
    batches: dict[str, list[Any]] = {name: [] for name in rules.tables}
    rejects: list[Reject] = []
    for output in run.batches():
        rejects += output.rejects
        for name, batch in output.tables.items():
            batches[name].append(batch)
    tables = {name: pa.Table.from_batches(batches[name], schema) for name, schema in run.schemas.items()}
    return Result(tables, rejects, run.tally, run.unmatched())


def stream(rules: Rules, inputs: Inputs) -> Iterator[tuple[str, Any]]:
    """The tables batch by batch: pairs of a table's name and a pyarrow.RecordBatch; empty batches are left out.

    Rows that are rejected are left out too: use `extract`, or the command line, where they are to be looked at.
    Raises as `extract` does.
    """
    run = Run(rules, find_sources(_listed(inputs)))
    for output in run.batches():
        yield from ((name, batch) for name, batch in output.tables.items() if batch.num_rows)


def _listed(inputs: Inputs) -> list[str | os.PathLike[str]]:
    return [inputs] if isinstance(inputs, str | os.PathLike) else list(inputs)
