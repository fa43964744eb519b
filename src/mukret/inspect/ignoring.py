"""Fields that a comparison does not look at, by what was typed: `NAME` in every table, or
`TABLE.NAME`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable

from mukret.codes import Code
from mukret.errors import UsageError
from mukret.text import did_you_mean


def is_ignored(table: str, column: str, ignored: Collection[str]) -> bool:
    return column in ignored or f"{table}.{column}" in ignored


def refuse_unknown(ignored: Iterable[str], columns: Iterable[tuple[str, str]]) -> None:
    """Raises UsageError for a name that none of the columns (each with its table) has: it was typed
    wrongly.
    """
    known = {
        # A name alone means the field of every table that has it.
        name
        for table, column in columns
        for name in (column, f"{table}.{column}")
    }
    for name in ignored:
        if name not in known:
            message = f"--ignore-fields {name}: no table has such a field"
            raise UsageError(
                Code.UNKNOWN_FIELD, message, hint=did_you_mean(name, sorted(known))
            )
