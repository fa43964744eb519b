"""The kinds of what stands in a cell, as the scanner numbers them."""

from __future__ import annotations

from enum import IntEnum


class Kind(IntEnum):
    """MISSING: nothing stands there.

    INTEGER: a number without fraction and exponent. ESCAPED: a text with escapes.
    """

    MISSING = 0
    NULL = 1
    FALSE = 2
    TRUE = 3
    INTEGER = 4
    NUMBER = 5
    TEXT = 6
    ESCAPED = 7
    ARRAY = 8
    OBJECT = 9


# Kinds of cells that have no value.
NOTHING = frozenset({Kind.MISSING, Kind.NULL})
TEXTS = frozenset({Kind.TEXT, Kind.ESCAPED})
