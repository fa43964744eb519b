"""UTF-16 with a byte order mark → UTF-8, on the way in (RFC 8259 wants UTF-8; some services send
the other).
"""

from __future__ import annotations

import io
from typing import BinaryIO

LITTLE_ENDIAN, BIG_ENDIAN = b"\xff\xfe", b"\xfe\xff"


def encoding_of(head: bytes) -> str | None:
    """`utf-16` if the first bytes are its mark; that of UTF-32 begins alike and is not taken for
    it.
    """
    if head.startswith(LITTLE_ENDIAN + b"\0\0"):
        return None
    return "utf-16" if head.startswith((LITTLE_ENDIAN, BIG_ENDIAN)) else None


class AsUtf8(io.RawIOBase):
    """A UTF-16 stream read as UTF-8.

    Half of a surrogate pair passes as the three bytes that no UTF-8 text may hold, so that whoever
    decodes them refuses that document at that place.
    """

    def __init__(self, file: BinaryIO) -> None:
        self.text = io.TextIOWrapper(
            file, encoding="utf-16", errors="surrogatepass", newline=""
        )
        self.pending = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: object) -> int:
        view = memoryview(buffer).cast("B")  # type: ignore[arg-type]
        if not self.pending:
            self.pending = self.text.read(max(1, len(view) // 4)).encode(
                "utf-8", "surrogatepass"
            )
        count = min(len(view), len(self.pending))
        view[:count] = self.pending[:count]
        self.pending = self.pending[count:]
        return count

    def close(self) -> None:
        if not self.closed:
            self.text.close()
        super().close()
