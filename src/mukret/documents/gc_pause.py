"""The collector of cycles (`gc`), and why it rests while documents are read."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def gc_paused() -> Iterator[None]:
    """Without the collector of cycles.

    Documents have no cycles, and it would go through every one of them again and again.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        # Whoever calls us may have paused it as well.
        if was_on:
            gc.enable()
