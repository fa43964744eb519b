"""Options that every command has."""

from __future__ import annotations

import logging
from dataclasses import dataclass

from mukret.codes import Code
from mukret.errors import OutputError


@dataclass(frozen=True, kw_only=True)
class Talk:
    """How much is said, and where: the options -q, -v and --log, which all commands have."""

    quiet: bool
    verbose: int
    log: str | None

    def start_log(self) -> logging.Logger:
        """The program's log, which goes nowhere unless a file is named. Raises OutputError."""
        logger = logging.getLogger("mukret")
        logger.setLevel(logging.DEBUG if self.verbose else logging.INFO)
        logger.propagate = False
        logger.addHandler(_handler(self.log))
        return logger


def _handler(file: str | None) -> logging.Handler:
    if file is None:
        return logging.NullHandler()
    try:
        # It goes on with what is there: a log of many runs.
        handler = logging.FileHandler(file, encoding="utf-8")
    except OSError as error:
        reason = (error.strerror or str(error)).lower()
        raise OutputError(Code.NOT_WRITTEN, f"{file}: {reason}") from None
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)-7s %(message)s"))
    return handler
