"""What another version of the rules makes of the same responses: rows that appear or go, values
that change.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice, zip_longest

import msgspec
import pyarrow as pa
import pyarrow.compute as pc

from mukret.columns.arrow import true_rows
from mukret.columns.types import written
from mukret.documents import BadDocument, Source, nothing_read
from mukret.engine.decided import DecidedRows, DecidedTable
from mukret.engine.run import Run
from mukret.engine.table_rows import TableRows
from mukret.inspect.ignoring import is_ignored, refuse_unknown
from mukret.paths import normalized
from mukret.paths.locate import location_text
from mukret.rules.model import Rules, Table
from mukret.rules.renamed import same_columns, same_tables
from mukret.semantics.outcomes import RowOutcome
from mukret.types import DecimalType, Float, Integer, ValueType
from mukret.values import JsonValue

MOST_EXAMPLES = 3


@dataclass(frozen=True)
class ChangedCase:
    """A row: its place, its key (none where the table has none, or a part of it is null), and what
    was and is there.
    """

    place: str
    old: str | None
    new: str | None
    key: Mapping[str, str] = field(default_factory=dict)


@dataclass
class Change:
    """One kind of change: how often, and the first cases."""

    count: int = 0
    examples: list[ChangedCase] = field(default_factory=list)

    def see(self, count: int, cases: Iterable[ChangedCase]) -> None:
        """So many more; no more `cases` are asked for than are kept."""
        self.count += count
        self.examples += islice(cases, MOST_EXAMPLES - len(self.examples))


@dataclass
class TableChanges:
    """`old_name`: what the table is called in the old version, `names`: for each column that both
    have, by its name in the new one, the name in the old.

    `columns` are those that only one version has, or with another type, or under another name;
    `row_outcomes` by what becomes of a row in the old and in the new version (None: it is not
    there); `values` by column.
    """

    name: str
    old_name: str
    names: dict[str, str] = field(default_factory=dict)
    written: list[int] = field(default_factory=lambda: [0, 0])
    columns: dict[str, tuple[str | None, str | None]] = field(default_factory=dict)
    row_outcomes: dict[tuple[str | None, str | None], Change] = field(
        default_factory=dict
    )
    values: dict[str, Change] = field(default_factory=dict)

    @property
    def renamed(self) -> dict[str, str]:
        """The old names of columns that are called otherwise now."""
        return {name: before for name, before in self.names.items() if name != before}

    @property
    def any(self) -> bool:
        return bool(
            self.name != self.old_name
            or self.columns
            or self.renamed
            or self.row_outcomes
            or self.values
        )

    def as_json(self) -> dict[str, JsonValue]:
        before = {"renamed_from": self.old_name} if self.name != self.old_name else {}
        return {
            **before,
            "written": list(self.written),
            "columns": {
                name: {"old": old, "new": new}
                for name, (old, new) in self.columns.items()
            },
            "renamed": dict(self.renamed),
            "rows": [
                # A list, since a pair of outcomes can't be a key in JSON.
                {"old": old, "new": new, **msgspec.to_builtins(change)}
                for (old, new), change in self.row_outcomes.items()
            ],
            "values": msgspec.to_builtins(self.values),
        }


@dataclass
class RulesComparison:
    """`tables` by name, in the order of the new rules; `gone` and `come` are those that only one
    version has.
    """

    documents: int = 0
    bad_documents: int = 0
    tables: dict[str, TableChanges] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)
    come: list[str] = field(default_factory=list)

    @property
    def found(self) -> bool:
        return bool(
            self.gone
            or self.come
            or self.bad_documents
            or any(changes.any for changes in self.tables.values())
        )

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "documents": self.documents,
            "bad_documents": self.bad_documents,
            "gone": list(self.gone),
            "come": list(self.come),
            "tables": {
                name: changes.as_json() for name, changes in self.tables.items()
            },
        }


class Comparing:
    """Compares what two versions of the rules make of the same documents,
    a batch after the other.
    """

    def __init__(self, old: Rules, new: Rules, ignored: Collection[str] = ()) -> None:
        self.found = RulesComparison()
        # A table under a new name is the same one, if it reads the same rows.
        before = same_tables(old, new)
        self.found.gone = [name for name in old.tables if name not in before.values()]
        self.found.come = [name for name in new.tables if name not in before]
        for name, table in new.tables.items():
            if name in before:
                self.found.tables[name] = _table_changes(
                    old.tables[before[name]], table, ignored
                )

    def see(self, old: DecidedRows, new: DecidedRows) -> None:
        """Both are of one batch; each may hold other documents to be bad."""
        if new.found.array is None:  # not another part of a document that was counted
            self.found.documents += len(new.batch.documents)
        self.found.bad_documents += len(new.batch.bad)
        met = {table.name: table for table in new.new}
        for name, changes in self.found.tables.items():
            if name in met:
                _compare(changes, old.tables[changes.old_name], met[name])


def compare_rules(
    old: Rules,
    new: Rules,
    sources: Sequence[Source],
    *,
    ignored: Collection[str] = (),
    progress: Callable[[int], None] | None = None,
) -> RulesComparison:
    """Runs both versions over the same sources, which must be such as can be read again, a batch at
    a time.

    Rows are the same if they are found at one place. `ignored` are fields (`NAME`, or `TABLE.NAME`)
    that are not looked at: UsageError if neither version has one. `progress` is that of the second
    reading. Raises InputError as runs do.
    """
    refuse_unknown(ignored, [*_column_names(old), *_column_names(new)])
    comparing = Comparing(old, new, ignored)
    old_run = Run(old, _again(sources))
    # One moment for both, or each row with the time of the run would differ.
    two = Run(new, sources, progress=progress, started=old_run.started)
    # Where both cut a long document at the same places, its parts are compared one by one.
    whole = not same_parts(old_run, two)
    bad: BadDocument | None = None
    for batch, other in zip_longest(
        _decided(old_run, whole=whole), _decided(two, whole=whole)
    ):
        comparing.see(batch, other)
        # Bytes that are no JSON are so for both; one is enough to tell of.
        bad = bad or next(iter(other.batch.bad), None)
        if progress:
            progress(other.batch.size)
    if bad is not None and not comparing.found.documents:
        raise nothing_read(bad, comparing.found.bad_documents)
    return comparing.found


def _column_names(rules: Rules) -> Iterator[tuple[str, str]]:
    """The name of each column, with that of its table."""
    return (
        (name, column)
        for name, table in rules.tables.items()
        for column, _ in table.columns
    )


def same_parts(old: Run, new: Run) -> bool:
    """Whether both cut long documents at the same arrays."""
    return old.plan.long.arrays == new.plan.long.arrays


def _again(sources: Sequence[Source]) -> list[Source]:
    return [
        Source(source.path, source.named, source.origin, copy=source.copy)
        for source in sources
    ]


def _decided(run: Run, *, whole: bool) -> Iterator[DecidedRows]:
    """The tables of all batches. `whole`: no document is cut."""
    return run.decided_rows(whole=whole)


def _columns(
    old: Table, new: Table, names: Mapping[str, str]
) -> dict[str, tuple[str | None, str | None]]:
    """The types of columns that only one version has, or with another type."""
    before, after = dict(old.columns), dict(new.columns)
    # What is gone first: it breaks queries.
    changed: dict[str, tuple[str | None, str | None]] = {
        name: (kind.name, None)
        for name, kind in before.items()
        if name not in names.values()
    }
    for name, kind in after.items():
        old_type = before[names[name]].name if name in names else None
        if old_type != kind.name:
            changed[name] = (old_type, kind.name)
    return changed


def _compare(changes: TableChanges, old: DecidedTable, new: DecidedTable) -> None:
    changes.written[0] += old.outcomes.count(RowOutcome.WRITTEN)
    changes.written[1] += new.outcomes.count(RowOutcome.WRITTEN)
    kept: list[tuple[int, int]] = []
    # Mostly nothing has changed about rows: then they are paired by their numbers.
    if (
        _same_rows(old.rows, new.rows)
        and old.outcomes.row_outcomes == new.outcomes.row_outcomes
    ):
        _compare_values(changes, old, new, [(row, row) for row in old.written_rows])
        return
    for before, after in _pairs(old.rows, new.rows):
        row_outcomes = (_outcome(old, before), _outcome(new, after))
        if row_outcomes[0] != row_outcomes[1]:
            changes.row_outcomes.setdefault(row_outcomes, Change()).see(
                1, _row_changed(old, new, before, after)
            )
        # Values are compared where both versions write the row.
        elif before is not None and after is not None and row_outcomes[0] == "written":
            kept.append((before, after))
    _compare_values(changes, old, new, kept)


def _pairs(old: TableRows, new: TableRows) -> list[tuple[int | None, int | None]]:
    """Rows of both that are the same one; None where one version has no such row."""
    if _same_rows(old, new):
        return [(row, row) for row in range(old.count)]
    before = {_identity(old, row): row for row in range(old.count)}
    after = {_identity(new, row): row for row in range(new.count)}
    return [(before.get(key), after.get(key)) for key in {**before, **after}]


def _same_rows(old: TableRows, new: TableRows) -> bool:
    """Whether both have the same rows, in the same order: found by the same rules from the document
    on.
    """
    return (
        [_finding(table) for table in _upward(old)]
        == [_finding(table) for table in _upward(new)]
        and old.batch.numbers == new.batch.numbers
        and list(old.documents) == list(new.documents)
    )


def _upward(rows: TableRows) -> Iterator[Table]:
    above: TableRows | None = rows
    while above is not None:
        yield above.table
        above = above.parent


def _finding(table: Table) -> tuple[object, ...]:
    return table.rows, table.kind


def _identity(rows: TableRows, row: int) -> tuple[str, str]:
    return rows.place_in_input(row), normalized(rows.locate(row)[0].location)


def _outcome(table: DecidedTable, row: int | None) -> str | None:
    return (
        None
        if row is None
        else RowOutcome(table.outcomes.row_outcomes[row]).name.lower()
    )


def _row_changed(
    old: DecidedTable, new: DecidedTable, before: int | None, after: int | None
) -> Iterator[ChangedCase]:
    table, row = (new, after) if after is not None else (old, before or 0)
    yield ChangedCase(_place(table.rows, row), None, _why(new, after), _key(table, row))


def _why(table: DecidedTable, row: int | None) -> str | None:
    """Why a row is rejected, by the codes."""
    if row is None or table.outcomes.row_outcomes[row] != RowOutcome.REJECTED:
        return None
    faults = table.outcomes.faults.get(row, ())
    return (
        ", ".join(f"{fault.name or 'row'}: {fault.bad.code}" for fault in faults)
        or "with the row above it"
    )


def _place(rows: TableRows, row: int) -> str:
    return (
        f"{location_text(rows.locate(row)[0].location)} in {rows.place_in_input(row)}"
    )


def _key(table: DecidedTable, row: int) -> dict[str, str]:
    """The values of the key, as they are written."""
    kinds, columns = table.table.types, table.columns
    values = {
        name: written(columns.array(name).slice(row, 1), kinds[name])[0].as_py()
        for name in table.table.key
    }
    return {} if None in values.values() else values


def _compare_values(
    changes: TableChanges,
    old: DecidedTable,
    new: DecidedTable,
    kept: list[tuple[int, int]],
) -> None:
    if not kept:
        return
    before, after = dict(old.table.columns), dict(new.table.columns)
    first = pa.array([pair[0] for pair in kept], pa.int64())
    second = pa.array([pair[1] for pair in kept], pa.int64())
    for name, was in changes.names.items():
        kinds = before[was], after[name]
        # A column that is the same to the bit is not written out as texts.
        if kinds[0] == kinds[1] and old.columns.array(was).equals(
            new.columns.array(name)
        ):
            continue
        old_texts, new_texts = (
            _texts(old, was, kinds[0], first),
            _texts(new, name, kinds[1], second),
        )
        same = (
            # 2.50 and 2.5 are one number: a change of its type alone is told as that of a column.
            _equal(*map(_plain_numbers, (old_texts, new_texts)))
            if _both_numbers(*kinds)
            else _equal(old_texts, new_texts)
        )
        different = true_rows(pc.invert(same))
        if different:
            cases = (
                ChangedCase(
                    _place(new.rows, kept[row][1]),
                    old_texts[row].as_py(),
                    new_texts[row].as_py(),
                    _key(new, kept[row][1]),
                )
                for row in different
            )
            changes.values.setdefault(name, Change()).see(len(different), cases)


def _equal(old: pa.Array, new: pa.Array) -> pa.Array:
    return pc.or_(
        pc.fill_null(pc.equal(old, new), False),
        pc.and_(pc.is_null(old), pc.is_null(new)),
    )


def _both_numbers(old: ValueType, new: ValueType) -> bool:
    numbers = (Integer, DecimalType, Float)
    return old != new and isinstance(old, numbers) and isinstance(new, numbers)


def _plain_numbers(texts: pa.Array) -> pa.Array:
    """Numbers without the zeros at the end of a fraction: 12.45 and 12.4500 are one value."""
    cut = pc.utf8_rtrim(pc.utf8_rtrim(texts, characters="0"), characters=".")
    return pc.if_else(pc.match_substring(texts, "."), cut, texts)


def _texts(
    table: DecidedTable, name: str, kind: ValueType, which: pa.Array
) -> pa.Array:
    return written(table.columns.array(name), kind).take(which)


def _table_changes(old: Table, new: Table, ignored: Collection[str]) -> TableChanges:
    """What is different about a table before any row is looked at: its columns."""
    names = same_columns(old, new)
    columns = _columns(old, new, names)
    # A column that is ignored is left out of all that is said, not only of values.
    looked_at = {
        column
        for column in {**names, **columns}
        if not is_ignored(new.name, column, ignored)
    }
    return TableChanges(
        new.name,
        old.name,
        {column: name for column, name in names.items() if column in looked_at},
        columns={
            column: types for column, types in columns.items() if column in looked_at
        },
    )
