"""What no path of the rules goes through by name."""

from __future__ import annotations

from mukret.values import JsonValue


def rest_of(node: JsonValue, touched: frozenset[str]) -> JsonValue:
    """The members of an object but those touched; None if nothing is left,
    or if it is no object.
    """
    if type(node) is not dict:
        return None
    return {name: value for name, value in node.items() if name not in touched} or None
