"""Tasks done by threads ahead of whoever takes their results,
which come in the order of the tasks.
"""

from __future__ import annotations

import os
import sys
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Generic, Self, TypeVar

from mukret.documents import Source

# Bytes of input from which on several threads gain more than they cost.
PAYS_FROM = 20_000_000
# Tasks for each thread that may be done before one that goes before them.
AHEAD = 2
# Seconds after which a thread that wants the interpreter asks another for it: all of them do after
# each kernel, and would wait many times as long otherwise.
PATIENCE = 0.0002

Made = TypeVar("Made")


class Ahead(Generic[Made]):
    """`threads` do tasks; with one alone there is no thread, and a task is done when its result is
    taken.

    What a task raises is raised where its result is taken. If the block fails, tasks that have not
    begun are dropped.
    """

    def __init__(self, threads: int) -> None:
        # Bounded: results wait in memory until those before them are taken.
        self.most = AHEAD * threads if threads > 1 else 0
        self.pool = (
            ThreadPoolExecutor(threads, thread_name_prefix="work")
            if threads > 1
            else None
        )
        self.waiting: deque[Future[Made]] = deque()
        self.undone: deque[Callable[[], Made]] = deque()

    def add(self, task: Callable[[], Made]) -> None:
        if self.pool is None:
            self.undone.append(task)
        else:
            self.waiting.append(self.pool.submit(task))

    def ready(self) -> Iterator[Made]:
        """The results that are due: so many that few enough tasks are left."""
        while len(self.waiting) + len(self.undone) > self.most:
            yield self.next()

    def rest(self) -> Iterator[Made]:
        """The results of all tasks."""
        while self.waiting or self.undone:
            yield self.next()

    def next(self) -> Made:
        if self.undone:
            return self.undone.popleft()()
        return self.waiting.popleft().result()

    def __enter__(self) -> Self:
        self.usual = sys.getswitchinterval()
        if self.pool is not None:
            sys.setswitchinterval(PATIENCE)
        return self

    def __exit__(self, *_: object) -> None:
        if self.pool is not None:
            self.pool.shutdown(cancel_futures=True)
            sys.setswitchinterval(self.usual)


def sensible(sources: Sequence[Source]) -> int:
    """How many threads an input is worth: as many as there are cores, if it is large enough; else
    1.
    """
    cores = (
        # A container may have fewer than the machine.
        len(os.sched_getaffinity(0))
        if hasattr(os, "sched_getaffinity")
        else os.cpu_count() or 1
    )
    files = [source.path for source in sources if os.path.isfile(source.path)]
    return cores if sum(map(os.path.getsize, files)) >= PAYS_FROM else 1
