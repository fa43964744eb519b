"""A folder that appears whole or not at all.

Everything is written into a folder beside the target, synced, and then takes the target's place in one exchange of
names (where the system has no exchange: in two renames). A run that fails or is killed leaves what was there before;
what a killed run left beside the target is cleared by the next one.
"""

from __future__ import annotations

import ctypes
import json
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mukret.errors import OutputError

RUN_FILE = "run.json"
_AT_FDCWD = -100
_RENAME_EXCHANGE = 2


@contextmanager
def folder_to_publish(target: str) -> Iterator[Path]:
    """A fresh folder to write into; it takes the place of `target` when the block ends without an error.

    Raises OutputError for a target that is not ours, or can't be written.
    """
    place = Path(os.path.realpath(target))
    try:
        check_ours(target, place)
        place.parent.mkdir(parents=True, exist_ok=True)
        _clear_leftovers(place)
        work = place.parent / f".{place.name}.mukret-{os.getpid()}"
        work.mkdir()
    except OSError as error:
        raise _not_written(target, error) from None
    try:
        yield work
        _sync(work)
        _switch(work, place)
    except OSError as error:
        raise _not_written(target, error) from None
    finally:
        shutil.rmtree(work, ignore_errors=True)


def rewrite(file: str, text: str) -> None:
    """A text file anew, whole or not at all, with the same rights. Raises OutputError."""
    place = Path(os.path.realpath(file))
    work = place.parent / f".{place.name}.mukret-{os.getpid()}"
    try:
        with open(work, "w", encoding="utf-8", newline="") as out:
            out.write(text)
            out.flush()
            os.fsync(out.fileno())
        shutil.copymode(place, work)
        os.replace(work, place)
    except OSError as error:
        raise _not_written(file, error) from None
    finally:
        work.unlink(missing_ok=True)


def _not_written(target: str, error: OSError) -> OutputError:
    reason = (error.strerror or str(error)).lower()
    return OutputError("not-written", f"{target}: {reason}", hint="what was there before is still there")


def check_ours(target: str, place: Path) -> None:
    """Raises OutputError if the target is a file, or a folder that holds anything that a run did not write."""
    above = next(parent for parent in (place, *place.parents) if parent.exists())
    if not above.is_dir():
        shown = target if above == place else above
        raise OutputError("not-empty", f"{shown} is a file, not a folder", hint="name a folder, a new one is best")
    if above != place:
        return
    foreign = sorted({entry.name for entry in place.iterdir()} - _written_before(place))
    if foreign:
        shown = ", ".join(foreign[:3]) + (", …" if len(foreign) > 3 else "")
        hint = f"give it a folder of its own: --to {target.rstrip('/')}/tables"
        raise OutputError("not-empty", f"{target} holds what Mukret did not write: {shown}", hint=hint)


def _written_before(place: Path) -> set[str]:
    """The names that a run's record says it wrote."""
    try:
        record = json.loads((place / RUN_FILE).read_bytes())
        return {str(name) for name in record["files"]} | {RUN_FILE} if "mukret" in record else set()
    except (OSError, ValueError, KeyError, TypeError):
        return set()


def _clear_leftovers(place: Path) -> None:
    for leftover in place.parent.glob(f".{place.name}.mukret-*"):
        owner = leftover.name.rpartition("-")[2]
        if owner.isdecimal() and not _alive(int(owner)):
            shutil.rmtree(leftover, ignore_errors=True)


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return process != os.getpid()


def _sync(folder: Path) -> None:
    for path in [*folder.iterdir(), folder]:
        handle = os.open(path, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _switch(work: Path, place: Path) -> None:
    if not place.exists():
        os.rename(work, place)
    elif not _exchange(work, place):
        aside = work.with_name(f"{work.name}-old")
        os.rename(place, aside)
        os.rename(work, place)
        shutil.rmtree(aside, ignore_errors=True)


def _exchange(one: Path, other: Path) -> bool:
    """Exchanges two names in one step (Linux's renameat2); False where the system can't."""
    try:
        renameat2 = ctypes.CDLL(None, use_errno=True).renameat2
    except (OSError, AttributeError):
        return False
    done = renameat2(_AT_FDCWD, os.fsencode(one), _AT_FDCWD, os.fsencode(other), _RENAME_EXCHANGE)
    return bool(done == 0)
