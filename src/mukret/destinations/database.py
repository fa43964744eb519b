"""What databases share: how a table is written into one that may be there already, and what differs from it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import Enum

from mukret.errors import OutputError
from mukret.rules.model import Table
from mukret.types import ValueType

RUNS, REJECTS = "mukret_runs", "mukret_rejects"
"""The records of runs, and what they rejected."""


class Mode(Enum):
    """What becomes of a table that is there: refused; made anew; added to; added to, rows with a known key replaced."""

    CREATE = "create"
    REPLACE = "replace"
    APPEND = "append"
    UPSERT = "upsert"


@dataclass(frozen=True)
class Column:
    """A column as the rules have it; `type` is what the database calls its type, `about` what the rules say of it."""

    name: str
    kind: ValueType
    type: str
    required: bool
    about: str = ""


@dataclass(frozen=True)
class Existing:
    """A column as it is there. `needed`: a row without a value for it is refused."""

    type: str
    needed: bool = False


def differences(wanted: Sequence[Column], there: Mapping[str, Existing], *, widen: bool) -> list[str]:
    """All that keeps rows of the wanted columns out of a table, in words; with `widen` a column may be missing."""
    found = []
    names = {name.lower(): name for name in there}
    for column in wanted:
        existing = there.get(names.get(column.name.lower(), ""))
        if existing is None:
            if not widen:
                found.append(f"{column.name} is missing ({column.type})")
        elif existing.type.lower() != column.type.lower():
            found.append(f"{column.name} is {existing.type or 'of no type'}, not {column.type}")
    own = {column.name.lower() for column in wanted}
    found += [f"{name} wants a value, and the rules have none" for name, one in there.items()
              if one.needed and name.lower() not in own]  # fmt: skip
    return found


def refuse_differences(table: str, found: Sequence[str], *, widen: bool) -> None:
    """Raises OutputError where there are any."""
    if found:
        only_missing = all("is missing" in one for one in found)
        hint = "--widen adds new columns" if only_missing and not widen else "--mode replace makes a table anew"
        raise OutputError("other-table", f"{table} is there and differs: {'; '.join(found)}", hint=hint)


def refuse_names(tables: Sequence[Table]) -> None:
    """Raises OutputError for a table with a name that is taken by the records of runs."""
    for table in tables:
        if table.name.lower() in (RUNS, REJECTS):
            message = f"a table {table.name}: that name is for the records of runs"
            raise OutputError("not-held", message, hint="rename it")


def about(table: Table, name: str) -> str:
    """The type of a column by its name in the rules, and what they say of it."""
    own = {field.name: field for field in table.fields} | {item.name: item.field for item in table.inherit}
    field = own[name]
    told = [dict(table.columns)[name].name, field.measured_in, field.note]
    return "; ".join(" ".join(part.split()) for part in told if part)
