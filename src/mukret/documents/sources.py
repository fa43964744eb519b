"""One input file: opened, unpacked, brought to UTF-8, counted and hashed on the way."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import io
import lzma
import os
import shutil
import sys
import tempfile
import weakref
import zlib
from collections import Counter, deque
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import lru_cache
from importlib import import_module
from typing import Any, BinaryIO, cast

from mukret.codes import Code
from mukret.documents.encoding import AsUtf8, encoding_of
from mukret.documents.origin import Origin
from mukret.errors import InputError

_MAGIC = {
    b"\x1f\x8b": "gzip",
    b"BZh": "bzip2",
    b"\xfd7zXZ\x00": "xz",
    b"\x28\xb5\x2f\xfd": "zstd",
}
STANDARD_INPUT = "-"
# Pieces that may wait to be hashed, however fast the reader is.
MOST_WAITING = 3


@dataclass(frozen=True)
class Stretch:
    """Some whole lines of a file of JSON Lines: from one byte on to before another, and how many
    documents and line ends the file has before them.
    """

    start: int
    end: int
    documents: int
    lines: int


@dataclass
class Source:
    """One input file, and what was learnt of it while it was read.

    `path` is what is opened, `name` the same as text that can always be written. `named`: typed by
    the user, not found in a folder or by a glob. `sha256` and `size` (in bytes) are of the file as
    it is stored; they are complete once it was read to its end. `passed_over` counts what an HTTP
    archive holds besides data, by reason. Of a long document the parts are read a second time:
    `parts_size` is how many bytes they have, `parts_read` how many of these came so far. `reading`
    is called whenever something was read. `at` is where another machine finds it, if that is not
    `path`; `remote` opens what is not on a disk. `stretch`: no more of the file than that is read.
    """

    path: str
    named: bool = True
    origin: Origin | None = None
    compression: str | None = None
    encoding: str | None = None
    passed_over: Counter[str] = field(default_factory=Counter)
    size: int = 0
    documents: int = 0
    digest: hashlib._Hash = field(default_factory=hashlib.sha256)
    hashing: deque[Future[None]] = field(default_factory=deque)
    copy: BinaryIO | None = None
    parts_size: int = 0
    parts_read: int = 0
    reading: Callable[[], None] | None = None
    at: str | None = None
    remote: Callable[[], BinaryIO] | None = None
    stretch: Stretch | None = None

    def keep(self) -> None:
        """Sees to it that it can be opened more than once: what comes through a pipe is copied to
        the disk.
        """
        if self.copy is not None or self.on_disk():
            return
        copy = tempfile.TemporaryFile()  # noqa: SIM115  # it is read as long as the source is there
        weakref.finalize(self, copy.close)
        try:
            shutil.copyfileobj(self._raw(), copy, 1 << 20)
            copy.flush()
        except OSError as error:
            raise not_opened(self.name, error) from None
        self.copy = cast(BinaryIO, copy)

    def content_hash(self) -> str:
        """The SHA-256 of the file as it is stored, before it is read; what comes through a pipe is
        copied to the disk for that. Raises InputError.
        """
        self.keep()
        try:
            with self._raw() as file:
                return hashlib.file_digest(cast(io.BytesIO, file), "sha256").hexdigest()
        except OSError as error:
            raise not_opened(self.name, error) from None

    def on_disk(self) -> bool:
        """Whether it can be opened again."""
        return os.path.isfile(self.at or self.path)

    def rewind(self) -> None:
        """Forgets what was learnt of it, so that it can be read again."""
        self.sha256  # noqa: B018  # nothing is being hashed any more
        self.passed_over.clear()
        self.size = self.documents = self.parts_size = self.parts_read = 0
        self.digest = hashlib.sha256()

    def _raw(self) -> BinaryIO:
        if self.copy is not None:
            return cast(BinaryIO, _FromTheStart(os.dup(self.copy.fileno())))
        if self.path == STANDARD_INPUT:
            return sys.stdin.buffer
        if self.remote is not None:
            file = self.remote()
        else:
            file = open(self.at or self.path, "rb")  # noqa: SIM115  # the reader closes it
        return (
            file if self.stretch is None else cast(BinaryIO, _Some(file, self.stretch))
        )

    @property
    def name(self) -> str:
        return self.path.encode("utf-8", "replace").decode()

    @property
    def sha256(self) -> str:
        while self.hashing:
            self.hashing.popleft().result()
        return self.digest.hexdigest()

    def second_look(self) -> BinaryIO | None:
        """The contents once more, uncounted, beginning anywhere, after they were opened; None if
        they would have to be made again.
        """
        # What has to be unpacked would be unpacked twice, and a pipe is gone.
        if (
            self.compression
            or self.encoding
            or self.stretch is not None
            or not self.on_disk()
        ):
            return None
        return open(self.at or self.path, "rb")

    def open(self) -> BinaryIO:
        """The file's contents, decompressed, as UTF-8 where a mark says that they are UTF-16.

        Raises InputError.
        """
        try:
            counted = cast(
                io.BufferedReader,
                # Counted below the decompression: hash and size are those of the file.
                io.BufferedReader(_Counted(self._raw(), self), 1 << 18),
            )
            return self._as_utf8(self._decompressed(counted))
        except OSError as error:
            raise not_opened(self.name, error) from None

    def _as_utf8(self, file: io.BufferedReader) -> BinaryIO:
        try:
            self.encoding = encoding_of(file.peek(4)[:4])
        except BROKEN_ARCHIVE as error:
            raise not_read(self.name, error) from None
        return io.BufferedReader(AsUtf8(file), 1 << 18) if self.encoding else file

    def _decompressed(self, file: io.BufferedReader) -> io.BufferedReader:
        # By its first bytes, whatever the file is called.
        head = file.peek(6)[:6]
        self.compression = next(
            (name for magic, name in _MAGIC.items() if head.startswith(magic)), None
        )
        match self.compression:
            case "gzip":
                return _buffered(gzip.GzipFile(fileobj=file))
            case "bzip2":
                return _buffered(bz2.BZ2File(file))
            case "xz":
                return _buffered(lzma.LZMAFile(file))
            case "zstd":
                return _buffered(_Zstd(file))
        return file


def _buffered(file: object) -> io.BufferedReader:
    """Buffers what is unpacked: that comes in short pieces, and the next reader wants to look
    ahead.
    """
    return cast(io.BufferedReader, io.BufferedReader(cast(io.RawIOBase, file), 1 << 18))


class _Zstd(io.RawIOBase):
    """Unpacks zstd by the standard library's module (from Python 3.14 on) or its backport; damage
    is an OSError.
    """

    def __init__(self, file: BinaryIO) -> None:
        module: Any = import_module(
            "compression.zstd" if sys.version_info >= (3, 14) else "backports.zstd"
        )
        self.file = module.ZstdFile(file)
        self.damage = module.ZstdError

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: object) -> int:
        try:
            return int(self.file.readinto(buffer))
        except self.damage as error:
            raise OSError(str(error)) from None

    def close(self) -> None:
        self.file.close()
        super().close()


@lru_cache(maxsize=1)
def _hasher() -> ThreadPoolExecutor:
    """One thread, so that pieces are hashed in their order; hashing lets go of the interpreter."""
    return ThreadPoolExecutor(max_workers=1, thread_name_prefix="hash")


class _FromTheStart(io.RawIOBase):
    """An open file from its beginning, with a position of its own: copies of a descriptor share
    theirs, and it may be read by two at a time.
    """

    def __init__(self, descriptor: int) -> None:
        self.descriptor = descriptor
        self.position = 0

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: object) -> int:
        # With a place of its own: the first reader goes on from where it is.
        count = os.preadv(
            self.descriptor,
            [memoryview(cast(bytearray, buffer)).cast("B")],
            self.position,
        )
        self.position += count
        return count

    def close(self) -> None:
        if not self.closed:
            os.close(self.descriptor)
        super().close()


class _Some(io.RawIOBase):
    """A stretch of a file."""

    def __init__(self, file: BinaryIO, stretch: Stretch) -> None:
        self.file = file
        self.left = stretch.end - stretch.start
        file.seek(stretch.start)

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: object) -> int:
        view = memoryview(cast(bytearray, buffer)).cast("B")[: self.left]
        count = cast(io.BufferedReader, self.file).readinto(view) if self.left else 0
        self.left -= count
        return count

    def close(self) -> None:
        self.file.close()
        super().close()


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
        # SHA-256 is done by a thread beside the reading, which must not run away from it.
        while len(self.source.hashing) >= MOST_WAITING:
            self.source.hashing.popleft().result()
        self.source.hashing.append(
            _hasher().submit(self.source.digest.update, bytes(view[:count]))
        )
        if self.source.reading is not None:
            self.source.reading()
        return count

    def close(self) -> None:
        if not self.closed and self.file is not sys.stdin.buffer:
            self.file.close()
        super().close()


# What reading raises where the packed or encoded contents are damaged.
BROKEN_ARCHIVE = (OSError, EOFError, UnicodeError, zlib.error, lzma.LZMAError)


def not_read(name: str, error: Exception) -> InputError:
    hint = "the file is damaged or was cut off: fetch it again"
    return InputError(
        Code.NOT_OPENED, f"{name}: can't be read to its end: {error}", hint=hint
    )


def not_opened(name: str, error: OSError) -> InputError:
    return InputError(
        Code.NOT_OPENED,
        f"{name}: {(error.strerror or str(error)).lower()}",
        hint="check the path",
    )
