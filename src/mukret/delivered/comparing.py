"""Two deliveries beside each other: which rows and columns came, went and changed.

Each table is gone through once on both sides, as hashes (`hashed.py`) that are joined by the key,
in parts if they are many (`partitions.py`). Counts come out of the hashes alone. What is shown of a
few rows is read in a second pass.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import pyarrow as pa
import pyarrow.compute as pc

from mukret.delivered.contract import Delivered, DeliveredTable
from mukret.delivered.differences import (
    ChangedField,
    ChangedValue,
    ColumnChanges,
    Differences,
    Renamed,
    Row,
    SampledRows,
    TableDifferences,
)
from mukret.delivered.hashed import KEY, ROW, TIMES, Side, canonical_for, hash_of_null
from mukret.delivered.partitions import Partitions
from mukret.inspect.ignoring import is_ignored, refuse_unknown

# Rows of each kind of difference that are read again to be shown.
MOST_SHOWN = 3
BEFORE, AFTER = "before:", "after:"
# A column is a renamed one if more than this share of its values are those of one that is gone.
RENAMED_FROM = 0.5
# Columns of so few different values (flags, mostly) are alike by chance: more is asked of them.
FEW_VALUES, RENAMED_FROM_OF_FEW = 3, 0.9


def compare_deliveries(
    before: Delivered, after: Delivered, *, ignored: Collection[str] = ()
) -> Differences:
    """What differs in `after`.

    `ignored` are fields (`NAME`, or `TABLE.NAME`) that are not looked at.

    Memory is bounded, whatever the number of rows; what has no room goes to temporary files. Raises
    InputError where a delivery can't be read, and UsageError for ignored fields that are in
    neither.
    """
    # A misspelt name would let a column be compared that was to be left aside.
    refuse_unknown(ignored, [*_column_names(before), *_column_names(after)])
    return Differences(
        {
            name: _compared(before, after, name, ignored)
            for name in after.tables
            if name in before.tables
        },
        added=tuple(name for name in after.tables if name not in before.tables),
        gone=tuple(name for name in before.tables if name not in after.tables),
    )


def _column_names(delivered: Delivered) -> Iterator[tuple[str, str]]:
    """The name of each column, with that of its table."""
    return (
        (table.name, column)
        for table in delivered.tables.values()
        for column in table.types
    )


# ---- columns


@dataclass(frozen=True)
class _Columns:
    """The columns of a table on both sides that are looked at: those that both have, and those that
    one has alone.
    """

    before: DeliveredTable
    after: DeliveredTable
    both: tuple[str, ...]
    gone: tuple[str, ...]
    added: tuple[str, ...]

    @classmethod
    def of(
        cls, before: DeliveredTable, after: DeliveredTable, ignored: Collection[str]
    ) -> _Columns:
        # In the order of the newer delivery, as its readers know them.
        def compared(table: DeliveredTable) -> list[str]:
            return [
                name
                for name in table.types
                if not is_ignored(after.name, name, ignored)
            ]

        old, new = compared(before), compared(after)
        return cls(
            before,
            after,
            tuple(name for name in new if name in before.types),
            tuple(name for name in old if name not in after.types),
            tuple(name for name in new if name not in before.types),
        )

    @property
    def key(self) -> tuple[str, ...]:
        """What tells rows apart: the key of the later delivery, or else of the earlier, if both
        have all of it.
        """
        keys = (self.after.key, self.before.key)
        return next((key for key in keys if key and set(key) <= set(self.both)), ())

    def changes(self, renamed: Mapping[str, Renamed]) -> ColumnChanges:
        # A column that was renamed is neither gone nor new.
        old = {column.before for column in renamed.values()}
        types = {
            name: (self.before.types[name], self.after.types[name])
            for name in self.both
        }
        return ColumnChanges(
            added={
                name: self.after.types[name]
                for name in self.added
                if name not in renamed
            },
            gone={
                name: self.before.types[name] for name in self.gone if name not in old
            },
            retyped={name: pair for name, pair in types.items() if pair[0] != pair[1]},
            renamed=renamed,
        )

    def sides(
        self, before: Delivered, after: Delivered, key: Sequence[str]
    ) -> tuple[Side, Side]:
        exact = before.exact and after.exact
        old, new = self.before.columns, self.after.columns
        # A column of both sides is written alike on both, whatever its types: 2.50 and 2.5 are one.
        canonical = {
            name: canonical_for(old[name], new[name], exact=exact) for name in self.both
        }
        gone = {
            name: canonical_for(old[name], old[name], exact=exact) for name in self.gone
        }
        added = {
            name: canonical_for(new[name], new[name], exact=exact)
            for name in self.added
        }
        return (
            Side(BEFORE, before, self.before.name, key, {**canonical, **gone}),
            Side(AFTER, after, self.after.name, key, {**canonical, **added}),
        )


# ---- a table


class _KeyRepeats(Exception):
    """The key does not tell all rows apart."""


def _compared(
    before: Delivered, after: Delivered, name: str, ignored: Collection[str]
) -> TableDifferences:
    columns = _Columns.of(before.tables[name], after.tables[name], ignored)
    if columns.key:
        try:
            return _Comparison(
                columns, columns.sides(before, after, columns.key), keyed=True
            ).differences()
        # Rows can't be told apart by it: then whole rows are counted, and it is said.
        except _KeyRepeats:
            pass
    whole = columns.sides(before, after, columns.both)
    return _Comparison(columns, whole, keyed=False).differences(repeated=columns.key)


@dataclass(frozen=True, order=True)
class _Place:
    """A row that may be shown: its number, by which the first ones are found, and the hash of its
    key.
    """

    row: int
    key: bytes


@dataclass
class _Counted:
    """A count of rows, and the places of the first."""

    count: int = 0
    places: list[_Place] = field(default_factory=list)

    def add(self, count: int, rows: pa.Table, keys: pa.Table) -> None:
        """Counts more rows, with their numbers and keys."""
        self.count += count
        first = (
            # The first in the order of the file, however the join has mixed them.
            pc.select_k_unstable(rows, MOST_SHOWN, sort_keys=[("", "ascending")])
            if len(rows)
            else []
        )
        places = [
            _Place(rows[index.as_py()].as_py(), keys[index.as_py()].as_py())
            for index in first
        ]
        self.places = sorted([*self.places, *places])[:MOST_SHOWN]

    def sampled(self, rows: Mapping[bytes, Row]) -> SampledRows:
        """The count with the first rows, out of those that were read again, by their keys."""
        return SampledRows(self.count, tuple(rows[place.key] for place in self.places))


class _Comparison:
    """One table on its way through.

    Where it is not `keyed`, rows are the same if they are so as a whole, and as many times as they
    come.
    """

    def __init__(
        self, columns: _Columns, sides: tuple[Side, Side], *, keyed: bool
    ) -> None:
        self.columns = columns
        self.before, self.after = sides
        self.keyed = keyed
        self.rows = [0, 0]
        self.added = _Counted()
        self.gone = _Counted()
        self.changed_rows = 0
        self.changed = {name: _Counted() for name in columns.both}
        # Each column that went beside each that came: one may be the other under a new name.
        self.pairs = {
            (old, new): _Pair() for old in columns.gone for new in columns.added
        }

    def differences(self, repeated: tuple[str, ...] = ()) -> TableDifferences:
        for before, after in self.parts():
            self.rows[0] += before.num_rows
            self.rows[1] += after.num_rows
            if self.keyed:
                self.by_key(before, after)
            else:
                self.by_whole_rows(before, after)
        renamed = _renamed(self.pairs)
        return self.shown(renamed, repeated)

    def parts(self) -> Iterator[tuple[pa.Table, pa.Table]]:
        """The hashed rows of both sides, those with the same key together."""
        with (
            Partitions(self.before.hashed()) as before,
            Partitions(self.after.hashed()) as after,
        ):
            # All of it fits into memory, as it does for most deliveries.
            if not before.spilled and not after.spilled:
                yield before.whole(), after.whole()
                return
            before.finish()
            after.finish()
            for number in range(before.count):
                yield before.part(number), after.part(number)

    # ---- counting

    def by_key(self, before: pa.Table, after: pa.Table) -> None:
        for table in (before, after):
            if pc.count_distinct(table.column(KEY)).as_py() < table.num_rows:
                raise _KeyRepeats
        # On one thread, so that rows come in the same order each time.
        joined = before.join(
            after, [KEY], join_type="full outer", use_threads=False
        ).combine_chunks()
        old_rows, new_rows = (
            joined.column(side.column(ROW)) for side in (self.before, self.after)
        )
        self.alone(self.gone, joined.filter(pc.is_null(new_rows)), self.before)
        self.alone(self.added, joined.filter(pc.is_null(old_rows)), self.after)
        self.values(
            joined.filter(pc.and_(pc.is_valid(old_rows), pc.is_valid(new_rows)))
        )

    def alone(self, counted: _Counted, rows: pa.Table, side: Side) -> None:
        """Rows that one side alone has."""
        counted.add(
            rows.num_rows,
            rows.column(side.column(ROW)).combine_chunks(),
            rows.column(KEY).combine_chunks(),
        )

    def values(self, both: pa.Table) -> None:
        """Rows that both sides have, each with the hashes of both."""
        different = pa.repeat(pa.scalar(False), both.num_rows)
        for name, counted in self.changed.items():
            differs = pc.not_equal(
                both.column(BEFORE + name), both.column(AFTER + name)
            ).combine_chunks()
            if pc.any(differs, min_count=0).as_py():
                rows = both.select([KEY, self.after.column(ROW)]).filter(differs)
                self.alone(counted, rows, self.after)
                different = pc.or_(different, differs)
        self.changed_rows += pc.sum(different, min_count=0).as_py()
        # Of rows that are there on both sides alone: only these tell whether a column was renamed.
        for (old, new), pair in self.pairs.items():
            pair.see(both.column(BEFORE + old), both.column(AFTER + new))

    def by_whole_rows(self, before: pa.Table, after: pa.Table) -> None:
        """Where the same row comes several times, the difference in number is counted."""
        old, new = _times(before, self.before), _times(after, self.after)
        joined = old.join(
            new, [KEY], join_type="full outer", use_threads=False
        ).combine_chunks()
        # A row that one side lacks comes no times there.
        times = [
            pc.fill_null(joined.column(side.column(TIMES)), 0)
            for side in (self.before, self.after)
        ]
        for counted, side, more in (
            (self.gone, self.before, pc.subtract(times[0], times[1])),
            (self.added, self.after, pc.subtract(times[1], times[0])),
        ):
            some = pc.greater(more, 0)
            rows = joined.filter(some)
            count = pc.sum(more.filter(some), min_count=0).as_py()
            counted.add(
                count,
                rows.column(side.column(ROW)).combine_chunks(),
                rows.column(KEY).combine_chunks(),
            )
        for (gone, added), pair in self.pairs.items():
            pair.see_alike(before.column(BEFORE + gone), after.column(AFTER + added))

    # ---- showing

    def shown(
        self, renamed: Mapping[str, Renamed], repeated: tuple[str, ...]
    ) -> TableDifferences:
        changed = {
            name: counted for name, counted in self.changed.items() if counted.count
        }
        places = [place for counted in changed.values() for place in counted.places]
        # Hashes alone were kept; what is shown is read again, a few rows of each side.
        old = self.before.rows_of({place.key for place in [*places, *self.gone.places]})
        new = self.after.rows_of({place.key for place in [*places, *self.added.places]})
        fields: dict[str, ChangedField] = {}
        for name, counted in changed.items():
            values = [
                self.value(name, old[place.key], new[place.key])
                for place in counted.places
            ]
            fields[name] = ChangedField(counted.count, tuple(values))
        return TableDifferences(
            (self.rows[0], self.rows[1]),
            tuple(self.before.key) if self.keyed else (),
            self.columns.changes(renamed),
            self.added.sampled(new),
            self.gone.sampled(old),
            self.changed_rows,
            fields,
            repeated,
        )

    def value(self, name: str, old: Row, new: Row) -> ChangedValue:
        return ChangedValue(
            {part: new[part] for part in self.after.key}, old[name], new[name]
        )


def _times(table: pa.Table, side: Side) -> pa.Table:
    """Each different row once: how many times it comes, and the number of the first."""
    row = side.column(ROW)
    grouped = table.group_by(KEY, use_threads=False).aggregate(
        [(row, "min"), ([], "count_all")]
    )
    return grouped.rename_columns([KEY, row, side.column(TIMES)])


# ---- renamed columns


@dataclass
class _Pair:
    """A column that is gone and a new one: in how many rows either has a value, and in how many
    both have the same.
    """

    filled: int = 0
    same: int = 0
    different_values: int = 0

    def see(self, old: pa.Table, new: pa.Table) -> None:
        """The hashes of both in the same rows."""
        null = hash_of_null()
        filled = pc.or_(pc.not_equal(old, null), pc.not_equal(new, null))
        same = pc.and_(filled, pc.equal(old, new))
        self.filled += pc.sum(filled, min_count=0).as_py()
        self.same += pc.sum(same, min_count=0).as_py()
        self.different_values = max(
            self.different_values, pc.count_distinct(new).as_py()
        )

    def see_alike(self, old: pa.Table, new: pa.Table) -> None:
        """The hashes of both, where it is not known which rows belong together: how often each
        value comes in both.
        """
        # Two columns that are mostly empty have that in common with any other.
        null = hash_of_null()
        old, new = (column.filter(pc.not_equal(column, null)) for column in (old, new))
        before = {
            entry["values"]: entry["counts"]
            for entry in pc.value_counts(old).to_pylist()
        }
        after = {
            entry["values"]: entry["counts"]
            for entry in pc.value_counts(new).to_pylist()
        }
        self.filled += max(len(old), len(new))
        self.same += sum(
            min(count, before.get(value, 0)) for value, count in after.items()
        )
        self.different_values = max(self.different_values, len(after))

    @property
    def share(self) -> float:
        return self.same / self.filled if self.filled else 0.0

    @property
    def alike(self) -> bool:
        wanted = (
            RENAMED_FROM if self.different_values > FEW_VALUES else RENAMED_FROM_OF_FEW
        )
        return self.share > wanted


def _renamed(pairs: Mapping[tuple[str, str], _Pair]) -> dict[str, Renamed]:
    """Each new column with the one that is gone whose values it has; the most alike first, each
    taken once.
    """
    renamed: dict[str, Renamed] = {}
    taken: set[str] = set()
    for (old, new), pair in sorted(pairs.items(), key=lambda entry: -entry[1].share):
        if pair.alike and new not in renamed and old not in taken:
            renamed[new] = Renamed(old, pair.share)
            taken.add(old)
    return renamed
