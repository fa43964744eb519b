"""A folder that appears whole or not at all.

Everything is written into a folder beside the target, synced, and then takes the target's place in
one exchange of names (where the system has no exchange: in two renames). A run that fails or is
killed leaves what was there before. While a run works it holds a lock on its folder: what nobody
holds any more was left by a killed run, and the next one clears it.
"""

from __future__ import annotations

import json
import os
import secrets
import shutil
from pathlib import Path

from mukret.codes import Code
from mukret.destinations import switching
from mukret.errors import OutputError
from mukret.locks import hold

RUN_FILE = "run.json"


class Publication:
    """A fresh folder, `work`, that takes the place of `target` when it is published.

    It has its name before it is made, so that `close` finds it whenever an interrupt comes.
    """

    def __init__(self, target: str) -> None:
        self.target = target
        self.place = Path(os.path.realpath(target))
        self.work = _name_beside(self.place)
        self.lock = -1
        self.made: os.stat_result | None = None

    def begin(self) -> None:
        """Raises OutputError for a target that is not ours, or can't be written."""
        try:
            check_ours(self.target, self.place)
            self.place.parent.mkdir(parents=True, exist_ok=True)
            _clear_leftovers(self.place)
            # Another run may have taken it for a leftover before it was locked.
            while not self._make_folder():
                self.work = _name_beside(self.place)
        except OSError as error:
            raise not_written(self.target, error) from None
        self.made = os.fstat(self.lock)

    def _make_folder(self) -> bool:
        """Makes the folder and holds its lock; False if another run has just taken it for a
        leftover.
        """
        self.work.mkdir()
        self.lock = os.open(self.work, os.O_RDONLY)
        # Held, and still the folder of that name: else somebody was quicker.
        if hold(self.lock) is not False and switching.is_name_of(self.work, self.lock):
            return True
        os.close(self.lock)
        self.lock = -1
        return False

    def publish(self) -> None:
        """Raises OutputError where something else came there meanwhile, and OSError."""
        switching.sync(self.work)
        check_ours(self.target, self.place)
        switching.switch(self.work, self.place)

    @property
    def done(self) -> bool:
        """Whether it has its place, also if that was the last thing before an interrupt."""
        try:
            return self.made is not None and os.path.samestat(
                os.stat(self.place), self.made
            )
        except OSError:
            return False

    def close(self) -> None:
        """Removes what is left, and lets go of the lock."""
        shutil.rmtree(self.work, ignore_errors=True)
        if self.lock >= 0:
            os.close(self.lock)
            self.lock = -1


def rewrite(file: str, text: str) -> None:
    """A text file, new or anew with the same rights, whole or not at all. Raises OutputError."""
    # A link stays a link to the file that is written.
    place = Path(os.path.realpath(file))
    work = _name_beside(place)
    try:
        with open(work, "x", encoding="utf-8", newline="") as out:
            out.write(text)
            out.flush()
            # Renamed before its bytes are on the disk it could be empty after a crash.
            os.fsync(out.fileno())
        if place.exists():
            shutil.copymode(place, work)
        os.replace(work, place)
    except OSError as error:
        raise not_written(file, error) from None
    finally:
        work.unlink(missing_ok=True)


def _name_beside(place: Path) -> Path:
    """A hidden name that nobody else takes, on whatever machine."""
    return place.with_name(f"{_beginning(place)}{secrets.token_hex(4)}")


def _beginning(place: Path) -> str:
    return f".{place.name}.mukret-"


def not_written(target: str, error: OSError) -> OutputError:
    reason = (error.strerror or str(error)).lower()
    return OutputError(
        Code.NOT_WRITTEN,
        f"{target}: {reason}",
        hint="what was there before is still there",
    )


def check_ours(target: str, place: Path) -> None:
    """Raises OutputError if the target is a file, or a folder that holds anything that a run did
    not write.
    """
    # The target need not be there yet: what counts is what stands on the way to it.
    above = next(parent for parent in (place, *place.parents) if parent.exists())
    if not above.is_dir():
        shown = target if above == place else above
        raise OutputError(
            Code.NOT_EMPTY,
            f"{shown} is a file, not a folder",
            hint="name a folder, a new one is best",
        )
    if above != place:
        return
    foreign = sorted({entry.name for entry in place.iterdir()} - _written_before(place))
    if foreign:
        shown = ", ".join(foreign[:3]) + (", …" if len(foreign) > 3 else "")
        hint = f"give it a folder of its own: --to {target.rstrip('/')}/tables"
        raise OutputError(
            Code.NOT_EMPTY,
            f"{target} holds what Mukret did not write: {shown}",
            hint=hint,
        )


def _written_before(place: Path) -> set[str]:
    """The names that a run's record says it wrote."""
    try:
        record = json.loads((place / RUN_FILE).read_bytes())
        names = {
            str(name).partition("/")[0] for name in record["files"]
        }  # a table may be a folder of files
        return names | {RUN_FILE} if "mukret" in record else set()
    except (OSError, ValueError, KeyError, TypeError):
        return set()


def _clear_leftovers(place: Path) -> None:
    """Removes what killed runs left, and puts back what one of them had moved aside."""
    for name in sorted(os.listdir(place.parent)):
        leftover = place.with_name(name)
        if not name.startswith(_beginning(place)) or not _left(leftover):
            continue
        # Killed between the two renames: what was there before goes back.
        if name.endswith(switching.ASIDE) and not place.exists():
            os.rename(leftover, place)
        else:
            shutil.rmtree(leftover, ignore_errors=True)


def _left(folder: Path) -> bool:
    """Whether it is a folder that no run holds.

    Where the file system has no locks that can't be known: False.
    """
    try:
        descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    except OSError:
        return False
    try:
        # The lock goes with the process that held it, however that ended.
        return hold(descriptor) is True
    finally:
        os.close(descriptor)
