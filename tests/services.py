"""Services that a test makes up, on the loopback interface, and a clock that does not take its
time.
"""

from __future__ import annotations

import json
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from mukret.collect import Calls, parse_calls
from mukret.collect.manners import RealClock
from mukret.sample.service import QuietServer

FASTER = 100


class QuickClock(RealClock):
    """A clock in whose seconds little time passes."""

    def now(self) -> float:
        return time.monotonic() * FASTER

    def wait(self, seconds: float) -> None:
        super().wait(seconds / FASTER)


@dataclass(frozen=True)
class Asked:
    """A request as it came."""

    method: str
    path: str
    query: dict[str, str]
    headers: dict[str, str]
    body: str

    @property
    def json(self) -> Any:
        return json.loads(self.body)


@dataclass(frozen=True)
class Says:
    """What a service answers: a JSON value, or bytes as they are."""

    content: Any = None
    status: int = 200
    headers: Mapping[str, str] = field(default_factory=dict)


Route = Callable[[Asked], Says]


@dataclass
class Service:
    base: str
    asked: list[Asked]

    def paths(self) -> list[str]:
        """What was asked for, with the queries."""
        return [
            f"{one.path}?{'&'.join(f'{n}={v}' for n, v in one.query.items())}".rstrip(
                "?"
            )
            for one in self.asked
        ]


@contextmanager
def service(
    routes: Mapping[str, Route | Any], tls: ssl.SSLContext | None = None
) -> Iterator[Service]:
    """A service with an answer for each path: a function of the request, or what it always says."""
    asked: list[Asked] = []

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        disable_nagle_algorithm = True

        def respond(self) -> None:
            parts = urlsplit(self.path)
            body = self.rfile.read(
                int(self.headers.get("Content-Length") or 0)
            ).decode()
            headers = {name.lower(): value for name, value in self.headers.items()}
            one = Asked(
                self.command, parts.path, dict(parse_qsl(parts.query)), headers, body
            )
            asked.append(one)
            route = routes.get(parts.path, Says({"error": "nothing here"}, 404))
            found = route(one) if callable(route) else route
            says = found if isinstance(found, Says) else Says(found)
            content = (
                says.content
                if isinstance(says.content, bytes)
                else json.dumps(says.content).encode()
            )
            self.send_response(says.status)
            for name, value in {
                "Content-Type": "application/json",
                **says.headers,
            }.items():
                self.send_header(name, value)
            if says.status != 304:
                self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            if says.status != 304:
                self.wfile.write(content)

        do_GET = do_POST = respond

        def log_message(self, format: str, *args: Any) -> None:
            pass

    server = QuietServer(("127.0.0.1", 0), Handler)
    if tls is not None:
        server.socket = tls.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True)
    thread.start()
    try:
        yield Service(
            f"http{'s' if tls else ''}://127.0.0.1:{server.server_port}", asked
        )
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


def calls_of(text: str, base: str) -> Calls:
    """Calls out of a text without its head, of a service that answers quickly."""
    limits = (
        "limits: {per_second: 1000, pause: 0.01}\n" if "limits:" not in text else ""
    )
    return parse_calls(f"mukret: 1\nbase: {base}\n{limits}{text}", "x.calls.yaml")
