"""Signing in: what is sent, what is kept of the response, and when it has to be done again.

The conversation knows no network: it is given a function that sends.
"""

from __future__ import annotations

import base64
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from decimal import Decimal, InvalidOperation
from urllib.parse import quote_plus

from mukret.codes import Code
from mukret.collect.calls import (
    Basic,
    Bearer,
    Body,
    Calls,
    Kept,
    OAuth2,
    SignInCall,
    origin_of,
)
from mukret.collect.client import Reply
from mukret.collect.judging import status_text
from mukret.collect.masking import Masker
from mukret.collect.templates import filled_address
from mukret.collect.wire import (
    ALWAYS,
    RequestWriter,
    Wire,
    in_header,
    joined,
    merged,
    with_pairs,
)
from mukret.documents.decode import NotJson, decode
from mukret.errors import InputError
from mukret.paths import parse_path
from mukret.values import JsonValue, scalar_text

Send = Callable[[Wire], Reply[bytes]]
# This part of its time before a token runs out a new one is asked for.
MARGIN = 0.1
MOST_MARGIN = 60.0


@dataclass(frozen=True)
class Credentials:
    """What requests carry.

    `generation` counts sign-ins; `good_until` is a time of the clock, in seconds.
    """

    generation: int = 0
    kept: Mapping[str, str] = field(default_factory=dict)
    authorization: str | None = None
    good_until: float | None = None


@dataclass(frozen=True)
class KeptValue:
    """What may be told of a value from a sign-in: where it was found, how long it is, for how many
    seconds it is good.
    """

    name: str
    source: str
    length: int
    seconds: float | None


class Session:
    """The credentials of a collection, the same for all of its threads."""

    def __init__(
        self,
        calls: Calls,
        writer: RequestWriter,
        masker: Masker,
        now: Callable[[], float],
        signed_in: Callable[[Session], object] = lambda session: None,
    ) -> None:
        """`now` gives seconds of a clock that is never set back; `signed_in` is called after each
        sign-in.
        """
        self.signed_in = signed_in
        self.calls = calls
        self.writer = writer
        self.masker = masker
        self.now = now
        self.lock = threading.Lock()
        self.told: list[KeptValue] = []
        self.current: Credentials | None = None
        self.refusal: InputError | None = None
        match calls.sign_in:
            case Basic(user, password):
                pair = f"{writer.secrets[user]}:{writer.secrets[password]}"
                self.current = Credentials(
                    authorization=f"Basic {base64.b64encode(pair.encode()).decode()}"
                )
            case Bearer(token):
                # Refused here, with the name of the variable, and not at the first request.
                value = in_header(
                    writer.secrets[token],
                    f"the variable {token.variable}",
                    variable=token.variable,
                )
                self.current = Credentials(authorization=f"Bearer {value}")
            case None:
                self.current = Credentials()

    @property
    def renewable(self) -> bool:
        """Whether a sign-in can be done again."""
        return isinstance(self.calls.sign_in, OAuth2 | SignInCall)

    @property
    def sign_ins(self) -> int:
        return self.current.generation if self.current else 0

    def credentials(self, send: Send) -> Credentials:
        """The credentials that are valid now; signs in if there are none.

        Raises InputError if the sign-in is refused.
        """
        with self.lock:
            if self.refusal is not None:
                raise self.refusal
            current = self.current
            if current is None or (
                current.good_until is not None and self.now() >= current.good_until
            ):
                try:
                    current = self.current = self._sign_in(send)
                except InputError as error:
                    # Other threads wait for the lock, and need not be refused one after the other.
                    self.refusal = error
                    raise
                self.signed_in(self)
            return current

    def refused(self, generation: int) -> None:
        """The service did not take the credentials of this generation: the next request signs in
        anew.
        """
        with self.lock:
            if (
                self.renewable
                and self.current is not None
                # Another thread may have signed in anew by now.
                and self.current.generation == generation
            ):
                self.current = Credentials(
                    generation, {}, None, good_until=float("-inf")
                )

    def _sign_in(self, send: Send) -> Credentials:
        generation = self.sign_ins + 1
        match self.calls.sign_in:
            case OAuth2() as way:
                return self._with_token(send(self._token_request(way)), generation)
            case SignInCall() as way:
                reply = send(self._request(way))
                return self._with_kept(reply, way.keep, generation)
        raise AssertionError

    # ---- a call of the service's own

    def _request(self, way: SignInCall) -> Wire:
        writer, constants = self.writer, self.writer.constants
        url = self._address(filled_address(way.address, constants))
        # What is logged is made apart, out of masks: nothing is taken out of the real address
        # afterwards.
        shown = self.masker.url(
            self._address(filled_address(way.address, writer.shown_constants))
        )
        query = [(name, writer.text(value, constants)) for name, value in way.query]
        headers = writer.headers(way.headers, constants)
        content = None
        if way.method == "POST":
            content, media_type = writer.body(way.body or Body({}), constants)
            headers = merged({"Content-Type": media_type}, headers)
        return self._wire(way.method, with_pairs(url, query), shown, headers, content)

    def _with_kept(
        self, reply: Reply[bytes], keep: tuple[Kept, ...], generation: int
    ) -> Credentials:
        self._accepted(reply)
        document = _document(reply) if any(wanted.path for wanted in keep) else None
        values: dict[str, str] = {}
        told: list[KeptValue] = []
        for wanted in keep:
            value, source = self._kept(wanted, reply, document)
            # From here on it is masked wherever it would be shown or kept.
            self.masker.learn(value)
            values[wanted.name] = in_header(
                value, f"{wanted.name}, kept from the sign-in,"
            )
            told.append(
                KeptValue(wanted.name, source, len(value), _seconds(wanted, document))
            )
        self.told = told
        # The value that ends first ends the session.
        times = [wanted.seconds for wanted in told if wanted.seconds is not None]
        return Credentials(
            generation, values, None, self._until(min(times, default=None))
        )

    def _kept(
        self, wanted: Kept, reply: Reply[bytes], document: JsonValue
    ) -> tuple[str, str]:
        """The value and where it stood."""
        if wanted.header is not None:
            value = reply.headers.get(wanted.header.lower())
            source = f"the header {wanted.header}"
        else:
            assert wanted.path is not None
            values = wanted.path.values(document)
            # Numbers serve as passes, too.
            value = scalar_text(values[0]) if values else None
            source = wanted.path.text
        if not value:
            message = (
                f"the answer to the sign-in has nothing at {source}, where {wanted.name} is "
                "kept from"
            )
            raise InputError(
                Code.SIGN_IN,
                message,
                hint="look at what the service's description says of its answer",
            )
        return value, source

    # ---- OAuth 2

    def _token_request(self, way: OAuth2) -> Wire:
        """RFC 6749, sections 2.3.1 and 4.4.2."""
        writer = self.writer
        client, secret = writer.secrets[way.client], writer.secrets[way.secret]
        form = {"grant_type": "client_credentials"}
        form |= {"scope": way.scope} if way.scope else {}
        headers = dict(ALWAYS)
        if way.in_body:
            form |= {"client_id": client, "client_secret": secret}
        else:
            # Encoded as in a form before they are joined: RFC 6749, 2.3.1.
            pair = f"{quote_plus(client)}:{quote_plus(secret)}"
            headers["Authorization"] = (
                f"Basic {base64.b64encode(pair.encode()).decode()}"
            )
        content, media_type = writer.body(Body(form, form=True), {})
        url = self._address(filled_address(way.token, writer.constants))
        return self._wire(
            "POST",
            url,
            self.masker.url(url),
            headers | {"Content-Type": media_type},
            content,
        )

    def _with_token(self, reply: Reply[bytes], generation: int) -> Credentials:
        self._accepted(reply)
        document = _document(reply)
        token = document.get("access_token") if type(document) is dict else None
        if type(token) is not str or not token:
            raise InputError(
                Code.SIGN_IN, "the answer to the sign-in has no access_token (RFC 6749)"
            )
        # From now on it is a secret like those of the environment, whatever the service repeats.
        self.masker.learn(token)
        kept = Kept("access_token", parse_path("$.access_token"))
        seconds = _number(document.get("expires_in"))
        # Its length is told, for somebody who wonders whether the right thing was taken.
        self.told = [KeptValue(kept.name, "$.access_token", len(token), seconds)]
        value = in_header(token, "the access token")
        return Credentials(generation, {}, f"Bearer {value}", self._until(seconds))

    # ---- both

    def _address(self, address: str) -> str:
        return address if "://" in address else joined(self.calls.base, address)

    def _wire(
        self,
        method: str,
        url: str,
        shown: str,
        headers: Mapping[str, str],
        content: bytes | None,
    ) -> Wire:
        home = origin_of(url) == self.calls.base_origin
        return Wire(method, url, shown, headers, content, home)

    def _accepted(self, reply: Reply[bytes]) -> None:
        if 200 <= reply.status < 300:
            return
        # Error pages repeat what was sent.
        said = self.masker.excerpt(
            " ".join(reply.content[:300].decode("utf-8", "replace").split())
        )
        message = f"the service refused the sign-in: {status_text(reply.status)}"
        # The names of the variables: which of them is wrong only their owner knows.
        variables = sorted({secret.variable for secret in self.calls.secrets()})
        hint = f"look at {', '.join(variables)}" if variables else "look at sign_in"
        raise InputError(
            Code.SIGN_IN, message, hint=f"{hint}; it says: {said}" if said else hint
        )

    def _until(self, seconds: float | None) -> float | None:
        if seconds is None:
            return None
        return self.now() + seconds - min(MOST_MARGIN, seconds * MARGIN)


def _document(reply: Reply[bytes]) -> JsonValue:
    try:
        # With bounds on its depth, as any answer.
        return decode(reply.content)
    except NotJson as error:
        raise InputError(
            Code.SIGN_IN,
            f"the answer to the sign-in is not JSON: {error.finding.message}",
        ) from None


def _seconds(kept: Kept, document: JsonValue) -> float | None:
    """For how long a value is good, as the answer says."""
    if kept.lasts is None:
        return None
    values = kept.lasts.path.values(document)
    value = values[0] if values else None
    if not kept.lasts.until:
        number = _number(value)
        return None if number is None else number * kept.lasts.unit
    number = _number(value)
    if number is not None:
        return number - datetime.now(UTC).timestamp()
    try:
        until = datetime.fromisoformat(str(value))
    except ValueError:
        return None
    return (
        # An end without a zone is taken for UTC, as most services mean it.
        until if until.tzinfo else until.replace(tzinfo=UTC)
    ).timestamp() - datetime.now(UTC).timestamp()


def _number(value: JsonValue) -> float | None:
    try:
        return float(Decimal(scalar_text(value) or ""))
    except InvalidOperation:
        return None
