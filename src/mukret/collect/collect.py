"""Calls → answers, each kept as it came, beside what is known of it."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from http import HTTPStatus
from typing import TYPE_CHECKING, Any

from mukret.collect.bounds import Bounds, Deadline, TooLarge, TooSlow
from mukret.collect.calls import MASK, Basic, Bearer, Call, Calls, Masker, Secret
from mukret.collect.folder import CaptureFolder, Received
from mukret.collect.unpacking import ACCEPTED, BadlyPacked, unpacked
from mukret.documents import Finding, Source, read_batches
from mukret.documents.glance import Skim
from mukret.errors import InputError, MukretError, UsageError
from mukret.version import __version__

if TYPE_CHECKING:
    import httpx

MOST_REDIRECTS = 10
LOOPBACK = ("localhost", "127.0.0.1", "::1")
SAID = 300
"""Characters of a body that is no data that are shown."""


@dataclass(frozen=True)
class Answer:
    """What came of one call. `problem`: why the body is no data; `said`: how it begins then; `finding`: where it stops
    being JSON. `url` has no secrets in it."""

    call: str
    url: str
    status: int
    reason: str
    media_type: str | None
    fetched_at: str
    seconds: float
    size: int
    sha256: str
    file: str
    documents: int
    bad_documents: int
    problem: str | None
    said: str
    finding: Finding | None

    def record(self) -> dict[str, Any]:
        """The line of `capture.jsonl`."""
        record: dict[str, Any] = {
            "call": self.call,
            "variables": {},
            "url": self.url,
            "page": 1,
            "status": self.status,
            "media_type": self.media_type,
            "fetched_at": self.fetched_at,
            "bytes": self.size,
            "sha256": self.sha256,
            "file": self.file,
        }
        return record | ({"problem": self.problem} if self.problem else {})


def collect(
    calls: Calls,
    folder: CaptureFolder,
    *,
    bounds: Bounds = Bounds(),  # noqa: B008  # it is frozen
    environment: Mapping[str, str] = os.environ,
) -> Iterator[Answer]:
    """Asks each call once and keeps what comes.

    Raises UsageError for a secret that the environment lacks or that can't be sent, InputError if the service is not
    reached or an answer is cut off or beyond the bounds, OutputError if the folder can't be written.
    """
    masker = Masker.of(calls, environment)
    import httpx

    headers, sign_in = _headers(calls, environment), _sign_in(calls, environment)
    with folder.alone():
        for call in calls.calls:
            url = httpx.URL(calls.address(call))
            pairs = tuple((name, _plain(value, environment)) for name, value in call.query)
            if pairs:
                url = url.copy_merge_params(httpx.QueryParams(pairs))
            # a proxy of the environment is for what is outside this machine
            trust = url.host not in LOOPBACK
            with (
                Deadline(bounds.seconds) as deadline,
                _translated(url, masker, bounds, deadline),
                httpx.Client(timeout=bounds.silence, trust_env=trust) as client,
            ):
                request = _Request(client, url, headers, sign_in, bounds, deadline)
                answer = _answer(request, call, folder, masker)
            yield answer


@dataclass
class _Request:
    client: httpx.Client
    url: httpx.URL
    headers: dict[str, str]
    sign_in: Any
    bounds: Bounds
    deadline: Deadline

    @contextmanager
    def sent(self) -> Iterator[httpx.Response]:
        """The answer, its body still to be read."""
        extensions = {"trace": self.deadline.note}
        with self.client.stream(
            "GET", self.url, headers=self.headers, auth=self.sign_in, extensions=extensions
        ) as found:
            yield found

    def body(self, response: httpx.Response) -> Iterator[bytes]:
        """The body, unpacked. Raises BadlyPacked, TooLarge and TooSlow."""
        body = unpacked(response.iter_raw(), response.headers.get("content-encoding", ""))
        return self.deadline.bounded(body, self.bounds.body)


def _plain(value: str | Secret, environment: Mapping[str, str]) -> str:
    return value.value(environment) if isinstance(value, Secret) else value


def _headers(calls: Calls, environment: Mapping[str, str]) -> dict[str, str]:
    headers = {
        "Accept": "application/json, */*;q=0.5",
        "Accept-Encoding": ACCEPTED,
        "User-Agent": f"mukret/{__version__}",
    }
    return headers | {name: _in_header(value, environment) for name, value in calls.headers}


def _in_header(value: str | Secret, environment: Mapping[str, str]) -> str:
    """A value that can stand in a header (RFC 9110). Raises UsageError, which does not show it."""
    plain = _plain(value, environment)
    if isinstance(value, Secret) and not (plain.isascii() and plain.isprintable()):
        message = f"the variable {value.variable} holds a line break, or what a header can't hold"
        raise UsageError(
            "secret-missing", message, hint=f"set it anew: read -rs {value.variable}; export {value.variable}"
        )
    return plain


def _sign_in(calls: Calls, environment: Mapping[str, str]) -> Any:
    import httpx

    match calls.sign_in:
        case Basic(user, password):
            return httpx.BasicAuth(user.value(environment), password.value(environment))
        case Bearer(token):
            value = _in_header(token, environment)

            def bearer(request: httpx.Request) -> httpx.Request:
                request.headers["Authorization"] = f"Bearer {value}"
                return request

            return bearer
    return None


def _answer(request: _Request, call: Call, folder: CaptureFolder, masker: Masker) -> Answer:
    for _ in range(MOST_REDIRECTS):
        begun = time.monotonic()
        with request.sent() as response:
            if response.next_request is None:
                fetched_at = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
                received = folder.receive(request.body(response))
                seconds = time.monotonic() - begun
                return _kept(response, received, folder, masker, call, fetched_at, seconds)
            request.url = _followed(request.url, response.next_request.url, masker)
    raise InputError("redirected", f"{masker.url(str(request.url))}: more than {MOST_REDIRECTS} redirects")


def _followed(url: httpx.URL, target: httpx.URL, masker: Masker) -> httpx.URL:
    """The address of a redirect, if it is of the same origin (RFC 6454): credentials stay at home."""
    if (url.scheme, url.host, url.port) == (target.scheme, target.host, target.port):
        return target
    shown = masker.url(str(target))
    raise InputError(
        "redirected",
        f"{masker.url(str(url))} sends on to another origin: {shown}",
        hint="if you trust it, collect that address itself; nothing was sent there",
    )


def _kept(
    response: httpx.Response,
    received: Received,
    folder: CaptureFolder,
    masker: Masker,
    call: Call,
    fetched_at: str,
    seconds: float,
) -> Answer:
    media_type = masker.text(response.headers.get("content-type", "").partition(";")[0].strip().lower()) or None
    problem, finding, documents, bad = _judged(response.status_code, received)
    problem = None if problem is None else masker.excerpt(problem)
    if finding is not None:
        finding = replace(finding, message=masker.excerpt(finding.message), **_masked_pointer(finding, masker))
    said = "" if problem is None else masker.excerpt(_beginning(received))
    file = received.keep() if problem is None else received.set_apart(media_type)
    answer = Answer(
        call.name,
        masker.url(str(response.url)),
        response.status_code,
        response.reason_phrase,
        media_type,
        fetched_at,
        seconds,
        received.size,
        received.sha256,
        file,
        documents,
        bad,
        problem,
        said,
        finding,
    )
    folder.note(answer.record())
    return answer


def _judged(status: int, received: Received) -> tuple[str | None, Finding | None, int, int]:
    """Why an answer is no data, if it is none; else how many documents it holds, and how many that can't be read."""
    if not 200 <= status < 300:
        return f"the service answered {status_text(status)}", None, 0, 0
    if not received.size:
        return "the body is empty", None, 0, 0
    documents = 0
    findings: list[Finding] = []
    try:
        for batch in read_batches([Source(str(received.part), named=False)], projection=Skim()):
            documents += len(batch.documents)
            findings += [bad.finding for bad in batch.bad]
    except MukretError as error:
        return f"the body can't be read: {error.message.partition(': ')[2]}", None, 0, 0
    if not documents:
        finding = findings[0] if findings else Finding("there is nothing in it")
        return f"the body is not JSON: {finding.message}", finding, 0, len(findings)
    return None, None, documents, len(findings)


def _masked_pointer(finding: Finding, masker: Masker) -> dict[str, Any]:
    """The text around a mistake without secrets, and the place in it."""
    before, after = (
        masker.excerpt(part) for part in (finding.excerpt[: finding.caret], finding.excerpt[finding.caret :])
    )
    if masker.excerpt(finding.excerpt) != before + after:  # one stands at the place itself
        return {"excerpt": MASK, "caret": 0}
    return {"excerpt": before + after, "caret": len(before)}


def status_text(status: int) -> str:
    """`404 Not Found`."""
    try:
        return f"{status} {HTTPStatus(status).phrase}"
    except ValueError:
        return str(status)


def _beginning(received: Received) -> str:
    with open(received.part, "rb") as file:
        return file.read(4 * SAID).decode("utf-8", "replace")[:SAID].strip()


@contextmanager
def _translated(url: httpx.URL, masker: Masker, bounds: Bounds, deadline: Deadline) -> Iterator[None]:
    """Turns what the client raises into errors of our own (at the one border to it)."""
    import httpx

    shown = masker.url(str(url))
    try:
        yield
    except TooLarge:
        message = f"{shown}: the answer is larger than {bounds.body:,} bytes, unpacked"
        raise InputError("over-bounds", message, hint="nothing of it was kept; --max-body allows more") from None
    except (httpx.HTTPError, httpx.InvalidURL, BadlyPacked, TooSlow) as error:
        if deadline.passed:
            message = f"{shown}: the answer did not come whole within {bounds.seconds:g} s"
            raise InputError("over-bounds", message, hint="nothing of it was kept; --max-time allows more") from None
        raise _not_reached(shown, masker.excerpt(_why(error)), error, bounds) from None


def _not_reached(shown: str, why: str, error: Exception, bounds: Bounds) -> InputError:
    import httpx

    if isinstance(error, httpx.TimeoutException):
        message, hint = f"{shown}: no answer within {bounds.silence:g} s", "--timeout allows more"
    elif isinstance(error, httpx.RemoteProtocolError | httpx.ReadError):
        message, hint = f"{shown}: the answer was cut off", "nothing of it was kept; try again"
    elif isinstance(error, BadlyPacked):
        message, hint = f"{shown}: the answer is not packed as it says: {error}", "nothing of it was kept; try again"
    elif isinstance(error, httpx.LocalProtocolError):
        message, hint = f"{shown}: that can't be asked: {why}", "look at the headers that are sent"
    else:
        message, hint = f"{shown}: {why}", "check the address, and whether the service is up"
    return InputError("not-reached", message, hint=hint)


def _why(error: BaseException) -> str:
    """The words of the operating system, without its numbers."""
    text = str(error) or type(error).__name__
    return text.partition("] ")[2].lower() if text.startswith("[") else text.lower()
