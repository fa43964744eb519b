"""The section `sign_in` of a calls file."""

from __future__ import annotations

from collections.abc import Callable

from mukret.codes import Code
from mukret.collect.calls import Basic, Bearer, Kept, Lasts, OAuth2, SignIn, SignInCall
from mukret.collect.reading_requests import RequestReader
from mukret.collect.templates import NotFilled, names_in_address
from mukret.paths import Path
from mukret.rules.reader import keys
from mukret.rules.source import Mapping, Node, Scalar
from mukret.types.durations import UNITS

_WAYS = ("basic", "bearer", "oauth2", "post", "get")
_SIGN_IN = keys("basic bearer oauth2 post get query headers json form keep")
_BASIC = keys("user password")
_OAUTH2 = keys("token client secret scope send")
_KEPT = keys("at header lasts unit until")
_HINT = "post: /ADDRESS with json and keep, or one of basic, bearer, oauth2"


class SignInReader:
    def __init__(self, requests: RequestReader) -> None:
        self.requests = requests
        self.reader = requests.reader
        self.add = requests.add

    def read(self, node: Node | None) -> SignIn | None:
        mapping = self.reader.mapping(node, "sign_in", _SIGN_IN)
        if mapping is None:
            return None
        ways: list[str] = [way for way in _WAYS if way in mapping.entries]
        if len(ways) != 1:
            says = f"both {ways[0]} and {ways[1]}" if ways else "none"
            self.add(
                Code.WRONG_VALUE,
                f"sign_in is done in one way, and here is {says}",
                mapping,
                _HINT,
            )
            return None
        way = ways[0]
        # A request of one's own is written as a call is, with keys beside it.
        if way in ("post", "get"):
            return self.call(mapping, way)
        self.nothing_else(mapping, way)
        read: dict[str, Callable[[Node | None], SignIn | None]] = {
            "basic": self.basic,
            "bearer": self.bearer,
            "oauth2": self.oauth2,
        }
        return read[way](mapping.get(way))

    def nothing_else(self, mapping: Mapping, way: str) -> None:
        for key, _ in mapping.entries.values():
            if key.text != way and key.text in _SIGN_IN.known:
                self.add(
                    Code.WRONG_VALUE,
                    f"{key.text} goes with post or get, not with {way}",
                    key,
                )

    def bearer(self, node: Node | None) -> Bearer | None:
        # The token itself was written here.
        if isinstance(node, Scalar) and not node.empty:
            hint = "write bearer: {secret: NAME_OF_AN_ENVIRONMENT_VARIABLE}"
            self.requests.problems.add_secret(
                Code.WRONG_VALUE, "the token does not belong in a file", node, hint
            )
            return None
        token = self.requests.secret(node, "bearer")
        return Bearer(token) if token else None

    def basic(self, node: Node | None) -> Basic | None:
        mapping = self.reader.mapping(node, "basic", _BASIC)
        if mapping is None:
            return None
        user = self.requests.needed_secret(mapping, "user", "basic")
        password = self.requests.needed_secret(mapping, "password", "basic")
        return Basic(user, password) if user and password else None

    def oauth2(self, node: Node | None) -> OAuth2 | None:
        mapping = self.reader.mapping(node, "oauth2", _OAUTH2)
        if mapping is None:
            return None
        client = self.requests.needed_secret(mapping, "client", "oauth2")
        secret = self.requests.needed_secret(mapping, "secret", "oauth2")
        # The readers above have noted what is missing or broken; all of it is told at once.
        if "token" not in mapping.entries:
            self.add(
                Code.MISSING_KEY,
                "oauth2 needs token: the address that gives tokens",
                mapping,
            )
        address = self.address(mapping.get("token"), "token")
        scope = self.reader.text(mapping.get("scope"), "scope")
        send = self.reader.choice(mapping.get("send"), "send", ("header", "body"))
        if client is None or secret is None or address is None:
            return None
        return OAuth2(address, client, secret, scope, in_body=send == "body")

    def call(self, mapping: Mapping, method: str) -> SignInCall | None:
        address = self.address(mapping.get(method), method)
        body = self.requests.body(mapping)
        # Servers pass over the body of a get, or refuse it.
        if method == "get" and body is not None:
            self.add(
                Code.WRONG_VALUE,
                "a get has no body",
                mapping.key("json" if "json" in mapping.entries else "form"),
            )
        keep = self.reader.mapping(mapping.get("keep"), "keep")
        kept = (
            [self.kept(key, value) for key, value in keep.entries.values()]
            if keep
            else []
        )
        query = self.requests.pairs(mapping.get("query"), "query")
        headers = self.requests.headers(mapping.get("headers"))
        if address is None:
            return None
        return SignInCall(
            method.upper(),
            address,
            query,
            headers,
            body,
            tuple(each for each in kept if each),
        )

    def address(self, node: Node | None, key: str) -> str | None:
        """An address below the base, or elsewhere: tokens often come from another host."""
        scalar = self.reader.scalar(node, key)
        if scalar is None:
            return None
        if not scalar.text.startswith(
            ("/", "http://", "https://")
            # Two slashes begin the name of a host (RFC 3986, 4.2).
        ) or scalar.text.startswith("//"):
            hint = f"write {key}: /{scalar.text}, or an address with https://"
            self.add(
                Code.WRONG_VALUE,
                f"{key} begins with / and goes on from base",
                scalar,
                hint,
            )
        try:
            names_in_address(scalar.text)
        except NotFilled as error:
            self.add(Code.WRONG_VALUE, f"{key}: {error}", scalar)
        return scalar.text

    def kept(self, key: Scalar, node: Node) -> Kept | None:
        self.reader.name(key, "a variable")
        if isinstance(node, Scalar):
            path = self.reader.path(node, key.text)
            return Kept(key.text, path) if path else None
        mapping = self.reader.mapping(node, key.text, _KEPT)
        if mapping is None:
            return None
        path = self.reader.path(mapping.get("at"), "at")
        header = self.reader.text(mapping.get("header"), "header")
        # Both or none: it could not be told which one holds the value.
        if ("at" in mapping.entries) == ("header" in mapping.entries):
            self.add(
                Code.MISSING_KEY,
                f"{key.text} is kept from at (a path in the body) or from header",
                key,
            )
        return Kept(key.text, path, header, self.lasts(mapping))

    def lasts(self, mapping: Mapping) -> Lasts | None:
        length = self.reader.path(mapping.get("lasts"), "lasts")
        until = self.reader.path(mapping.get("until"), "until")
        unit = self.reader.choice(mapping.get("unit"), "unit", UNITS)
        if "lasts" in mapping.entries and "until" in mapping.entries:
            self.add(
                Code.WRONG_VALUE,
                "a value lasts so long, or until then, not both",
                mapping.key("until"),
            )
        if "unit" in mapping.entries and "lasts" not in mapping.entries:
            self.add(Code.WRONG_VALUE, "unit goes with lasts", mapping.key("unit"))
        path: Path | None = length or until
        if path is None:
            return None
        # Seconds, whatever the unit; without any the value is good as long as the run.
        return Lasts(path, UNITS[unit or "s"] / UNITS["s"], until=length is None)
