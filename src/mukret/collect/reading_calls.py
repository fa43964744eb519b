"""The calls of a calls file: addresses, pages, and what each hangs on."""

from __future__ import annotations

import re

from mukret.collect.calls import (
    AddressPages,
    Call,
    CursorPages,
    Ends,
    InBody,
    InHeader,
    InQuery,
    LinkPages,
    NumberPages,
    OffsetPages,
    OncePer,
    Pages,
    Target,
)
from mukret.collect.reading_requests import RequestReader
from mukret.collect.templates import NotFilled, names_in_address
from mukret.paths import Path
from mukret.paths.query import Index, Name
from mukret.rules.reader import Keys, keys
from mukret.rules.source import Mapping, Node, Scalar
from mukret.text import did_you_mean

_CALL = keys("get post url query headers json form pages once_per")
_ONCE_PER = keys("call rows with")
_KINDS = ("cursor", "link", "number", "offset", "url")
_ENDS = "list total pages more"
_PAGES = {
    "cursor": keys(f"cursor as {_ENDS}"),
    "link": keys(f"link {_ENDS}"),
    "number": keys(f"number first {_ENDS}"),
    "offset": keys(f"offset first step {_ENDS}"),
    "url": keys(f"url {_ENDS}"),
}
_ANY_PAGES = Keys(frozenset[str]().union(*(one.known for one in _PAGES.values())))
_HOW = '{cursor: "$.next_cursor", as: cursor}, {link: next}, {number: page}, {offset: from} or {url: "$.next"}'


class CallReader:
    def __init__(self, requests: RequestReader) -> None:
        self.requests = requests
        self.reader = requests.reader
        self.add = requests.add

    def calls(self, node: Node | None) -> list[Call]:
        mapping = self.reader.mapping(node, "calls")
        if mapping is None:
            return []
        if not mapping.entries:
            self.add("wrong-value", "there are no calls", mapping, "calls: {ports: {get: /ports}}")
        self.reader.distinct([key for key, _ in mapping.entries.values()], "calls")
        found = [self.call(key, value) for key, value in mapping.entries.values()]
        names = list(mapping.entries)
        for (key, value), call in zip(mapping.entries.values(), found, strict=True):
            if call is not None and call.once_per is not None:
                self.parent(key, value, call.once_per, names, found)
        return [call for call in found if call is not None]

    def parent(self, key: Scalar, node: Node, once_per: OncePer, names: list[str], found: list[Call | None]) -> None:
        """Notes a call that hangs on one that is not there, or on itself by way of others."""
        section = node.get("once_per") if isinstance(node, Mapping) else None
        where = section.get("call") if isinstance(section, Mapping) else None
        if once_per.call not in names:
            hint = did_you_mean(once_per.call, names)
            self.add("wrong-value", f"no call {once_per.call}", where or key, hint)
            return
        above = {call.name: call.once_per.call for call in found if call and call.once_per}
        trail = [key.text]
        while trail[-1] in above and above[trail[-1]] not in trail:
            trail.append(above[trail[-1]])
        if above.get(trail[-1]) == key.text:
            circle = " → ".join([*trail, key.text])
            self.add("cycle", f"calls that hang on each other: {circle}", where or key)

    def call(self, key: Scalar, node: Node) -> Call | None:
        self.reader.name(key, "a call")
        mapping = self.reader.mapping(node, "a call", _CALL)
        if mapping is None:
            return None
        ways: list[str] = [way for way in ("get", "post", "url") if way in mapping.entries]
        if len(ways) != 1:
            self.one_way(key, mapping, ways)
        once_per = self.once_per(mapping.get("once_per"))
        method = "POST" if "post" in mapping.entries else "GET"
        address = self.address(mapping.get(method.lower()), method.lower())
        url = self.reader.path(mapping.get("url"), "url")
        self.agree(key, mapping, once_per)
        body = self.requests.body(mapping)
        if body is not None and method == "GET":
            where = mapping.key("form" if body.form else "json")
            self.add("wrong-value", "only a post has a body", where, f"post: {address or '/ADDRESS'}")
        return Call(
            key.text,
            None if "url" in mapping.entries else address or "/",
            self.requests.pairs(mapping.get("query"), "query"),
            self.requests.headers(mapping.get("headers")),
            method,
            body,
            url,
            self.pages(mapping.get("pages"), method),
            once_per,
        )

    def one_way(self, key: Scalar, mapping: Mapping, ways: list[str]) -> None:
        if ways:
            self.add("wrong-value", f"{key.text} has {ways[0]} and {ways[1]}: one of them", mapping.key(ways[1]))
        else:
            self.add("missing-key", f"the call {key.text} needs get, post or url", mapping, "get: /ADDRESS")

    def agree(self, key: Scalar, mapping: Mapping, once_per: OncePer | None) -> None:
        """Notes what `url`, `rows` and `with` can't mean together."""
        if "url" in mapping.entries and "once_per" not in mapping.entries:
            hint = "once_per: {call: NAME} says in whose answers the address stands"
            self.add(
                "missing-key", f"{key.text}: url is a path in the answers of another call", mapping.key("url"), hint
            )
        if once_per is None or once_per.rows is not None:
            return
        several = len(once_per.variables) + ("url" in mapping.entries)
        if several > 1:
            hint = 'once_per: {call: …, rows: "$.ports[*]", with: {code: "$.code"}}, paths going on from a record'
            message = f"{key.text}: rows says which records these values stand in, so that they go together"
            self.add("missing-key", message, mapping.key("once_per"), hint)

    def address(self, node: Node | None, key: str) -> str | None:
        scalar = self.reader.scalar(node, key)
        if scalar is None:
            return None
        if not re.match(r"/(?!/)", scalar.text):
            elsewhere = "//" in scalar.text
            hint = "an address elsewhere has a calls file of its own" if elsewhere else f"write {key}: /{scalar.text}"
            message = f"{key} begins with / and goes on from base, unlike {scalar.text}"
            self.add("wrong-value", message, scalar, hint)
        if "#" in re.sub(r"\{[^}]*\}", "", scalar.text):
            self.add("wrong-value", f"{key}: what follows # is never sent", scalar, "leave it out")
        try:
            names_in_address(scalar.text)
        except NotFilled as error:
            self.add("wrong-value", f"{key} is a URI Template (RFC 6570): {error}", scalar)
        return scalar.text

    def once_per(self, node: Node | None) -> OncePer | None:
        mapping = self.reader.mapping(node, "once_per", _ONCE_PER)
        if mapping is None:
            return None
        if "call" not in mapping.entries:
            self.add("missing-key", "once_per needs call: the one whose answers it follows", mapping)
        given = self.reader.mapping(mapping.get("with"), "with")
        variables = []
        for key, value in given.entries.values() if given else ():
            self.reader.name(key, "a variable")
            path = self.reader.path(value, key.text)
            variables += [(key.text, path)] if path else []
        call = self.reader.text(mapping.get("call"), "call")
        rows = self.reader.path(mapping.get("rows"), "rows")
        return OncePer(call, rows, tuple(variables)) if call else None

    # ---- pages

    def pages(self, node: Node | None, method: str) -> Pages | None:
        mapping = self.reader.mapping(node, "pages", _ANY_PAGES)
        if mapping is None:
            return None
        kinds = [kind for kind in _KINDS if kind in mapping.entries]
        if len(kinds) != 1:
            says = f"both {kinds[0]} and {kinds[1]}" if kinds else "none of its ways"
            self.add("wrong-value", f"pages says how to get to the next one, and here is {says}", mapping, _HOW)
            return None
        kind = kinds[0]
        for key, _ in mapping.entries.values():
            if key.text in _ANY_PAGES.known and key.text not in _PAGES[kind].known:
                self.add("wrong-value", f"{key.text} means nothing with {kind}", key, "take it away")
        ends = Ends(*(self.reader.path(mapping.get(name), name) for name in _ENDS.split()))
        match kind:
            case "cursor":
                return self.cursor(mapping, ends, method)
            case "link":
                relation = self.reader.text(mapping.get("link"), "link")
                return LinkPages(relation, ends) if relation else None
            case "url":
                path = self.reader.path(mapping.get("url"), "url")
                return AddressPages(path, ends) if path else None
            case "number":
                target = self.target(mapping.get("number"), "number", method)
                return NumberPages(target, self.whole(mapping, "first", 1), ends) if target else None
        target = self.target(mapping.get("offset"), "offset", method)
        step = self.whole(mapping, "step", 0) or None
        return OffsetPages(target, self.whole(mapping, "first", 0), step, ends) if target else None

    def cursor(self, mapping: Mapping, ends: Ends, method: str) -> CursorPages | None:
        node = mapping.get("cursor")
        path: Path | None = None
        header: str | None = None
        if isinstance(node, Mapping):
            section = self.reader.mapping(node, "cursor", keys("header"))
            header = self.reader.text(section.get("header"), "header") if section else None
        else:
            path = self.reader.path(node, "cursor")
        if "as" not in mapping.entries:
            hint = "as: NAME_IN_THE_QUERY, as: {header: NAME}, or as: a path in the body that is sent"
            self.add("missing-key", "pages by cursor needs as: how the cursor is sent", mapping, hint)
        target = self.target(mapping.get("as"), "as", method)
        return CursorPages(path, header, target, ends) if target and (path or header) else None

    def target(self, node: Node | None, what: str, method: str) -> Target | None:
        """Where something is sent: a name in the query, a header, or a place in the body."""
        if isinstance(node, Mapping):
            section = self.reader.mapping(node, what, keys("header"))
            header = self.reader.text(section.get("header"), "header") if section else None
            return InHeader(header) if header else None
        scalar = self.reader.scalar(node, what)
        if scalar is None:
            return None
        if not scalar.text.startswith("$"):
            return InQuery(scalar.text)
        path = self.reader.path(scalar, what)
        if path is None:
            return None
        steps = [_step(segment.only) for segment in path.segments]
        if method != "POST" or not steps or None in steps:
            message = f"{what}: {scalar.text} is one place in the body of a post, or a name in the query"
            self.add("wrong-value", message, scalar, 'such as "$.variables.after", or cursor')
        return InBody(tuple(step for step in steps if step is not None), scalar.text)

    def whole(self, mapping: Mapping, key: str, default: int) -> int:
        scalar = self.reader.scalar(mapping.get(key), key)
        if scalar is None:
            return default
        if not re.fullmatch(r"\d{1,9}", scalar.text, re.ASCII):
            self.add("wrong-value", f"{key} is a whole number, not {scalar.text!r}", scalar)
            return default
        return int(scalar.text)


def _step(selector: object) -> str | int | None:
    match selector:
        case Name(name):
            return name
        case Index(index) if index >= 0:
            return index
    return None
