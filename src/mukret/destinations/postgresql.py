"""PostgreSQL, by ADBC: tables filled by COPY from Arrow's columns, in one transaction with the
records of the run.

COPY takes the bytes of a column unchecked, so every batch is brought to exactly the types that the
table has, and a table that is there must have these. What the connection needs beside its address
is looked for where all programs of PostgreSQL look for it (`PGPASSWORD`, `~/.pgpass`, `PGSERVICE`).
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote, urlsplit

import pyarrow as pa
import pyarrow.compute as pc

from mukret.codes import Code
from mukret.columns.arrow import true_rows
from mukret.destinations.contract import Delivery, RowsToWrite
from mukret.destinations.database import (
    REJECTS,
    RUNS,
    Database,
    Existing,
    Mode,
    refuse_names,
)
from mukret.destinations.ddl import (
    POSTGRESQL,
    SqlColumn,
    comment_on_column,
    comments,
    create_table,
    foreign_key_of,
    quoted,
)
from mukret.destinations.gathering import Gathering
from mukret.errors import OutputError, UsageError
from mukret.rules.model import Rules, Table
from mukret.semantics.rejects import Reject
from mukret.values import JsonValue

if TYPE_CHECKING:
    from adbc_driver_manager import dbapi

SCHEMES = ("postgresql", "postgres")
ROWS_AT_ONCE = 50_000
BYTES_AT_ONCE = 16_000_000
# Members of an address that are shown nowhere.
_SECRET = ("password", "sslpassword")
_UNIQUE, _NO_ARBITER = "23505", "42P10"


class Postgresql(Database):
    dialect = POSTGRESQL

    def __init__(
        self, target: str, mode: Mode | None = None, *, widen: bool = False
    ) -> None:
        super().__init__(without_password(target), mode, widen=widen)
        self.address = target
        self.connection: dbapi.Connection | None = None
        self.waiting: dict[str, Gathering] = {}
        self.copied: dict[str, int] = {}
        self.run = 0

    # ---- the contract

    def open(self, delivery: Delivery) -> None:
        self.rules = delivery.rules
        self.tables = {name: delivery.rules.tables[name] for name in delivery.schemas}
        self.schemas = {
            name: _plain(schema) for name, schema in delivery.schemas.items()
        }
        refuse_names(list(self.tables.values()))
        connect = driver()
        with self.told():
            self.connection = connect(self.address)
            # A second run waits here, and begins with what the first has made.
            self.alone()
            self.execute(
                f"CREATE TABLE IF NOT EXISTS {RUNS} (run bigint GENERATED ALWAYS AS IDENTITY "
                "PRIMARY KEY,"
                " started timestamptz, finished timestamptz, rules_sha256 text, created json, "
                "record json)"
            )
            self.execute(
                f"CREATE TABLE IF NOT EXISTS {REJECTS} (run bigint REFERENCES {RUNS}, file text, "
                "document bigint,"
                ' path text, "table" text, problems json)'
            )
            # Only what a run of ours has made may be made anew.
            made_before = self.ask(
                f"SELECT created::text FROM {RUNS} WHERE created IS NOT NULL"
            )
            self.make(
                self.rules,
                list(self.tables.values()),
                {name for (text,) in made_before for name in json.loads(text)},
            )
            for table in self.tables.values():
                self.ready(table)
            if self.anew:
                self.execute(f"DELETE FROM {REJECTS}")
            [(self.run,)] = self.ask(
                f"INSERT INTO {RUNS} (rules_sha256) VALUES ($1) RETURNING run",
                self.rules.sha256,
            )

    def alone(self) -> None:
        """Raises OutputError while another run writes into the same database."""
        [(alone,)] = self.ask(f"SELECT pg_try_advisory_xact_lock(hashtext('{RUNS}'))")
        if not alone:
            hint = "wait until it is done"
            raise OutputError(
                Code.IN_USE, f"{self.target}: another run writes into it", hint=hint
            )

    def ready(self, table: Table) -> None:
        """A place where rows wait for a table; where they replace others, a table of its own."""
        self.waiting[table.name] = Gathering(ROWS_AT_ONCE, BYTES_AT_ONCE)
        self.copied[table.name] = 0
        if self.mode is Mode.UPSERT:
            names = ", ".join(quoted(name) for name, _ in table.columns)
            nothing = f"SELECT {names} FROM {quoted(table.name)} WHERE false"
            try:
                # Without a row: only to learn at once whether there is a key to replace rows by.
                self.execute(self.insert(self.rules, table, nothing))
            except Exception as error:
                if getattr(error, "sqlstate", None) == _NO_ARBITER:
                    raise self.no_key_there(self.rules, table) from None
                raise
            self.execute(
                # Rows come into it by COPY, which knows no ON CONFLICT, and go on from there.
                f"CREATE TEMP TABLE {quoted(self.stage(table.name))} ON COMMIT DROP AS {nothing}"
            )

    def stage(self, name: str) -> str:
        """The table in which rows wait until they replace others; names of tables may be as long as
        names can be.
        """
        return f"mukret_stage_{list(self.tables).index(name) + 1}"

    def write(self, rows: RowsToWrite) -> None:
        with self.told():
            for name, batch in rows.tables.items():
                self.copy(name, self.waiting[name].add(batch))

    def copy(self, name: str, rows: pa.RecordBatch) -> None:
        """Hands rows to the server; None of them are nothing."""
        if rows is None:
            return
        plain = rows.cast(self.schemas[name])
        # The server has no character 0 in texts; COPY would end in the middle with a message about
        # bytes.
        self.refuse_nul(name, plain)
        self.copied[name] += plain.num_rows
        upsert = self.mode is Mode.UPSERT
        with self.cursor() as cursor:
            cursor.adbc_ingest(
                self.stage(name) if upsert else name,
                plain,
                mode="append",
                temporary=upsert,
            )

    def refuse_nul(self, name: str, rows: pa.RecordBatch) -> None:
        """Raises OutputError for a text with the character NUL, which no text of PostgreSQL has."""
        for column in rows.column_names:
            array = rows.column(column).combine_chunks()
            is_list = pa.types.is_list(array.type)
            # The elements of all lists as one array, looked at in one go.
            texts = array.flatten() if is_list else array
            if not pa.types.is_string(texts.type):
                continue
            odd = true_rows(pc.fill_null(pc.match_substring(texts, "\0"), False))
            if odd:
                row = (
                    pc.list_parent_indices(array)[odd[0]].as_py() if is_list else odd[0]
                )
                nth = self.copied[name] + row + 1
                hint = f"mukret trace RULES FILE --table {name} --nth {nth} shows where it stands"
                message = (
                    f"{name}.{column}, row {nth:,}: the character NUL (\\u0000), which no "
                    "text of PostgreSQL has"
                )
                raise OutputError(Code.NOT_HELD, message, hint=hint)

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        told = [json.loads(reject.line()) for reject in rejects]
        columns: dict[str, pa.Array] = {
            "run": pa.array([self.run] * len(told), pa.int64()),
            "file": pa.array([line["file"] for line in told], pa.string()),
            "document": pa.array([line["document"] for line in told], pa.int64()),
            "path": pa.array([_shown(line["path"]) for line in told], pa.string()),
            "table": pa.array([line["table"] for line in told], pa.string()),
            "problems": pa.array(
                [json.dumps(line["problems"], ensure_ascii=False) for line in told],
                pa.string(),
            ),
        }
        with self.told(), self.cursor() as cursor:
            cursor.adbc_ingest(REJECTS, pa.table(columns), mode="append")

    def publish(self, record: dict[str, JsonValue]) -> None:
        assert self.connection is not None
        record["anew"] = self.anew
        with self.told():
            for name, waiting in self.waiting.items():
                self.copy(name, waiting.rest())
            # Rows wait in stages until all are there: the statement sees each key once.
            if self.mode is Mode.UPSERT:
                for table in self.tables.values():
                    names = ", ".join(quoted(name) for name, _ in table.columns)
                    self.execute(
                        self.insert(
                            self.rules,
                            table,
                            f"SELECT {names} FROM {quoted(self.stage(table.name))}",
                        )
                    )
            # Foreign keys come last, when every parent is there.
            for name in self.created:
                self.join(self.tables[name])
            self.execute(
                f"UPDATE {RUNS} SET started = $1::text::timestamptz, finished = "
                "$2::text::timestamptz,"
                " created = $3::text::json, record = $4::text::json WHERE run = $5",
                record["started"],
                record["finished"],
                json.dumps(self.created),
                json.dumps(record, ensure_ascii=False),
                self.run,
            )
            self.connection.commit()
            # From here on an interrupt is told as one of a run that was published.
            self.committed = True
            self.connection.close()

    def abort(self) -> None:
        if self.connection is not None and not self.committed:
            with suppress(Exception):  # the server may be gone
                self.connection.rollback()
            with suppress(Exception):
                self.connection.close()

    # ---- what a database says

    def records(self) -> list[str]:
        query = (
            f"SELECT record::text FROM {RUNS} WHERE record IS NOT NULL AND run < $1 ORDER BY "
            "run"
        )
        return [text for (text,) in self.ask(query, self.run)]

    def there(self, name: str) -> dict[str, Existing]:
        rows = self.ask(
            # From the catalogue: information_schema leaves out what the user has no rights on.
            "SELECT attname::text, format_type(atttypid, atttypmod), attnotnull AND NOT atthasdef "
            "AND attidentity = ''"
            " FROM pg_attribute WHERE attrelid = to_regclass($1) AND attnum > 0 AND NOT "
            "attisdropped ORDER BY attnum",
            quoted(name),
        )
        return {column: Existing(kind, needed=needed) for column, kind, needed in rows}

    def create(self, rules: Rules, table: Table, columns: Sequence[SqlColumn]) -> None:
        self.execute(create_table(rules, table, self.dialect, foreign_key=False))
        for comment in comments(table, columns):
            self.execute(comment)

    def join(self, table: Table) -> None:
        """The key of the table around it, when the rows of both are there."""
        reference = foreign_key_of(self.rules, table)
        if reference is not None and table.within in self.created:
            self.execute(f"ALTER TABLE {quoted(table.name)} ADD {reference}")

    def drop(self, names: Sequence[str]) -> None:
        self.execute(f"DROP TABLE {', '.join(map(quoted, names))}")

    def add_column(self, name: str, column: SqlColumn) -> None:
        self.execute(
            f"ALTER TABLE {quoted(name)} ADD COLUMN {quoted(column.name)} {column.type}"
        )
        self.execute(comment_on_column(name, column))

    # ---- the connection

    @contextmanager
    def cursor(self) -> Iterator[dbapi.Cursor]:
        assert self.connection is not None
        cursor = self.connection.cursor()
        try:
            yield cursor
        finally:
            # After an error the connection may be gone, and closing fails as well.
            with suppress(Exception):
                cursor.close()

    def execute(self, statement: str, *values: Any) -> None:
        with self.cursor() as cursor:
            cursor.execute(statement, values or None)

    def ask(self, query: str, *values: Any) -> list[tuple[Any, ...]]:
        with self.cursor() as cursor:
            cursor.execute(query, values or None)
            return list(cursor.fetchall())

    @contextmanager
    def told(self) -> Iterator[None]:
        """Says in words what the server refuses, without the password."""
        # The driver is an extra; who comes here has it.
        import adbc_driver_manager

        try:
            yield
        except adbc_driver_manager.Error as error:
            message = f"{self.target}: {first_line(str(error), self.address)}"
            if error.sqlstate == _UNIQUE and self.mode is Mode.APPEND:
                hint = "--mode upsert replaces rows with a known key"
                raise OutputError(Code.KEY_THERE, message, hint=hint) from None
            raise OutputError(
                Code.NOT_WRITTEN, message, hint="what was there before is still there"
            ) from None


def driver() -> Callable[[str], dbapi.Connection]:
    """What connects. Raises UsageError where it is not installed."""
    try:
        from adbc_driver_postgresql import dbapi as postgresql
    # An extra, so that who writes files installs no driver.
    except ImportError:
        message = "PostgreSQL needs adbc-driver-postgresql, which is not installed"
        raise UsageError(
            Code.MISSING_EXTRA, message, hint="pip install 'mukret[postgresql]'"
        ) from None
    connect: Callable[[str], dbapi.Connection] = postgresql.connect
    return connect


def _plain(schema: pa.Schema) -> pa.Schema:
    """The schema in which rows are handed over: enums as texts."""
    return pa.schema(list(map(_plain_field, schema)))


def _plain_field(field: pa.Field) -> pa.Field:
    # The driver takes no dictionaries.
    return field.with_type(pa.string()) if pa.types.is_dictionary(field.type) else field


def _shown(path: str | None) -> str | None:
    return None if path is None else path.replace("\0", "\\u0000")


def without_password(address: str) -> str:
    """An address as it may be shown."""
    parts = urlsplit(address)
    # The user stays: it tells which of several addresses is meant.
    user, separator, place = parts.netloc.rpartition("@")
    name, colon, _ = user.partition(":")
    shown = f"{name}:***" if colon else user
    query = "&".join(map(_without_secret, parts.query.split("&")))
    return f"{parts.scheme}://{shown}{separator}{place}{parts.path}{'?' * bool(query)}{query}"


def _passwords(address: str) -> list[str]:
    """Those that stand in an address, as they stand there."""
    parts = urlsplit(address)
    members = (part.partition("=") for part in parts.query.split("&"))
    passwords = [
        parts.password,
        *(value for name, _, value in members if name.lower() in _SECRET),
    ]
    return [password for password in passwords if password]


def first_line(message: str, address: str) -> str:
    """What the server or its library says, in one line, without what stands around it and without a
    password.
    """
    said = " ".join(
        message.partition("ERROR:")[2].split()
        or message.rpartition("[libpq]")[2].split()
    )
    said = re.split(r" (?:CONTEXT|HINT):|\. SQLSTATE:", said)[0]
    for password in _passwords(address):
        # As it was typed and as it was sent: either may be repeated.
        for secret in (password, unquote(password)):
            said = said.replace(secret, "***")
    return said


def _without_secret(pair: str) -> str:
    """A member of a query as it may be shown."""
    name = pair.partition("=")[0]
    return f"{name}=***" if name.lower() in _SECRET else pair
