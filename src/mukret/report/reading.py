"""A delivery → all that its page says, as numbers and names."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

from mukret.delivered.contract import Delivered, DeliveredReject, DeliveredTable
from mukret.report.joins import Join, KeyHashes, join_columns, joined
from mukret.report.profile import ColumnProfile, profile
from mukret.semantics.rejects import PARENT_REJECTED
from mukret.semantics.tally import TableTally
from mukret.values import JsonValue

MOST_EXAMPLES = 3
MOST_REASONS = 1_000


@dataclass(frozen=True)
class TableReport:
    """A table: what became of its rows in the last run, and what the rows that are there hold;
    `sampled` as `TableProfile` has it.
    """

    name: str
    tally: TableTally
    rows: int
    columns: Mapping[str, ColumnProfile]
    sampled: int | None
    key: tuple[str, ...]


@dataclass
class RefusedValues:
    """A reason why rows were rejected, or documents (with `table` None): how many, and the first of
    them.
    """

    table: str | None
    field_name: str | None
    code: str
    count: int = 0
    examples: list[tuple[DeliveredReject, Mapping[str, JsonValue]]] = field(
        default_factory=list
    )


@dataclass(frozen=True)
class Report:
    """`runs`: how many wrote the delivery; what is counted is that of the last one.

    `before`: the delivery that it is compared with.
    """

    target: str
    record: Mapping[str, JsonValue]
    runs: int
    tables: Mapping[str, TableReport]
    joins: Sequence[Join]
    refused: Sequence[RefusedValues]
    before: Report | None = None

    @property
    def documents(self) -> int:
        """How many documents could be read."""
        return (
            sum(int(source["documents"]) for source in self.record["inputs"])
            - self.bad_documents
        )

    @property
    def bad_documents(self) -> int:
        return int(self.record["bad_documents"])

    @cached_property
    def gone_along(self) -> Mapping[str, int]:
        """For each table how many rows were rejected with the row that they stand in, and not for
        themselves.
        """
        counts = Counter[str]()
        for reason in self.refused:
            if reason.code == PARENT_REJECTED and reason.table is not None:
                counts[reason.table] += reason.count
        return counts

    @cached_property
    def within(self) -> Mapping[str, Sequence[str]]:
        """The tables that stand in each, nearest first."""
        children: dict[str, list[str]] = {}
        for join in self.joins:
            children.setdefault(join.parent, []).append(join.child)
        return children

    @property
    def unread(self) -> Mapping[str, int]:
        """Paths that no rule reads, with how often they came in the documents that
        were looked at.
        """
        unread: Mapping[str, int] = self.record["sample"]["unread"]
        return unread

    @property
    def sampled_documents(self) -> int:
        return int(self.record["sample"]["documents"])

    @property
    def members_twice(self) -> int:
        return len(self.record["sample"]["twice"])

    @property
    def unmatched(self) -> Sequence[Mapping[str, JsonValue]]:
        """Rules that found nothing."""
        unmatched: Sequence[Mapping[str, JsonValue]] = self.record["unmatched"]
        return unmatched


def read_report(delivered: Delivered, against: Delivered | None = None) -> Report:
    """Reads a delivery once, and what it is compared with. Raises InputError."""
    # The last run: it says what the delivery is now.
    record = delivered.records[-1]
    keys = _hashed_keys(delivered)
    tables = {
        name: _counted_only(name, counts) for name, counts in record["tables"].items()
    }
    for name, table in delivered.tables.items():
        hashes = [
            hashed[name] for hashed in (keys.own, keys.of_parents) if name in hashed
        ]
        profiled = profile(delivered, table, hashes)
        tally = tables[name].tally if name in tables else TableTally()
        tables[name] = TableReport(
            name, tally, profiled.rows, profiled.columns, profiled.sampled, table.key
        )
    joins = [
        keys.join(table)
        for table in delivered.tables.values()
        if table.within is not None
    ]
    refused = refused_by_reason(delivered.rejects())
    report = Report(
        delivered.target, record, len(delivered.records), tables, joins, refused
    )
    return report if against is None else replace(report, before=read_report(against))


@dataclass(frozen=True)
class _HashedKeys:
    """The keys of tables, and the columns that lead back to those of their parents, hashed while
    the rows are read: so that it is one reading, and no key is kept as it is.
    """

    own: Mapping[str, KeyHashes]
    of_parents: Mapping[str, KeyHashes]

    def join(self, table: DeliveredTable) -> Join:
        parent = str(table.within)
        if table.name in self.of_parents and parent in self.own:
            return joined(
                table.name, parent, self.of_parents[table.name], self.own[parent]
            )
        return Join(table.name, parent, ())


def _hashed_keys(delivered: Delivered) -> _HashedKeys:
    own_keys, of_parents = {}, {}
    for name, table in delivered.tables.items():
        if table.key and set(table.key) <= table.types.keys():
            own_keys[name] = KeyHashes(table.key)
        columns = join_columns(delivered.tables, table)
        if columns:
            of_parents[name] = KeyHashes(columns)
    return _HashedKeys(own_keys, of_parents)


def _counted_only(name: str, counts: Mapping[str, int]) -> TableReport:
    """A table of which no column is written."""
    tally = TableTally(**counts)
    return TableReport(name, tally, tally.rows_written, {}, None, ())


def refused_by_reason(rejects: Iterable[DeliveredReject]) -> list[RefusedValues]:
    """The reasons, those for most rows first. A row with several problems counts for each."""
    reasons: dict[tuple[str | None, str | None, str], RefusedValues] = {}
    for reject in rejects:
        for problem in reject.problems:
            name = (reject.table, problem["field"], problem["code"])
            # Each kind of reason takes memory, and fields may be hundreds.
            if name not in reasons and len(reasons) >= MOST_REASONS:
                continue
            reason = reasons.setdefault(name, RefusedValues(*name))
            reason.count += reject.rows
            if len(reason.examples) < MOST_EXAMPLES:
                reason.examples.append((reject, problem))
    return sorted(
        reasons.values(),
        key=lambda one: (-one.count, one.table or "", one.field_name or "", one.code),
    )
