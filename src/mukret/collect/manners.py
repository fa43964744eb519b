"""How often a service is asked, and how long one waits before asking again.

What is decided here is decided from what came alone; time and chance are handed in.
"""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Protocol

from mukret.collect.calls import Limits

# Seconds beyond which doubling a pause ends.
LONGEST_PAUSE = 60.0


class Stopped(Exception):
    """The collection ends: nobody waits any longer."""


class Clock(Protocol):
    """Time as a collection sees it."""

    def now(self) -> float:
        """Seconds since an arbitrary moment."""

    def wait(self, seconds: float) -> None:
        """Raises Stopped if the collection ends while it waits."""

    def stop(self) -> None:
        """Ends all waiting."""


class RealClock:
    """The time of this machine."""

    def __init__(self) -> None:
        self.stopped = threading.Event()

    def now(self) -> float:
        return time.monotonic()

    def wait(self, seconds: float) -> None:
        if self.stopped.wait(max(0.0, seconds)):
            raise Stopped

    def stop(self) -> None:
        self.stopped.set()


def instant() -> str:
    """Now, as RFC 3339 has it, in UTC."""
    return datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


class Pace:
    """Lets so many requests begin in a second, all threads together, and none while the service
    wants a pause.
    """

    def __init__(self, per_second: float, clock: Clock) -> None:
        self.interval = 1 / per_second
        self.clock = clock
        self.lock = threading.Lock()
        self.free_at = clock.now()
        self.held_until = clock.now()

    def take_turn(self) -> None:
        """Waits until a request may begin. Raises Stopped."""
        while True:
            with self.lock:
                now = self.clock.now()
                begin = max(self.free_at, self.held_until)
                if begin <= now:
                    # Turns follow each other at the interval, however late one is taken.
                    self.free_at = max(begin, now - self.interval) + self.interval
                    return
            self.clock.wait(begin - now)

    def hold(self, seconds: float) -> None:
        """No request begins before so many seconds have passed."""
        with self.lock:
            self.held_until = max(self.held_until, self.clock.now() + seconds)


def pause(tries: int, limits: Limits, chance: random.Random) -> float:
    """Seconds to wait after so many tries: doubled each time, less a random part of up to a half,
    so that clients that were refused together don't come back together.
    """
    longest: float = min(LONGEST_PAUSE, limits.pause * 2 ** min(tries - 1, 30))
    return longest * (1 - chance.random() / 2)


def retry_after(
    value: str | None, now: Callable[[], datetime] = lambda: datetime.now(UTC)
) -> float | None:
    """The seconds of a header Retry-After (RFC 9110, section 10.2.3): a number, or an instant; None
    for neither.
    """
    if value is None:
        return None
    # `isdigit` alone takes digits of other scripts, which the header can't have.
    if value.strip().isascii() and value.strip().isdigit():
        return float(value)
    try:
        instant = parsedate_to_datetime(value)
    except ValueError:
        return None
    # An instant without a zone is in UTC (RFC 5322, -0000).
    instant = instant if instant.tzinfo else instant.replace(tzinfo=UTC)
    # The clock of the service may be behind ours.
    return max(0.0, (instant - now()).total_seconds())
