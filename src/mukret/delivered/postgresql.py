"""PostgreSQL → the texts of cells: each column is asked for in a form that Arrow holds exactly."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from mukret.codes import Code
from mukret.columns.types import written
from mukret.delivered.contract import Delivered, DeliveredReject, DeliveredTable
from mukret.delivered.database import records_of_runs, rejects_of_rows, tables_of_runs
from mukret.destinations.database import REJECTS, RUNS
from mukret.destinations.ddl import quoted
from mukret.destinations.postgresql import driver, first_line, without_password
from mukret.errors import InputError
from mukret.types import DecimalType, Duration, Enum, Json, ListOf, Text, ValueType

if TYPE_CHECKING:
    from adbc_driver_manager import dbapi

_MICROSECONDS = "(EXTRACT(EPOCH FROM {}) * 1000000)::bigint"
_COLUMNS = (
    "SELECT relname::text, attname::text FROM pg_attribute JOIN pg_class ON pg_class.oid = attrelid"
    " WHERE pg_table_is_visible(attrelid) AND relkind IN ('r', 'p') AND attnum > 0 AND NOT "
    "attisdropped ORDER BY attrelid, attnum"
)


class DeliveredPostgresql(Delivered):
    def __init__(self, target: str) -> None:
        """Raises InputError if it is not reached, or if no run has written into it; UsageError
        without the driver.
        """
        self.address = target
        self.shown = without_password(target)
        connect = driver()
        with self.told():
            self.connection: dbapi.Connection = connect(target)
            self.ask(
                # All tables as they were at one moment, whatever is written meanwhile.
                "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY",
                rows=False,
            )
            there: dict[str, list[str]] = {}
            for table, column in self.ask(_COLUMNS):
                # What stands there now: a table of the record may have been dropped since.
                there.setdefault(table, []).append(column)
            records = []
            if RUNS in there:
                records = self.ask(
                    f"SELECT record::text FROM {RUNS} WHERE record IS NOT NULL ORDER BY run"
                )
        runs = records_of_runs(self.shown, (text for (text,) in records))
        super().__init__(self.shown, tables_of_runs(runs, there), runs)

    def rejects(self) -> Iterator[DeliveredReject]:
        query = (
            f'SELECT file, document, path, "table", problems::text FROM {REJECTS} ORDER BY '
            "run, file, document"
        )
        with self.told(), self.connection.cursor() as cursor:
            cursor.execute(query)
            for batch in cursor.fetch_record_batch():
                columns = (column.to_pylist() for column in batch.columns)
                yield from rejects_of_rows(zip(*columns, strict=True))

    def texts(self, table: str) -> Iterator[pa.RecordBatch]:
        wanted = self.tables[table]
        asked = ", ".join(
            f"{_asked(quoted(name), kind)} AS {quoted(name)}"
            for name, kind in wanted.columns.items()
        )
        with self.told(), self.connection.cursor() as cursor:
            cursor.execute(f"SELECT {asked} FROM {quoted(table)}")
            for batch in cursor.fetch_record_batch():
                yield _batch_texts(batch, wanted)

    def ask(self, query: str, *, rows: bool = True) -> list[tuple[Any, ...]]:
        with self.connection.cursor() as cursor:
            cursor.execute(query)
            return list(cursor.fetchall()) if rows else []

    def close(self) -> None:
        self.connection.close()

    @contextmanager
    def told(self) -> Iterator[None]:
        """Says in words what the server refuses, without the password."""
        import adbc_driver_manager

        try:
            yield
        except adbc_driver_manager.Error as error:
            raise InputError(
                Code.NOT_OPENED, f"{self.shown}: {first_line(str(error), self.address)}"
            ) from None


def _asked(column: str, kind: ValueType) -> str:
    """The expression whose values Arrow holds exactly: numbers with many digits as texts, durations
    as microseconds.
    """
    match kind:
        case Text() | Enum() | Json() | DecimalType():
            # As text a value comes as it was written: Arrow's decimals here have no place for all
            # of its digits.
            return f"{column}::text"
        case Duration():
            return _MICROSECONDS.format(column)
        case ListOf(item) if isinstance(item, DecimalType | Json):
            return f"{column}::text[]"
        case ListOf(item) if isinstance(item, Duration):
            # An interval in an array has no form that the driver gives exactly.
            elements = (
                f"ARRAY(SELECT {_MICROSECONDS.format('one')} FROM unnest({column}) WITH "
                "ORDINALITY AS"
            )
            return (
                f"CASE WHEN {column} IS NOT NULL THEN {elements} of_list(one, nth) ORDER BY "
                "nth) END"
            )
    return column


def _batch_texts(batch: pa.RecordBatch, table: DeliveredTable) -> Any:
    arrays = []
    for column, kind in zip(batch.columns, table.columns.values(), strict=True):
        plain = column.storage if isinstance(column, pa.ExtensionArray) else column
        arrays.append(_texts(plain, kind))
    return pa.record_batch(arrays, names=list(table.columns))


def _texts(array: pa.Array, kind: ValueType) -> Any:
    match kind:
        case Text() | Enum() | Json() | DecimalType():
            return array.cast(pa.string())
        case Duration():
            return written(array.cast(pa.int64()).cast(pa.duration("us")), kind)
        case ListOf(item) if isinstance(item, Duration):
            spans = array.cast(pa.list_(pa.int64())).cast(pa.list_(pa.duration("us")))
            return written(spans, kind)
        case ListOf(item) if isinstance(item, DecimalType | Json):
            return written(array.cast(pa.list_(pa.string())), ListOf(Text()))
    return written(array, kind)
