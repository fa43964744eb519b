"""The service behind the sample feed, simulated by the standard library's server, on the loopback interface alone.

Its user, password and token are made up and printed by whoever starts it: they protect nothing.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import lru_cache
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread
from typing import Any
from urllib.parse import parse_qs, urlsplit

from mukret.errors import OutputError
from mukret.sample import FEED_FOLDER, sample_files

USER, PASSWORD, TOKEN = "deckhand", "salt-and-rope", "gangway-7"
ROOT = "/v2"
WELCOME = "<!DOCTYPE html>\n<html><head><title>Merrow Isles Ferries</title></head><body>Welcome aboard.</body></html>\n"
CLOSED = "<html><body>The timetable is being repainted. Come back at high water.</body></html>\n"
LARGEST_REQUEST = 10_000


class StandIn:
    """The service on a port of 127.0.0.1; 0 takes a free one. Raises OutputError if the port is taken."""

    def __init__(self, port: int = 0) -> None:
        try:
            self.server = ThreadingHTTPServer(("127.0.0.1", port), _Handler)
        except OSError as error:
            message = f"port {port}: {(error.strerror or str(error)).lower()}"
            raise OutputError("not-written", message, hint="--port 0 takes a free one") from None
        self.server.daemon_threads = True
        self.base = f"http://127.0.0.1:{self.server.server_port}{ROOT}"

    def serve(self, say: Callable[[str], object] = lambda line: None) -> None:
        """Answers until it is interrupted; `say` gets a line per request, without headers."""
        _Handler.say = staticmethod(say)
        try:
            self.server.serve_forever()
        finally:
            self.server.server_close()


@contextmanager
def standing_in() -> Iterator[str]:
    """The service in a thread, on a free port; gives its base address."""
    service = StandIn()
    thread = Thread(target=service.serve, daemon=True)
    thread.start()
    try:
        yield service.base
    finally:
        service.server.shutdown()
        thread.join()


@lru_cache(maxsize=1)
def timetables() -> dict[str, bytes]:
    """The responses of the sample by day."""
    feed = {name: file for name, file in sample_files().items() if name.startswith(f"{FEED_FOLDER}/timetable-")}
    return {name[-15:-5]: file.read_bytes() for name, file in feed.items()}


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    server_version = "merrow"
    sys_version = ""
    say: Callable[[str], object] = staticmethod(lambda line: None)

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        query = {name: values[-1] for name, values in parse_qs(parts.query).items()}
        steps = parts.path.removeprefix(ROOT).strip("/").split("/")
        if not parts.path.startswith(ROOT):
            self.problem(404, "nothing here: begin at /v2")
            return
        match steps:
            case [""]:
                self.index()
            case ["timetable"]:
                self.timetable(query)
            case ["welcome"]:
                self.send(200, "text/html; charset=utf-8", WELCOME.encode())
            case ["closed"]:
                self.send(503, "text/html", CLOSED.encode(), {"Retry-After": "3600"})
            case ["ports"]:
                self.signed_in(lambda: self.ports(query))
            case ["ports", code, "sailings"]:
                self.signed_in(lambda: self.sailings(code, query))
            case _:
                self.problem(404, f"no such address: {parts.path}")

    def do_POST(self) -> None:
        length = int(self.headers.get("Content-Length") or 0)
        body = self.rfile.read(min(length, LARGEST_REQUEST))
        if urlsplit(self.path).path != f"{ROOT}/boarding":
            self.problem(404, "only /v2/boarding takes a POST")
            return
        try:
            given = json.loads(body)
        except ValueError:
            given = None
        if isinstance(given, dict) and (given.get("user"), given.get("password")) == (USER, PASSWORD):
            self.answer({"gangway": {"pass": TOKEN, "minutes": 60}})
        else:
            self.problem(403, "user and password are not known here")

    # ---- what there is

    def index(self) -> None:
        addresses = ["/timetable?day=2031-03-28", "/ports", "/ports/OTV/sailings", "/boarding", "/welcome", "/closed"]
        self.answer({"service": "Merrow Isles timetable, simulated", "addresses": [ROOT + end for end in addresses]})

    def timetable(self, query: dict[str, str]) -> None:
        day = query.get("day", next(iter(timetables())))
        if day in timetables():
            self.send(200, "application/json", timetables()[day])
        else:
            self.problem(404, f"no timetable for that day; there are {', '.join(timetables())}")

    def ports(self, query: dict[str, str]) -> None:
        ports = self.of_day(query)
        if ports is None:
            return
        try:
            start, size = int(query.get("cursor", 0)), int(query.get("size", 100))
        except ValueError:
            self.problem(400, "cursor and size are numbers")
            return
        page = [{name: port[name] for name in ("code", "name", "location")} for port in ports[start : start + size]]
        following = start + size if start + size < len(ports) else None
        self.answer({"ports": page, "next_cursor": None if following is None else str(following)})

    def sailings(self, code: str, query: dict[str, str]) -> None:
        ports = self.of_day(query)
        if ports is None:
            return
        port = next((port for port in ports if port["code"] == code), None)
        if port is None:
            self.problem(404, f"no port {code}")
        else:
            self.answer({"port": code, "sailings": port["sailings"]})

    def of_day(self, query: dict[str, str]) -> list[dict[str, Any]] | None:
        raw = timetables().get(query.get("day", next(iter(timetables()))))
        if raw is None:
            self.problem(404, "no such day")
            return None
        ports: list[dict[str, Any]] = json.loads(raw)["network"]["ports"]
        return ports

    # ---- how it is sent

    def signed_in(self, then: Callable[[], None]) -> None:
        kind, _, given = self.headers.get("Authorization", "").partition(" ")
        basic = base64.b64encode(f"{USER}:{PASSWORD}".encode()).decode()
        if (kind, given) in (("Bearer", TOKEN), ("Basic", basic)):
            then()
        else:
            self.problem(401, "sign in first: a pass comes from /v2/boarding", {"WWW-Authenticate": "Bearer"})

    def answer(self, content: Any) -> None:
        self.send(200, "application/json", json.dumps(content, ensure_ascii=False).encode())

    def problem(self, status: int, words: str, headers: dict[str, str] | None = None) -> None:
        """A problem in the form of RFC 9457."""
        body = json.dumps({"status": status, "detail": words}).encode()
        self.send(status, "application/problem+json", body, headers)

    def send(self, status: int, media_type: str, body: bytes, headers: dict[str, str] | None = None) -> None:
        self.send_response(status)
        for name, value in {"Content-Type": media_type, "Content-Length": str(len(body)), **(headers or {})}.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        self.say(f"{self.command} {self.path.partition('?')[0]} {args[1] if len(args) > 1 else ''}".rstrip())
