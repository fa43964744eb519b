"""The statements that make the tables of some rules, in the words of a database or in those that
both take.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from mukret.destinations.joins import never_null, parent_key, primary_key
from mukret.rules.model import Rules, Table
from mukret.types import ListOf, ValueType


@dataclass(frozen=True)
class SqlColumn:
    """A column as the rules have it; `type` is what the database calls its type, `about` what the
    rules say of it.
    """

    name: str
    kind: ValueType
    type: str
    required: bool
    about: str = ""


@dataclass(frozen=True)
class Dialect:
    """`about` says which database it is of; `type_of` what that calls a type.

    `comment_on`: comments are statements of their own, and not remarks within the one that makes
    the table.
    """

    name: str
    about: str
    type_of: Callable[[ValueType], str]
    comment_on: bool = False


def standard_type(kind: ValueType) -> str:
    """The name of a type that PostgreSQL and SQLite both take, and that PostgreSQL takes for its
    own.
    """
    if isinstance(kind, ListOf):
        return f"{standard_type(kind.item)} ARRAY"
    return kind.elsewhere.postgresql


POSTGRESQL = Dialect(
    "postgresql", "PostgreSQL", lambda kind: kind.elsewhere.postgresql, comment_on=True
)
SQLITE = Dialect("sqlite", "SQLite", lambda kind: kind.elsewhere.sqlite)
EITHER = Dialect("either", "PostgreSQL, and SQLite too", standard_type)
DIALECTS = {one.name: one for one in (EITHER, POSTGRESQL, SQLITE)}


def quoted(name: str) -> str:
    """A name as SQL takes it, whatever it is."""
    return '"' + name.replace('"', '""') + '"'


def literal(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def columns_of(rules: Rules, table: Table, dialect: Dialect) -> list[SqlColumn]:
    required = never_null(rules, table)
    return [
        SqlColumn(
            name, kind, dialect.type_of(kind), name in required, about(table, name)
        )
        for name, kind in table.columns
    ]


def about(table: Table, name: str) -> str:
    """The type of a column by its name in the rules, and what they say of it."""
    fields = {field.name: field for field in table.fields} | {
        item.name: item.field for item in table.inherit
    }
    field = fields[name]
    told = [dict(table.columns)[name].name, field.measured_in, field.note]
    return "; ".join(" ".join(part.split()) for part in told if part)


def create_table(
    rules: Rules, table: Table, dialect: Dialect, *, foreign_key: bool = True
) -> str:
    """The statement that makes a table, without a semicolon."""
    columns = columns_of(rules, table, dialect)
    lines = [
        f"{quoted(column.name)} {column.type}{' NOT NULL' * column.required}"
        for column in columns
    ]
    remarks = [f" -- {column.about}" for column in columns]
    # Comments are statements of their own there.
    if dialect.comment_on:
        remarks = [""] * len(columns)
    if key := primary_key(rules, table):
        lines.append(f"PRIMARY KEY ({', '.join(map(quoted, key))})")
    if foreign_key and (reference := foreign_key_of(rules, table)):
        lines.append(reference)
    # The lines of the keys have no remark.
    remarks += [""] * (len(lines) - len(remarks))
    last = len(lines) - 1
    body = "\n".join(
        f"  {line}{',' * (n < last)}{remarks[n]}" for n, line in enumerate(lines)
    )
    note = (
        f" -- {' '.join(table.note.split())}"
        if table.note and not dialect.comment_on
        else ""
    )
    return f"CREATE TABLE {quoted(table.name)} ({note}\n{body}\n)"


def foreign_key_of(rules: Rules, table: Table) -> str | None:
    """The constraint that leads to the table around it, if both have its key.

    It is looked at when a transaction ends: rows of both may come in any order until then.
    """
    # Only a key of the database can be referred to.
    above = parent_key(rules, table)
    if above is None or not primary_key(rules, rules.tables[above[0]]):
        return None
    shared = ", ".join(map(quoted, above[1]))
    return (
        f"FOREIGN KEY ({shared}) REFERENCES {quoted(above[0])} ({shared}) DEFERRABLE INITIALLY "
        "DEFERRED"
    )


def comments(table: Table, columns: Sequence[SqlColumn]) -> Iterator[str]:
    """The statements that say what a table and its columns are, where a dialect has such."""
    name = quoted(table.name)
    if table.note:
        yield f"COMMENT ON TABLE {name} IS {literal(table.note)}"
    for column in columns:
        yield comment_on_column(table.name, column)


def comment_on_column(table: str, column: SqlColumn) -> str:
    return f"COMMENT ON COLUMN {quoted(table)}.{quoted(column.name)} IS {literal(column.about)}"


def schema(rules: Rules, dialect: Dialect) -> str:
    """The script that makes all tables that are written, parents first."""
    paragraphs = [
        f"-- {' '.join((rules.title or rules.file).split())}, for {dialect.about}"
    ]
    for table in rules.parents_first():
        if table.columns:
            statements = [create_table(rules, table, dialect)]
            # SQLite has no comments on columns; there they are in the statement.
            if dialect.comment_on:
                statements += comments(table, columns_of(rules, table, dialect))
            paragraphs.append("\n".join(f"{statement};" for statement in statements))
    return "\n\n".join(paragraphs) + "\n"
