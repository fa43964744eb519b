"""The model of a calls file: what is to be asked of a service."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from urllib.parse import parse_qsl, urljoin, urlsplit

from mukret.codes import Code
from mukret.errors import UsageError
from mukret.paths import Path
from mukret.values import JsonValue

# Headers that follow from what is sent and how.
SET_BY_THE_TRANSFER = frozenset(
    [
        "accept-encoding",
        "connection",
        "content-length",
        "expect",
        "te",
        "trailer",
        "transfer-encoding",
        "upgrade",
    ]
)


@dataclass(frozen=True)
class Secret:
    """A value that stands in the environment, under this name, and never in a file."""

    variable: str

    def value(self, environment: Mapping[str, str]) -> str:
        """Raises UsageError if the variable is not set."""
        value = environment.get(self.variable)
        if not value:
            hint = f"set it first: read -rs {self.variable}; export {self.variable}"
            raise UsageError(
                Code.SECRET_MISSING,
                f"the environment has no variable {self.variable}",
                hint=hint,
            )
        try:
            # An environment can hold any bytes; what is sent is UTF-8.
            value.encode()
        except UnicodeEncodeError:
            hint = f"set it anew: read -rs {self.variable}; export {self.variable}"
            raise UsageError(
                Code.SECRET_MISSING,
                f"the variable {self.variable} is not UTF-8",
                hint=hint,
            ) from None
        return value


# A text, in which `{name}` stands for a variable, or a secret.
Value = str | Secret
Pairs = tuple[tuple[str, Value], ...]


@dataclass(frozen=True)
class Body:
    """What a request sends.

    `content` is a JSON value (or the members of a form) whose texts may be variables, and in which
    secrets may stand; `form`: sent as application/x-www-form-urlencoded, not as JSON.
    """

    content: JsonValue
    form: bool = False


# ---- signing in


@dataclass(frozen=True)
class Basic:
    """User and password, sent as RFC 7617 says."""

    user: Secret
    password: Secret


@dataclass(frozen=True)
class Bearer:
    """A token, sent as RFC 6750 says."""

    token: Secret


@dataclass(frozen=True)
class OAuth2:
    """Client credentials (RFC 6749, section 4.4).

    `token` is the address that gives tokens, absolute or below the base; `in_body`: the client's id
    and secret are sent in the body, not by Basic authentication.
    """

    token: str
    client: Secret
    secret: Secret
    scope: str | None = None
    in_body: bool = False


@dataclass(frozen=True)
class Lasts:
    """How long a kept value is good: `path` finds a number of `unit` seconds, or (`until`) an
    instant.
    """

    path: Path
    unit: float = 1.0
    until: bool = False


@dataclass(frozen=True)
class Kept:
    """A value that is kept from the response to a sign-in, found by a path in its body or in a
    header.
    """

    name: str
    path: Path | None
    header: str | None = None
    lasts: Lasts | None = None


@dataclass(frozen=True)
class SignInCall:
    """A request whose response gives what the others need: values, cookies or both.

    `address` as in OAuth2.
    """

    method: str
    address: str
    query: Pairs = ()
    headers: Pairs = ()
    body: Body | None = None
    keep: tuple[Kept, ...] = ()


SignIn = Basic | Bearer | OAuth2 | SignInCall


# ---- pages


@dataclass(frozen=True)
class InQuery:
    """A member of the query; a variable of the address, if that has one of this name."""

    name: str


@dataclass(frozen=True)
class InHeader:
    """A header of the request."""

    name: str


@dataclass(frozen=True)
class InBody:
    """A place in the request's JSON body: names and indexes from its root."""

    steps: tuple[str | int, ...]
    text: str = field(compare=False, default="")


Target = InQuery | InHeader | InBody


@dataclass(frozen=True)
class Ends:
    """What tells the last page, besides what each kind of paging has: `more` finds false there,
    `total` how many records there are in all, `pages` how many pages; `records` finds the records
    of a page.
    """

    records: Path | None = None
    total: Path | None = None
    pages: Path | None = None
    more: Path | None = None


@dataclass(frozen=True)
class CursorPages:
    """The next page is asked for by a cursor of this one, in its body (`path`) or in a header."""

    path: Path | None
    header: str | None
    target: Target
    ends: Ends = Ends()


@dataclass(frozen=True)
class LinkPages:
    """The address of the next page stands in the header Link (RFC 8288), with this relation."""

    relation: str
    ends: Ends = Ends()


@dataclass(frozen=True)
class AddressPages:
    """The address of the next page stands in the body."""

    path: Path
    ends: Ends = Ends()


@dataclass(frozen=True)
class NumberPages:
    """Pages have numbers, from `first` on."""

    target: Target
    first: int = 1
    ends: Ends = Ends()


@dataclass(frozen=True)
class OffsetPages:
    """A page begins at a record, counted from `first` on; the next one after as many as came, or
    after `step`.
    """

    target: Target
    first: int = 0
    step: int | None = None
    ends: Ends = Ends()


Pages = CursorPages | LinkPages | AddressPages | NumberPages | OffsetPages


# ---- calls


@dataclass(frozen=True)
class OncePer:
    """Asked once for each record of an earlier call's answers.

    `rows` finds the records (None: the answer itself, of which a path may find several values, each
    a record); the paths of `variables` go on from there.
    """

    call: str
    rows: Path | None = None
    variables: tuple[tuple[str, Path], ...] = ()


@dataclass(frozen=True)
class Call:
    """One address, its pages and what it hangs on.

    `address` is a URI Template (RFC 6570) that goes on from the base; where it is None, `url` finds
    addresses in the records of `once_per`.
    """

    name: str
    address: str | None
    query: Pairs = ()
    headers: Pairs = ()
    method: str = "GET"
    body: Body | None = None
    url: Path | None = None
    pages: Pages | None = None
    once_per: OncePer | None = None


@dataclass(frozen=True)
class Limits:
    """How a service is treated.

    `per_second`: requests that begin in a second; `tries`: of one request, all told; `timeout`:
    seconds of silence; `pages`: of one call; `pause`: seconds before the second try, doubled before
    each further one; `longest_wait`: seconds beyond which a Retry-After ends the collection.
    """

    per_second: float = 5.0
    at_once: int = 1
    tries: int = 5
    timeout: float = 30.0
    pages: int = 1000
    pause: float = 1.0
    longest_wait: float = 120.0


@dataclass(frozen=True)
class Calls:
    """Calls of one service, with what they have in common.

    `constants` are variables of all of them; `origins`: where else addresses that were found may
    lead, without credentials. `by_hand`: one address that was typed, so that what is no JSON is
    told at once and not tried again.
    """

    base: str
    calls: tuple[Call, ...]
    headers: Pairs = ()
    sign_in: SignIn | None = None
    query: Pairs = ()
    constants: tuple[tuple[str, Value], ...] = ()
    origins: tuple[str, ...] = ()
    limits: Limits = Limits()
    by_hand: bool = field(default=False, compare=False)

    def secrets(self) -> Iterator[Secret]:
        """Every secret that is sent anywhere."""
        pairs = [*self.headers, *self.query, *self.constants]
        for call in self.calls:
            pairs += [*call.query, *call.headers]
            yield from secrets_in(call.body.content if call.body else None)
        # Everything that may leave this machine, so that all of it can be masked before anything is
        # shown.
        match self.sign_in:
            case Basic(user, password):
                yield from (user, password)
            case Bearer(token):
                yield token
            case OAuth2(client=client, secret=secret):
                yield from (client, secret)
            case SignInCall(query=query, headers=headers, body=body):
                pairs += [*query, *headers]
                yield from secrets_in(body.content if body else None)
        yield from (value for _, value in pairs if isinstance(value, Secret))

    def call(self, name: str) -> Call:
        return next(call for call in self.calls if call.name == name)

    def children(self, name: str) -> list[Call]:
        """The calls that are asked once per record of this one."""
        return [
            call for call in self.calls if call.once_per and call.once_per.call == name
        ]

    @property
    def base_origin(self) -> str:
        return origin_of(self.base)


def secrets_in(content: JsonValue) -> Iterator[Secret]:
    """The secrets in a body."""
    if isinstance(content, Secret):
        yield content
    elif isinstance(content, dict):
        for value in content.values():
            yield from secrets_in(value)
    elif isinstance(content, list):
        for value in content:
            yield from secrets_in(value)


_PORTS = {"http": 80, "https": 443}


def origin_of(url: str) -> str:
    """Scheme, host and port of an address (RFC 6454), the port always there. Raises ValueError."""
    parts = urlsplit(url)
    if parts.scheme not in _PORTS or not parts.hostname:
        raise ValueError(url)
    return f"{parts.scheme}://{parts.hostname}:{parts.port or _PORTS[parts.scheme]}"


def resolved(base: str, text: str) -> str:
    """An address that stood in a response, resolved against where that came from (RFC 3986); as it
    stands, if it is no reference at all.
    """
    try:
        return urljoin(base, text)
    except ValueError:
        return text


def is_plain_address(text: str) -> bool:
    """Whether a text out of a response is an address that can be asked: http or https, a host, and
    no password.
    """
    try:
        origin_of(text)
    except ValueError:
        return False
    return "@" not in urlsplit(text).netloc and " " not in text and text.isprintable()


def call_for(url: str, query: Pairs = ()) -> tuple[str, Call]:
    """The base and the call that an address stands for. Raises UsageError."""
    check_address(url)
    parts = urlsplit(url)
    pairs = tuple(parse_qsl(parts.query, keep_blank_values=True))
    # Braces would be variables in an address of a calls file.
    address = parts.path.replace("{", "%7B").replace("}", "%7D") or "/"
    return f"{parts.scheme}://{parts.netloc}", Call(
        call_name(parts.path), address, pairs + query
    )


def check_address(url: str) -> None:
    """Raises UsageError for what is no address, or holds a password."""
    try:
        origin_of(url)
    except ValueError:
        message = "that is no address: it begins with http:// or https:// and a host"
        raise UsageError(Code.USAGE, message, hint="quote it for the shell") from None
    # It would stand in the history of the shell, in logs and in capture.jsonl.
    if "@" in urlsplit(url).netloc:
        hint = (
            "take it out; --basic USER_VARIABLE PASSWORD_VARIABLE reads both from the "
            "environment"
        )
        raise UsageError(
            Code.USAGE, "the address holds a user name or a password", hint=hint
        )


def call_name(text: str) -> str:
    """A name for a call out of the path of an address, or the name of a member."""
    last = text.strip("/").rpartition("/")[2].partition(".")[0]
    name = re.sub(r"\W+", "_", last, flags=re.ASCII).strip("_")
    if not name or name[0].isdigit():
        name = f"response_{name}".rstrip("_")
    return name.lower()[:63]
