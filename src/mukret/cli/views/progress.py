"""How far a long run has come, on a terminal: a bar that appears after a second and leaves nothing
behind.
"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from mukret.documents import Source

# Seconds after which somebody wants to know.
PATIENCE = 1.0
# Seconds for which a look at it is good.
BETWEEN = 0.1
STYLES = {
    "bar.complete": "green",
    "bar.finished": "green",
    "bar.pulse": "green",
    "progress.download": "none",
    "progress.data.speed": "dim",
    "progress.remaining": "dim",
}


@contextmanager
def progress_bar(
    sources: Sequence[Source], quiet: bool, told: Callable[[], str] = lambda: ""
) -> Iterator[Callable[[int], None] | None]:
    """What is to be called after each batch; None where nobody looks.

    `told` says what has come of it so far.
    """
    if quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        DownloadColumn,
        Progress,
        TextColumn,
        TimeRemainingColumn,
        TransferSpeedColumn,
    )
    from rich.theme import Theme

    said = TextColumn("{task.description}", markup=False)
    columns = (
        BarColumn(),
        DownloadColumn(),
        TransferSpeedColumn(),
        TimeRemainingColumn(),
        said,
    )
    console = Console(stderr=True, theme=Theme(STYLES))
    progress = Progress(
        *columns,
        console=console,
        transient=True,
        auto_refresh=False,
        redirect_stdout=False,
        redirect_stderr=False,
    )
    files = _total(sources)
    task = progress.add_task("", total=files)
    due = time.monotonic() + PATIENCE

    def seen(_: int = 0) -> None:
        nonlocal due
        # A bar is drawn only when a run takes so long that somebody waits.
        if time.monotonic() > due:
            due = time.monotonic() + BETWEEN
            progress.start()
            read = sum(source.size + source.parts_read for source in sources)
            total = (
                None
                if files is None
                else files + sum(source.parts_size for source in sources)
            )
            progress.update(
                task, completed=read, total=total, description=told(), refresh=True
            )

    for source in sources:
        source.reading = seen
    try:
        yield seen
    finally:
        progress.stop()
        for source in sources:
            source.reading = None


def _total(sources: Sequence[Source]) -> int | None:
    """Bytes to read; None if standard input or a pipe is among them."""
    files = [source.path for source in sources]
    return sum(map(os.path.getsize, files)) if all(map(os.path.isfile, files)) else None
