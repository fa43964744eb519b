"""Secrets taken out of all that is printed, logged or kept beside a body."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterable, Iterator, Mapping
from urllib.parse import parse_qsl, quote, quote_plus, urlencode, urlsplit, urlunsplit

from mukret.collect.calls import Basic, Calls, OAuth2

# Names of headers and query members whose values are nobody else's business.
SENSITIVE = re.compile(
    r"authori[sz]ation|cookie|passw|secret|token|api[-_]?key|^key$|[-_]key$|signature|^sig$|credential|session|^pass$",
    re.I,
)
# A token with such a name says where a list goes on.
#
# It is no secret, and without it pages can't be told apart.
_OF_PAGES = re.compile(r"page|next|cursor|contin|resum|scroll|after|before|sync", re.I)
MASK = "***"
# So many characters of a secret are masked as well, where a text was cut.
SHORTEST_PART = 6
# What comes from the service (from a sign-in, in a cookie) and is shorter is masked in its place
# alone: a number of two digits stands in many an address.
SHORTEST_LEARNT = 6


def is_sensitive(name: str) -> bool:
    """Whether a value of this name is likely a secret."""
    return bool(SENSITIVE.search(name)) and not _OF_PAGES.search(name)


class Masker:
    """Takes secrets out of texts. It learns of more of them while a collection goes on."""

    def __init__(self, secrets: Iterable[str] = ()) -> None:
        self.secrets = frozenset(secrets)
        # All ways in which a secret may stand in a text, longer ones first.
        self.forms = _forms(self.secrets)

    @staticmethod
    def of(calls: Calls, environment: Mapping[str, str]) -> Masker:
        """Raises UsageError for a secret that the environment does not have."""
        known = {secret.value(environment) for secret in calls.secrets()}
        for name, value in calls.headers:
            if isinstance(value, str) and is_sensitive(name) and "{" not in value:
                known.add(value)
        # Secrets also go out encoded together: these forms are masked as well.
        match calls.sign_in:
            case Basic(user, password):
                known.add(
                    _base64(f"{user.value(environment)}:{password.value(environment)}")
                )
            case OAuth2(client=client, secret=secret):
                pair = (
                    quote_plus(client.value(environment)),
                    quote_plus(secret.value(environment)),
                )
                known.add(_base64(":".join(pair)))
        return Masker(known)

    def learn(self, secret: str) -> None:
        """From now on this is a secret, too, if it is long enough to be one."""
        if len(secret) >= SHORTEST_LEARNT and secret not in self.secrets:
            self.secrets |= {secret}
            self.forms = _forms(self.secrets)

    def text(self, text: str) -> str:
        for form in self.forms:
            text = text.replace(form, MASK)
        return text

    def excerpt(self, text: str) -> str:
        """Masks a text that was cut out of a longer one:
        at its edges a part of a secret may stand.
        """
        text = self.text(text)
        for form in self.forms:
            for length in range(len(form) - 1, SHORTEST_PART - 1, -1):
                text = text.replace(form[:length], MASK).replace(form[-length:], MASK)
        return text

    def pieces(self, body: Iterable[bytes]) -> Iterator[bytes]:
        """The body of an answer that is no data, which may be an error page that says everything
        again: a piece at a time. Where the longest secret could still begin, the next piece is
        waited for.
        """
        forms = [form.encode() for form in self.forms]
        secret = re.compile(b"|".join(map(re.escape, forms)) or rb"(?!)")
        longest = max(map(len, forms), default=1)
        waiting = b""
        for piece in body:
            waiting += piece
            # A secret may lie across two pieces: as many bytes as the longest has are held back.
            begins_before = len(waiting) - longest + 1
            done = 0
            while (
                match := secret.search(waiting, done)
            ) and match.start() < begins_before:
                yield waiting[done : match.start()] + MASK.encode()
                done = match.end()
            sure = max(done, begins_before)
            yield waiting[done:sure]
            waiting = waiting[sure:]
        yield secret.sub(MASK.encode(), waiting)

    def url(self, url: str) -> str:
        """An address without user and password, the values of telling query members masked."""
        parts = urlsplit(url)
        host = parts.netloc.rpartition("@")[2]
        pairs = parse_qsl(parts.query, keep_blank_values=True)
        query = parts.query
        if any(is_sensitive(name) for name, _ in pairs):
            hidden = [(name, _unless_sensitive(name, value)) for name, value in pairs]
            query = urlencode(hidden, safe="*")
        shown = urlunsplit((parts.scheme, host, parts.path, query, ""))
        return self.text(
            shown.replace(quote(MASK, safe=""), MASK)
        )  # URI Templates encode it


def _forms(secrets: Iterable[str]) -> list[str]:
    forms = set()
    for secret in secrets:
        forms |= {
            secret,
            # As it stands in addresses, forms, JSON and basic authentication: an answer may repeat
            # any of them.
            quote(secret, safe=""),
            quote_plus(secret),
            json.dumps(secret)[1:-1],
            _base64(secret),
        }
    # The longest first, so that no part of a longer one is left over; hexadecimal of either case.
    return sorted(forms | {form.lower() for form in forms}, key=len, reverse=True)


def _base64(text: str) -> str:
    return base64.b64encode(text.encode()).decode().rstrip("=")


def _unless_sensitive(name: str, value: str) -> str:
    return MASK if is_sensitive(name) else value
