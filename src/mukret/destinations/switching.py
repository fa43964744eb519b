"""The steps of the file system by which a folder takes the place of another."""

from __future__ import annotations

import ctypes
import os
import shutil
from pathlib import Path

from mukret.locks import hold

# Ends the name of what was there before, between two renames.
ASIDE = "-old"
_AT_FDCWD = -100
_RENAME_EXCHANGE = 2


def is_name_of(place: Path, descriptor: int) -> bool:
    """Whether the folder that is open stands there: its name may be another's by now."""
    try:
        return os.path.samestat(os.stat(place), os.fstat(descriptor))
    except FileNotFoundError:
        return False


def sync(folder: Path) -> None:
    """Has all of a folder written to the disk."""
    for path in [*folder.rglob("*"), folder]:
        handle = os.open(path, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def switch(work: Path, place: Path) -> None:
    """Puts a folder in a place, in which there may be another."""
    if not place.exists():
        os.rename(work, place)
    elif not exchange(work, place):
        _rename_twice(work, place)


def _rename_twice(work: Path, place: Path) -> None:
    """For want of an exchange. Killed in between, the next run puts back what was there."""
    aside = work.with_name(f"{work.name}{ASIDE}")
    before = os.open(place, os.O_RDONLY)
    try:
        hold(before)  # nobody takes it for a leftover while it has no place
        os.rename(place, aside)
        try:
            os.rename(work, place)
        except BaseException:
            os.rename(aside, place)
            raise
        shutil.rmtree(aside, ignore_errors=True)
    finally:
        os.close(before)


def exchange(left: Path, right: Path) -> bool:
    """Exchanges two names in one step (Linux's renameat2); False where the system can't."""
    try:
        renameat2 = ctypes.CDLL(None, use_errno=True).renameat2
    except (OSError, AttributeError):
        return False
    # Not there on other systems, nor on every file system: the caller renames twice then.
    done = renameat2(
        _AT_FDCWD, os.fsencode(left), _AT_FDCWD, os.fsencode(right), _RENAME_EXCHANGE
    )
    return bool(done == 0)
