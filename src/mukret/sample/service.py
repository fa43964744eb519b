"""The service behind the sample feed, simulated by the standard library's server, on the loopback
interface alone.

Its user, password and pass are made up and printed by whoever starts it: they protect nothing.
"""

from __future__ import annotations

import base64
import hashlib
import html
import json
import secrets
import sys
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from http.client import HTTPConnection, HTTPException
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread
from typing import Any
from urllib.parse import parse_qs, urlsplit

from mukret.codes import Code
from mukret.errors import OutputError
from mukret.sample import answers
from mukret.sample.answers import ROOT, Refused, Said, timetables
from mukret.sample.faults import Fault, Faults
from mukret.values import JsonValue

# `TOKEN` is a pass that stays good; the others come from /boarding and run out.
USER, PASSWORD, TOKEN = "deckhand", "salt-and-rope", "gangway-7"
WELCOME = (
    "<!DOCTYPE html>\n<html><head><title>Merrow Isles Ferries</title></head><body>Welcome "
    "aboard.</body></html>\n"
)
CLOSED = "<html><body>The timetable is being repainted. Come back at high water.</body></html>\n"
LARGEST_REQUEST = 100_000
# How often a server looks whether it is to end.
POLL_SECONDS = 0.05
PIECES = 8
PIECE_SECONDS = 0.02

_OPEN: dict[str, Callable[[answers.Query], Said]] = {
    "": answers.index,
    "sailings": answers.sailings,
    "vessels": answers.vessels,
    "log": answers.log,
}
_SIGNED: dict[str, Callable[[answers.Query], Said]] = {
    "ports": answers.ports,
    "bookings": answers.bookings,
}
_OF_PORT: dict[str, Callable[[str, answers.Query], Said]] = {
    "sailings": answers.sailings_of,
    "berths": answers.berths_of,
    "tide": answers.tide_of,
}


class QuietServer(ThreadingHTTPServer):
    """A server that says nothing of clients that went away."""

    daemon_threads = True

    def handle_error(self, request: Any, client_address: Any) -> None:
        if not isinstance(sys.exception(), ConnectionError):
            super().handle_error(request, client_address)


class StandIn:
    """The service on a port of 127.0.0.1; 0 takes a free one.

    Raises OutputError if the port is taken.
    """

    def __init__(
        self,
        port: int = 0,
        *,
        faults: Faults | None = None,
        per_second: float | None = None,
        pass_seconds: int = 3600,
    ) -> None:
        """`per_second`: beyond so many requests it answers 429; `pass_seconds`: for how long a pass
        is good.
        """
        try:
            self.server = QuietServer(("127.0.0.1", port), _Handler)
        except OSError as error:
            message = f"port {port}: {(error.strerror or str(error)).lower()}"
            raise OutputError(
                Code.PORT_TAKEN, message, hint="--port 0 takes a free one"
            ) from None
        self.server.state = _State(faults or Faults(), per_second, pass_seconds)  # type: ignore[attr-defined]
        self.base = f"http://127.0.0.1:{self.server.server_port}{ROOT}"

    def serve(self, say: Callable[[str], object] = lambda line: None) -> None:
        """Answers until it is interrupted; `say` gets a line per request, without headers."""
        self.server.state.say = say  # type: ignore[attr-defined]
        try:
            self.server.serve_forever(POLL_SECONDS)
        finally:
            self.server.server_close()


@contextmanager
def standing_in(port: int = 0, **options: Any) -> Iterator[str]:
    """The service in a thread, on a free port if none is named; gives its base address."""
    service = StandIn(port, **options)
    thread = Thread(target=service.serve, daemon=True)
    thread.start()
    try:
        yield service.base
    finally:
        service.server.shutdown()
        thread.join()


def is_standing_in(port: int) -> bool:
    """Whether the sample's service runs on this port already."""
    connection = HTTPConnection("127.0.0.1", port, timeout=2)
    try:
        connection.request("GET", f"{ROOT}/")
        return (
            connection.getresponse().getheader("Server", "").strip()
            == _Handler.server_version
        )
    # Nothing listens there, or something else than a web server.
    except (OSError, HTTPException):
        return False
    finally:
        connection.close()


class _State:
    """What all requests share: passes, faults, and how many came lately."""

    def __init__(
        self, faults: Faults, per_second: float | None, pass_seconds: int
    ) -> None:
        self.faults = faults
        self.per_second = per_second
        self.pass_seconds = pass_seconds
        self.say: Callable[[str], object] = lambda line: None
        self.lock = threading.Lock()
        self.passes: dict[str, float] = {}
        self.allowance = per_second or 0.0
        self.counted_at = time.monotonic()

    def new_pass(self) -> str:
        token = f"gangway-{secrets.token_urlsafe(12)}"
        with self.lock:
            self.passes[token] = time.monotonic() + self.pass_seconds
        return token

    def is_good(self, token: str) -> bool:
        with self.lock:
            return token == TOKEN or self.passes.get(token, 0) > time.monotonic()

    def forget(self, token: str) -> None:
        with self.lock:
            self.passes.pop(token, None)

    def too_many(self) -> bool:
        """Whether more requests come than are allowed; a second's worth may come at once."""
        if self.per_second is None:
            return False
        with self.lock:
            now = time.monotonic()
            # A bucket that fills with time: nothing has to be kept of single requests.
            self.allowance = min(
                self.per_second,
                self.allowance + (now - self.counted_at) * self.per_second,
            )
            self.counted_at = now
            if self.allowance < 1:
                return True
            self.allowance -= 1
            return False


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    server_version = "merrow"
    sys_version = ""

    @property
    def state(self) -> _State:
        state: _State = self.server.state  # type: ignore[attr-defined]
        return state

    def do_GET(self) -> None:
        self.respond(None)

    def do_POST(self) -> None:
        length = int(self.headers.get("Content-Length") or 0)
        raw = self.rfile.read(min(length, LARGEST_REQUEST))
        try:
            body = json.loads(raw)
        except ValueError:
            body = None
        self.respond(body)

    def respond(self, body: JsonValue) -> None:
        parts = urlsplit(self.path)
        # Of a name that comes twice the last counts, as in most frameworks.
        query = {name: values[-1] for name, values in parse_qs(parts.query).items()}
        path = parts.path
        if not path.startswith(ROOT):
            self.problem(404, "nothing here: begin at /v2")
            return
        steps = path.removeprefix(ROOT).strip("/").split("/")
        if self.state.too_many():
            self.problem(429, "not so fast", {"Retry-After": "1"})
            return
        try:
            self.route(steps, query, body)
        except Refused as refused:
            self.problem(refused.status, str(refused))

    def route(self, steps: list[str], query: answers.Query, body: JsonValue) -> None:
        match self.command, steps:
            case "POST", ["boarding"]:
                self.boarding(body)
            case "POST", ["graph"]:
                self.answer(lambda: answers.graph(body), signed=True)
            case "POST", _:
                raise Refused(404, "only /v2/boarding and /v2/graph take a POST")
            case _, ["timetable"]:
                self.timetable(query)
            case _, ["welcome"]:
                self.send(200, "text/html; charset=utf-8", WELCOME.encode())
            # A service that is away for an hour, to see how a collection gives up.
            case _, ["closed"]:
                self.send(503, "text/html", CLOSED.encode(), {"Retry-After": "3600"})
            case _, [name] if name in _OPEN:
                self.answer(lambda: _OPEN[name](query))
            case _, [name] if name in _SIGNED:
                self.answer(lambda: _SIGNED[name](query), signed=True)
            case _, ["ports", code, name] if name in _OF_PORT:
                self.answer(lambda: _OF_PORT[name](code, query), signed=True)
            case _:
                raise Refused(404, f"no such address: {self.path.partition('?')[0]}")

    # ---- sign-in

    def boarding(self, body: JsonValue) -> None:
        if self.faulty(self.state.faults.draw([Fault.BUSY, Fault.BROKEN]), b"", {}):
            return
        # One message for both, so that nobody learns which of them was right.
        if not isinstance(body, dict) or (body.get("user"), body.get("password")) != (
            USER,
            PASSWORD,
        ):
            raise Refused(403, "user and password are not known here")
        minutes = max(1, self.state.pass_seconds // 60)
        content = {"gangway": {"pass": self.state.new_pass(), "minutes": minutes}}
        self.send(200, "application/json", json.dumps(content).encode())

    def signed_in(self) -> bool:
        kind, _, given = self.headers.get("Authorization", "").partition(" ")
        basic = base64.b64encode(f"{USER}:{PASSWORD}".encode()).decode()
        return (kind == "Bearer" and self.state.is_good(given)) or (kind, given) == (
            "Basic",
            basic,
        )

    # ---- answers

    def timetable(self, query: answers.Query) -> None:
        day = query.get("day", next(iter(timetables())))
        if day not in timetables():
            raise Refused(
                404, f"no timetable for that day; there are {', '.join(timetables())}"
            )
        self.data(timetables()[day], {})

    def answer(self, said: Callable[[], Said], *, signed: bool = False) -> None:
        if signed and not self.signed_in():
            self.problem(
                401,
                "sign in first: a pass comes from /v2/boarding",
                {"WWW-Authenticate": "Bearer"},
            )
            return
        answer = said()
        possible = [Fault.BUSY, Fault.BROKEN, Fault.CUT, Fault.SLOW, Fault.PAGE]
        # Only faults that can happen to this answer: each one that is drawn is seen.
        possible += [Fault.TOKEN] if signed else []
        possible += (
            [Fault.CURSOR] if answer.turn is not None and self.turn_here() else []
        )
        fault = self.state.faults.draw(possible)
        if fault is Fault.CURSOR:
            answer = self.turned_back(answer)
        body = json.dumps(answer.content, ensure_ascii=False).encode()
        if not self.faulty(fault, body, answer.headers):
            self.data(body, answer.headers)

    def data(self, body: bytes, headers: Mapping[str, str]) -> None:
        """Sends data, unless the client has it (RFC 9110, section 13)."""
        tag = f'"{hashlib.sha256(body).hexdigest()[:16]}"'
        if self.headers.get("If-None-Match") == tag:
            self.send(304, "application/json", b"", {"ETag": tag, **headers})
            return
        self.send(200, "application/json", body, {"ETag": tag, **headers})

    # ---- faults

    def turn_here(self) -> str | None:
        """The cursor with which this page was asked for."""
        query = parse_qs(urlsplit(self.path).query)
        return next(
            (query[name][-1] for name in ("cursor", "after", "part") if name in query),
            None,
        )

    def turned_back(self, said: Said) -> Said:
        """An answer that names its own page as the next one."""
        # Where the next page is named hangs on the way of paging.
        if said.turn == "Link":
            return Said(said.content, {"Link": f'<{self.path}>; rel="next"'}, said.turn)
        if said.turn == "next":
            return Said(
                {**said.content, "paging": {"next": self.path}}, said.headers, said.turn
            )
        return Said(
            {**said.content, "next_cursor": self.turn_here()}, said.headers, said.turn
        )

    def faulty(
        self, fault: Fault | None, body: bytes, headers: Mapping[str, str]
    ) -> bool:
        """Whether a fault took the place of the answer."""
        usual = {
            "Content-Type": "application/json",
            "Content-Length": str(len(body)),
            **headers,
        }
        match fault:
            case Fault.BUSY:
                self.problem(
                    429, "too busy", {"Retry-After": str(self.state.faults.wait)}
                )
            case Fault.BROKEN:
                self.problem(500, "a rope broke")
            # It repeats all headers, as bad error pages do, to see that no secret is kept of it.
            case Fault.PAGE:
                sent = "".join(
                    f"<li>{html.escape(f'{name}: {value}')}</li>"
                    for name, value in self.headers.items()
                )
                page = (
                    "<html><body><h1>Out of "
                    f"order</h1><ul>{sent}</ul>{html.escape(self.path)}</body></html>"
                )
                self.send(200, "text/html", page.encode())
            case Fault.TOKEN:
                self.state.forget(
                    self.headers.get("Authorization", "").partition(" ")[2]
                )
                self.problem(
                    401, "that pass is no longer good", {"WWW-Authenticate": "Bearer"}
                )
            # The length is that of the whole body: the client can tell that some is missing.
            case Fault.CUT:
                self.begin(200, usual)
                self.wfile.write(body[: len(body) // 2])
                self.close_connection = True
            case Fault.SLOW:
                self.begin(200, usual)
                step = max(1, len(body) // PIECES)
                for at in range(0, len(body), step):
                    self.wfile.write(body[at : at + step])
                    time.sleep(PIECE_SECONDS)
            case _:
                return False
        return True

    # ---- how it is sent

    def problem(
        self, status: int, words: str, headers: Mapping[str, str] | None = None
    ) -> None:
        """A problem in the form of RFC 9457."""
        body = json.dumps({"status": status, "detail": words}).encode()
        self.send(status, "application/problem+json", body, headers)

    def send(
        self,
        status: int,
        media_type: str,
        body: bytes,
        headers: Mapping[str, str] | None = None,
    ) -> None:
        length = {} if status == 304 else {"Content-Length": str(len(body))}
        self.begin(status, {"Content-Type": media_type, **length, **(headers or {})})
        self.wfile.write(body)

    def begin(self, status: int, headers: Mapping[str, str]) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:
        path = self.path.partition("?")[0]
        status = args[1] if len(args) > 1 else ""
        self.state.say(f"{self.command} {path} {status}".rstrip())
