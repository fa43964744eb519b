"""HTTP archives (HAR 1.2): what a browser or a proxy recorded; its JSON answers are documents."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator
from dataclasses import dataclass

from mukret.documents.origin import Origin
from mukret.values import JsonValue

_NEVER_DATA = (
    "image/",
    "font/",
    "video/",
    "audio/",
    "text/css",
    "text/javascript",
    "application/javascript",
)


@dataclass(frozen=True)
class ArchiveEntry:
    """One recorded answer: its body if it holds data, else why it does not.

    `failed`: it should have been data.
    """

    origin: Origin
    body: bytes | None = None
    reason: str = ""
    failed: bool = False


def is_archive(document: JsonValue) -> bool:
    """Whether a document is an HTTP archive: an object `log` with a list of `entries` that hold
    requests.
    """
    log = _object(_object(document).get("log"))
    entries = log.get("entries")
    if type(entries) is not list or not ("version" in log or "creator" in log):
        return False
    # One entry of another shape and it is a response that happens to have such members.
    return all(
        type(entry) is dict and "request" in entry and "response" in entry
        for entry in entries
    )


def entries(document: JsonValue) -> Iterator[ArchiveEntry]:
    """The recorded answers in their order."""
    for entry in document["log"]["entries"]:
        yield _entry(
            _object(entry.get("request")),
            _object(entry.get("response")),
            entry.get("startedDateTime"),
        )


def _entry(request: JsonValue, response: JsonValue, started: JsonValue) -> ArchiveEntry:
    content = _object(response.get("content"))
    media_type = _text(content.get("mimeType")).partition(";")[0].strip().lower()
    status = response.get("status")
    origin = Origin(
        _text(request.get("url")),
        status if type(status) is int else None,
        media_type,
        _text(started),
    )
    # Pictures and scripts are in every archive of a browser; an answer that failed where data was
    # asked for is told.
    if media_type.startswith(_NEVER_DATA):
        return ArchiveEntry(origin, reason=media_type)
    if type(status) is int and status >= 400:
        return ArchiveEntry(
            origin, reason=f"the service answered {status}", failed=True
        )
    if type(status) is int and not 200 <= status < 300:
        return ArchiveEntry(origin, reason=f"status {status}")
    if not is_json_media_type(media_type):
        return ArchiveEntry(origin, reason=media_type or "no media type")
    return _body(origin, content)


# Base64 where the body was no text: what it is, is looked at as of any other answer.
def _body(origin: Origin, content: JsonValue) -> ArchiveEntry:
    text = _text(content.get("text"))
    # Browsers leave bodies out of what they save where these were large or came from their own
    # store.
    if not text:
        return ArchiveEntry(origin, reason="an answer whose body was not recorded")
    if content.get("encoding") != "base64":
        return ArchiveEntry(origin, text.encode())
    try:
        return ArchiveEntry(origin, base64.b64decode(text, validate=True))
    except binascii.Error:
        return ArchiveEntry(
            origin, reason="a body that is not the base64 that it says", failed=True
        )


def is_json_media_type(media_type: str) -> bool:
    """`application/json`, the older spellings,
    and everything with the suffix `+json` (RFC 6839).
    """
    return media_type.endswith("+json") or media_type in (
        "application/json",
        "text/json",
        "application/x-json",
    )


def _object(value: JsonValue) -> JsonValue:
    return value if type(value) is dict else {}


def _text(value: JsonValue) -> str:
    return value if type(value) is str else ""
