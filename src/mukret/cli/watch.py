"""Something that is shown again whenever a rules file is saved."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Protocol, TypeVar

import click

if TYPE_CHECKING:
    from mukret.rules import Rules

EVERY = 0.06
"""Seconds between two looks at the files."""
MOST_WAITS = 10
"""After so many looks a file that is not there, or empty, is taken to be meant so."""


class HasRules(Protocol):
    @property
    def rules(self) -> Rules: ...


Shown = TypeVar("Shown", bound=HasRules)


def watch(rules: str, show: Callable[[], Shown], changed: Callable[[Shown, Shown], None]) -> None:
    """Calls `show` at once and at each save of the rules, or of a file that they include or refer to, until Ctrl-C;
    after it `changed` with what it gave the time before and now. What is wrong with the rules is said in place, and
    watching goes on."""
    from mukret.cli.main import show as show_error
    from mukret.errors import MukretError

    known: Shown | None = None
    before: object = None
    waited = 0
    try:
        while True:
            now = [_stamp(file) for file in (rules, *(known.rules.included if known else ()))]
            waited = waited + 1 if None in now else 0
            if now != before and (not waited or waited > MOST_WAITS):
                before = now
                if sys.stdout.isatty():
                    click.clear()
                try:
                    fresh = show()
                    if known is not None:
                        changed(known, fresh)
                    known = fresh
                except MukretError as error:
                    show_error(error)
                before = [_stamp(rules), *map(_stamp, known.rules.included if known else ())]
                click.secho(f"watching {rules}: save it to see this again, Ctrl-C ends", dim=True, err=True)
            time.sleep(EVERY)
    except KeyboardInterrupt:
        click.echo("", err=True)


def _stamp(file: str) -> tuple[int, int] | None:
    """What changes when a file is saved. None if it is not there, or empty: editors may write it anew."""
    try:
        found = os.stat(file)
    except OSError:
        return None
    return (found.st_mtime_ns, found.st_size) if found.st_size else None
