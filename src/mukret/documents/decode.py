"""Bytes of one JSON text → a value in memory, or a precise statement of what is wrong with them."""

from __future__ import annotations

from functools import lru_cache

import msgspec

from mukret.documents.diagnose import Finding, diagnose
from mukret.values import JsonValue, Number

BYTE_ORDER_MARK = b"\xef\xbb\xbf"

_DIGITS = bytes.maketrans(b"0123456789", b"0" * 10)
_LONGEST_INTEGER = 4300
_TOO_LONG = b"0" * (_LONGEST_INTEGER + 1)
_PROBES = 12
_PROBE = _LONGEST_INTEGER // _PROBES
"""Every so many bytes one is looked at: an integer that is too long has at least so many digits among them."""


class NotJson(ValueError):
    """Bytes that are no JSON text. Line and column count from 1, the byte offset from 0, within these bytes."""

    def __init__(self, finding: Finding) -> None:
        super().__init__(str(finding))
        self.finding = finding


@lru_cache(maxsize=1)
def decoder() -> msgspec.json.Decoder[JsonValue]:
    return msgspec.json.Decoder(float_hook=Number)


def look_over(raw: bytes) -> None:
    """Raises ValueError for what a decoder does not see in what it skips: invalid UTF-8 and endless integers."""
    suspicious = len(raw) > _LONGEST_INTEGER and b"0" * _PROBES in raw[::_PROBE].translate(_DIGITS)
    if suspicious and _TOO_LONG in raw.translate(_DIGITS):
        raise ValueError
    if not raw.isascii():
        raw.decode()


def decode(raw: bytes) -> JsonValue:
    """The value of a JSON text (RFC 8259). Raises NotJson."""
    try:
        return decoder().decode(raw)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        if raw.startswith(BYTE_ORDER_MARK):
            return decode(raw[len(BYTE_ORDER_MARK) :])
        raise NotJson(diagnose(raw, str(error))) from None
