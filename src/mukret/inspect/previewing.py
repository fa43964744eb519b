"""Some rows of each table, the first or any, rejected ones at their place among those that are
written.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from operator import itemgetter
from random import Random
from typing import Protocol

from mukret.engine.decided import DecidedRows, DecidedTable
from mukret.inspect.picking import RowFilter, all_rows
from mukret.rules.sources import At
from mukret.semantics.choosing import stood_there
from mukret.semantics.outcomes import RowOutcome
from mukret.semantics.rejects import Reject
from mukret.types import TypedValue
from mukret.values import shown_text


@dataclass(frozen=True)
class SeenRow:
    """`nth`: its number, from 1, among the rows of its table that are written, or among those that
    are rejected.

    `values` by the name of the field, null where bad. `stood`: what stood in the response for each
    field that is read from it, as JSON text, where that was asked for.
    """

    nth: int
    values: dict[str, TypedValue]
    reject: Reject | None = None
    stood: dict[str, str] = field(default_factory=dict)

    @property
    def bad(self) -> dict[str, str]:
        """What stood where a field could not be read."""
        problems = self.reject.problems if self.reject else ()
        return {
            problem.field: shown_text(problem.value)
            for problem in problems
            if problem.field in self.values
        }


class Choice(Protocol):
    """Which of the rows that come are kept: the places that the next ones take, each with its
    number among them.
    """

    def take(self, count: int) -> Iterator[tuple[int, int]]: ...

    @property
    def enough(self) -> bool: ...


class First:
    """The first rows."""

    def __init__(self, wanted: int) -> None:
        self.wanted = wanted
        self.taken = 0

    def take(self, count: int) -> Iterator[tuple[int, int]]:
        for number in range(min(count, self.wanted - self.taken)):
            yield self.taken, number
            self.taken += 1

    @property
    def enough(self) -> bool:
        return self.taken >= self.wanted


class Anywhere:
    """So many rows out of all, each as likely as any other (Vitter's algorithm R)."""

    enough = False

    def __init__(self, wanted: int, seed: int) -> None:
        self.wanted = wanted
        self.draw = Random(seed)
        self.seen = 0

    def take(self, count: int) -> Iterator[tuple[int, int]]:
        for number in range(count):
            place = (
                self.seen
                if self.seen < self.wanted
                # Reservoir sampling (Vitter, algorithm R): each row has the same chance, and none
                # is read twice.
                else self.draw.randrange(self.seen + 1)
            )
            self.seen += 1
            if place < self.wanted:
                yield place, number


class Preview:
    """Looks at a run as its observer.

    `names` are the tables that are looked at, `choice` makes what chooses among the rows of one,
    those that are `wanted`: rows that are written and, if `rejected`, those that are rejected for
    themselves; those that go with the row above them are only counted, by the run. `keep`: all
    tables are kept, for a comparison.
    """

    def __init__(
        self,
        names: Sequence[str],
        choice: Callable[[], Choice],
        *,
        wanted: RowFilter = all_rows,
        stood: bool = False,
        rejected: bool = True,
        keep: bool = False,
    ) -> None:
        self.choices: dict[str, Choice] = {name: choice() for name in names}
        self.wanted = wanted
        self.stood = stood
        self.rejected = rejected
        # How many rows of a table had an outcome in the batches before.
        self.before: Counter[tuple[str, int]] = Counter()
        # How many rows of a table were wanted so far.
        self.met: Counter[str] = Counter()
        self.chosen: dict[str, dict[int, tuple[int, SeenRow]]] = {
            name: {} for name in names
        }
        self.come = 0
        self.keep = keep
        self.kept: list[DecidedRows] = []

    @property
    def enough(self) -> bool:
        """Whether all rows are found that are to be shown."""
        return all(choice.enough for choice in self.choices.values())

    def look(self, rows: DecidedRows) -> None:
        if self.keep:
            self.kept.append(rows)
        for table in rows.new:
            if table.name in self.choices:
                self._look(table)
                for outcome in (RowOutcome.WRITTEN, RowOutcome.REJECTED):
                    self.before[table.name, outcome] += table.outcomes.count(outcome)

    def _look(self, table: DecidedTable) -> None:
        name, outcomes, row_outcomes = (
            table.name,
            table.outcomes,
            table.outcomes.row_outcomes,
        )
        rows = [
            row
            for row, outcome in enumerate(row_outcomes)
            if outcome == RowOutcome.WRITTEN
            or (self.rejected and outcomes.rejected_for_itself(row))
        ]
        rows = list(self.wanted(table, rows))
        self.met[name] += len(rows)
        taken = {
            place: rows[number] for place, number in self.choices[name].take(len(rows))
        }
        records = table.columns.records(list(taken.values()))
        for (place, row), values in zip(taken.items(), records, strict=True):
            # Its number among the rows with this outcome, as `trace` counts them.
            nth = self.before[name, row_outcomes[row]] + row_outcomes.count(
                row_outcomes[row], 0, row + 1
            )
            reject = (
                table.reject_at(row)
                if row_outcomes[row] == RowOutcome.REJECTED
                else None
            )
            self.chosen[name][place] = (
                self.come + row,
                SeenRow(nth, values, reject, self._stood(table, row)),
            )
        self.come += table.rows.count

    def _stood(self, table: DecidedTable, row: int) -> dict[str, str]:
        if not self.stood:
            return {}
        place, node = table.rows.locate(row)
        excused = table.rows.excuses_at(row).below(place)
        return {
            own_field.name: ", ".join(
                map(shown_text, stood_there(own_field.source, node, excused))
            )
            for own_field in table.table.fields
            # What is computed stands nowhere.
            if isinstance(own_field.source, At)
        }

    @property
    def rows(self) -> dict[str, list[SeenRow]]:
        """In the order of the input."""
        in_order = {}
        for name, chosen in self.chosen.items():
            numbered = sorted(chosen.values(), key=itemgetter(0))
            in_order[name] = [row for _, row in numbered]
        return in_order
