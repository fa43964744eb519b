"""Files that are not on this machine, by their address: `s3://BUCKET/KEY`, `gs://`, `abfss://`,
`hdfs://`, `file://`.

Arrow's file systems read them; credentials are found as the service's own programs find them.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, BinaryIO, cast

from mukret.codes import Code
from mukret.errors import InputError, UsageError

# Names that programs on the Java platform have for the same schemes.
_OTHER_NAMES = {"s3a": "s3", "s3n": "s3", "gcs": "gs"}
_ADDRESS = re.compile(r"(?!https?:)([A-Za-z][A-Za-z0-9+.-]+)://")
# A user and a password before the name of a bucket or a host.
_SECRET = re.compile(r"[^/]*:[^/]*@")
_PATTERN = re.compile(r"[*?\[]")


@dataclass(frozen=True)
class RemoteFile:
    """A file by its address, and how many bytes it has."""

    address: str
    size: int


def is_remote(name: str) -> bool:
    """Whether it is the address of a file or folder elsewhere.

    An address on the web is not: `collect` asks for that.
    """
    return _ADDRESS.match(name) is not None


def opened_remote(address: str) -> BinaryIO:
    """The file at an address, to be read. Raises OSError."""
    system, path = file_system(address)
    return cast(BinaryIO, system.open_input_file(path))


def file_system(address: str) -> tuple[Any, str]:
    """Arrow's file system, and the path in it.

    Raises OSError, InputError for a scheme that it does not know, UsageError for a password in it.
    """
    import pyarrow as pa
    from pyarrow import fs

    scheme, _, rest = address.partition("://")
    # Before it is put into any message.
    refuse_password(address)
    try:
        system: tuple[Any, str] = fs.FileSystem.from_uri(
            f"{_OTHER_NAMES.get(scheme.lower(), scheme)}://{_quoted(rest)}"
        )
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError, ImportError) as error:
        hint = (
            "s3://BUCKET/KEY, gs://BUCKET/KEY, abfss://…, hdfs://HOST:PORT/PATH, or a path "
            "that all machines have"
        )
        raise InputError(
            Code.NOT_OPENED, f"{address}: {str(error).splitlines()[0]}", hint=hint
        ) from None
    return system


def refuse_password(address: str) -> None:
    """Raises UsageError for an address that holds one: addresses stand in records."""
    scheme, _, rest = address.partition("://")
    if _SECRET.match(rest):
        hint = "leave it to the environment, as the service's own programs do"
        raise UsageError(
            Code.USAGE,
            f"{scheme}://…: an address with a password would stand in records",
            hint=hint,
        )


def _quoted(rest: str) -> str:
    from urllib.parse import quote

    return quote(rest, safe="/:@?=&%+,;!$'()~*[]")


def remote_files(address: str) -> list[RemoteFile]:
    """The file at an address, or all below a folder, or those that a pattern (`*`, `?`, `[…]`)
    fits, by name.

    Raises InputError where nothing is there.
    """
    from pyarrow import fs

    pattern = _PATTERN.search(address.partition("://")[2])
    start = (
        address
        if pattern is None
        # The folder above the first sign of a pattern: all below it is listed once.
        else address[: address.rindex("/", 0, address.index(pattern[0]))]
    )
    try:
        system, path = file_system(start)
        [info] = system.get_file_info([path])
        if info.type == fs.FileType.File:
            return [RemoteFile(address, info.size)]
        below = system.get_file_info(
            fs.FileSelector(path, recursive=True, allow_not_found=True)
        )
    except OSError as error:
        raise InputError(
            Code.NOT_OPENED,
            f"{address}: {str(error).splitlines()[0]}",
            hint="check the address",
        ) from None
    stem = start.rstrip("/")
    files = [
        RemoteFile(f"{stem}/{file.path[len(path.rstrip('/')) + 1 :]}", file.size)
        for file in below
        if file.type == fs.FileType.File
    ]
    fitting = sorted(
        _fitting(files, address if pattern else None), key=lambda file: file.address
    )
    if not fitting:
        raise InputError(
            Code.NO_INPUT, f"{address}: nothing is there", hint="check the address"
        )
    return fitting


def _fitting(files: list[RemoteFile], pattern: str | None) -> Iterator[RemoteFile]:
    for file in files:
        if pattern is None or fnmatch.fnmatchcase(file.address, pattern):
            yield file
