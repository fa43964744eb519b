"""Counting: every row that was seen is written, rejected, filtered or deduplicated, and the sums
are kept.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass, field

from mukret.semantics.rejects import Problem, Reject
from mukret.values import JsonValue


@dataclass
class TableTally:
    """`rows_filtered_unknown`: how many of the filtered rows had a condition that was unknown, not
    false.
    """

    rows_seen: int = 0
    rows_written: int = 0
    rows_rejected: int = 0
    rows_filtered: int = 0
    rows_deduplicated: int = 0
    values_nulled: int = 0
    rows_filtered_unknown: int = 0

    def merge(self, later: TableTally) -> None:
        for name, count in asdict(later).items():
            setattr(self, name, getattr(self, name) + count)

    def as_json(self) -> dict[str, int]:
        return asdict(self)


@dataclass
class Reason:
    """One way in which rows of a table were rejected: how often, and the first case."""

    table: str | None
    field: str | None
    code: str
    count: int
    example: Problem
    file: str
    document: int


@dataclass
class Tally:
    tables: dict[str, TableTally]
    bad_documents: int = 0
    documents: int = 0
    documents_left_out: int = 0
    """Of a kind that no table reads."""
    response_values_nulled: int = 0
    reasons: dict[tuple[str | None, str | None, str], Reason] = field(
        default_factory=dict
    )

    @property
    def rows_rejected(self) -> int:
        return sum(table.rows_rejected for table in self.tables.values())

    @property
    def rows_seen(self) -> int:
        return sum(table.rows_seen for table in self.tables.values())

    @property
    def findings(self) -> int:
        """Rejected rows and bad documents."""
        return self.rows_rejected + self.bad_documents

    def merge(self, later: Tally) -> None:
        """Adds what was counted later in the input."""
        self.bad_documents += later.bad_documents
        self.documents += later.documents
        self.documents_left_out += later.documents_left_out
        self.response_values_nulled += later.response_values_nulled
        for name, counts in later.tables.items():
            self.tables[name].merge(counts)
        # The first case stays the first: only the count is added.
        for key, reason in later.reasons.items():
            if key in self.reasons:
                self.reasons[key].count += reason.count
            else:
                self.reasons[key] = reason

    def note(self, rejects: Iterable[Reject]) -> None:
        for reject in rejects:
            for problem in reject.problems:
                key = (reject.table, problem.field, problem.code)
                reason = self.reasons.get(key)
                if reason is None:
                    reason = self.reasons[key] = Reason(
                        *key, 0, problem, reject.file, reject.document
                    )
                # The record of an array that is uneven stands for several rows.
                reason.count += reject.rows or 1

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "tables": {name: table.as_json() for name, table in self.tables.items()},
            "bad_documents": self.bad_documents,
            "documents_left_out": self.documents_left_out,
        }
