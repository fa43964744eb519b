"""What the run knows about a document besides its contents."""

from __future__ import annotations

from mukret.documents.origin import Origin
from mukret.rules.sources import REQUEST_FACT
from mukret.values import JsonValue


def document_fact(
    name: str, file: str, number: int, origin: Origin | None
) -> JsonValue:
    """A fact of DOCUMENT_FACTS or `request.NAME` as a raw value; null where it is not on record."""
    match name:
        case "document":
            return number
        case "file":
            return file
    # A file that nobody collected: nothing is known of a request.
    if origin is None:
        return None
    if name.startswith(REQUEST_FACT):
        return origin.variables.get(name.removeprefix(REQUEST_FACT))
    value: JsonValue = getattr(origin, name)
    return value
