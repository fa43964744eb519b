"""How large an answer may be and how long it may take, whatever the service does."""

from __future__ import annotations

import re
import socket
import threading
from collections import deque
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from typing import Self

from mukret.values import JsonValue

_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(|k|M|G|T|Ki|Mi|Gi|Ti)B?")
_UNITS = {
    "": 1,
    "k": 10**3,
    "M": 10**6,
    "G": 10**9,
    "T": 10**12,
    "Ki": 2**10,
    "Mi": 2**20,
    "Gi": 2**30,
    "Ti": 2**40,
}
# A client of one thread has one connection, or one to each of few origins.
MOST_CONNECTIONS = 4


@dataclass(frozen=True)
class Bounds:
    """`body` in bytes, after unpacking; `seconds` for an answer as a whole, `silence` in seconds
    for connecting, and for each time that nothing comes.
    """

    body: int = 10**9
    seconds: float = 3600.0
    silence: float = 30.0


class TooLarge(Exception):
    """A body that is larger than it may be."""


class TooSlow(Exception):
    """An answer that takes longer than it may."""


def parse_size(text: str) -> int:
    """`500MB`, `1.5 GB`, `64KiB` or `1000`, in bytes. Raises ValueError."""
    match = _SIZE.fullmatch(text.strip())
    if match is None:
        raise ValueError(text)
    return int(float(match[1]) * _UNITS[match[2]])


class Sockets:
    """The connections of a client, so that one that waits for them can be freed from outside."""

    def __init__(self) -> None:
        self.open: deque[socket.socket] = deque(maxlen=MOST_CONNECTIONS)

    def note(self, event: str, info: dict[str, JsonValue]) -> None:
        """Called by the client with all that happens to a request (httpx's extension `trace`)."""
        if event == "connection.connect_tcp.complete":
            self.open.append(info["return_value"].get_extra_info("socket"))

    def cut(self) -> None:
        """Ends every connection."""
        for connected in list(self.open):
            with suppress(OSError):
                connected.shutdown(socket.SHUT_RDWR)


class Deadline:
    """Ends connections after a time, however slowly bytes still come;
    `passed` tells that it did.
    """

    def __init__(self, seconds: float, sockets: Sockets) -> None:
        self.passed = False
        self.sockets = sockets
        self.timer = threading.Timer(seconds, self.end)
        self.timer.daemon = True

    def __enter__(self) -> Self:
        self.timer.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.timer.cancel()

    def end(self) -> None:
        self.passed = True
        self.sockets.cut()

    def bounded(self, body: Iterable[bytes], most: int) -> Iterator[bytes]:
        """A body as it comes.

        Raises TooLarge, and TooSlow: the end of a connection may look like the end of a body.
        """
        size = 0
        for piece in body:
            size += len(piece)
            if size > most:
                raise TooLarge
            # Handed on as it comes: a body is never held as a whole.
            yield piece
        if self.passed:
            raise TooSlow
