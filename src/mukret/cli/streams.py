"""The three standard streams, whatever whoever started the program has made of them.

Results go to standard output: where they can't be written that is an error. Messages go to standard
error: where they can't be written, the work and its exit code are worth more than they are.
"""

from __future__ import annotations

import io
import os
import sys
from typing import Any

# How a stream that is closed is opened; standard output so that each write fails, and is told.
_MODES = ((0, os.O_RDONLY), (1, os.O_RDONLY), (2, os.O_WRONLY))


def set_up_streams() -> None:
    """Opens what is closed, and lets no stream fail for a character that a terminal doesn't have.

    What goes into a file or a pipe is UTF-8, as all that others read is.
    """
    for descriptor, mode in _MODES:
        _open_if_closed(descriptor, mode)
    sys.stdin = sys.stdin or open(0, encoding="utf-8", closefd=False)  # noqa: SIM115 - for good
    sys.stdout = sys.stdout or open(1, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
    if isinstance(sys.stdout, io.TextIOWrapper):
        encoding = sys.stdout.encoding if sys.stdout.isatty() else "utf-8"
        sys.stdout.reconfigure(encoding=encoding, errors="backslashreplace")
    sys.stderr = _messages(sys.stderr.encoding if sys.stderr else "utf-8")


def _open_if_closed(descriptor: int, mode: int) -> None:
    try:
        os.fstat(descriptor)
    except OSError:
        # A file opened later would get its number, and be written to by print.
        opened = os.open(os.devnull, mode)
        if opened != descriptor:
            os.dup2(opened, descriptor)
            os.close(opened)


def _messages(encoding: str) -> io.TextIOWrapper:
    raw = io.BufferedWriter(_Unfailing(2, "w", closefd=False))
    return io.TextIOWrapper(
        raw, encoding, errors="backslashreplace", line_buffering=True
    )


class _Unfailing(io.FileIO):
    """Drops what can't be written: the disk is full, or nobody reads any more."""

    def write(self, data: Any, /) -> int:
        try:
            return super().write(data)
        except OSError:
            return len(data)
