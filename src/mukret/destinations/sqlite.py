"""SQLite: tables in a file, written in one transaction with the records of the run.

Decimals, dates, instants and durations are texts as in CSV, so that they stay exact; lists and
`json` are JSON texts.
"""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING

from mukret.codes import Code
from mukret.columns.types import written
from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.destinations.database import (
    REJECTS,
    RUNS,
    Database,
    Existing,
    Mode,
    refuse_names,
)
from mukret.destinations.ddl import SQLITE, SqlColumn, create_table, quoted
from mukret.destinations.joins import primary_key
from mukret.destinations.json_objects import json_values
from mukret.errors import OutputError, UsageError
from mukret.rules.model import Rules, Table
from mukret.semantics.rejects import Reject
from mukret.types import Boolean, Float, Integer, Json, ListOf, ValueType
from mukret.values import JsonValue, shown_text

if TYPE_CHECKING:
    import pyarrow as pa

SCHEME = "sqlite:///"
# Seconds to wait for another program that writes.
PATIENCE = 5.0


class Sqlite(Database):
    dialect = SQLITE

    def __init__(
        self, target: str, mode: Mode | None = None, *, widen: bool = False
    ) -> None:
        super().__init__(target, mode, widen=widen)
        self.path = target.removeprefix(SCHEME)
        # A database that this run makes goes again if the run fails.
        self.new = not os.path.exists(self.path)
        self.connection: sqlite3.Connection | None = None
        self.inserts: dict[str, str] = {}
        self.run = 0
        if not self.path:
            raise UsageError(
                Code.USAGE, f"{target}: which file?", hint=f"{SCHEME}ferries.db"
            )

    # ---- the contract

    def open(self, delivery: Delivery) -> None:
        self.rules = rules = delivery.rules
        tables = [rules.tables[name] for name in delivery.schemas]
        refuse_names(tables)
        with self.told():
            self.connection = sqlite3.connect(
                self.path,
                timeout=PATIENCE,
                isolation_level=None,
                check_same_thread=False,
            )
            # Takes the right to write at once: later it could be refused, after all the work.
            self.execute("BEGIN IMMEDIATE")
            self.execute(
                f"CREATE TABLE IF NOT EXISTS {RUNS} (run INTEGER PRIMARY KEY, started TEXT, "
                "finished TEXT,"
                " rules_sha256 TEXT, created TEXT, record TEXT)"
            )
            self.execute(
                f"CREATE TABLE IF NOT EXISTS {REJECTS} (run INTEGER REFERENCES {RUNS}, file TEXT, "
                "document INTEGER,"
                ' path TEXT, "table" TEXT, problems TEXT)'
            )
            ours = {
                str(name)
                for (text,) in self.execute(f"SELECT created FROM {RUNS}")
                for name in json.loads(text)
            }
            self.make(rules, tables, ours)
            for table in tables:
                self.inserts[table.name] = self.checked_insert(rules, table)
            if self.anew:
                self.execute(f"DELETE FROM {REJECTS}")
            cursor = self.execute(
                f"INSERT INTO {RUNS} (rules_sha256, created) VALUES (?, '[]')",
                rules.sha256,
            )
            self.run = cursor.lastrowid or 0
        self.kinds = {
            table.name: list(dict(table.columns).values()) for table in tables
        }

    def write(self, rows: RowsToWrite) -> None:
        with self.told():
            for name, batch in rows.tables.items():
                if batch.num_rows:
                    kinds = self.kinds[name]
                    columns = [
                        _values(column, kind)
                        for column, kind in zip(batch.columns, kinds, strict=True)
                    ]
                    self.add(name, list(zip(*columns, strict=True)))

    def add(self, name: str, rows: list[tuple[object, ...]]) -> None:
        """Raises OutputError for a row whose key is there already."""
        assert self.connection is not None
        # How far it came says which row was refused: SQLite does not.
        before = self.connection.total_changes
        try:
            self.connection.executemany(self.inserts[name], rows)
        except sqlite3.IntegrityError:
            table = self.rules.tables[name]
            row = dict(
                zip(
                    (column for column, _ in table.columns),
                    rows[self.connection.total_changes - before],
                    strict=True,
                )
            )
            key = ", ".join(
                f"{one} {shown_text(row[one])}"
                for one in primary_key(self.rules, table)
            )
            message = (
                f"{self.target}: {name} has a row with "
                f"{key or 'a unique value of this one'} already"
            )
            raise OutputError(
                Code.KEY_THERE,
                message,
                hint="--mode upsert replaces rows with a known key",
            ) from None

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        assert self.connection is not None
        told = [json.loads(reject.line()) for reject in rejects]
        rows = [
            (
                self.run,
                line["file"],
                line["document"],
                line["path"],
                line["table"],
                json.dumps(line["problems"], ensure_ascii=False),
            )
            for line in told
        ]
        with self.told():
            self.connection.executemany(
                f"INSERT INTO {REJECTS} VALUES (?, ?, ?, ?, ?, ?)", rows
            )

    def publish(self, record: dict[str, JsonValue]) -> None:
        assert self.connection is not None
        record["anew"] = self.anew
        created, told = json.dumps(self.created), json.dumps(record, ensure_ascii=False)
        with self.told():
            self.execute(
                f"UPDATE {RUNS} SET started = ?, finished = ?, created = ?, record = ?"
                " WHERE run = ?",
                record["started"],
                record["finished"],
                created,
                told,
                self.run,
            )
            self.execute("COMMIT")
            # From here on an interrupt is told as one of a run that was published.
            self.committed = True
            self.connection.close()

    def abort(self) -> None:
        if self.connection is None or self.committed:
            return
        with suppress(sqlite3.Error):
            # All of a run is one transaction.
            self.connection.rollback()
            self.connection.close()
        if self.new:
            with suppress(OSError):
                os.unlink(self.path)

    # ---- what a database says

    def records(self) -> list[str]:
        rows = self.execute(
            f"SELECT record FROM {RUNS} WHERE record IS NOT NULL AND run < ? ORDER BY run",
            self.run,
        )
        return [text for (text,) in rows]

    def there(self, name: str) -> dict[str, Existing]:
        rows = self.execute(f"PRAGMA table_info({quoted(name)})").fetchall()
        return {
            row[1]: Existing(
                # Needed: not null, without a default, and no key that counts by itself.
                row[2],
                needed=bool(row[3]) and row[4] is None and not row[5],
            )
            for row in rows
        }

    def create(self, rules: Rules, table: Table, columns: Sequence[SqlColumn]) -> None:
        """With what the rules say in remarks, which SQLite keeps."""
        self.execute(create_table(rules, table, self.dialect))

    def drop(self, names: Sequence[str]) -> None:
        for name in names:
            self.execute(f"DROP TABLE {quoted(name)}")

    def add_column(self, name: str, column: SqlColumn) -> None:
        self.execute(
            f"ALTER TABLE {quoted(name)} ADD COLUMN {quoted(column.name)} {column.type}"
        )

    def checked_insert(self, rules: Rules, table: Table) -> str:
        statement = self.insert(
            rules, table, f"VALUES ({', '.join('?' * len(table.columns))})"
        )
        try:
            # Prepared and not run: only to learn whether there is a key to replace rows by.
            self.execute(f"EXPLAIN {statement}", *[None] * len(table.columns))
        except sqlite3.OperationalError:
            raise self.no_key_there(rules, table) from None
        return statement

    def execute(self, statement: str, *values: object) -> sqlite3.Cursor:
        assert self.connection is not None
        return self.connection.execute(statement, values)

    @contextmanager
    def told(self) -> Iterator[None]:
        """Says in words what SQLite refuses."""
        try:
            yield
        except sqlite3.OperationalError as error:
            # The one word of SQLite's own by which it can be told from a full disk.
            if "locked" in str(error):
                hint = "wait until the other program is done"
                raise OutputError(
                    Code.IN_USE,
                    f"{self.target}: another program writes into it",
                    hint=hint,
                ) from None
            hint = "what was there before is still there"
            raise OutputError(
                Code.NOT_WRITTEN, f"{self.target}: {error}", hint=hint
            ) from None
        except sqlite3.DatabaseError as error:
            raise OutputError(
                Code.NOT_EMPTY, f"{self.target}: {error}", hint="name another file"
            ) from None


_TRUTHS = {None: None, False: 0, True: 1}


def _values(array: pa.Array, kind: ValueType) -> list[object]:
    if isinstance(kind, Integer | Float):
        return list(array.to_pylist())
    # SQLite has no truth values; everything but numbers is text.
    if isinstance(kind, Boolean):
        return list(map(_TRUTHS.__getitem__, array.to_pylist()))
    return list(
        (json_values if isinstance(kind, ListOf | Json) else written)(
            array, kind
        ).to_pylist()
    )
