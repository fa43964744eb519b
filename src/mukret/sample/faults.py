"""Faults of the sample's service, drawn by chance: what services do when they are not well."""

from __future__ import annotations

import random
import threading
from enum import StrEnum


class Fault(StrEnum):
    BUSY = "busy"
    """429 with Retry-After."""
    BROKEN = "broken"
    """500."""
    CUT = "cut"
    """Half of the body, then the connection ends."""
    SLOW = "slow"
    """The body comes in small pieces."""
    PAGE = "page"
    """An error page with status 200, which says again what was sent."""
    CURSOR = "cursor"
    """The cursor or address of this page in place of the next one's."""
    TOKEN = "token"
    """The pass is no longer good, long before its time."""


class Faults:
    """Draws a fault for a share of the requests."""

    def __init__(
        self, share: float = 0.0, seed: int | None = None, wait: int = 1
    ) -> None:
        """`share` from 0 to 1; `wait`: seconds that 429 asks for."""
        self.share = share
        self.wait = wait
        self.random = random.Random(seed)
        self.lock = threading.Lock()
        self.drawn: list[Fault] = []

    def draw(self, possible: list[Fault]) -> Fault | None:
        """The fault of a request, one of those that are possible with it; None for none."""
        with self.lock:
            if self.random.random() >= self.share:
                return None
            fault = self.random.choice(possible)
            self.drawn.append(fault)
            return fault
