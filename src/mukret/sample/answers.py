"""What the sample's service has to say: lists out of the made-up feed, each kind of paging once.

Nothing is sent here: a request is a path, a query and a JSON body, an answer a JSON value with
headers.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from urllib.parse import urlencode

from mukret.sample import FEED_FOLDER, sample_files
from mukret.values import JsonValue

ROOT = "/v2"
MOST_PER_PAGE = 100


class Refused(Exception):
    """A request that can't be answered, with the status that says so."""

    def __init__(self, status: int, words: str) -> None:
        super().__init__(words)
        self.status = status


@dataclass(frozen=True)
class Said:
    """An answer. `turn`: where in it the next page is named (`cursor`, `next` …), if it is."""

    content: JsonValue
    headers: Mapping[str, str] = field(default_factory=dict)
    turn: str | None = None


Query = Mapping[str, str]


@lru_cache(maxsize=1)
def timetables() -> dict[str, bytes]:
    """The responses of the sample by day."""
    feed = {
        name: file
        for name, file in sample_files().items()
        if name.startswith(f"{FEED_FOLDER}/timetable-")
    }
    return {name[-15:-5]: file.read_bytes() for name, file in feed.items()}


def index(query: Query) -> Said:
    lists = [
        "ports",
        "sailings",
        "bookings",
        "vessels",
        "log",
        "timetable?day=2031-03-28",
        "welcome",
        "closed",
    ]
    # Also what no list of calls names, as services do: for those who look around.
    links = {name.partition("?")[0]: f"{ROOT}/{name}" for name in lists}
    return Said(
        {
            "service": "Merrow Isles timetable, simulated",
            "sign_in": f"{ROOT}/boarding",
            "links": links,
        }
    )


def ports(query: Query) -> Said:
    """By a cursor in the body."""
    page, cursor = _by_cursor(
        [_port(port) for port in _ports(query)], query.get("cursor"), query
    )
    return Said({"ports": page, "next_cursor": cursor}, turn="next_cursor")


def _port(port: Mapping[str, JsonValue]) -> dict[str, JsonValue]:
    code = port["code"]
    links = {
        # A template (RFC 6570), an address that is relative and one that is whole: each is met in
        # the wild.
        "berths": f"{ROOT}/ports/{code}/berths{{?lit}}",
        "tide": f"ports/{code}/tide",
    }
    members = {
        name: port[name]
        for name in ("code", "name", "location", "opened")
        if name in port
    }
    return members | {"sailings_url": f"{ROOT}/ports/{code}/sailings", "links": links}


def sailings_of(code: str, query: Query) -> Said:
    return Said({"port": code, "sailings": _one_port(code, query)["sailings"]})


def berths_of(code: str, query: Query) -> Said:
    berths = _one_port(code, query).get("berths") or []
    lit = query.get("lit")
    return Said(
        {
            "port": code,
            "berths": [berth for berth in berths if lit in (None, berth.get("lit"))],
        }
    )


def tide_of(code: str, query: Query) -> Said:
    return Said({"port": code, "tide": _one_port(code, query).get("tide")})


def sailings(query: Query) -> Said:
    """By number, with the total of all pages."""
    every = [
        _brief(sailing, port["code"])
        for port in _ports(query)
        for sailing in port["sailings"]
    ]
    number, size = _whole(query, "page", 1), _size(query)
    here = every[max(0, number - 1) * size : number * size]
    return Said({"page": number, "total": len(every), "sailings": here})


def _brief(sailing: Mapping[str, JsonValue], port: str) -> dict[str, JsonValue]:
    return {"port": port} | {
        name: sailing.get(name) for name in ("id", "to", "vessel", "state", "departs")
    }


def bookings(query: Query) -> Said:
    """By offset; after the last record there is a page without any."""
    every = []
    for port in _ports(query):
        for sailing in port["sailings"]:
            every += [
                {"sailing": sailing.get("id"), **booking}
                for booking in sailing.get("bookings") or []
            ]
    begin = _whole(query, "from", 0)
    # Slices end where the list ends: no error behind the last record.
    return Said({"from": begin, "bookings": every[begin : begin + _size(query)]})


def vessels(query: Query) -> Said:
    """By the header Link (RFC 8288)."""
    page, cursor = _by_cursor(_day(query)["vessels"], query.get("after"), query)
    # The last page has no link to a next one.
    if cursor is None:
        return Said(page)
    following = urlencode({**query, "after": cursor, "size": _size(query)})
    return Said(
        page,
        {
            "Link": f'<{ROOT}/vessels?{following}>; rel="next", <{ROOT}/vessels>; rel=first'
        },
        "Link",
    )


def log(query: Query) -> Said:
    """By an address in the body, relative to the one that was asked."""
    page, cursor = _by_cursor(_day(query).get("log") or [], query.get("part"), query)
    following = (
        None
        if cursor is None
        else f"log?{urlencode({**query, 'part': cursor, 'size': _size(query)})}"
    )
    return Said({"log": page, "paging": {"next": following}}, turn="next")


def graph(body: JsonValue) -> Said:
    """A query with variables (a GraphQL request over HTTP); whatever it asks for, the ports are
    what there is.
    """
    variables = body.get("variables") if isinstance(body, dict) else None
    # What it asks for is not read: this is no server of the language, only of its paging.
    if not isinstance(variables, dict) or not isinstance(body.get("query"), str):
        raise Refused(400, "a query and its variables, in JSON")
    query = {
        "size": str(variables.get("first") or 2),
        "day": str(variables.get("day") or ""),
    }
    nodes, cursor = _by_cursor(
        [_port(port) for port in _ports(query)], variables.get("after"), query
    )
    paging = {"endCursor": cursor, "hasNextPage": cursor is not None}
    return Said(
        {"data": {"ports": {"nodes": nodes, "pageInfo": paging}}}, turn="endCursor"
    )


# ---- what they share


def _day(query: Query) -> dict[str, JsonValue]:
    raw = timetables().get(query.get("day") or next(iter(timetables())))
    if raw is None:
        raise Refused(
            404, f"no timetable for that day; there are {', '.join(timetables())}"
        )
    day: dict[str, JsonValue] = json.loads(raw)
    return day


def _ports(query: Query) -> list[dict[str, JsonValue]]:
    ports: list[dict[str, JsonValue]] = _day(query)["network"]["ports"]
    return ports


def _one_port(code: str, query: Query) -> dict[str, JsonValue]:
    matching = next((port for port in _ports(query) if port["code"] == code), None)
    if matching is None:
        raise Refused(404, f"no port {code}")
    return matching


def _by_cursor(
    every: list[JsonValue], cursor: str | None, query: Query
) -> tuple[list[JsonValue], str | None]:
    """A page, and the cursor of the next one: nobody's business what is in it."""
    begin = 0
    if cursor:
        try:
            begin = int(base64.urlsafe_b64decode(cursor).decode().removeprefix("from-"))
        except ValueError:
            raise Refused(400, "that cursor is none of ours") from None
    end = begin + _size(query)
    following = (
        # Made unreadable, so that nobody reckons with what is in it.
        base64.urlsafe_b64encode(f"from-{end}".encode()).decode()
        if end < len(every)
        else None
    )
    return every[begin:end], following


def _size(query: Query) -> int:
    return max(1, min(MOST_PER_PAGE, _whole(query, "size", MOST_PER_PAGE)))


def _whole(query: Query, name: str, default: int) -> int:
    text = query.get(name)
    if text is None:
        return default
    if not text.isdecimal():
        raise Refused(400, f"{name} is a number")
    return int(text)
