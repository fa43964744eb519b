"""Writing in a thread beside the one that reads."""

from __future__ import annotations

import sys
from collections import deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Self

# Record batches that may wait to be written: enough to keep the thread busy.
MOST_WAITING = 3

# Seconds after which a thread that wants the interpreter asks the other for it.
PATIENCE = 0.0002


class WriteBehind:
    """Does tasks one after the other in a thread of its own: it pays, since Arrow's kernels let go
    of the interpreter.

    Few tasks wait at a time, so memory is bounded. An error of a task is raised where a later one
    is handed in, or at the end of the block; if the block itself fails, tasks that have not begun
    are dropped.

    Both threads ask for the interpreter after each kernel: they wait for it a fraction of the usual
    time.
    """

    def __init__(self) -> None:
        self.usual = sys.getswitchinterval()
        self.pool = ThreadPoolExecutor(max_workers=1, thread_name_prefix="write")
        self.waiting: deque[Future[None]] = deque()

    def do(self, task: Callable[[], None]) -> None:
        while len(self.waiting) > MOST_WAITING or (
            self.waiting and self.waiting[0].done()
        ):
            self.waiting.popleft().result()
        self.waiting.append(self.pool.submit(task))

    def __enter__(self) -> Self:
        sys.setswitchinterval(PATIENCE)
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        self.pool.shutdown(cancel_futures=kind is not None)
        sys.setswitchinterval(self.usual)
        if kind is None:
            for future in self.waiting:
                future.result()
