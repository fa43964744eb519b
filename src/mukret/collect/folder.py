"""The folder of a capture: every answer as it came, and a line about each.

`pages/NNNNNN.json` holds what is data, `apart/NNNNNN.*` what is not; `capture.jsonl` says of each
where it came from, and `rounds.jsonl` when the service was asked. A body is written beside its
place and moved there when it is whole; its line is written after that, so that what the record
names is always there. What was moved and has no line yet when the process is killed is taken away
by the next one, which asks for it again.
"""

from __future__ import annotations

import hashlib
import itertools
import json
import mimetypes
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path
from typing import BinaryIO

from mukret.codes import Code
from mukret.collect.masking import Masker
from mukret.documents.archives import is_json_media_type
from mukret.documents.captures import CAPTURE, CaptureRecord, capture_records
from mukret.errors import OutputError
from mukret.locks import hold
from mukret.values import JsonValue

PAGES, APART, ROUNDS = "pages", "apart", "rounds.jsonl"
_PIECE = 1 << 20


class CaptureFolder:
    """A folder to keep answers in: a new one, an empty one, or one that holds a capture already."""

    def __init__(self, path: str) -> None:
        """Raises OutputError if the folder holds anything else."""
        self.path = Path(path)
        self.parts = itertools.count(1)
        self.last_number: int | None = None
        with _writing(path):
            if self.path.exists() and not self.path.is_dir():
                raise OutputError(
                    Code.NOT_EMPTY,
                    f"{path} is a file, not a folder",
                    hint="--to ANOTHER_FOLDER",
                )
            others = (
                sorted(set(os.listdir(path)) - {PAGES, APART, CAPTURE, ROUNDS})
                if self.path.exists()
                else []
            )
            # Other files may have been put beside what was collected; only a folder that was never
            # ours is refused.
            ours = (self.path / CAPTURE).exists() or (self.path / ROUNDS).exists()
            if others and not ours:
                message = (
                    f"{path} holds what Mukret did not write: {', '.join(others[:3])}"
                )
                raise OutputError(
                    Code.NOT_EMPTY, message, hint="--to ANOTHER_FOLDER, or an empty one"
                )

    def records(self) -> Iterator[CaptureRecord]:
        """What was kept so far, in the order in which it came.

        Raises InputError if the record is broken.
        """
        if (self.path / CAPTURE).exists():
            yield from capture_records(self.path)

    @contextmanager
    def alone(self) -> Iterator[None]:
        """Holds the folder's lock.

        A new folder in which nothing was kept is removed at the end. Raises OutputError.
        """
        with _writing(str(self.path)):
            self.path.mkdir(parents=True, exist_ok=True)
            handle = os.open(self.path, os.O_RDONLY)
        try:
            # A lock of the folder goes with the process, also when it is killed.
            if hold(handle) is False:
                hint = "wait until it is done, or --to ANOTHER_FOLDER"
                raise OutputError(
                    Code.IN_USE,
                    f"{self.path}: another mukret collect writes into it",
                    hint=hint,
                )
            self._tidy()
            yield
        finally:
            self._leave()
            os.close(handle)

    def _leave(self) -> None:
        """Removes the folder of a collection that kept nothing."""
        if not (self.path / CAPTURE).exists():
            (self.path / ROUNDS).unlink(missing_ok=True)
        for folder in (self.path / PAGES, self.path):
            with suppress(OSError):  # most of the time it is not empty
                folder.rmdir()

    def _tidy(self) -> None:
        """Takes away what a process that was killed left: parts of bodies, and whole ones without a
        line.
        """
        numbers = [_number(record.file) for record in self.records()]
        self.last_number = max(numbers, default=0)
        with _writing(str(self.path)):
            for name in (PAGES, APART):
                for entry in (self.path / name).glob("*"):
                    if (
                        entry.name.startswith(".part-")
                        # A body is moved into place before its line is written: one without was
                        # never counted.
                        or _number(entry.name) > self.last_number
                    ):
                        entry.unlink()

    def receive(self, body: Iterable[bytes]) -> Received:
        """Writes a body beside its place as it comes.

        Raises OutputError, and whatever `body` raises.
        """
        with _writing(str(self.path)):
            (self.path / PAGES).mkdir(parents=True, exist_ok=True)
        return Received(self, self.path / PAGES / f".part-{next(self.parts)}", body)

    def next_number(self) -> int:
        if self.last_number is None:
            self.last_number = max(
                (_number(record.file) for record in self.records()), default=0
            )
        self.last_number += 1
        return self.last_number

    def note(self, record: dict[str, JsonValue]) -> None:
        """Adds a line to the record."""
        add_line(self.path / CAPTURE, record)


class Received:
    """A body that was written whole and has no place yet."""

    def __init__(
        self, folder: CaptureFolder, part: Path, body: Iterable[bytes]
    ) -> None:
        self.folder = folder
        self.size = 0
        self.part = part
        digest = hashlib.sha256()
        try:
            with _writing(str(folder.path)):
                file = open(self.part, "wb")  # noqa: SIM115
            with file:
                for piece in body:
                    digest.update(piece)
                    self.size += len(piece)
                    with _writing(str(folder.path)):
                        file.write(piece)
                with _writing(str(folder.path)):
                    file.flush()
                    os.fsync(file.fileno())
        except BaseException:
            self.discard()
            raise
        self.sha256 = digest.hexdigest()

    def discard(self) -> None:
        self.part.unlink(missing_ok=True)

    def beginning(self, characters: int) -> str:
        with open(self.part, "rb") as file:
            return (
                file.read(4 * characters)
                .decode("utf-8", "replace")[:characters]
                .strip()
            )

    def keep(self) -> str:
        """Moves it among the pages; gives its name within the folder."""
        return self._move(f"{PAGES}/{self.folder.next_number():06d}.json")

    def set_apart(self, media_type: str | None, masker: Masker) -> str:
        """Moves it to where no run reads it, secrets masked; gives its name within the folder."""
        self._mask(masker)
        json_like = is_json_media_type(media_type or "")
        ending = (
            ".json"
            if json_like
            # So that an error page opens in a browser.
            else mimetypes.guess_extension(media_type or "") or ".body"
        )
        return self._move(f"{APART}/{self.folder.next_number():06d}{ending}")

    def _mask(self, masker: Masker) -> None:
        """An error page may say all that was sent again: headers, the address, the sign-in."""
        if not masker.forms:
            return
        masked = self.part.with_name(self.part.name + "-masked")
        with (
            _writing(str(self.folder.path)),
            open(self.part, "rb") as file,
            open(masked, "wb") as target,
        ):
            # By pieces: an error page may have any size.
            target.writelines(masker.pieces(iter(partial(file.read, _PIECE), b"")))
        digest = hashlib.sha256()
        with open(masked, "rb") as file:
            while piece := file.read(_PIECE):
                digest.update(piece)
        self.size, self.sha256 = masked.stat().st_size, digest.hexdigest()
        os.replace(masked, self.part)

    def _move(self, name: str) -> str:
        with _writing(str(self.folder.path)):
            place = self.folder.path / name
            place.parent.mkdir(exist_ok=True)
            os.replace(self.part, place)
        return name


def add_line(path: Path, record: dict[str, JsonValue]) -> None:
    """Adds a line to a file of JSON Lines, so that it is on the disk. Raises OutputError."""
    line = json.dumps(record, ensure_ascii=False) + "\n"
    with _writing(str(path.parent)), open(path, "ab") as file:
        _end_torn_line(file, path)
        file.write(line.encode("utf-8", "surrogatepass"))
        file.flush()
        os.fsync(file.fileno())


def _number(file: str) -> int:
    digits = file.rpartition("/")[2].partition(".")[0]
    return int(digits) if digits.isascii() and digits.isdigit() else 0


@contextmanager
def _writing(name: str) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise OutputError(
            Code.NOT_WRITTEN, f"{name}: {(error.strerror or str(error)).lower()}"
        ) from None


def _end_torn_line(file: BinaryIO, path: Path) -> None:
    """Takes away a last line that a crash cut off, so that it does not swallow the next."""
    size = path.stat().st_size
    if size:
        with open(path, "rb+") as again:
            # One byte tells, most times.
            again.seek(-1, os.SEEK_END)
            if again.read(1) != b"\n":
                content = path.read_bytes()
                again.truncate(content.rfind(b"\n") + 1)
