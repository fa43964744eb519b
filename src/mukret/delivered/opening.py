"""What was typed of a delivery → the delivery, opened."""

from __future__ import annotations

from mukret.codes import Code
from mukret.delivered.contract import Delivered
from mukret.errors import UsageError


def open_delivered(target: str) -> Delivered:
    """A folder that a run wrote, or a database (`sqlite:///FILE`, `postgresql://…`).

    Raises InputError if it can't be opened, or if no run wrote it; UsageError for any other scheme.
    """
    # Each is imported alone: a folder needs no driver of a database.
    scheme, separator, _ = target.partition("://")
    if not separator:
        from mukret.delivered.folder import DeliveredFolder

        return DeliveredFolder(target)
    if scheme == "sqlite":
        from mukret.delivered.sqlite import DeliveredSqlite

        return DeliveredSqlite(target)
    if scheme in ("postgresql", "postgres"):
        from mukret.delivered.postgresql import DeliveredPostgresql

        return DeliveredPostgresql(target)
    hint = "a folder, sqlite:///FILE, or postgresql://HOST/DATABASE"
    raise UsageError(Code.NOT_SUPPORTED, f"{scheme}://… is not supported", hint=hint)
