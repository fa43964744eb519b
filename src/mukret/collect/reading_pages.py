"""What a call says of its pages, read out of a calls file."""

from __future__ import annotations

import re
from collections.abc import Callable

from mukret.codes import Code
from mukret.collect.calls import (
    AddressPages,
    CursorPages,
    Ends,
    InBody,
    InHeader,
    InQuery,
    LinkPages,
    NumberPages,
    OffsetPages,
    Pages,
    Target,
)
from mukret.collect.reading_requests import RequestReader
from mukret.paths import Path
from mukret.paths.query import Index, Name
from mukret.rules.reader import Keys, keys
from mukret.rules.source import Mapping, Node, Scalar

_ENDS = "list total pages more"
_PAGES = {
    "cursor": keys(f"cursor as {_ENDS}"),
    "link": keys(f"link {_ENDS}"),
    "number": keys(f"number first {_ENDS}"),
    "offset": keys(f"offset first step {_ENDS}"),
    "url": keys(f"url {_ENDS}"),
}
# All keys that may stand there, with one way of paging or another.
ANY_PAGES = Keys(frozenset[str]().union(*(one.known for one in _PAGES.values())))
_HOW = (
    '{cursor: "$.next_cursor", as: cursor}, {link: next}, {number: page}, {offset: from} or '
    '{url: "$.next"}'
)


class PagesReader:
    def __init__(self, requests: RequestReader, method: str) -> None:
        """`method`: that of the call; only a POST has a body in which a page can be told."""
        self.reader = requests.reader
        self.add = requests.add
        self.method = method

    def read(self, node: Node | None) -> Pages | None:
        mapping = self.reader.mapping(node, "pages", ANY_PAGES)
        if mapping is None:
            return None
        ways: list[str] = [way for way in _PAGES if way in mapping.entries]
        if len(ways) != 1:
            says = f"both {ways[0]} and {ways[1]}" if ways else "none of its ways"
            self.add(
                Code.WRONG_VALUE,
                f"pages says how to get to the next one, and here is {says}",
                mapping,
                _HOW,
            )
            return None
        # Keys of the other ways mean nothing here, and are told.
        self.only_keys_of(ways[0], mapping)
        read: dict[str, Callable[[Mapping, Ends], Pages | None]] = {
            "cursor": self.cursor,
            "link": self.link,
            "number": self.number,
            "offset": self.offset,
            "url": self.url,
        }
        return read[ways[0]](mapping, self.ends(mapping))

    def only_keys_of(self, way: str, mapping: Mapping) -> None:
        for key, _ in mapping.entries.values():
            # Keys that no way knows were noted with the mapping.
            if key.text in ANY_PAGES.known and key.text not in _PAGES[way].known:
                self.add(
                    Code.WRONG_VALUE,
                    f"{key.text} means nothing with {way}",
                    key,
                    "take it away",
                )

    def ends(self, mapping: Mapping) -> Ends:
        records, total, pages, more = (
            self.reader.path(mapping.get(name), name) for name in _ENDS.split()
        )
        return Ends(records, total, pages, more)

    # ---- each way

    def cursor(self, mapping: Mapping, ends: Ends) -> CursorPages | None:
        node = mapping.get("cursor")
        path: Path | None = None
        header: str | None = None
        # A path is a text, so a mapping can only be a header.
        if isinstance(node, Mapping):
            header = self.header(node, "cursor")
        else:
            path = self.reader.path(node, "cursor")
        if "as" not in mapping.entries:
            hint = (
                "as: NAME_IN_THE_QUERY, as: {header: NAME}, or as: a path in the body that is "
                "sent"
            )
            self.add(
                Code.MISSING_KEY,
                "pages by cursor needs as: how the cursor is sent",
                mapping,
                hint,
            )
        target = self.target(mapping.get("as"), "as")
        if target is None or (path is None and header is None):
            return None
        return CursorPages(path, header, target, ends)

    def link(self, mapping: Mapping, ends: Ends) -> LinkPages | None:
        relation = self.reader.text(mapping.get("link"), "link")
        return LinkPages(relation, ends) if relation else None

    def url(self, mapping: Mapping, ends: Ends) -> AddressPages | None:
        path = self.reader.path(mapping.get("url"), "url")
        return AddressPages(path, ends) if path else None

    def number(self, mapping: Mapping, ends: Ends) -> NumberPages | None:
        target = self.target(mapping.get("number"), "number")
        first = self.whole(mapping, "first", 1)
        return NumberPages(target, first, ends) if target else None

    def offset(self, mapping: Mapping, ends: Ends) -> OffsetPages | None:
        target = self.target(mapping.get("offset"), "offset")
        first = self.whole(mapping, "first", 0)
        step = self.whole(mapping, "step", 0) or None
        return OffsetPages(target, first, step, ends) if target else None

    # ---- where a page is told

    def target(self, node: Node | None, what: str) -> Target | None:
        """Where something is sent: a name in the query, a header, or a place in the body."""
        if isinstance(node, Mapping):
            header = self.header(node, what)
            return InHeader(header) if header else None
        scalar = self.reader.scalar(node, what)
        if scalar is None:
            return None
        return (
            # Names in a query do not begin with $: one that does is a path.
            self.in_body(scalar, what)
            if scalar.text.startswith("$")
            else InQuery(scalar.text)
        )

    def in_body(self, scalar: Scalar, what: str) -> InBody | None:
        path = self.reader.path(scalar, what)
        if path is None:
            return None
        path_steps = [_step(segment.only) for segment in path.segments]
        steps = tuple(step for step in path_steps if step is not None)
        # A path with a wildcard or a filter leads to several places, and a cursor is put in one.
        if self.method != "POST" or not steps or len(steps) < len(path_steps):
            message = (
                f"{what}: {scalar.text} is one place in the body of a post, or a name in "
                "the query"
            )
            self.add(
                Code.WRONG_VALUE,
                message,
                scalar,
                'such as "$.variables.after", or cursor',
            )
        return InBody(steps, scalar.text)

    def header(self, node: Mapping, what: str) -> str | None:
        section = self.reader.mapping(node, what, keys("header"))
        return self.reader.text(section.get("header"), "header") if section else None

    def whole(self, mapping: Mapping, key: str, default: int) -> int:
        scalar = self.reader.scalar(mapping.get(key), key)
        if scalar is None:
            return default
        # Nine digits are more pages than anybody asks for, and never too large for the address.
        if not re.fullmatch(r"\d{1,9}", scalar.text, re.ASCII):
            self.add(
                Code.WRONG_VALUE,
                f"{key} is a whole number, not {scalar.text!r}",
                scalar,
            )
            return default
        return int(scalar.text)


def _step(selector: object) -> str | int | None:
    match selector:
        case Name(name):
            return name
        case Index(index) if index >= 0:
            return index
    return None
