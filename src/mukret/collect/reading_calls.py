"""The calls of a calls file: addresses, and what each hangs on."""

from __future__ import annotations

import re

from mukret.codes import Code
from mukret.collect.calls import Body, Call, OncePer
from mukret.collect.reading_pages import PagesReader
from mukret.collect.reading_requests import RequestReader
from mukret.collect.templates import NotFilled, names_in_address
from mukret.rules.reader import keys
from mukret.rules.source import Mapping, Node, Scalar
from mukret.text import did_you_mean

_CALL = keys("get post url query headers json form pages once_per")
_ONCE_PER = keys("call rows with")


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
            self.add(
                Code.WRONG_VALUE,
                "there are no calls",
                mapping,
                "calls: {ports: {get: /ports}}",
            )
        self.reader.distinct([key for key, _ in mapping.entries.values()], "calls")
        calls = [self.call(key, value) for key, value in mapping.entries.values()]
        names = list(mapping.entries)
        for (key, value), call in zip(mapping.entries.values(), calls, strict=True):
            if call is not None and call.once_per is not None:
                # Circles can only be seen once all calls are read.
                self.parent(key, value, call.once_per, names, calls)
        return [call for call in calls if call is not None]

    def parent(
        self,
        key: Scalar,
        node: Node,
        once_per: OncePer,
        names: list[str],
        calls: list[Call | None],
    ) -> None:
        """Notes a call that hangs on one that is not there, or on itself by way of others."""
        section = node.get("once_per") if isinstance(node, Mapping) else None
        where = section.get("call") if isinstance(section, Mapping) else None
        if once_per.call not in names:
            hint = did_you_mean(once_per.call, names)
            self.add(Code.WRONG_VALUE, f"no call {once_per.call}", where or key, hint)
            return
        # A circle is noted with each call in it, and not with those that only lead into it.
        trail = _upwards(key.text, calls)
        if len(trail) > 1 and trail[-1] == key.text:
            message = f"calls that hang on each other: {' → '.join(trail)}"
            self.add(Code.CYCLE, message, where or key)

    def call(self, key: Scalar, node: Node) -> Call | None:
        self.reader.name(key, "a call")
        mapping = self.reader.mapping(node, "a call", _CALL)
        if mapping is None:
            return None
        ways: list[str] = [
            way for way in ("get", "post", "url") if way in mapping.entries
        ]
        if len(ways) != 1:
            self.one_way(key, mapping, ways)
        once_per = self.once_per(mapping.get("once_per"))
        method = "POST" if "post" in mapping.entries else "GET"
        address = self.address(mapping.get(method.lower()), method.lower())
        url = self.reader.path(mapping.get("url"), "url")
        self.agree(key, mapping, once_per)
        body = self.body(mapping, method, address)
        return Call(
            key.text,
            # What is wrong has been noted: the rest is read on, so that all problems are told at
            # once.
            None if "url" in mapping.entries else address or "/",
            self.requests.pairs(mapping.get("query"), "query"),
            self.requests.headers(mapping.get("headers")),
            method,
            body,
            url,
            PagesReader(self.requests, method).read(mapping.get("pages")),
            once_per,
        )

    def body(self, mapping: Mapping, method: str, address: str | None) -> Body | None:
        body = self.requests.body(mapping)
        if body is not None and method == "GET":
            self.add(
                Code.WRONG_VALUE,
                "only a post has a body",
                # The caret goes to what has no place.
                mapping.key("form" if body.form else "json"),
                f"post: {address or '/ADDRESS'}",
            )
        return body

    def one_way(self, key: Scalar, mapping: Mapping, ways: list[str]) -> None:
        # Of three given the first two are told; when one is gone the third is told in turn.
        if ways:
            self.add(
                Code.WRONG_VALUE,
                f"{key.text} has {ways[0]} and {ways[1]}: one of them",
                mapping.key(ways[1]),
            )
        else:
            self.add(
                Code.MISSING_KEY,
                f"the call {key.text} needs get, post or url",
                mapping,
                "get: /ADDRESS",
            )

    def agree(self, key: Scalar, mapping: Mapping, once_per: OncePer | None) -> None:
        """Notes what `url`, `rows` and `with` can't mean together."""
        if "url" in mapping.entries and "once_per" not in mapping.entries:
            hint = "once_per: {call: NAME} says in whose answers the address stands"
            self.add(
                Code.MISSING_KEY,
                f"{key.text}: url is a path in the answers of another call",
                mapping.key("url"),
                hint,
            )
        if once_per is None or once_per.rows is not None:
            return
        # One value per answer needs no rows; two of them could come from different records.
        several = len(once_per.variables) + ("url" in mapping.entries)
        if several > 1:
            hint = (
                'once_per: {call: …, rows: "$.ports[*]", with: {code: "$.code"}}, paths going '
                "on from a record"
            )
            message = (
                f"{key.text}: rows says which records these values stand in, so that they "
                "go together"
            )
            self.add(Code.MISSING_KEY, message, mapping.key("once_per"), hint)

    def address(self, node: Node | None, key: str) -> str | None:
        scalar = self.reader.scalar(node, key)
        if scalar is None:
            return None
        if not re.match(r"/(?!/)", scalar.text):
            # Calls of one file go to one service: its credentials must not go anywhere else.
            elsewhere = "//" in scalar.text
            hint = (
                "an address elsewhere has a calls file of its own"
                if elsewhere
                else f"write {key}: /{scalar.text}"
            )
            message = f"{key} begins with / and goes on from base, unlike {scalar.text}"
            self.add(Code.WRONG_VALUE, message, scalar, hint)
        if "#" in re.sub(r"\{[^}]*\}", "", scalar.text):
            self.add(
                Code.WRONG_VALUE,
                f"{key}: what follows # is never sent",
                scalar,
                "leave it out",
            )
        try:
            names_in_address(scalar.text)
        except NotFilled as error:
            self.add(
                Code.WRONG_VALUE, f"{key} is a URI Template (RFC 6570): {error}", scalar
            )
        return scalar.text

    def once_per(self, node: Node | None) -> OncePer | None:
        mapping = self.reader.mapping(node, "once_per", _ONCE_PER)
        if mapping is None:
            return None
        if "call" not in mapping.entries:
            self.add(
                Code.MISSING_KEY,
                "once_per needs call: the one whose answers it follows",
                mapping,
            )
        given = self.reader.mapping(mapping.get("with"), "with")
        variables = []
        for key, value in given.entries.values() if given else ():
            self.reader.name(key, "a variable")
            path = self.reader.path(value, key.text)
            variables += [(key.text, path)] if path else []
        call = self.reader.text(mapping.get("call"), "call")
        rows = self.reader.path(mapping.get("rows"), "rows")
        # Without `call` there is nothing that it could follow, and that has been noted.
        return OncePer(call, rows, tuple(variables)) if call else None


def _upwards(name: str, calls: list[Call | None]) -> list[str]:
    """A call, that on which it hangs, and so on; the last one stands twice if it is a circle."""
    above = {call.name: call.once_per.call for call in calls if call and call.once_per}
    trail = [name]
    while trail[-1] in above:
        parent = above[trail[-1]]
        # It may be one that this call only leads into.
        circle = parent in trail
        trail.append(parent)
        if circle:
            break
    return trail
