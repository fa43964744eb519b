"""From one page to the next: what an answer says of what comes after it.

Nothing is sent or read here.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property

from mukret.codes import Code
from mukret.collect.asking import Ask, Turn
from mukret.collect.calls import (
    AddressPages,
    Call,
    Calls,
    CursorPages,
    Ends,
    LinkPages,
    NumberPages,
    OffsetPages,
    is_plain_address,
    origin_of,
    resolved,
)
from mukret.paths import Path, nearest_existing
from mukret.values import JsonValue, json_text, scalar_text


class End(StrEnum):
    """How the last page was recognised."""

    ONE_ANSWER = "one-answer"
    NO_CURSOR = "no-cursor"
    NO_LINK = "no-link"
    NO_ADDRESS = "no-address"
    NO_RECORDS = "no-records"
    NOTHING = "nothing"
    TOTAL = "total"
    NO_MORE = "no-more"


class Fault(StrEnum):
    """Why it can't be told what comes next."""

    REPEATED = Code.PAGE_REPEATED
    SAME_RECORDS = Code.PAGE_SAME
    NOT_A_CURSOR = Code.CURSOR_KIND
    NO_LIST = Code.NO_LIST
    PAGE_LIMIT = Code.PAGE_LIMIT
    MORE_BUT_NO_CURSOR = Code.CURSOR_MISSING
    ELSEWHERE = Code.ELSEWHERE
    NO_ADDRESS = Code.NOT_AN_ADDRESS


@dataclass(frozen=True)
class Doubt:
    """The first page has nothing at `path`, where the next one should be named, and something like
    it elsewhere: `meant` is the path that was likely meant, `seems` how the answer seems to go on,
    as `pages` would say it.
    """

    path: str
    meant: str | None = None
    seems: str | None = None


@dataclass(frozen=True)
class Last:
    """This page was the last one.

    `stated`: how many records the service said there are, if it did; `count`: how many came, if
    they can be counted.
    """

    end: End
    count: int | None = None
    stated: int | None = None
    doubt: Doubt | None = None

    @property
    def short_of(self) -> int:
        """How many records were stated and did not come."""
        return max(0, (self.stated or 0) - self.count) if self.count is not None else 0


@dataclass(frozen=True)
class More:
    """There is another page."""

    turn: Turn
    count: int
    records: str | None = None


@dataclass(frozen=True)
class Lost:
    """Nobody can say what comes next; `about` is the cursor, address or path that it hangs on."""

    fault: Fault
    about: str = ""


Outlook = Last | More | Lost
# Media types of documents that come one after the other.
_LINES = re.compile(r"ndjson|jsonl|json-seq|json-lines|jsonlines", re.IGNORECASE)


@dataclass
class Page:
    """What of an answer is looked at: its documents (read when they are asked for), headers by
    lower-case name, and the address that it came from, to which addresses in it are relative.
    """

    read: Callable[[], Sequence[JsonValue]]
    headers: Mapping[str, str]
    url: str
    size: int

    @cached_property
    def documents(self) -> Sequence[JsonValue]:
        return self.read()

    @property
    def is_lines(self) -> bool:
        """Whether each record is a document of its own."""
        return (
            len(self.documents) > 1
            or _LINES.search(self.headers.get("content-type", "")) is not None
        )

    def values(self, path: Path) -> list[JsonValue]:
        return [value for document in self.documents for value in path.values(document)]

    def first(self, path: Path | None) -> JsonValue:
        """The first value that a path finds; None if it finds none."""
        values = self.values(path) if path else []
        return values[0] if values else None


def first_turn(call: Call) -> Turn:
    """What the first page of a call is asked for with."""
    match call.pages:
        case NumberPages(target, first):
            return Turn(target, first)
        case OffsetPages(target, first):
            return Turn(target, first)
    return Turn()


@dataclass(frozen=True)
class Reach:
    """How far a list may go: so many pages, at these origins, of which the first is that of the
    calls.
    """

    pages: int
    origins: tuple[str, ...]

    @staticmethod
    def of(calls: Calls) -> Reach:
        return Reach(calls.limits.pages, (calls.base_origin, *calls.origins))


def outlook(ask: Ask, page: Page, reach: Reach) -> Outlook:
    """What comes after a page."""
    ahead = _outlook(ask, page)
    if isinstance(ahead, Last) and ask.page == 1 and ahead.end in _BY_ABSENCE:
        return replace(ahead, doubt=_doubt(ask, page))
    if not isinstance(ahead, More):
        return ahead
    return _stopped(ask, ahead, reach) or ahead


def _stopped(ask: Ask, more: More, reach: Reach) -> Lost | None:
    """Why the next page is not to be asked for."""
    address = more.turn.address
    origins = (
        reach.origins if ask.call.method == "GET" else reach.origins[:1]
    )  # what a body holds stays at home
    if address is not None and not is_plain_address(address):
        return Lost(Fault.NO_ADDRESS, address)
    if address is not None and origin_of(address) not in origins:
        return Lost(Fault.ELSEWHERE, address)
    if more.turn.mark in ask.marks or more.turn.mark == ask.turn.mark:
        return Lost(Fault.REPEATED, more.turn.mark)
    if more.records is not None and more.records == ask.previous:
        return Lost(Fault.SAME_RECORDS, ask.turn.mark)
    if ask.page >= reach.pages:
        return Lost(Fault.PAGE_LIMIT, str(reach.pages))
    return None


# Ends that are told by what is not there, which a path that is wrong finds everywhere.
_BY_ABSENCE = (End.NO_CURSOR, End.NO_ADDRESS, End.NO_LINK, End.NO_RECORDS)


def _doubt(ask: Ask, page: Page) -> Doubt | None:
    path = _path_to_next(ask)
    # The path was there: that there is no next page is what it says.
    if path is not None and page.values(path):
        return None
    near = nearest_existing(path, page.documents) if path else None
    seems = spotted(page)
    # An end without anything that looks like a next page is an end.
    if (near is None or near.meant is None) and seems is None:
        return None
    return Doubt(
        path.text if path else "the header Link", near.meant if near else None, seems
    )


def _path_to_next(ask: Ask) -> Path | None:
    match ask.call.pages:
        case CursorPages(path=path) | AddressPages(path=path):
            return path
        case NumberPages(ends=ends) | OffsetPages(ends=ends):
            return ends.records
    return None


def _outlook(ask: Ask, page: Page) -> Outlook:
    match ask.call.pages:
        case CursorPages() as pages:
            return _by_cursor(pages, ask, page)
        case LinkPages(relation, ends):
            return _by_address(link_to(relation, page), End.NO_LINK, ends, ask, page)
        case AddressPages(path, ends):
            return _by_address(page.first(path), End.NO_ADDRESS, ends, ask, page)
        case NumberPages() | OffsetPages() as pages:
            return _by_count(pages, ask, page)
    # Without `pages` one answer is all there is.
    return Last(End.ONE_ANSWER)


def _by_cursor(pages: CursorPages, ask: Ask, page: Page) -> Outlook:
    counts = _Counts(pages.ends, ask, page)
    more = page.first(pages.ends.more)
    if pages.path is not None:
        cursor, place = page.first(pages.path), pages.path.text
    else:
        place = pages.header or ""
        cursor = page.headers.get(place.lower())
    # What the service says in so many words counts more than a cursor it sends all the same.
    if more is False:
        return counts.last(End.NO_MORE)
    if _says_nothing(cursor):
        return (
            Lost(Fault.MORE_BUT_NO_CURSOR, place)
            if more is True
            else counts.last(End.NO_CURSOR)
        )
    if scalar_text(cursor) is None or type(cursor) is bool:
        return Lost(Fault.NOT_A_CURSOR, json_text(cursor, 60))
    return counts.more(Turn(pages.target, cursor))


def _says_nothing(value: JsonValue) -> bool:
    """Whether a cursor or address is left empty; some write false."""
    return value is None or value is False or value == ""


def _by_address(
    address: JsonValue, none: End, ends: Ends, ask: Ask, page: Page
) -> Outlook:
    counts = _Counts(ends, ask, page)
    if page.first(ends.more) is False:
        return counts.last(End.NO_MORE)
    if _says_nothing(address):
        return counts.last(none)
    # Something is there, and no address: the list would end without a word.
    if type(address) is not str:
        return Lost(Fault.NO_ADDRESS, json_text(address, 60))
    return counts.more(Turn(address=resolved(page.url, address)))


def _by_count(pages: NumberPages | OffsetPages, ask: Ask, page: Page) -> Outlook:
    if not page.size:
        return Last(End.NOTHING, ask.count)
    counts = _Counts(pages.ends, ask, page)
    # Offsets go by records: without knowing how many came the next page can't be asked for.
    if counts.here is None and _needs_records(pages):
        return Lost(
            Fault.NO_LIST, pages.ends.records.text if pages.ends.records else ""
        )
    end = _end_by_count(pages.ends, counts, ask, page)
    if end is not None:
        return counts.last(end)
    step = 1
    if isinstance(pages, OffsetPages):
        step = pages.step or counts.here or 0
    following = counts.more(Turn(pages.target, ask.turn.value + step))
    return replace(following, records=counts.digest)


def _end_by_count(ends: Ends, counts: _Counts, ask: Ask, page: Page) -> End | None:
    """How a page says that it is the last one, if it does."""
    # What the service says outright counts more than what can be reckoned.
    if page.first(ends.more) is False:
        return End.NO_MORE
    if counts.here == 0:
        return End.NO_RECORDS
    if counts.all_came:
        return End.TOTAL
    pages_in_all = _whole(page.first(ends.pages))
    if pages_in_all is not None and ask.page >= pages_in_all:
        return End.TOTAL
    return None


def _needs_records(pages: NumberPages | OffsetPages) -> bool:
    """Whether nothing but the records of a page says where the next one begins, or that there is
    none.
    """
    if isinstance(pages, OffsetPages) and pages.step is None:
        return True
    return pages.ends.pages is None and pages.ends.more is None


class _Counts:
    """How many records came, with this page, and how many were stated."""

    def __init__(self, ends: Ends, ask: Ask, page: Page) -> None:
        self.records = _records(ends, page, first=ask.page == 1)
        self.here = None if self.records is None else len(self.records)
        self.so_far = None if self.here is None else ask.count + self.here
        self.stated = _whole(page.first(ends.total))

    @property
    def all_came(self) -> bool:
        """Whether as many came as were stated."""
        return (
            self.stated is not None
            and self.so_far is not None
            and self.so_far >= self.stated
        )

    def last(self, end: End) -> Last:
        return Last(end, self.so_far, self.stated)

    def more(self, turn: Turn) -> More:
        return More(turn, self.so_far or 0)

    @property
    def digest(self) -> str | None:
        """The records of the page, as a hash."""
        if not self.records:
            return None
        return hashlib.sha256(
            json_text(self.records).encode("utf-8", "surrogatepass")
        ).hexdigest()


def _records(ends: Ends, page: Page, *, first: bool) -> list[JsonValue] | None:
    """The records of a page: what `list` finds; else what its documents are a list of, or their
    only list.

    None where there is no list. A page that is not the first may leave an empty list out.
    """
    if ends.records is not None:
        nodes = page.values(ends.records)
        if len(nodes) == 1 and type(nodes[0]) is list:
            return list(nodes[0])
        missing = not nodes and ends.records.singular
        return None if missing and first else nodes
    if page.is_lines:
        return list(page.documents)
    records: list[JsonValue] = []
    for document in page.documents:
        # Where one list stands alone in the answer it holds the records; of several nobody can
        # tell.
        lists = _lists(document)
        if len(lists) != 1:
            return None
        records += lists[0]
    return records


def _lists(document: JsonValue) -> list[list[JsonValue]]:
    """The lists that may hold the records: the document itself, or its members, or those of what it
    wraps them in.
    """
    if type(document) is list:
        return [document]
    while type(document) is dict:
        lists = [value for value in document.values() if type(value) is list]
        if lists:
            return lists
        objects = [value for value in document.values() if type(value) is dict]
        # Of several objects nobody can say which one wraps the records.
        document = objects[0] if len(objects) == 1 else None
    return []


def _whole(value: JsonValue) -> int | None:
    text = scalar_text(value)
    if (
        text is None
        # JSON's `true` is no 1, though Python takes it for one.
        or type(value) is bool
        or not re.fullmatch(r"\d{1,18}", text, re.ASCII)
    ):
        return None
    return int(text)


# ---- RFC 8288

_LINK = re.compile(
    r'<([^>]*)>((?:\s*;\s*[^\s=;,]+(?:\s*=\s*(?:"(?:[^"\\]|\\.)*"|[^\s";,]*))?)*)\s*(?:,|$)'
)
_PARAMETER = re.compile(r';\s*([^\s=;,]+)\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s";,]*))')


def links(header: str) -> Iterator[tuple[str, str]]:
    """Relations and addresses of a header Link (RFC 8288); what belongs to another context is left
    out.
    """
    for target, parameters in _LINK.findall(header):
        given: dict[str, str] = {}
        for name, quoted, bare in _PARAMETER.findall(parameters):
            # Of a parameter that comes twice the first counts (RFC 8288, section 3.3).
            given.setdefault(name.lower(), re.sub(r"\\(.)", r"\1", quoted) or bare)
        if "anchor" not in given:
            for relation in given.get("rel", "").lower().split():
                yield relation, target


def link_to(relation: str, page: Page) -> str | None:
    """The address that an answer gives for a relation."""
    addresses = dict(reversed(list(links(page.headers.get("link", "")))))
    return addresses.get(relation.lower())


# ---- a list that nobody said anything of

_NEXT_NAMES = re.compile(
    r"(?:.*[.:])?(?:next_?(?:page|cursor|url|uri|href|link|page_?(?:token|url)|token|offset|start)?|after|(?:end_?)?cursor"
    r"|continu(?:e|ation)(?:_?token)?|scroll_?id)",
    re.IGNORECASE,
)
_COUNT_NAMES = re.compile(
    r"(?:total|num|number_?of)?_?pages|page_?count|last_?page", re.IGNORECASE
)
_LEVELS = 3


def spotted(page: Page) -> str | None:
    """How an answer seems to go on, as `pages` of a call would say it; None if it does not."""
    if link_to("next", page) is not None:
        return "{link: next}"
    members = [
        member
        for document in page.documents[:1]
        for member in _members(document, "$", _LEVELS)
    ]
    # Names of a next page first: a page count is a weaker sign.
    for path, name, value in members:
        pages = _way(path, name, value) if _NEXT_NAMES.fullmatch(name) else None
        if pages is not None:
            return pages
    for path, name, value in members:
        if _COUNT_NAMES.fullmatch(name) and (_whole(value) or 0) > 1:
            return f'{{number: page, pages: "{path}"}}'
    return None


def _members(
    document: JsonValue, path: str, levels: int
) -> Iterator[tuple[str, str, JsonValue]]:
    """The members of an object and of the objects in it, outer ones first, each with its path."""
    if type(document) is not dict or not levels:
        return
    paths = {name: _member_path(path, name) for name in document}
    # All of one level before any of the next: `next` at the top is meant, not one in a record.
    for name, value in document.items():
        # Names with quotes would make a path that nobody can paste.
        if name.isprintable() and not set(name) & set("'\"\\"):
            yield paths[name], name, value
    for name, value in document.items():
        yield from _members(value, paths[name], levels - 1)


def _way(path: str, name: str, value: JsonValue) -> str | None:
    text = scalar_text(value)
    if not text or type(value) is bool:
        return None
    if text.startswith(("http://", "https://", "/")) or "?" in text:
        return f'{{url: "{path}"}}'
    # `next_cursor` is sent as `cursor`, most often.
    sent = re.sub(r"^next_?", "", name, flags=re.IGNORECASE) or "cursor"
    return f'{{cursor: "{path}", as: {sent[0].lower()}{sent[1:]}}}'


def _member_path(path: str, name: str) -> str:
    return f"{path}.{name}" if name.isidentifier() else f"{path}['{name}']"
