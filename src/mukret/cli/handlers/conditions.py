"""The SQL condition of --where."""

from __future__ import annotations

from collections.abc import Mapping

from mukret.errors import ExpressionError, UsageError
from mukret.inspect.picking import RowCondition
from mukret.types import ValueType


def typed_condition(types: Mapping[str, ValueType], text: str) -> RowCondition:
    """What was typed after --where, over columns of these types. Raises UsageError."""
    try:
        return RowCondition(types, text)
    except ExpressionError as error:
        message = f"--where, character {error.position + 1}: {error}"
        raise UsageError(error.code, message, hint=error.hint) from None
