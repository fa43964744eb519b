"""Responses that a program has in hand → a source of documents, read as they are given."""

from __future__ import annotations

import io
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from itertools import chain
from typing import Any, BinaryIO, TypeAlias, cast

from mukret.codes import Code
from mukret.documents.decode import BYTE_ORDER_MARK
from mukret.documents.origin import Origin
from mukret.documents.recognise import RECORD_SEPARATOR, looks_like_lines
from mukret.documents.sources import Source
from mukret.errors import UsageError
from mukret.values import JsonValue, Number, json_text

# A parsed object, JSON text, bytes or an open file; anything else is refused when it is read.
GivenDocument: TypeAlias = object
# One of them, or an iterable of them.
GivenDocuments: TypeAlias = object
# What stands in the place of a file's name.
NAME = "documents"
_HEAD = 100_000


@dataclass
class Given(Source):
    """Documents as one source: a JSON text sequence (RFC 7464), made while it is read."""

    texts: Iterator[bytes] = field(default_factory=lambda: iter(()))

    def on_disk(self) -> bool:
        return False

    def _raw(self) -> BinaryIO:
        return (
            super()._raw()
            if self.copy is not None
            else cast(BinaryIO, _Sequence(self.texts))
        )


def given_sources(
    documents: GivenDocuments, origin: Origin | None = None
) -> list[Source]:
    """One source of the documents that a program has (see `given_texts`), or none where there are
    none. They are taken as they are read; `origin` is that of all of them.
    """
    texts = given_texts(documents)
    # One is taken to see whether there is any; generators are not asked for more.
    first = next(texts, None)
    return (
        []
        if first is None
        else [Given(NAME, origin=origin, texts=chain([first], texts))]
    )


def given_texts(documents: GivenDocuments) -> Iterator[bytes]:
    """The JSON texts of what a program has: a parsed object, a text, bytes, an open file, or an
    iterable of these.

    A list is an iterable of documents: a document that is an array itself stands in a list. Raises
    UsageError for anything that is no JSON.
    """
    if isinstance(documents, Mapping | str | bytes | bytearray | memoryview) or hasattr(
        documents, "read"
    ):
        documents = [documents]
    if not isinstance(documents, Iterable):
        raise _no_document(documents, None)
    for number, document in enumerate(documents, 1):
        for text in given_text(document, number):
            if not text.strip():  # a sequence would pass over it, and nobody would know
                raise _no_document(document, number, "there is nothing in it")
            yield text


def given_text(document: GivenDocument, number: int | None = None) -> Iterator[bytes]:
    """The JSON texts of one of them; a text may be JSON Lines."""
    if hasattr(document, "read"):
        document = document.read()
    if isinstance(document, str):
        try:
            document = document.encode()
        except UnicodeEncodeError:
            raise _no_document(
                document, number, "half of a surrogate pair stands in it"
            ) from None
    if not isinstance(document, bytes | bytearray | memoryview):
        yield written(document, number)
        return
    # Bytes are taken for what a file of them would be.
    content = bytes(document).removeprefix(BYTE_ORDER_MARK)
    if looks_like_lines(content[:_HEAD], ""):
        yield from (line for line in content.split(b"\n") if line.strip())
    else:
        yield content


def written(document: GivenDocument, number: int | None = None) -> bytes:
    """A parsed object as JSON text. Raises UsageError."""
    try:
        return json.dumps(
            document, ensure_ascii=False, allow_nan=False, default=_refused
        ).encode()
    # Only then: writing digit for digit is slower by far.
    except _HasDecimal:
        return json_text(_with_digits(document, number)).encode()
    except (TypeError, ValueError, RecursionError) as error:
        raise _no_document(document, number, str(error)) from None


class _HasDecimal(Exception):
    """Raised for a number that the standard library's writer can't write."""


def _refused(value: object) -> dict[object, object]:
    if isinstance(value, Decimal):
        raise _HasDecimal
    if isinstance(value, Mapping):
        return dict(value)
    raise TypeError(f"it holds a {type(value).__name__}")


def _with_digits(value: object, number: int | None) -> JsonValue:
    """The document with each Decimal as a `Number`, digit for digit."""
    if isinstance(value, Decimal):
        if not value.is_finite():
            raise _no_document(value, number, f"{value} is no number of JSON")
        return Number(str(value))
    if isinstance(value, Mapping):
        return {
            str(name): _with_digits(member, number) for name, member in value.items()
        }
    if isinstance(value, list | tuple):
        return [_with_digits(element, number) for element in value]
    # A float is written with the fewest digits that give it back, as the standard library's writer
    # does.
    if isinstance(value, float):
        return Number(written(value, number).decode())
    if value is None or isinstance(value, str | int):
        return value
    raise _no_document(value, number, f"it holds a {type(value).__name__}")


def _no_document(
    document: object, number: int | None, why: str | None = None
) -> UsageError:
    what = f"document {number}" if number is not None else "the document"
    reason = why or f"it is a {type(document).__name__}"
    # What can be given, since a program has no help text.
    hint = (
        "a parsed object (dict, list, str, int, float, Decimal, bool, None), JSON text, bytes, "
        "or an open file"
    )
    return UsageError(
        Code.NO_DOCUMENT, f"{what} can't be read as JSON: {reason}", hint=hint
    )


class _Sequence(io.RawIOBase):
    """Texts, each between the marks of a JSON text sequence, as a file that is read from its
    beginning to its end.
    """

    def __init__(self, texts: Iterator[bytes]) -> None:
        self.texts = texts
        self.waiting = memoryview(b"")

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self.waiting:
            text = next(self.texts, None)
            if text is None:
                return 0
            # As a text sequence (RFC 7464): documents may have line ends in them.
            self.waiting = memoryview(RECORD_SEPARATOR + text + b"\n")
        count = min(len(buffer), len(self.waiting))
        buffer[:count] = self.waiting[:count]
        self.waiting = self.waiting[count:]
        return count
