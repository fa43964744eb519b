"""Requests as they are sent: variables and secrets in their places, and beside each how it may be
shown.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from urllib.parse import quote, unquote_plus, urlencode, urlsplit, urlunsplit

from mukret.codes import Code
from mukret.collect.asking import Ask
from mukret.collect.calls import Body, Calls, Pairs, Secret, SignInCall, origin_of
from mukret.collect.masking import MASK, Masker, is_sensitive
from mukret.collect.templates import (
    NotFilled,
    filled_address,
    filled_body,
    filled_text,
    names_in_text,
)
from mukret.collect.unpacking import ACCEPTED
from mukret.errors import UsageError
from mukret.values import JsonValue, json_text, scalar_text
from mukret.version import __version__

Known = Mapping[str, JsonValue]


@dataclass(frozen=True)
class Wire:
    """A request.

    `shown` is its address without secrets; `home`: it goes to the origin of the calls, with
    credentials.
    """

    method: str
    url: str
    shown: str
    headers: Mapping[str, str]
    content: bytes | None = None
    home: bool = True


class RequestWriter:
    """Puts requests together.

    Raises UsageError for a secret that the environment lacks or that can't be sent.
    """

    def __init__(
        self, calls: Calls, environment: Mapping[str, str], masker: Masker
    ) -> None:
        self.calls = calls
        self.masker = masker
        self.secrets = {secret: secret.value(environment) for secret in calls.secrets()}
        way = calls.sign_in
        self.kept_names = (
            [kept.name for kept in way.keep] if isinstance(way, SignInCall) else []
        )
        constants = dict(calls.constants)
        hidden = [
            name for name, value in constants.items() if isinstance(value, Secret)
        ]
        # The variables whose values are secrets.
        self.hidden = frozenset([*self.kept_names, *hidden])
        self.constants: Known = {
            name: self.plain(value) for name, value in constants.items()
        }
        self.shown_constants: Known = {
            name: shown_value(value) for name, value in constants.items()
        }

    def plain(self, value: JsonValue) -> JsonValue:
        return self.secrets[value] if isinstance(value, Secret) else value

    def wire(
        self, ask: Ask, kept: Mapping[str, str], authorization: str | None
    ) -> Wire:
        """`kept`: values from a sign-in; `authorization`: the header's value, where a sign-in gives
        one. Raises NotFilled where a variable has no value that can stand in its place.
        """
        shown, _ = self.identity(ask)
        url, headers, content = self._filled(
            ask, {**self.constants, **kept}, shown=False
        )
        home = self._at_home(url)
        # To another host the sign-in does not go along.
        if authorization is not None and home:
            headers = merged(headers, {"Authorization": authorization})
        return Wire(ask.call.method, url, shown, headers, content, home)

    def identity(self, ask: Ask) -> tuple[str, str]:
        """The address of a request as it may be shown, and what tells it from others: its body,
        too. Raises NotFilled.
        """
        # Masks in the place of secrets: the identity is kept, and they change.
        kept = dict.fromkeys(self.kept_names, MASK)
        url, _, content = self._filled(
            ask, {**self.shown_constants, **kept}, shown=True
        )
        return self.masker.url(
            url
        ), f"{url} {content.decode('utf-8', 'replace')}" if content else url

    def _filled(
        self, ask: Ask, known: Known, *, shown: bool
    ) -> tuple[str, dict[str, str], bytes | None]:
        """Address, headers and body of a request; with `shown` masks stand for secrets."""
        known = {**known, **ask.variables, **ask.turn_variables}
        url = self.address(ask, known)
        home = self._at_home(url)
        headers = self.headers(
            (*self.calls.headers, *ask.call.headers), known, home=home, shown=shown
        )
        headers = merged(
            headers,
            {
                # It came with a response: it must not end the header and begin another.
                name: _from_response(name, value)
                for name, value in ask.in_headers().items()
            },
        )
        content = None
        if ask.call.method == "POST":
            content, media_type = self.body(
                ask.call.body or Body({}), known, ask, shown=shown
            )
            headers = merged({"Content-Type": media_type}, headers)
        return (
            self.with_query(url, ask, known, home=home, shown=shown),
            headers,
            content,
        )

    def _at_home(self, url: str) -> bool:
        return origin_of(url) == self.calls.base_origin

    def address(self, ask: Ask, known: Known) -> str:
        given = ask.turn.address or ask.address
        return given or joined(
            self.calls.base, filled_address(ask.call.address or "/", known)
        )

    def with_query(
        self, url: str, ask: Ask, known: Known, *, home: bool, shown: bool = False
    ) -> str:
        """An address with what belongs into its query.

        That of a next page has it already, but for secrets.
        """
        pairs = [*self.calls.query, *ask.call.query]
        # The address of a next page has its query; only what the service can't have put there is
        # added.
        if ask.turn.address is not None:
            pairs = [pair for pair in pairs if self.is_credential(*pair)]
        # To another host nothing goes that may be a credential.
        if not home:
            pairs = [pair for pair in pairs if not self.is_credential(*pair)]
        paged = ask.in_query()
        filled = [
            (name, self.text(value, known, shown=shown))
            for name, value in pairs
            if name not in paged
        ]
        return with_pairs(url, filled + list(paged.items()))

    def is_credential(self, name: str, value: str | Secret) -> bool:
        """Whether a header or a member of a query may be one: by what it is, what it is called, or
        what it is made of. Such go home alone.
        """
        if isinstance(value, Secret) or is_sensitive(name):
            return True
        return any(variable in self.hidden for variable, _ in names_in_text(value))

    def text(self, value: str | Secret, known: Known, *, shown: bool = False) -> str:
        if isinstance(value, Secret):
            return MASK if shown else self.secrets[value]
        return filled_text(value, known)

    def headers(
        self, pairs: Pairs, known: Known, *, home: bool = True, shown: bool = False
    ) -> dict[str, str]:
        """Headers by name. What may be a credential stays at home."""
        headers: dict[str, str] = {}
        for name, value in pairs:
            if not home and self.is_credential(name, value):
                continue
            text = self.text(value, known, shown=shown)
            if isinstance(value, Secret):
                # A secret with a line break would add a header (RFC 9110, section 5.5).
                headers[name] = in_header(
                    text, f"the variable {value.variable}", variable=value.variable
                )
            else:
                headers[name] = _from_response(name, text)
        return merged(ALWAYS, headers)

    def body(
        self, body: Body, known: Known, ask: Ask | None = None, *, shown: bool = False
    ) -> tuple[bytes, str]:
        """The bytes of a body and their media type."""
        if body.form:
            pairs = {
                name: self.text(value, known, shown=shown)
                for name, value in body.content.items()
            }
            return urlencode(pairs).encode(), "application/x-www-form-urlencoded"
        # What is shown is made with masks from the beginning.
        secrets = dict.fromkeys(self.secrets, MASK) if shown else self.secrets
        content = filled_body(body.content, known, secrets)
        content = ask.in_body(content) if ask else content
        return json_text(content).encode("utf-8", "surrogatepass"), "application/json"


# Headers of every request.
ALWAYS = {
    "Accept": "application/json, */*;q=0.5",
    "Accept-Encoding": ACCEPTED,
    "User-Agent": f"mukret/{__version__}",
}


def in_header(value: str, label: str, *, variable: str | None = None) -> str:
    """A value that can stand in a header (RFC 9110); `variable` is that of the environment which
    holds it. Raises UsageError, which does not show it.
    """
    if value.isascii() and value.isprintable():
        return value
    # `read -rs` keeps it out of the history of the shell, and cuts the line break.
    hint = (
        f"set it anew: read -rs {variable}; export {variable}"
        if variable is not None
        else None
    )
    raise UsageError(
        Code.SECRET_MISSING,
        f"{label} holds a line break, or what a header can't hold",
        hint=hint,
    )


def _from_response(name: str, value: str) -> str:
    """A value that stands in a header and may come from a response. Raises NotFilled."""
    if value.isascii() and value.isprintable():
        return value
    raise NotFilled(f"the header {name} can't hold what is to stand there")


def merged(headers: Mapping[str, str], more: Mapping[str, str]) -> dict[str, str]:
    """Headers with others in the place of those of the same names, whatever their case."""
    names = {name.lower() for name in more}
    return {
        name: value for name, value in headers.items() if name.lower() not in names
    } | dict(more)


def joined(base: str, rest: str) -> str:
    """Base and call put together.

    Whatever the call says, it stays at the base: there the secrets belong.
    """
    return f"{base.rstrip('/')}/{rest.lstrip('/')}"


def with_pairs(url: str, pairs: Iterable[tuple[str, str]]) -> str:
    """An address with these members in its query instead of those of the same names.

    The others stay as they are written: what is signed must not be encoded anew.
    """
    added = list(pairs)
    if not added:
        return url
    # Read with pluses as blanks, as forms write them; written back untouched.
    names = {name for name, _ in added}
    parts = urlsplit(url)
    kept = [
        piece
        for piece in parts.query.split("&")
        if piece and unquote_plus(piece.partition("=")[0]) not in names
    ]
    written = [
        f"{quote(name, safe='$-._~[]')}={quote(value, safe=SAFE)}"
        for name, value in added
    ]
    return urlunsplit(parts._replace(query="&".join(kept + written)))


# Characters of a value that stay as they are (RFC 3986 lets them stand in a query).
SAFE = "-._~*,:/@!$'()"


def shown_first(calls: Calls, name: str) -> str:
    """The address of the first request of a call for a person: variables that records give stand in
    braces.
    """
    call = calls.call(name)
    # Which addresses these are is known only when the answers are there.
    if call.address is None:
        assert call.url is not None and call.once_per is not None
        rows = f"{call.once_per.rows.text} " if call.once_per.rows else ""
        return (
            f"(the address at {rows}{call.url.text} in answers of {call.once_per.call})"
        )
    constants = {key: shown_value(value) for key, value in calls.constants}
    address = call.address
    for key, value in constants.items():
        address = address.replace(
            f"{{{key}}}", quote(scalar_text(value) or "", safe="*")
        )
    pairs = [
        (key, _partly(shown_value(value), constants))
        for key, value in (*calls.query, *call.query)
    ]
    query = "&".join(f"{key}={value}" for key, value in pairs)
    return joined(calls.base, address) + (f"?{query}" if query else "")


def shown_value(value: str | Secret) -> str:
    return MASK if isinstance(value, Secret) else value


def _partly(text: str, known: Known) -> str:
    try:
        return filled_text(text, known)
    except NotFilled:
        return text
