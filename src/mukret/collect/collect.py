"""Calls → answers, each kept as it came, beside what is known of it."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from http import HTTPStatus
from typing import TYPE_CHECKING, Any

from mukret.collect.calls import Basic, Bearer, Call, Calls, Masker, Secret
from mukret.collect.folder import CaptureFolder, Received
from mukret.documents import Finding, Source, read_batches
from mukret.errors import InputError, MukretError
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
    calls: Calls, folder: CaptureFolder, *, timeout: float = 30.0, environment: Mapping[str, str] = os.environ
) -> Iterator[Answer]:
    """Asks each call once and keeps what comes. `timeout` in seconds, for connecting and for each silence.

    Raises UsageError for a secret that the environment lacks, InputError if the service is not reached or an answer is
    cut off, OutputError if the folder can't be written.
    """
    masker = Masker.of(calls, environment)
    import httpx

    for call in calls.calls:
        url = httpx.URL(calls.address(call))
        pairs = tuple((name, _plain(value, environment)) for name, value in call.query)
        if pairs:
            url = url.copy_merge_params(httpx.QueryParams(pairs))
        shown = masker.url(str(url))
        # a proxy of the environment is for what is outside this machine
        with httpx.Client(timeout=timeout, trust_env=url.host not in LOOPBACK) as client, _translated(shown, timeout):
            headers = _headers(calls, environment)
            yield _answer(client, url, headers, _sign_in(calls, environment), call, folder, masker)


def _plain(value: str | Secret, environment: Mapping[str, str]) -> str:
    return value.value(environment) if isinstance(value, Secret) else value


def _headers(calls: Calls, environment: Mapping[str, str]) -> dict[str, str]:
    headers = {"Accept": "application/json, */*;q=0.5", "User-Agent": f"mukret/{__version__}"}
    return headers | {name: _plain(value, environment) for name, value in calls.headers}


def _sign_in(calls: Calls, environment: Mapping[str, str]) -> Any:
    import httpx

    match calls.sign_in:
        case Basic(user, password):
            return httpx.BasicAuth(user.value(environment), password.value(environment))
        case Bearer(token):
            value = token.value(environment)

            def bearer(request: httpx.Request) -> httpx.Request:
                request.headers["Authorization"] = f"Bearer {value}"
                return request

            return bearer
    return None


def _answer(
    client: httpx.Client,
    url: httpx.URL,
    headers: dict[str, str],
    sign_in: Any,
    call: Call,
    folder: CaptureFolder,
    masker: Masker,
) -> Answer:
    for _ in range(MOST_REDIRECTS):
        begun = time.monotonic()
        with client.stream("GET", url, headers=headers, auth=sign_in) as response:
            if response.next_request is None:
                fetched_at = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
                received = folder.receive(response.iter_bytes())
                seconds = time.monotonic() - begun
                return _kept(response, received, folder, masker, call, fetched_at, seconds)
            url = _followed(url, response.next_request.url, masker)
    raise InputError("redirected", f"{masker.url(str(url))}: more than {MOST_REDIRECTS} redirects")


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
    media_type = response.headers.get("content-type", "").partition(";")[0].strip().lower() or None
    problem, finding, documents, bad = _judged(response.status_code, received)
    said = "" if problem is None else masker.text(_beginning(received))
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
        for batch in read_batches([Source(str(received.part), named=False)]):
            documents += len(batch.documents)
            findings += [bad.finding for bad in batch.bad]
    except MukretError as error:
        return f"the body can't be read: {error.message.partition(': ')[2]}", None, 0, 0
    if not documents:
        finding = findings[0] if findings else Finding("there is nothing in it")
        return f"the body is not JSON: {finding.message}", finding, 0, len(findings)
    return None, None, documents, len(findings)


def status_text(status: int) -> str:
    """`404 Not Found`."""
    try:
        return f"{status} {HTTPStatus(status).phrase}"
    except ValueError:
        return str(status)


def _beginning(received: Received) -> str:
    with open(received.part, "rb") as file:
        return file.read(4 * SAID).decode("utf-8", "replace")[:SAID].strip()


class _translated:
    """Turns what the client raises into errors of our own (at the one border to it)."""

    def __init__(self, shown: str, timeout: float) -> None:
        self.shown = shown
        self.timeout = timeout

    def __enter__(self) -> None:
        pass

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: object) -> None:
        import httpx

        if not isinstance(error, httpx.HTTPError | httpx.InvalidURL):
            return
        hint = "check the address, and whether the service is up"
        if isinstance(error, httpx.TimeoutException):
            raise InputError(
                "not-reached", f"{self.shown}: no answer within {self.timeout:g} s", hint="--timeout allows more"
            ) from None
        if isinstance(error, httpx.DecodingError):
            message = f"{self.shown}: the answer is not packed as it says ({_why(error)})"
            raise InputError("not-reached", message, hint="nothing of it was kept; try again") from None
        if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError):
            raise InputError(
                "not-reached", f"{self.shown}: the answer was cut off", hint="nothing of it was kept; try again"
            ) from None
        raise InputError("not-reached", f"{self.shown}: {_why(error)}", hint=hint) from None


def _why(error: BaseException) -> str:
    """The words of the operating system, without its numbers."""
    text = str(error) or type(error).__name__
    return text.partition("] ")[2].lower() if text.startswith("[") else text.lower()
