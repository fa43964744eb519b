"""A folder that `collect` wrote: `capture.jsonl` says which responses it holds and where each came from."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from mukret.documents.decode import NotJson, decode
from mukret.documents.origin import Origin
from mukret.documents.sources import Source
from mukret.errors import InputError
from mukret.values import JsonValue

CAPTURE = "capture.jsonl"


def is_capture(folder: Path) -> bool:
    return (folder / CAPTURE).is_file()


def captured_sources(folder: Path, *, newest: bool = False) -> list[Source]:
    """The kept responses in the order in which they came, or of each address the newest alone; what was kept apart is
    no data. Raises InputError."""
    records = [record for record in capture_records(folder) if not record.get("problem")]
    if newest:
        last = {(record.get("call"), record.get("url")): number for number, record in enumerate(records)}
        records = [records[number] for number in sorted(last.values())]
    return [Source(str(folder / record["file"]), named=False, origin=_origin(record)) for record in records]


def capture_records(folder: Path) -> list[dict[str, JsonValue]]:
    """The lines of `capture.jsonl`; a last line that was cut off by a crash is none. Raises InputError."""
    file = folder / CAPTURE
    try:
        lines = file.read_bytes().split(b"\n")
    except OSError as error:
        raise InputError("not-opened", f"{file}: {(error.strerror or str(error)).lower()}") from None
    return list(_records(file, lines[:-1]))


def _records(file: Path, lines: list[bytes]) -> Iterator[dict[str, JsonValue]]:
    for number, line in enumerate(lines, start=1):
        try:
            record = decode(line)
        except NotJson as error:
            raise _broken(file, number, error.finding.message) from None
        name = record.get("file") if type(record) is dict else None
        if type(name) is not str or Path(name).is_absolute() or ".." in Path(name).parts:
            raise _broken(file, number, "it does not name a file of this folder")
        yield record


def _broken(file: Path, number: int, why: str) -> InputError:
    hint = "name the responses themselves: " + str(file.parent / "pages")
    return InputError("capture-broken", f"{file}: line {number} can't be read: {why}", hint=hint)


def _origin(record: dict[str, JsonValue]) -> Origin:
    return Origin(
        url=str(record.get("url", "")),
        status=record.get("status"),
        media_type=record.get("media_type"),
        fetched_at=record.get("fetched_at"),
        call=record.get("call"),
        page=record.get("page"),
        variables=record.get("variables") or {},
    )
