"""A folder that `collect` wrote: `capture.jsonl` says which responses it holds and where each came
from.

An answer belongs to a list of pages (most lists have one), and a list is asked for again in each
round of a collection. The newest answers are those of the last round in which the list came to its
end; an unfinished round must not hide it.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import msgspec

from mukret.codes import Code
from mukret.documents.decode import NotJson, decode
from mukret.documents.origin import Origin
from mukret.documents.sources import Source
from mukret.errors import InputError
from mukret.values import JsonValue, Number

CAPTURE = "capture.jsonl"
NOT_MODIFIED = 304


_quick = msgspec.json.Decoder(float_hook=Number).decode
# The name of a file in the folder or below it.
_INSIDE = re.compile(r"(?!/)(?!(?:.*/)?\.\.(?:/|$))[^\\]+")


def is_capture(folder: Path) -> bool:
    return (folder / CAPTURE).is_file()


@dataclass(frozen=True)
class CaptureRecord:
    """A line of `capture.jsonl`. `round` is None in what no collection with rounds wrote."""

    line: dict[str, JsonValue]

    def text(self, name: str) -> str | None:
        value = self.line.get(name)
        return value if type(value) is str else None

    @property
    def file(self) -> str:
        """The file of the body, within the folder; of one that has not changed since, the one that
        was kept then.
        """
        return str(self.line["file"])

    @property
    def apart(self) -> bool:
        return bool(self.line.get("problem"))

    @property
    def unchanged(self) -> bool:
        """Whether the service said that the answer is the one that was kept before."""
        return self.line.get("status") == NOT_MODIFIED

    @property
    def ends(self) -> bool:
        """Whether it is the last page of its list."""
        return self.text("last") is not None

    @property
    def round(self) -> int | None:
        value = self.line.get("round")
        return value if type(value) is int else None

    @property
    def page(self) -> int:
        value = self.line.get("page")
        return value if type(value) is int else 1

    @property
    def asked_url(self) -> str:
        """The address that was asked for; `url` is where the answer came from, after redirects."""
        return self.text("asked") or self.text("url") or ""

    @property
    def key(self) -> str:
        """The list of pages that it belongs to; where none is on record, each address is a list of
        its own.
        """
        known = self.text("list")
        if known is not None:
            return known
        variables = json.dumps(self.line.get("variables") or {}, sort_keys=True)
        return f"{self.text('call')} {variables} {self.asked_url}"

    def origin(self, *, superseded: bool) -> Origin:
        line = self.line
        # Lines of earlier versions lack members: what is not there is not known.
        return Origin(
            url=str(line.get("url", "")),
            status=line.get("status"),
            media_type=line.get("media_type"),
            fetched_at=line.get("fetched_at"),
            call=line.get("call"),
            page=line.get("page"),
            variables=line.get("variables") or {},
            superseded=superseded,
        )


def captured_sources(folder: Path, *, newest: bool = False) -> list[Source]:
    """The kept responses in the order in which they came, or the newest of each address alone; what
    was kept apart is no data. Raises InputError.
    """
    newest_files = _newest_files(folder)
    sources = []
    for record in capture_records(folder):
        # Earlier answers are read too unless somebody says otherwise: what was collected twice may
        # differ.
        superseded = record.file not in newest_files
        if record.apart or record.unchanged or (newest and superseded):
            continue
        sources.append(
            Source(
                str(folder / record.file),
                named=False,
                origin=record.origin(superseded=superseded),
            )
        )
    return sources


@dataclass
class _Round:
    """What one round of a collection brought of a list."""

    number: int
    files: list[str]
    ended: bool = False


def _newest_files(folder: Path) -> set[str]:
    """The files of the newest answers of every list."""
    # A list is asked for page by page, in rounds. A round that did not come to its end counts only
    # as long as there is no whole one: half of today's list would hide that of yesterday.
    newest: dict[str, _Round] = {}
    for key, this in _rounds(folder):
        before = newest.get(key)
        if this.ended or before is None or not before.ended:
            newest[key] = this
    return {file for answers in newest.values() for file in answers.files}


def _rounds(folder: Path) -> Iterator[tuple[str, _Round]]:
    """The list that each record of a capture belongs to, and its round as far as it is known."""
    under_way: dict[str, _Round] = {}
    for number, record in enumerate(capture_records(folder)):
        # An answer that was kept apart is no page; it may end a round all the same.
        if record.apart and not record.ends:
            continue
        ordinal = number if record.round is None else record.round
        this = under_way.get(record.key)
        if this is None or this.number != ordinal:
            this = under_way[record.key] = _Round(ordinal, [])
        if not record.apart:
            this.files.append(record.file)
        this.ended = this.ended or record.ends or record.round is None
        yield record.key, this


def capture_records(folder: Path) -> Iterator[CaptureRecord]:
    """The lines of `capture.jsonl`; a last line that a crash cut off does not count.

    Raises InputError.
    """
    file = folder / CAPTURE
    try:
        with open(file, "rb") as lines:
            for number, line in enumerate(lines, start=1):
                # A line is written whole with its end: one without is of a run that was killed.
                if line.endswith(b"\n"):
                    yield _record(file, number, line)
    except OSError as error:
        raise InputError(
            Code.NOT_OPENED, f"{file}: {(error.strerror or str(error)).lower()}"
        ) from None


def _record(file: Path, number: int, line: bytes) -> CaptureRecord:
    try:
        record = _quick(line)
    except ValueError:  # its words are not ours
        try:
            record = decode(line)
        except NotJson as error:
            raise _broken(file, number, error.finding.message) from None
    name = record.get("file") if type(record) is dict else None
    if type(name) is not str or not _INSIDE.fullmatch(name):
        raise _broken(file, number, "it does not name a file of this folder")
    return CaptureRecord(record)


def _broken(file: Path, number: int, why: str) -> InputError:
    hint = "name the responses themselves: " + str(file.parent / "pages")
    return InputError(
        Code.CAPTURE_BROKEN, f"{file}: line {number} can't be read: {why}", hint=hint
    )
