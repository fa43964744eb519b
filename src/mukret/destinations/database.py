"""What databases share: how a table is written into one that may be there already, and what differs
from it.
"""

from __future__ import annotations

import json
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import Enum

from mukret.codes import Code
from mukret.destinations.ddl import Dialect, SqlColumn, columns_of, quoted
from mukret.destinations.joins import primary_key
from mukret.errors import OutputError
from mukret.rules.model import Rules, Table

# The records of runs, and what they rejected.
RUNS, REJECTS = "mukret_runs", "mukret_rejects"


class Mode(Enum):
    """What becomes of a table that is there: refused; made anew; added to; added to, rows with a
    known key replaced.
    """

    CREATE = "create"
    REPLACE = "replace"
    APPEND = "append"
    UPSERT = "upsert"


@dataclass(frozen=True)
class Existing:
    """A column as it is there. `needed`: a row without a value for it is refused."""

    type: str
    needed: bool = False


@dataclass(frozen=True)
class Difference:
    """What keeps rows out of a table that is there, in words; `missing`: it lacks a column, no
    more.
    """

    told: str
    missing: bool = False


def differences(
    wanted: Sequence[SqlColumn], there: Mapping[str, Existing]
) -> list[Difference]:
    """All that keeps rows of the wanted columns out of a table."""
    differing = []
    # Names that differ in case alone are one column to most databases.
    by_name = {name.lower(): one for name, one in there.items()}
    for column in wanted:
        existing = by_name.get(column.name.lower())
        if existing is None:
            differing.append(
                Difference(f"{column.name} is missing ({column.type})", missing=True)
            )
        elif existing.type.lower() != column.type.lower():
            differing.append(
                Difference(
                    f"{column.name} is {existing.type or 'of no type'}, not {column.type}"
                )
            )
    wanted_names = {column.name.lower() for column in wanted}
    # A column of theirs that must have a value, and that no rule fills, would fail each row.
    needed = [
        name
        for name, one in there.items()
        if one.needed and name.lower() not in wanted_names
    ]
    return differing + [
        Difference(f"{name} wants a value, and the rules have none") for name in needed
    ]


def refuse_names(tables: Sequence[Table]) -> None:
    """Raises OutputError for a table with a name that is taken by the records of runs."""
    for table in tables:
        if table.name.lower() in (RUNS, REJECTS):
            message = f"a table {table.name}: that name is for the records of runs"
            raise OutputError(Code.NOT_HELD, message, hint="rename it")


class Database(ABC):
    """A destination that is a database.

    `mode` None: what a run has made is made anew, all else is refused.

    A database says how it calls types, what is there, and how a table is made and changed; what may
    be done to which table is decided here.
    """

    linked = False
    dialect: Dialect

    def __init__(
        self, target: str, mode: Mode | None = None, *, widen: bool = False
    ) -> None:
        self.target = target
        self.mode = mode
        self.widen = widen
        self.committed = False
        self.created: list[str] = []

    @property
    def outcome(self) -> str:
        return (
            f"{self.target} was published"
            if self.committed
            else "nothing was published"
        )

    def taken(self) -> set[str]:
        """The inputs of the runs since the tables were made anew."""
        hashes: set[str] = set()
        for text in self.records():
            record = json.loads(text)
            if record.get("anew"):
                # What earlier runs took is no longer in the tables.
                hashes.clear()
            hashes |= {source["sha256"] for source in record["inputs"]}
        return hashes

    # ---- what a database says

    @abstractmethod
    def records(self) -> list[str]:
        """The records of the runs before this one, in their order."""

    @abstractmethod
    def there(self, name: str) -> dict[str, Existing]:
        """The columns of a table, if it is there."""

    @abstractmethod
    def create(
        self, rules: Rules, table: Table, columns: Sequence[SqlColumn]
    ) -> None: ...

    @abstractmethod
    def drop(self, names: Sequence[str]) -> None:
        """Drops tables that may refer to each other."""

    @abstractmethod
    def add_column(self, name: str, column: SqlColumn) -> None: ...

    # ---- tables

    @property
    def anew(self) -> bool:
        return self.mode in (None, Mode.CREATE, Mode.REPLACE)

    def make(self, rules: Rules, tables: Sequence[Table], ours: set[str]) -> None:
        """Makes the tables, or sees that those that are there take the rows. Raises OutputError."""
        # All are looked at before any is changed: SQLite and PostgreSQL both undo it, but a refusal
        # should cost nothing.
        there = {table.name: self.there(table.name) for table in tables}
        known = [table.name for table in tables if there[table.name]]
        if self.anew and known:
            for name in known:
                self.refuse_foreign(name, ours)
            self.drop(known)
            there = {name: {} for name in there}
        for table in tables:
            columns = columns_of(rules, table, self.dialect)
            if there[table.name]:
                self.fit(table.name, columns, there[table.name])
            else:
                self.create(rules, table, columns)
                self.created.append(table.name)

    def fit(
        self, name: str, columns: Sequence[SqlColumn], there: Mapping[str, Existing]
    ) -> None:
        """Adds the columns that a table lacks, where that is asked for.

        Raises OutputError for any other difference.
        """
        differing = [
            difference
            for difference in differences(columns, there)
            if not (difference.missing and self.widen)
        ]
        if differing:
            told = "; ".join(difference.told for difference in differing)
            # Only a lack can be mended without touching rows that are there.
            hint = "--mode replace makes a table anew"
            if all(difference.missing for difference in differing):
                hint = "--widen adds new columns"
            raise OutputError(
                Code.OTHER_TABLE, f"{name} is there and differs: {told}", hint=hint
            )
        known = {difference.lower() for difference in there}
        for column in columns:
            if column.name.lower() not in known:
                self.add_column(name, column)

    def refuse_foreign(self, name: str, ours: set[str]) -> None:
        """Raises OutputError for a table that may not be made anew."""
        if self.mode is Mode.CREATE:
            raise OutputError(
                Code.NOT_EMPTY,
                f"{name} is there already",
                hint="--mode replace, append or upsert",
            )
        # The table may be somebody's work: only what a run made is put away by another.
        if name not in ours:
            hint = "--mode append or upsert adds to it, where its columns fit"
            raise OutputError(
                Code.NOT_EMPTY,
                f"{name} is there, and Mukret did not make it",
                hint=hint,
            )

    def insert(self, rules: Rules, table: Table, values: str) -> str:
        """The statement that adds rows, in the place of those with their key where that is asked
        for. Raises OutputError for a table without a key then.
        """
        names = [name for name, _ in table.columns]
        statement = f"INSERT INTO {quoted(table.name)} ({', '.join(map(quoted, names))}) {values}"
        if self.mode is not Mode.UPSERT:
            return statement
        key = primary_key(rules, table)
        if not key:
            hint = "key: in the rules, of fields that are written and never null"
            raise OutputError(
                Code.NO_KEY, f"{table.name} has no key to tell rows by", hint=hint
            )
        field = [name for name in names if name not in key]
        changes = ", ".join(f"{quoted(one)} = excluded.{quoted(one)}" for one in field)
        # A table that is all key has nothing to change: the row is there.
        action = f"UPDATE SET {changes}" if field else "NOTHING"
        return f"{statement} ON CONFLICT ({', '.join(map(quoted, key))}) DO {action}"

    def no_key_there(self, rules: Rules, table: Table) -> OutputError:
        message = (
            f"{table.name} is there, and {', '.join(primary_key(rules, table))} is no key "
            "of it"
        )
        return OutputError(Code.NO_KEY, message, hint="a unique index makes it one")
