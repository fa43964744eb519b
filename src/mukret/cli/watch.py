"""Something that is shown again whenever a rules file is saved."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from mukret.rules import Rules

EVERY = 0.15
"""Seconds between two looks at the files."""


def watch(rules: str, show: Callable[[], Rules], changed: Callable[[Rules, Rules], None]) -> None:
    """Calls `show` at once and at each save of the rules, or of a file that they include or refer to, until Ctrl-C;
    after it `changed` with the rules as they were and as they are. What is wrong with them is said in place, and
    watching goes on."""
    from mukret.cli.main import show as show_error
    from mukret.errors import MukretError

    known: Rules | None = None
    before: object = None
    try:
        while True:
            now = [_stamp(file) for file in (rules, *(known.included if known else ()))]
            if now != before:
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
                before = [_stamp(rules), *map(_stamp, known.included if known else ())]
                click.secho(f"watching {rules}: save it to see this again, Ctrl-C ends", dim=True, err=True)
            time.sleep(EVERY)
    except KeyboardInterrupt:
        click.echo("", err=True)


def _stamp(file: str) -> tuple[int, int] | None:
    """What changes when a file is saved; editors may write it anew, so that for a moment it is not there."""
    try:
        found = os.stat(file)
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size
