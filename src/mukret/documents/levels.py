"""How deep documents may nest: one bound, wherever in the program a document is read.

The decoders give up where the interpreter's stack does, and that depends on who calls them. So a
decoder gets a stack of `MOST_LEVELS` from where it stands, and all that works on a document
afterwards has room for several times as much.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from threading import RLock

# Give or take a few: calls that the interpreter makes in C count for the stack, and can't be
# counted from here.
MOST_LEVELS = 1000
# Frames; what goes through a document takes a few for each level.
_ROOM = 10 * MOST_LEVELS
# The bound is that of the whole interpreter, so of several threads one decodes at a time.
_one_at_a_time = RLock()


@contextmanager
def bounded_levels() -> Iterator[None]:
    """Whatever is decoded within raises RecursionError beyond the bound."""
    with _one_at_a_time:
        before = max(sys.getrecursionlimit(), _ROOM)
        # The limit is of the whole stack: what stands on it already is added.
        sys.setrecursionlimit(_frames() + MOST_LEVELS)
        try:
            yield
        finally:
            sys.setrecursionlimit(before)


def _frames() -> int:
    """How many frames the stack has now."""
    count, frame = 0, sys._getframe()
    while above := frame.f_back:
        count, frame = count + 1, above
    return count
