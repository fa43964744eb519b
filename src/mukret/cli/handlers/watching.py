"""A view that is drawn again whenever a rules file is saved."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Generic, Protocol, TypeVar

import click

from mukret.cli.views.problems import print_error
from mukret.errors import MukretError

if TYPE_CHECKING:
    from mukret.rules import Rules

Stamp = tuple[int, int]

# Seconds for which is read before something is shown.
PATIENCE = 0.25
# Seconds between two looks at the files.
EVERY = 0.06
# After so many looks a file that is not there, or empty, is taken to be meant so.
MOST_WAITS = 10


class Watched(Protocol):
    """What is shown: `go_on` reads until some time of the monotonic clock, `finished` says that
    nothing is left.
    """

    finished: bool

    @property
    def rules(self) -> Rules: ...

    def go_on(self, until: float) -> None: ...


Looking = TypeVar("Looking", bound=Watched)


def watch(
    rules: str,
    begin: Callable[[], Looking],
    show: Callable[[Looking, Looking | None], None],
) -> None:
    """Begins a look at once and at each save of the rules, or of a file that they include or refer
    to, until Ctrl-C.

    What there is after a moment is shown, together with the look before; reading goes on as long as
    nothing is saved, and what there is then is shown again. What is wrong with the rules is said in
    place, and watching goes on.
    """
    watching = _Watching(rules, begin, show)
    try:
        while True:
            if watching.saved():
                watching.look()
            # Between two looks at the files a little more is read.
            elif watching.now is not None and not watching.now.finished:
                watching.go_on()
            else:
                time.sleep(EVERY)
    except KeyboardInterrupt:
        click.echo("", err=True)


class _Watching(Generic[Looking]):
    def __init__(
        self,
        rules: str,
        begin: Callable[[], Looking],
        show: Callable[[Looking, Looking | None], None],
    ) -> None:
        self.rules = rules
        self.begin = begin
        self.show = show
        self.now: Looking | None = None
        self.before: Looking | None = None
        self.stamps: dict[str, Stamp | None] = {}
        # Editors take a file away for a moment while they save it.
        self.missing = 0

    def files(self) -> list[str]:
        return [self.rules, *(self.now.rules.included if self.now else ())]

    def saved(self) -> bool:
        """Whether a file has changed since it was looked at."""
        stamps = {file: _stamp(file) for file in self.files()}
        self.missing = self.missing + 1 if None in stamps.values() else 0
        # Gone for a moment: longer than that it is gone.
        if 0 < self.missing <= MOST_WAITS:
            return False
        changed = any(
            self.stamps.get(file, ()) != stamp for file, stamp in stamps.items()
        )
        self.stamps.update(stamps)
        return changed

    def look(self) -> None:
        _clear()
        until = time.monotonic() + PATIENCE
        try:
            fresh = self.begin()
            fresh.go_on(until)
            self.show(fresh, self.now)
            self.now, self.before = fresh, self.now
            for file in self.files():
                # Files that the rules include or refer to are known only now.
                self.stamps.setdefault(file, _stamp(file))
        except MukretError as error:
            print_error(error)
            if self.now is not None:
                self.now.finished = True
        self.say()

    def go_on(self) -> None:
        assert self.now is not None
        try:
            self.now.go_on(time.monotonic())
            if self.now.finished:
                _clear()
                self.show(self.now, self.before)
                self.say()
        except MukretError as error:
            print_error(error)
            # What is wrong does not get better by reading on.
            self.now.finished = True

    def say(self) -> None:
        more = "" if self.now is None or self.now.finished else "; reading on"
        click.secho(
            f"watching {self.rules}: save it to see this again, Ctrl-C ends{more}",
            dim=True,
            err=True,
        )


def _clear() -> None:
    if sys.stdout.isatty():
        click.clear()


def _stamp(file: str) -> Stamp | None:
    """What changes when a file is saved.

    None if it is missing or empty: an editor may be writing it.
    """
    try:
        status = os.stat(file)
    except OSError:
        return None
    return (status.st_mtime_ns, status.st_size) if status.st_size else None
