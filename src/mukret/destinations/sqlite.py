"""SQLite: tables in a file, written in one transaction with the records of the run.

Decimals, dates, instants and durations are texts as in CSV, so that they stay exact; lists and `json` are JSON texts.
"""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

from mukret.columns.written import written
from mukret.destinations.contract import Delivery, Rows
from mukret.destinations.database import (
    REJECTS,
    RUNS,
    Column,
    Existing,
    Mode,
    about,
    differences,
    refuse_differences,
    refuse_names,
)
from mukret.destinations.joins import never_null, parent_key, primary_key
from mukret.destinations.json_objects import json_values
from mukret.engine.rejects import Reject
from mukret.errors import OutputError, UsageError
from mukret.rules.model import Rules, Table
from mukret.types import Boolean, Float, Integer, Json, ListOf, ValueType

SCHEME = "sqlite:///"
PATIENCE = 5.0
"""Seconds to wait for another program that writes."""


class Sqlite:
    """`mode` None: what a run has made is made anew, all else is refused."""

    linked = encodes = False

    def __init__(self, target: str, mode: Mode | None = None, *, widen: bool = False) -> None:
        self.target = target
        self.path = target.removeprefix(SCHEME)
        self.mode = mode
        self.widen = widen
        self.new = not os.path.exists(self.path)
        self.connection: sqlite3.Connection | None = None
        self.committed = False
        self.inserts: dict[str, str] = {}
        self.created: list[str] = []
        self.run = 0
        if not self.path:
            raise UsageError("usage", f"{target}: which file?", hint=f"{SCHEME}ferries.db")

    @property
    def outcome(self) -> str:
        return f"{self.target} was published" if self.committed else "nothing was published"

    # ---- the contract

    def open(self, delivery: Delivery) -> None:
        rules = delivery.rules
        tables = [rules.tables[name] for name in delivery.schemas]
        refuse_names(tables)
        with self.told():
            self.connection = sqlite3.connect(
                self.path, timeout=PATIENCE, isolation_level=None, check_same_thread=False
            )
            self.execute("BEGIN IMMEDIATE")
            self.execute(
                f"CREATE TABLE IF NOT EXISTS {RUNS} (run INTEGER PRIMARY KEY, started TEXT, finished TEXT,"
                " rules_sha256 TEXT, created TEXT, record TEXT)"
            )
            self.execute(
                f"CREATE TABLE IF NOT EXISTS {REJECTS} (run INTEGER REFERENCES {RUNS}, file TEXT, document INTEGER,"
                ' path TEXT, "table" TEXT, problems TEXT)'
            )
            ours = {str(name) for (text,) in self.execute(f"SELECT created FROM {RUNS}") for name in json.loads(text)}
            for table in tables:
                self.make(rules, table, ours)
            if self.mode in (None, Mode.REPLACE):
                self.execute(f"DELETE FROM {REJECTS}")
            cursor = self.execute(f"INSERT INTO {RUNS} (rules_sha256, created) VALUES (?, '[]')", rules.sha256)
            self.run = cursor.lastrowid or 0
        self.columns = {table.name: [kind for _, kind in table.columns] for table in tables}

    def encode(self, table: str, batch: Any) -> Any:
        return batch

    def write(self, rows: Rows) -> None:
        assert self.connection is not None
        with self.told():
            for name, batch in rows.tables.items():
                if batch.num_rows:
                    kinds = self.columns[name]
                    columns = [_values(column, kind) for column, kind in zip(batch.columns, kinds, strict=True)]
                    self.connection.executemany(self.inserts[name], zip(*columns, strict=True))

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        assert self.connection is not None
        lines = [json.loads(reject.line()) for reject in rejects]
        rows = [
            (self.run, one["file"], one["document"], one["path"], one["table"],
             json.dumps(one["problems"], ensure_ascii=False))
            for one in lines
        ]  # fmt: skip
        with self.told():
            self.connection.executemany(f"INSERT INTO {REJECTS} VALUES (?, ?, ?, ?, ?, ?)", rows)

    def publish(self, record: dict[str, Any]) -> None:
        assert self.connection is not None
        created, told = json.dumps(self.created), json.dumps(record, ensure_ascii=False)
        with self.told():
            self.execute(
                f"UPDATE {RUNS} SET started = ?, finished = ?, created = ?, record = ? WHERE run = ?",
                record["started"], record["finished"], created, told, self.run,
            )  # fmt: skip
            self.execute("COMMIT")
            self.committed = True
            self.connection.close()

    def abort(self) -> None:
        if self.connection is None or self.committed:
            return
        with suppress(sqlite3.Error):
            self.connection.rollback()
            self.connection.close()
        if self.new:
            with suppress(OSError):
                os.unlink(self.path)

    # ---- tables

    def make(self, rules: Rules, table: Table, ours: set[str]) -> None:
        """Makes a table, or sees that the one that is there takes the rows. Raises OutputError."""
        columns = columns_of(rules, table)
        there = self.there(table.name)
        key = primary_key(rules, table)
        if there and self.mode in (None, Mode.CREATE, Mode.REPLACE):
            self.refuse(table.name, ours)
            self.execute(f"DROP TABLE {_quoted(table.name)}")
            there = {}
        if there:
            refuse_differences(table.name, differences(columns, there, widen=self.widen), widen=self.widen)
            known = {name.lower() for name in there}
            for column in columns:
                if column.name.lower() not in known:
                    self.execute(f"ALTER TABLE {_quoted(table.name)} ADD COLUMN {_quoted(column.name)} {column.type}")
        else:
            self.execute(definition(rules, table, columns))
            self.created.append(table.name)
        self.inserts[table.name] = self.insert(table.name, columns, key)

    def refuse(self, name: str, ours: set[str]) -> None:
        """Raises OutputError for a table that may not be made anew."""
        if self.mode is Mode.CREATE:
            raise OutputError("not-empty", f"{name} is there already", hint="--mode replace, append or upsert")
        if name not in ours:
            hint = "--mode append or upsert adds to it, where its columns fit"
            raise OutputError("not-empty", f"{name} is there, and Mukret did not make it", hint=hint)

    def there(self, name: str) -> dict[str, Existing]:
        rows = self.execute(f"PRAGMA table_info({_quoted(name)})").fetchall()
        return {row[1]: Existing(row[2], needed=bool(row[3]) and row[4] is None and not row[5]) for row in rows}

    def insert(self, name: str, columns: Sequence[Column], key: Sequence[str]) -> str:
        """The statement that adds a row. Raises OutputError where a row can't be told by its key."""
        names = ", ".join(_quoted(column.name) for column in columns)
        statement = f"INSERT INTO {_quoted(name)} ({names}) VALUES ({', '.join('?' * len(columns))})"
        if self.mode is not Mode.UPSERT:
            return statement
        if not key:
            hint = "key: in the rules, of fields that are written and never null"
            raise OutputError("no-key", f"{name} has no key to tell rows by", hint=hint)
        own = [column.name for column in columns if column.name not in key]
        changes = ", ".join(f"{_quoted(one)} = excluded.{_quoted(one)}" for one in own)
        action = f"UPDATE SET {changes}" if own else "NOTHING"
        statement += f" ON CONFLICT ({', '.join(map(_quoted, key))}) DO {action}"
        try:
            self.execute(f"EXPLAIN {statement}", *[None] * len(columns))
        except sqlite3.OperationalError:
            message = f"{name} is there, and {', '.join(key)} is no key of it"
            raise OutputError("no-key", message, hint="a unique index makes it one") from None
        return statement

    def execute(self, statement: str, *values: Any) -> sqlite3.Cursor:
        assert self.connection is not None
        return self.connection.execute(statement, values)

    @contextmanager
    def told(self) -> Iterator[None]:
        """Says in words what SQLite refuses."""
        try:
            yield
        except sqlite3.IntegrityError as error:
            hint = "--mode upsert replaces rows with a known key"
            raise OutputError("key-there", f"{self.target}: {str(error).lower()}", hint=hint) from None
        except sqlite3.OperationalError as error:
            if "locked" in str(error):
                hint = "wait until the other program is done"
                raise OutputError("in-use", f"{self.target}: another program writes into it", hint=hint) from None
            hint = "what was there before is still there"
            raise OutputError("not-written", f"{self.target}: {error}", hint=hint) from None
        except sqlite3.DatabaseError as error:
            raise OutputError("not-empty", f"{self.target}: {error}", hint="name another file") from None


def columns_of(rules: Rules, table: Table) -> list[Column]:
    required = never_null(rules, table)
    return [Column(name, kind, type_of(kind), name in required, about(table, name)) for name, kind in table.columns]


def type_of(kind: ValueType) -> str:
    """What SQLite calls the type that holds all its values exactly."""
    return "INTEGER" if isinstance(kind, Integer | Boolean) else "REAL" if isinstance(kind, Float) else "TEXT"


def definition(rules: Rules, table: Table, columns: Sequence[Column]) -> str:
    """CREATE TABLE, with what the rules say in comments, which SQLite keeps."""
    lines = [f"{_quoted(column.name)} {column.type}{' NOT NULL' * column.required}" for column in columns]
    comments = [f" -- {column.about}" for column in columns] + [""] * 2
    if key := primary_key(rules, table):
        lines.append(f"PRIMARY KEY ({', '.join(map(_quoted, key))})")
    if above := parent_key(rules, table):
        shared = ", ".join(map(_quoted, above[1]))
        lines.append(f"FOREIGN KEY ({shared}) REFERENCES {_quoted(above[0])} ({shared})")
    last = len(lines) - 1
    body = "\n".join(f"  {line}{',' * (n < last)}{comments[n]}" for n, line in enumerate(lines))
    note = f" -- {' '.join(table.note.split())}" if table.note else ""
    return f"CREATE TABLE {_quoted(table.name)} ({note}\n{body}\n)"


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _values(array: Any, kind: ValueType) -> list[Any]:
    if isinstance(kind, Integer | Float):
        return list(array.to_pylist())
    if isinstance(kind, Boolean):
        return [None if value is None else int(value) for value in array.to_pylist()]
    return list((json_values if isinstance(kind, ListOf | Json) else written)(array, kind).to_pylist())
