"""A run that goes on until a preview of its tables has what it is to show.

How far that is: small inputs are read to their end, so that the counts are those of the whole; of
large ones only the beginning is read, unless a condition or a sample asks for rows from anywhere.
"""

from __future__ import annotations

import math
import time
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from mukret.documents import Source
from mukret.engine.run import Output, Run
from mukret.errors import Notice
from mukret.inspect.picking import RowCondition, all_rows, meeting
from mukret.inspect.previewing import Anywhere, First, Preview, SeenRow
from mukret.rules import Rules
from mukret.rules.model import RESPONSE
from mukret.semantics.rejects import PARENT_REJECTED, Reject
from mukret.semantics.tally import Reason

SMALL_BATCH = 500_000
# Inputs up to this size are read to their end.
ENOUGH_BYTES = 2_000_000
# So far rows are looked for of tables that have few or none.
MOST_BYTES = 20_000_000
MOST_APART = 3


@dataclass(frozen=True)
class RowChoice:
    """Which rows are shown: of these tables, the first so many or, with `sample`, so many from
    anywhere (drawn by `seed`), of those that meet a condition if there is one.
    """

    tables: Sequence[str]
    count: int
    sample: int | None = None
    seed: int = 0
    condition: RowCondition | None = None

    @property
    def only_counts(self) -> bool:
        """Whether no row is to be shown, only how many meet the condition."""
        return self.condition is not None and self.count == 0

    @property
    def anywhere(self) -> bool:
        """Whether rows from behind the beginning are wanted."""
        return self.condition is not None or self.sample is not None


class PreviewRun:
    """What a preview has come to so far.

    `with_rejected`: rejected rows stand among the others; else all rejects are kept in `rejects`.
    `with_stood`: for each value also what stood in the response. `most_bytes`: the input is taken
    to end there, and all rows that are read are kept, for a comparison with another preview.
    Reads nothing before `go_on`. Raises InputError as a run does.
    """

    def __init__(
        self,
        rules: Rules,
        sources: Sequence[Source],
        choice: RowChoice,
        *,
        with_rejected: bool = True,
        with_stood: bool = False,
        most_bytes: int | None = None,
    ) -> None:
        self.rules = rules
        self.choice = choice
        self.preview = Preview(
            [name for name in choice.tables if rules.tables[name].columns],
            _chooser(choice),
            wanted=meeting(choice.condition) if choice.condition else all_rows,
            stood=with_stood,
            rejected=with_rejected,
            keep=most_bytes is not None,
        )
        self.run = Run(
            rules,
            sources,
            batch_bytes=SMALL_BATCH,
            most_bytes=most_bytes,
            observer=self.preview.look,
        )
        self.rejects: list[Reject] = []
        # By table the first rejects that are no row of it: documents that can't be read (None),
        # rows that can't be told apart.
        self.apart: defaultdict[str | None, list[Reject]] = defaultdict(list)
        # Whether nothing is left to read.
        self.finished = False
        self._outputs = self.run.batches()
        self._size = 0

    def go_on(self, until: float = math.inf) -> None:
        """Reads until there is enough, or until this time of the monotonic clock; at least one
        batch.
        """
        for output in self._outputs:
            self._see(output)
            if self._enough or time.monotonic() >= until:
                return
        self.finished = True

    def _see(self, output: Output) -> None:
        self._size += output.size
        for reject in output.rejects:
            if not self.preview.rejected and reject.table in (
                None,
                *self.choice.tables,
            ):
                self.rejects.append(reject)
            # Documents that can't be read, and rows that were never made, have no line in a table.
            is_no_row = reject.table is None or reject.rows is not None
            if is_no_row and len(self.apart[reject.table]) < MOST_APART:
                self.apart[reject.table].append(reject)

    @property
    def _enough(self) -> bool:
        """Whether all rows are found that are to be shown, or those that are missing are not at the
        beginning.
        """
        if self.preview.keep or self._size < ENOUGH_BYTES or self.choice.only_counts:
            return False
        if self.preview.enough:
            return True
        return self._size >= MOST_BYTES and not self.choice.anywhere

    @property
    def complete(self) -> bool:
        """Whether all of the input was read."""
        return self.finished and not self.run.cut_short

    @property
    def rows(self) -> dict[str, list[SeenRow]]:
        """The rows to show of each table, in the order of the input."""
        return self.preview.rows

    @property
    def findings(self) -> bool:
        """Whether a row of a table that is shown, or a document, was rejected."""
        tally = self.run.tally
        if tally.bad_documents:
            return True
        return any(tally.tables[name].rows_rejected for name in self.choice.tables)

    def notices(self) -> list[Notice]:
        """The warnings of the run that are about what is shown."""
        about = (None, RESPONSE, *self.choice.tables)
        return [notice for notice in self.run.notices() if notice.table in about]

    def hidden_rejects(self, table: str) -> HiddenRejects:
        """Which rejected rows of a table are not among those to show."""
        reasons = [
            cause for cause in self.run.tally.reasons.values() if cause.table == table
        ]
        causes = [reason for reason in reasons if reason.code != PARENT_REJECTED]
        with_parents = sum(
            cause.count for cause in reasons if cause.code == PARENT_REJECTED
        )
        for_themselves = self.run.tally.tables[table].rows_rejected - with_parents
        shown = sum(row.reject is not None for row in self.rows.get(table, ()))
        shown += sum(reject.rows or 0 for reject in self.apart.get(table, ()))
        causes.sort(key=lambda reason: -reason.count)
        return HiddenRejects(max(0, for_themselves - shown), causes, with_parents)


@dataclass(frozen=True)
class HiddenRejects:
    """`count`: rows that were rejected for themselves and are not shown; `causes`: why rows of the
    table were rejected, the most frequent first; `with_parents`: rows that went with the row above.
    """

    count: int
    causes: Sequence[Reason]
    with_parents: int


def _chooser(choice: RowChoice) -> partial[First] | partial[Anywhere]:
    if choice.sample:
        return partial(Anywhere, choice.sample, choice.seed)
    return partial(First, choice.count)
