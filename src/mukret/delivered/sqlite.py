"""SQLite → the texts of cells."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa

from mukret.codes import Code
from mukret.delivered.contract import Delivered, DeliveredReject
from mukret.delivered.database import records_of_runs, rejects_of_rows, tables_of_runs
from mukret.destinations.database import REJECTS, RUNS
from mukret.destinations.ddl import quoted
from mukret.destinations.sqlite import SCHEME
from mukret.documents import decode
from mukret.errors import InputError
from mukret.types import PLAIN, Boolean, Float, ListOf, ValueType

ROWS_AT_ONCE = 50_000


class DeliveredSqlite(Delivered):
    def __init__(self, target: str) -> None:
        """Raises InputError for a file that is no SQLite database, or that no run has written."""
        path = target.removeprefix(SCHEME)
        if not os.path.isfile(path):
            raise InputError(Code.NOT_OPENED, f"{target}: there is no such file")
        address = f"{Path(path).absolute().as_uri()}?mode=ro"
        try:
            self.connection = sqlite3.connect(address, uri=True)
            self.connection.execute(
                "BEGIN"
            )  # what is read belongs together, whatever others write meanwhile
            names = self.connection.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table'"
            ).fetchall()
            there = {name: self.columns(name) for (name,) in names}
            records: list[tuple[str]] = []
            if RUNS in there:
                query = (
                    f"SELECT record FROM {RUNS} WHERE record IS NOT NULL ORDER BY run"
                )
                records = self.connection.execute(query).fetchall()
        except sqlite3.Error as error:
            raise InputError(Code.NOT_OPENED, f"{target}: {error}") from None
        runs = records_of_runs(target, (text for (text,) in records))
        super().__init__(target, tables_of_runs(runs, there), runs)

    def rejects(self) -> Iterator[DeliveredReject]:
        query = f'SELECT file, document, path, "table", problems FROM {REJECTS} ORDER BY rowid'
        try:
            yield from rejects_of_rows(self.connection.execute(query))
        except (sqlite3.Error, ValueError) as error:
            raise InputError(Code.NOT_OPENED, f"{self.target}: {error}") from None

    def columns(self, table: str) -> list[str]:
        return [
            row[1]
            for row in self.connection.execute(f"PRAGMA table_info({quoted(table)})")
        ]

    def texts(self, table: str) -> Iterator[pa.RecordBatch]:
        kinds = self.tables[table].columns
        names = ", ".join(map(quoted, kinds))
        try:
            cursor = self.connection.execute(
                # In the order in which rows were put in, as files have them.
                f"SELECT {names} FROM {quoted(table)} ORDER BY rowid"
            )
            while rows := cursor.fetchmany(ROWS_AT_ONCE):
                columns = zip(*rows, strict=True)
                arrays = [
                    _texts(column, kind)
                    for column, kind in zip(columns, kinds.values(), strict=True)
                ]
                yield pa.record_batch(arrays, names=list(kinds))
        except sqlite3.Error as error:
            raise InputError(Code.NOT_OPENED, f"{self.target}: {error}") from None

    def close(self) -> None:
        self.connection.close()


def _texts(values: tuple[object, ...], kind: ValueType) -> pa.Array:
    shown = _shown_by(kind)

    def text(value: object) -> str | None:
        return None if value is None else shown(value)

    return pa.array(map(text, values), pa.string())


def _shown_by(kind: ValueType) -> Callable[[Any], str]:
    """Decimals, dates, instants and durations stand in SQLite as they stand in CSV."""
    match kind:
        case Float():
            return lambda value: (
                kind.written(value) if isinstance(value, float) else str(value)
            )
        # SQLite has no truth values; 0 and 1 stand for them.
        case Boolean():
            return lambda value: {0: "false", 1: "true"}.get(value, str(value))
        case ListOf():
            return lambda value: _list_text(str(value), kind)
    return str


def _list_text(text: str, kind: ListOf) -> str:
    """A list stands in SQLite as a JSON text."""
    return kind.written(kind.convert(decode(text.encode()), PLAIN))
