"""What speaks for and against using a delivery, weighed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from enum import Enum, auto

from mukret.report.profile import ColumnProfile
from mukret.report.reading import Report, TableReport


class Matter(Enum):
    """What a finding is about."""

    NOTHING_WRITTEN = auto()
    NO_ROWS_AT_ALL = auto()
    REJECTED = auto()
    BAD_DOCUMENTS = auto()
    NO_ROWS_FOUND = auto()
    ALWAYS_NULL = auto()
    MOSTLY_NULL = auto()
    UNKNOWN_FILTERED = auto()
    ORPHANS = auto()
    MEMBERS_TWICE = auto()
    TABLE_GONE = auto()
    COLUMN_GONE = auto()
    SHRUNK = auto()
    GREW = auto()
    MORE_NULLS = auto()
    ALL_ACCOUNTED_FOR = auto()
    NONE_REJECTED = auto()
    ALL_COLUMNS_FILLED = auto()
    AS_BEFORE = auto()


class Fitness(Enum):
    YES = "yes"
    WITH_CARE = "with care"
    NO = "no"


@dataclass(frozen=True)
class Finding:
    """`weight` orders findings; `forbids`: the delivery should not be used as it is.

    `count` of `of`, or now and before, as the matter has it.
    """

    matter: Matter
    weight: float
    forbids: bool = False
    table: str | None = None
    column: str | None = None
    count: int = 0
    of: int = 0
    along: int = 0
    """Rows of tables within that went with them."""


HALF, MANY_NULLS, TEN_POINTS = 0.5, 0.9, 0.1
# Bounds of judgement, the same for everybody: what they let pass is still on the page.
A_TENTH, THREE_TIMES = 0.1, 3.0


def weighed(report: Report) -> tuple[Fitness, list[Finding]]:
    """The verdict, and all findings, the weightiest first."""
    against = sorted(_against(report), key=_weightiest_first)
    verdict = Fitness.YES
    if against:
        verdict = Fitness.NO if against[0].forbids else Fitness.WITH_CARE
    return verdict, [*against, *_in_favour(report)]


def _weightiest_first(finding: Finding) -> tuple[bool, float, str, str]:
    return (
        not finding.forbids,
        -finding.weight,
        finding.table or "",
        finding.column or "",
    )


def _against(report: Report) -> Iterator[Finding]:
    if not any(table.rows for table in report.tables.values()):
        yield Finding(Matter.NO_ROWS_AT_ALL, 1.0, forbids=True, of=report.documents)
    bad = report.bad_documents
    if bad:
        share = bad / max(1, bad + report.documents)
        yield Finding(
            Matter.BAD_DOCUMENTS,
            0.5 + share / 2,
            share >= HALF,
            count=bad,
            of=bad + report.documents,
        )
    if report.members_twice:
        yield Finding(Matter.MEMBERS_TWICE, 0.2, count=report.members_twice)
    # Rows that went with their parent are told with that one.
    own_rejects = {
        name: table.tally.rows_rejected - report.gone_along.get(name, 0)
        for name, table in report.tables.items()
    }
    for table in report.tables.values():
        yield from _of_table(table)
        if own_rejects[table.name] > 0 and table.tally.rows_written:
            yield _rejected(
                table, own_rejects[table.name], _along(report, table.name, own_rejects)
            )
    for join in report.joins:
        if join.orphans:
            yield Finding(
                Matter.ORPHANS,
                0.4,
                table=join.child,
                column=join.parent,
                count=join.orphans * join.one_in,
            )
    if report.before is not None:
        yield from _since(report, report.before)


def _rejected(table: TableReport, own_rejects: int, along: int) -> Finding:
    seen = table.tally.rows_seen
    return Finding(
        Matter.REJECTED,
        own_rejects / seen,
        # More rejected than kept: whatever the rest is good for, it is no picture of the whole.
        own_rejects >= HALF * seen,
        table.name,
        None,
        own_rejects,
        seen,
        along,
    )


def _along(report: Report, name: str, own_rejects: Mapping[str, int]) -> int:
    """The rows that went with rejected ones of this table: those of the tables within, unless these
    have some of their own, with which they may have gone.
    """
    rows = 0
    for inner in report.within.get(name, ()):
        rows += report.gone_along.get(inner, 0)
        rows += 0 if own_rejects[inner] > 0 else _along(report, inner, own_rejects)
    return rows


def _of_table(table: TableReport) -> Iterator[Finding]:
    tally, name = table.tally, table.name
    if tally.rows_seen and not table.rows:
        # Rules that filter all of it may mean to.
        only_filtered = tally.rows_seen == tally.rows_filtered
        yield Finding(
            Matter.NOTHING_WRITTEN, 0.9, not only_filtered, name, count=tally.rows_seen
        )
    elif not table.rows:
        yield Finding(Matter.NO_ROWS_FOUND, 0.5, table=name)
    if tally.rows_filtered_unknown:
        share = tally.rows_filtered_unknown / tally.rows_seen
        counts = (tally.rows_filtered_unknown, tally.rows_filtered)
        yield Finding(Matter.UNKNOWN_FILTERED, 0.3 + share, False, name, None, *counts)
    for column in table.columns.values():
        if column.rows and not column.filled:
            yield Finding(
                Matter.ALWAYS_NULL,
                0.35,
                table=name,
                column=column.name,
                count=column.rows,
            )
        elif column.null_share >= MANY_NULLS:
            yield Finding(
                Matter.MOSTLY_NULL,
                0.1,
                False,
                name,
                column.name,
                column.nulls,
                column.rows,
            )


def _since(report: Report, before: Report) -> Iterator[Finding]:
    for name, old in before.tables.items():
        new = report.tables.get(name)
        if new is None:
            yield Finding(Matter.TABLE_GONE, 1.0, forbids=True, table=name, of=old.rows)
            continue
        if old.rows and new.rows < HALF * old.rows:
            yield Finding(
                Matter.SHRUNK,
                0.8,
                new.rows < A_TENTH * old.rows,
                name,
                None,
                new.rows,
                old.rows,
            )
        # More rows are seldom wrong, fewer often are.
        elif old.rows and new.rows > THREE_TIMES * old.rows:
            yield Finding(Matter.GREW, 0.3, False, name, None, new.rows, old.rows)
        for column in old.columns.values():
            yield from _column_since(name, column, new.columns.get(column.name))


def _column_since(
    table: str, old: ColumnProfile, new: ColumnProfile | None
) -> Iterator[Finding]:
    if new is None:
        yield Finding(Matter.COLUMN_GONE, 0.6, table=table, column=old.name)
    elif new.rows and new.null_share > old.null_share + TEN_POINTS:
        # Rounded to what is said; the weight below is of the exact shares.
        percents = (round(100 * new.null_share), round(100 * old.null_share))
        yield Finding(
            Matter.MORE_NULLS,
            0.3 + new.null_share - old.null_share,
            False,
            table,
            old.name,
            *percents,
        )


def _in_favour(report: Report) -> Iterator[Finding]:
    tables = report.tables.values()
    seen = sum(table.tally.rows_seen for table in tables)
    rejected = sum(table.tally.rows_rejected for table in tables)
    # Said only where it was looked for.
    if report.before is not None and not list(_since(report, report.before)):
        yield Finding(Matter.AS_BEFORE, 0)
    if seen and not rejected and not report.bad_documents:
        yield Finding(Matter.NONE_REJECTED, 0, count=seen, of=report.documents)
    columns = list(_columns_with_rows(report))
    if columns and all(column.filled for column in columns):
        yield Finding(Matter.ALL_COLUMNS_FILLED, 0, count=len(columns))
    if seen:
        yield Finding(Matter.ALL_ACCOUNTED_FOR, 0, count=seen)


def _columns_with_rows(report: Report) -> Iterator[ColumnProfile]:
    for table in report.tables.values():
        yield from (column for column in table.columns.values() if column.rows)
