"""Pausing the garbage collector (`gc`) while documents are read."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def gc_paused() -> Iterator[None]:
    """Pauses the garbage collector.

    Documents have no cycles, and it would go through all of them again and again.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        # Whoever calls us may have paused it as well.
        if was_on:
            gc.enable()
