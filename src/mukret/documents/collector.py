"""The cyclic garbage collector and documents."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def collector_at_rest() -> Iterator[None]:
    """Without the cyclic garbage collector: documents have no cycles, and it would look at every
    one of them.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
