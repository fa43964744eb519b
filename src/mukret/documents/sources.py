"""From what was typed (files, folders, globs, `-`) to sources that can be opened, compressed or not."""

from __future__ import annotations

import bz2
import glob
import gzip
import hashlib
import io
import lzma
import os
import sys
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import BinaryIO, cast

from mukret.errors import InputError
from mukret.text import nearest

ENDINGS = (".json", ".jsonl", ".ndjson", ".geojson")
_PACKED = ("", ".gz", ".bz2", ".xz")
_MAGIC = {b"\x1f\x8b": "gzip", b"BZh": "bzip2", b"\xfd7zXZ\x00": "xz", b"\x28\xb5\x2f\xfd": "zstd"}
STANDARD_INPUT = "-"


@dataclass
class Source:
    """One input file, and what was learnt of it while it was read.

    `path` is what is opened, `name` the same as text that can always be written. `named`: typed by the user, not found
    in a folder or by a glob. `sha256` and `size` (in bytes) are of the file as it is stored; they are complete once it
    was read to its end.
    """

    path: str
    named: bool = True
    compression: str | None = None
    size: int = 0
    documents: int = 0
    digest: hashlib._Hash = field(default_factory=hashlib.sha256)
    hashing: Future[None] | None = None

    @property
    def name(self) -> str:
        return self.path.encode("utf-8", "replace").decode()

    @property
    def sha256(self) -> str:
        if self.hashing:
            self.hashing.result()
        return self.digest.hexdigest()

    def open(self) -> BinaryIO:
        """The file's contents, decompressed. Raises InputError."""
        try:
            raw = sys.stdin.buffer if self.path == STANDARD_INPUT else open(self.path, "rb")  # noqa: SIM115
            counted = cast(io.BufferedReader, io.BufferedReader(_Counted(cast(BinaryIO, raw), self), 1 << 18))
            return self._decompressed(counted)
        except OSError as error:
            raise not_opened(self.name, error) from None

    def _decompressed(self, file: io.BufferedReader) -> BinaryIO:
        head = file.peek(6)[:6]
        self.compression = next((name for magic, name in _MAGIC.items() if head.startswith(magic)), None)
        match self.compression:
            case "gzip":
                return cast(BinaryIO, gzip.GzipFile(fileobj=file))
            case "bzip2":
                return cast(BinaryIO, bz2.BZ2File(file))
            case "xz":
                return cast(BinaryIO, lzma.LZMAFile(file))
            case "zstd":
                hint = f"unpack it first: zstd -d {self.name}"
                raise InputError("not-supported", f"{self.name}: zstd input is not supported yet", hint=hint)
        return file


@lru_cache(maxsize=1)
def _hasher() -> ThreadPoolExecutor:
    """One thread, so that pieces are hashed in their order; hashing lets go of the interpreter."""
    return ThreadPoolExecutor(max_workers=1, thread_name_prefix="hash")


class _Counted(io.RawIOBase):
    """Passes bytes on, counting and hashing them."""

    def __init__(self, file: BinaryIO, source: Source) -> None:
        self.file = file
        self.source = source

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: object) -> int:
        view = memoryview(cast(bytearray, buffer)).cast("B")
        count = cast(io.BufferedReader, self.file).readinto(view)
        self.source.size += count
        if self.source.hashing:
            self.source.hashing.result()  # one piece waits at most, however fast the reader is
        self.source.hashing = _hasher().submit(self.source.digest.update, bytes(view[:count]))
        return count

    def close(self) -> None:
        if not self.closed and self.file is not sys.stdin.buffer:
            self.file.close()
        super().close()


def not_opened(name: str, error: OSError) -> InputError:
    return InputError("not-opened", f"{name}: {(error.strerror or str(error)).lower()}", hint="check the path")


def find_sources(inputs: Iterable[str | os.PathLike[str]]) -> list[Source]:
    """All sources that the inputs stand for, in order: folders and globs are followed, by name.

    Raises InputError for what is not there, and for a folder or glob without a response in it.
    """
    found: list[Source] = []
    for item in inputs:
        name = os.fspath(item)
        if name == STANDARD_INPUT:
            found.append(Source(name))
        elif os.path.isdir(name):
            found += _in_folder(name)
        elif os.path.exists(name):
            if not os.access(name, os.R_OK):  # asked, not opened: a pipe can be opened only once
                raise InputError("not-opened", f"{name}: permission denied", hint="check the permissions")
            found.append(Source(name))
        elif glob.has_magic(name):
            found += _by_glob(name)
        else:
            near = _neighbour(name)
            hint = f"did you mean {near}?" if near else "check the path"
            raise InputError("not-opened", f"{name}: no such file or folder", hint=hint)
    if not found:
        raise InputError(
            "no-input", "no input was given", hint="name a file, a folder, a glob, or - for standard input"
        )
    return found


def _is_response(path: Path) -> bool:
    return path.is_file() and any(path.name.endswith(ending + packed) for ending in ENDINGS for packed in _PACKED)


def _in_folder(name: str) -> list[Source]:
    paths = sorted(_responses_below(Path(name)))
    if not paths:
        hint = f"responses end in {', '.join(ENDINGS)}, with or without .gz .bz2 .xz"
        raise InputError("no-input", f"{name}: a folder with no response in it", hint=hint)
    return [Source(str(path), named=False) for path in paths]


def _responses_below(folder: Path) -> Iterator[Path]:
    """All responses in a folder and below; hidden folders and those that hold the tables of a run are passed over."""
    if (folder / "run.json").exists() and (folder / "rejects.jsonl").exists():
        return
    for entry in folder.iterdir():
        if entry.is_dir():
            if not entry.name.startswith("."):
                yield from _responses_below(entry)
        elif _is_response(entry):
            yield entry


def _by_glob(name: str) -> list[Source]:
    paths = sorted(path for path in glob.glob(name, recursive=True) if os.path.isfile(path))
    if not paths:
        raise InputError("no-input", f"{name}: nothing matches", hint="check the pattern")
    return [Source(path, named=False) for path in paths]


def _neighbour(name: str) -> str | None:
    """The file beside it that was most likely meant; endings, which many share, are not compared."""
    folder = os.path.dirname(name) or "."
    try:
        stems = {entry.partition(".")[0]: entry for entry in sorted(os.listdir(folder), reverse=True)}
    except OSError:
        return None
    near = nearest(os.path.basename(name).partition(".")[0], stems)
    return os.path.join(os.path.dirname(name), stems[near]) if near else None
