"""One request, sent over HTTP: the one border to the library that does it.

A line is used by one thread and keeps its connection. Redirects are followed at home, so that
credentials stay there.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from http.cookiejar import CookieJar, DefaultCookiePolicy
from typing import TYPE_CHECKING, Generic, TypeVar

from mukret.codes import Code
from mukret.collect.bounds import Bounds, Deadline, Sockets, TooLarge, TooSlow
from mukret.collect.manners import instant
from mukret.collect.masking import Masker
from mukret.collect.unpacking import BadlyPacked, unpacked
from mukret.collect.wire import Wire
from mukret.errors import InputError

if TYPE_CHECKING:
    import ssl

    import httpx

Content = TypeVar("Content")
# Takes the status and the body of an answer, as it comes.
Receive = Callable[[int, Iterable[bytes]], Content]

MOST_REDIRECTS = 10
LOOPBACK = ("localhost", "127.0.0.1", "::1")
_KEEPS_METHOD = (307, 308)


class NotReached(InputError):
    """No whole answer came.

    `away`: not even a connection; else the answer was cut off, or did not come in time.
    """

    away = False


@dataclass(frozen=True)
class Reply(Generic[Content]):
    """An answer.

    `headers` by lower-case name, several of a name joined by a comma; `url` is where it came from,
    with whatever secrets are in it; `seconds` until it was whole.
    """

    status: int
    reason: str
    headers: Mapping[str, str]
    url: str
    fetched_at: str
    seconds: float
    content: Content

    @property
    def media_type(self) -> str | None:
        return (
            self.headers.get("content-type", "").partition(";")[0].strip().lower()
            or None
        )


@lru_cache(maxsize=1)
def _certificates() -> ssl.SSLContext:
    """Whom TLS trusts: the library's list, or what SSL_CERT_FILE and SSL_CERT_DIR name.

    Reading it takes its time.
    """
    import httpx

    return httpx.create_ssl_context()


class Connection:
    """A connection to the service. Cookies are kept in `jar`, and go nowhere but home."""

    def __init__(self, bounds: Bounds, masker: Masker, jar: CookieJar) -> None:
        self.bounds = bounds
        self.masker = masker
        self.jar = jar
        self.sockets = Sockets()
        self.clients: dict[tuple[bool, bool], httpx.Client] = {}

    def close(self) -> None:
        for client in self.clients.values():
            client.close()

    def client(self, host: str, *, home: bool) -> httpx.Client:
        """The client for a host. A proxy of the environment is only used for other machines."""
        import httpx

        # Proxies are asked for nothing that this machine itself answers.
        trust = host not in LOOPBACK
        if (trust, home) not in self.clients:
            jar = (
                # Cookies of a sign-in go to no other origin.
                self.jar if home else CookieJar(DefaultCookiePolicy(allowed_domains=[]))
            )
            self.clients[trust, home] = httpx.Client(
                timeout=self.bounds.silence,
                trust_env=trust,
                cookies=jar,
                verify=_certificates(),
            )
        return self.clients[trust, home]

    def send(self, wire: Wire, receive: Receive[Content]) -> Reply[Content]:
        """Sends a request; `receive` is given the status and the body, unpacked, a piece at a time.

        Raises NotReached, InputError for a redirect that is not followed and for what is beyond the
        bounds, and what `receive` raises.
        """
        with (
            Deadline(self.bounds.seconds, self.sockets) as deadline,
            self.translated(wire.shown, deadline),
        ):
            return self.followed(wire, receive, deadline)

    def followed(
        self, wire: Wire, receive: Receive[Content], deadline: Deadline
    ) -> Reply[Content]:
        import httpx

        method, url, content = wire.method, httpx.URL(wire.url), wire.content
        extensions = {"trace": self.sockets.note}
        for _ in range(MOST_REDIRECTS):
            client = self.client(url.host, home=wire.home)
            begun = time.monotonic()
            request = client.build_request(
                method,
                url,
                headers=wire.headers,
                content=content,
                extensions=extensions,
            )
            response = client.send(request, stream=True)
            try:
                if response.next_request is None:
                    return self.reply(response, receive, deadline, begun)
                # Redirects are followed here and not by the library: credentials stay within their
                # origin.
                url = self.at_home(url, response.next_request.url)
            finally:
                response.close()
            # As browsers do (RFC 9110, section 15.4): a post becomes a get, unless the status says
            # otherwise.
            if response.status_code not in _KEEPS_METHOD and method != "GET":
                method, content = "GET", None
        message = f"{self.masker.url(str(url))}: more than {MOST_REDIRECTS} redirects"
        raise InputError(
            Code.REDIRECTED, message, hint="look at the address in a browser"
        )

    def reply(
        self,
        response: httpx.Response,
        receive: Receive[Content],
        deadline: Deadline,
        begun: float,
    ) -> Reply[Content]:
        fetched_at = instant()
        body = unpacked(
            response.iter_raw(), response.headers.get("content-encoding", "")
        )
        # The body goes to a file while it comes: it may be larger than memory, and is bounded in
        # size and time.
        content = receive(
            response.status_code, deadline.bounded(body, self.bounds.body)
        )
        headers = {name.lower(): response.headers[name] for name in response.headers}
        seconds = time.monotonic() - begun
        return Reply(
            response.status_code,
            response.reason_phrase,
            headers,
            str(response.url),
            fetched_at,
            seconds,
            content,
        )

    def at_home(self, url: httpx.URL, target: httpx.URL) -> httpx.URL:
        """The address of a redirect, if it is of the same origin (RFC 6454): credentials stay at
        home.
        """
        if (url.scheme, url.host, url.port) == (
            target.scheme,
            target.host,
            target.port,
        ):
            return target
        # The library would follow and leave the credentials out: the answer would be that of a
        # stranger.
        raise InputError(
            Code.REDIRECTED,
            (
                f"{self.masker.url(str(url))} sends on to another origin: "
                f"{self.masker.url(str(target))}"
            ),
            hint="if you trust it, collect that address itself; nothing was sent there",
        )

    @contextmanager
    def translated(self, shown: str, deadline: Deadline) -> Iterator[None]:
        """Turns what the client raises into errors of our own."""
        import httpx

        try:
            yield
        except TooLarge:
            message = f"{shown}: the answer is larger than {self.bounds.body:,} bytes, unpacked"
            raise InputError(
                Code.OVER_BOUNDS,
                message,
                hint="nothing of it was kept; --max-body allows more",
            ) from None
        except (httpx.HTTPError, httpx.InvalidURL, BadlyPacked, TooSlow) as error:
            # A silence that ends at the deadline is told as the deadline.
            if deadline.passed:
                message = f"{shown}: the answer did not come whole within {self.bounds.seconds:g} s"
                hint = "nothing of it was kept; --max-time allows more"
                raise InputError(Code.OVER_BOUNDS, message, hint=hint) from None
            raise self.not_reached(shown, error) from None

    def not_reached(self, shown: str, error: Exception) -> InputError:
        import httpx

        why = self.masker.excerpt(_why(error))
        if isinstance(
            error,
            httpx.LocalProtocolError | httpx.InvalidURL | httpx.UnsupportedProtocol,
        ):
            message, hint = (
                f"{shown}: that can't be asked: {why}",
                "look at the address and the headers that are sent",
            )
            return InputError(Code.NOT_REACHED, message, hint=hint)
        if _is_untrusted(error):
            hint = (
                "who answers there is not known; SSL_CERT_FILE names a file with certificates "
                "to trust"
            )
            return InputError(Code.NOT_REACHED, f"{shown}: {why}", hint=hint)
        if isinstance(error, httpx.TimeoutException):
            message, hint = (
                f"{shown}: no answer within {self.bounds.silence:g} s",
                "--timeout allows more",
            )
        elif isinstance(
            error, httpx.RemoteProtocolError | httpx.ReadError | httpx.WriteError
        ):
            message, hint = (
                f"{shown}: the answer was cut off",
                "nothing of it was kept; try again",
            )
        elif isinstance(error, BadlyPacked | TooSlow):
            message = f"{shown}: the answer is not packed as it says: {error}"
            hint = "nothing of it was kept; try again"
        else:
            message, hint = (
                f"{shown}: {why}",
                "check the address, and whether the service is up",
            )
        # Whether the service is away altogether decides if others are worth asking.
        failure = NotReached(Code.NOT_REACHED, message, hint=hint)
        failure.away = isinstance(
            error, httpx.ConnectError | httpx.ConnectTimeout | httpx.ProxyError
        )
        return failure


def _is_untrusted(error: BaseException | None) -> bool:
    """Whether the certificate of the service was refused: another try won't do better."""
    import ssl

    while error is not None:
        if isinstance(error, ssl.SSLCertVerificationError):
            return True
        # The client wraps it in its own errors.
        error = error.__cause__ or error.__context__
    return False


def _why(error: BaseException) -> str:
    """The words of the operating system, without its numbers."""
    text = str(error) or type(error).__name__
    return text.partition("] ")[2].lower() if text.startswith("[") else text.lower()
