"""The folder of a capture: every answer as it came, and a line about each.

`pages/NNNNNN.json` holds what is data, `apart/NNNNNN.*` what is not; `capture.jsonl` says of each where it came from. A
body is written beside its place and moved there when it is whole; its line is written after that, so that what the
record names is always there.
"""

from __future__ import annotations

import hashlib
import json
import mimetypes
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from mukret.documents.archives import is_json_media_type
from mukret.documents.captures import CAPTURE, capture_records
from mukret.errors import OutputError
from mukret.locks import hold

PAGES, APART = "pages", "apart"


class CaptureFolder:
    """A folder to keep answers in: a new one, an empty one, or one that holds a capture already."""

    def __init__(self, path: str) -> None:
        """Raises OutputError if the folder holds anything else, InputError if its record is broken."""
        self.path = Path(path)
        with _writing(path):
            if self.path.exists() and not self.path.is_dir():
                raise OutputError("not-empty", f"{path} is a file, not a folder", hint="--to ANOTHER_FOLDER")
            others = sorted(set(os.listdir(path)) - {PAGES, APART, CAPTURE}) if self.path.exists() else []
            if others and not (self.path / CAPTURE).exists():
                message = f"{path} holds what Mukret did not write: {', '.join(others[:3])}"
                raise OutputError("not-empty", message, hint="--to ANOTHER_FOLDER, or an empty one")
        records = capture_records(self.path) if (self.path / CAPTURE).exists() else []
        self.before = [str(record.get("url", "")) for record in records if not record.get("problem")]
        """The addresses of the answers that were kept before, in their order; not of those that were kept apart."""

    @contextmanager
    def alone(self) -> Iterator[None]:
        """While nobody else writes into it. A new folder in which nothing was kept goes. Raises OutputError."""
        with _writing(str(self.path)):
            self.path.mkdir(parents=True, exist_ok=True)
            handle = os.open(self.path, os.O_RDONLY)
        try:
            if hold(handle) is False:
                hint = "wait until it is done, or --to ANOTHER_FOLDER"
                raise OutputError("in-use", f"{self.path}: another mukret collect writes into it", hint=hint)
            yield
        finally:
            os.close(handle)
            for folder in (self.path / PAGES, self.path):
                with suppress(OSError):  # most of the time it is not empty
                    folder.rmdir()

    def receive(self, body: Iterable[bytes]) -> Received:
        """Writes a body beside its place as it comes. Raises OutputError, and whatever `body` raises."""
        with _writing(str(self.path)):
            (self.path / PAGES).mkdir(parents=True, exist_ok=True)
        return Received(self, self._next_number(), body)

    def _next_number(self) -> int:
        names = [entry.name for folder in (PAGES, APART) for entry in (self.path / folder).glob("[0-9]*")]
        return max((int(name.partition(".")[0]) for name in names if name.partition(".")[0].isdigit()), default=0) + 1

    def note(self, record: dict[str, Any]) -> None:
        """Adds a line to the record."""
        line = json.dumps(record, ensure_ascii=False) + "\n"
        with _writing(str(self.path)), open(self.path / CAPTURE, "ab") as file:
            _end_torn_line(file, self.path / CAPTURE)
            file.write(line.encode())
            file.flush()
            os.fsync(file.fileno())


class Received:
    """A body that was written whole and has no place yet."""

    def __init__(self, folder: CaptureFolder, number: int, body: Iterable[bytes]) -> None:
        self.folder = folder
        self.number = number
        self.size = 0
        self.part = folder.path / PAGES / f".{number:06d}.part"
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
            self.part.unlink(missing_ok=True)
            raise
        self.sha256 = digest.hexdigest()

    def keep(self) -> str:
        """Moves it among the pages; gives its name within the folder."""
        return self._move(f"{PAGES}/{self.number:06d}.json")

    def set_apart(self, media_type: str | None) -> str:
        """Moves it to where no run reads it; gives its name within the folder."""
        json_like = is_json_media_type(media_type or "")
        ending = ".json" if json_like else mimetypes.guess_extension(media_type or "") or ".body"
        return self._move(f"{APART}/{self.number:06d}{ending}")

    def _move(self, name: str) -> str:
        with _writing(str(self.folder.path)):
            place = self.folder.path / name
            place.parent.mkdir(exist_ok=True)
            os.replace(self.part, place)
        return name


@contextmanager
def _writing(name: str) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise OutputError("not-written", f"{name}: {(error.strerror or str(error)).lower()}") from None


def _end_torn_line(file: Any, path: Path) -> None:
    """Takes away a last line that a crash cut off, so that it does not swallow the next."""
    size = path.stat().st_size
    if size:
        with open(path, "rb+") as again:
            again.seek(-1, os.SEEK_END)
            if again.read(1) != b"\n":
                content = path.read_bytes()
                again.truncate(content.rfind(b"\n") + 1)
