"""What is to be asked of a service."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from urllib.parse import parse_qsl, quote, quote_plus, urlencode, urlsplit, urlunsplit

from mukret.errors import UsageError

SENSITIVE = re.compile(
    r"authori[sz]ation|cookie|passw|secret|token|api[-_]?key|^key$|[-_]key$|signature|^sig$|credential|session|^pass$",
    re.I,
)
"""Names of headers and query members whose values are nobody else's business."""
SET_BY_THE_TRANSFER = frozenset(
    ["accept-encoding", "connection", "content-length", "expect", "te", "trailer", "transfer-encoding", "upgrade"]
)
"""Headers that follow from what is sent and how."""
MASK = "***"
SHORTEST_PART = 6
"""So many characters of a secret are masked as well, where a text was cut."""


@dataclass(frozen=True)
class Secret:
    """A value that stands in the environment, under this name, and never in a file."""

    variable: str

    def value(self, environment: Mapping[str, str]) -> str:
        """Raises UsageError if the variable is not set."""
        found = environment.get(self.variable)
        if not found:
            hint = f"set it first: read -rs {self.variable}; export {self.variable}"
            raise UsageError("secret-missing", f"the environment has no variable {self.variable}", hint=hint)
        try:
            found.encode()
        except UnicodeEncodeError:
            hint = f"set it anew: read -rs {self.variable}; export {self.variable}"
            raise UsageError("secret-missing", f"the variable {self.variable} is not UTF-8", hint=hint) from None
        return found


Value = str | Secret


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
class Call:
    """One address to get: the rest of it after the base."""

    name: str
    get: str
    query: tuple[tuple[str, Value], ...] = ()


@dataclass(frozen=True)
class Calls:
    """Calls of one service, with what they have in common."""

    base: str
    calls: tuple[Call, ...]
    headers: tuple[tuple[str, Value], ...] = ()
    sign_in: Basic | Bearer | None = None

    def address(self, call: Call) -> str:
        """Base and call put together. Whatever the call says, it stays at the base: there the secrets belong."""
        return f"{self.base.rstrip('/')}/{call.get.lstrip('/')}"

    def secrets(self) -> Iterator[Secret]:
        values = [value for _, value in self.headers] + [value for call in self.calls for _, value in call.query]
        yield from (value for value in values if isinstance(value, Secret))
        if isinstance(self.sign_in, Basic):
            yield from (self.sign_in.user, self.sign_in.password)
        elif self.sign_in:
            yield self.sign_in.token


@dataclass(frozen=True)
class Masker:
    """Takes secrets out of texts that are printed or kept."""

    secrets: frozenset[str] = field(default_factory=frozenset)

    @staticmethod
    def of(calls: Calls, environment: Mapping[str, str]) -> Masker:
        known = {secret.value(environment) for secret in calls.secrets()}
        known |= {value for name, value in calls.headers if isinstance(value, str) and SENSITIVE.search(name)}
        if isinstance(calls.sign_in, Basic):
            pair = calls.sign_in.user.value(environment), calls.sign_in.password.value(environment)
            known.add(_base64(":".join(pair)))
        return Masker(frozenset(known))

    @cached_property
    def forms(self) -> list[str]:
        """All ways in which a secret may stand in a text, longer ones first."""
        found = set()
        for secret in self.secrets:
            found |= {secret, quote(secret, safe=""), quote_plus(secret), json.dumps(secret)[1:-1], _base64(secret)}
        return sorted(found | {form.lower() for form in found}, key=len, reverse=True)

    def text(self, text: str) -> str:
        for form in self.forms:
            text = text.replace(form, MASK)
        return text

    def excerpt(self, text: str) -> str:
        """The same for a text that was cut out of a longer one, so that a secret may stand in it in part."""
        text = self.text(text)
        for form in self.forms:
            for length in range(len(form) - 1, SHORTEST_PART - 1, -1):
                text = text.replace(form[:length], MASK).replace(form[-length:], MASK)
        return text

    def url(self, url: str) -> str:
        """An address without user and password, the values of telling query members masked."""
        parts = urlsplit(url)
        host = parts.netloc.rpartition("@")[2]
        pairs = parse_qsl(parts.query, keep_blank_values=True)
        query = parts.query
        if any(SENSITIVE.search(name) for name, _ in pairs):
            query = urlencode([(name, MASK if SENSITIVE.search(name) else value) for name, value in pairs], safe="*")
        return self.text(urlunsplit((parts.scheme, host, parts.path, query, "")))


def _base64(text: str) -> str:
    return base64.b64encode(text.encode()).decode().rstrip("=")


def call_for(url: str, query: tuple[tuple[str, Value], ...] = ()) -> tuple[str, Call]:
    """The base and the call that an address stands for. Raises UsageError."""
    try:
        parts = urlsplit(url)
        port_is_right = parts.port is None or parts.port > 0
    except ValueError:
        port_is_right = False
    if not port_is_right or parts.scheme not in ("http", "https") or not parts.hostname:
        raise UsageError(
            "usage", "that is no address: it begins with http:// or https:// and a host", hint="quote it for the shell"
        )
    if "@" in parts.netloc:
        raise UsageError(
            "usage",
            "the address holds a user name or a password",
            hint="take it out; --basic USER_VARIABLE PASSWORD_VARIABLE reads both from the environment",
        )
    own = tuple(parse_qsl(parts.query, keep_blank_values=True))
    name = re.sub(r"\W+", "_", parts.path.strip("/").rpartition("/")[2].partition(".")[0], flags=re.ASCII).strip("_")
    if not name or name[0].isdigit():
        name = f"response_{name}".rstrip("_")
    return f"{parts.scheme}://{parts.netloc}", Call(name.lower()[:63], parts.path or "/", own + query)
