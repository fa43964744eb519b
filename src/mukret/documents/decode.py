"""Bytes of one JSON text → a value in memory, or a precise statement of what is wrong with them."""

from __future__ import annotations

from functools import lru_cache

import msgspec

from mukret.documents.diagnose import Finding, diagnose
from mukret.values import JsonValue, Number

BYTE_ORDER_MARK = b"\xef\xbb\xbf"


class NotJson(ValueError):
    """Bytes that are no JSON text. Line and column count from 1, the byte offset from 0, within these bytes."""

    def __init__(self, finding: Finding) -> None:
        super().__init__(str(finding))
        self.finding = finding


@lru_cache(maxsize=1)
def decoder() -> msgspec.json.Decoder[JsonValue]:
    return msgspec.json.Decoder(float_hook=Number)


def decode(raw: bytes) -> JsonValue:
    """The value of a JSON text (RFC 8259). Raises NotJson."""
    try:
        return decoder().decode(raw)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        if raw.startswith(BYTE_ORDER_MARK):
            return decode(raw[len(BYTE_ORDER_MARK) :])
        raise NotJson(diagnose(raw, str(error))) from None
