"""Whole services: every kind of page, what hangs on answers, sign-ins, rounds, and manners, against
real servers.
"""

from __future__ import annotations

import base64
import itertools
import json
import ssl
import threading
import unittest
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from typing import Any
from unittest import mock

from mukret.collect import Answer, Bounds, CaptureFolder, Collection, Manner, load_calls
from mukret.collect.fetching import Waiting, Watcher
from mukret.documents import find_sources, read_batches
from mukret.errors import InputError, MukretError
from tests.helpers import FolderCase
from tests.services import Asked, QuickClock, Says, calls_of, service

SECRETS = {
    "FERRY_USER": "deckhand",
    "FERRY_PASSWORD": "salt-and-rope",
    "FERRY_KEY": "tell/no=one",
}
NUMBERS = list(range(7))


class Noting(Watcher):
    """Keeps what it is told."""

    def __init__(self) -> None:
        self.pauses: list[Waiting] = []

    def waiting(self, pause: Waiting) -> None:
        self.pauses.append(pause)


class ServiceCase(FolderCase):
    def collect(
        self, text: str, base: str, **manner: Any
    ) -> tuple[list[Answer], Collection]:
        """What comes of calls written without their head."""
        self.watcher = Noting()
        collection = Collection(
            calls_of(text, base),
            CaptureFolder(str(self.folder / "kept")),
            bounds=Bounds(silence=5),
            environment=SECRETS,
            manner=Manner("x", **manner),
            watcher=self.watcher,
            clock=QuickClock(),
        )
        return list(collection), collection

    def kept(self, *, newest: bool = False) -> list[Any]:
        """The documents that a command would read."""
        sources = find_sources([self.folder / "kept"], newest=newest)
        return [
            document for batch in read_batches(sources) for document in batch.documents
        ]

    def lines(self) -> list[dict[str, Any]]:
        text = (self.folder / "kept/capture.jsonl").read_text(encoding="utf-8")
        return [json.loads(line) for line in text.splitlines()]


def _next_of(answers: Iterator[Says], asked: Asked) -> Says:
    return next(answers)


def by_cursor(asked: Asked) -> Says:
    begin = int(asked.query.get("cursor", 0))
    following = begin + 3 if begin + 3 < len(NUMBERS) else None
    return Says(
        {
            "rows": NUMBERS[begin : begin + 3],
            "paging": {"next": following},
            "total": len(NUMBERS),
        }
    )


def by_lines(asked: Asked) -> Says:
    begin = int(asked.query["from"])
    lines = "".join(f'{{"n": {number}}}\n' for number in NUMBERS[begin : begin + 3])
    return Says(lines.encode(), headers={"Content-Type": "application/x-ndjson"})


def by_number(asked: Asked) -> Says:
    page = int(asked.query["page"])
    return Says(
        {"rows": NUMBERS[(page - 1) * 3 : page * 3], "total": len(NUMBERS), "pages": 3}
    )


def by_offset(asked: Asked) -> Says:
    begin = int(asked.query["from"])
    return Says(NUMBERS[begin : begin + 3])


def by_link(asked: Asked) -> Says:
    begin = int(asked.query.get("from", 0))
    more = begin + 3 < len(NUMBERS)
    link = (
        f'</linked?from={begin + 3}&key=tell%2Fno%3Done>; rel="next"'
        if more
        else '</linked>; rel="first"'
    )
    return Says({"rows": NUMBERS[begin : begin + 3]}, headers={"Link": link})


def by_address(asked: Asked) -> Says:
    begin = int(asked.query.get("from", 0))
    following = f"?from={begin + 3}" if begin + 3 < len(NUMBERS) else ""
    return Says({"rows": NUMBERS[begin : begin + 3], "next": following})


def by_header(asked: Asked) -> Says:
    begin = int(asked.headers.get("x-cursor", 0))
    following = {"X-Next": str(begin + 3)} if begin + 3 < len(NUMBERS) else {}
    return Says({"rows": NUMBERS[begin : begin + 3]}, headers=following)


def by_graph(asked: Asked) -> Says:
    variables = asked.json["variables"]
    begin = int(variables["after"] or 0)
    info = {"hasNextPage": begin + 3 < len(NUMBERS), "endCursor": str(begin + 3)}
    return Says(
        {
            "data": {
                "rows": NUMBERS[begin : begin + 3],
                "pageInfo": info,
                "echo": variables["day"],
            }
        }
    )


PAGED: dict[str, tuple[str, Callable[[Asked], Says], int, str]] = {
    # what the call says, the service, requests, how the last page was recognised
    "cursor": (
        'get: /cursor, pages: {cursor: "$.paging.next", as: cursor}',
        by_cursor,
        3,
        "no-cursor",
    ),
    "number with a total": (
        'get: /n, pages: {number: page, total: "$.total"}',
        by_number,
        3,
        "total",
    ),
    "number of pages": (
        'get: /n, pages: {number: page, list: "$.rows", pages: "$.pages"}',
        by_number,
        3,
        "total",
    ),
    "number until nothing comes": (
        'get: /n, pages: {number: page, list: "$.rows[*]"}',
        by_number,
        4,
        "no-records",
    ),
    "offset": ("get: /o, pages: {offset: from}", by_offset, 4, "no-records"),
    "lines": ("get: /lines, pages: {offset: from}", by_lines, 4, "nothing"),
    "link": (
        "get: /linked, query: {key: {secret: FERRY_KEY}}, pages: {link: next}",
        by_link,
        3,
        "no-link",
    ),
    "address": ('get: /address, pages: {url: "$.next"}', by_address, 3, "no-address"),
    "header": (
        "get: /header, pages: {cursor: {header: X-Next}, as: {header: X-Cursor}}",
        by_header,
        3,
        "no-cursor",
    ),
    "graph": (
        'post: /graph, json: {query: "{ rows }", variables: {after: null, day: "{day}"}}, '
        'pages: {cursor: "$.data.pageInfo.endCursor", as: "$.variables.after", more: "$.data.pageInfo.hasNextPage"}',
        by_graph,
        3,
        "no-more",
    ),
}


class Pages(ServiceCase):
    def test_every_kind_of_pages_is_gone_through_to_its_end_and_on_from_the_middle(
        self,
    ) -> None:
        for name, (call, route, requests, last) in PAGED.items():
            for stop_after in (None, 1, 2):
                with self.subTest(name, stop_after=stop_after):
                    self.setUp()
                    path = "/" + call.partition("/")[2].partition(",")[0]
                    text = f"with: {{day: '2031-03-28'}}\ncalls: {{rows: {{{call}}}}}"
                    with service({path: route}) as served:
                        if stop_after:
                            self.interrupted(text, served.base, stop_after)
                        _, collection = self.collect(text, served.base)
                        self.assertEqual(
                            len(served.asked),
                            requests,
                            "nothing that is kept is asked for again",
                        )
                    rows = [number for page in self.kept() for number in rows_of(page)]
                    self.assertEqual(rows, NUMBERS)
                    self.assertEqual(
                        [line.get("last") for line in self.lines()],
                        [None] * (requests - 1) + [last],
                    )
                    self.assertEqual(
                        [line["page"] for line in self.lines()],
                        list(range(1, requests + 1)),
                    )
                    self.assertFalse(collection.report.findings)
                    told = json.dumps(self.lines())
                    self.assertNotIn("tell", told)

    def interrupted(self, text: str, base: str, answers: int) -> None:
        """A collection that ends after so many answers."""
        collection = Collection(
            calls_of(text, base),
            CaptureFolder(str(self.folder / "kept")),
            environment=SECRETS,
            manner=Manner("x"),
        )
        running = iter(collection)
        for _ in range(answers):
            next(running)
        running.close()  # type: ignore[attr-defined]  # it is a generator

    def test_a_list_that_does_not_come_to_its_end_says_why_and_keeps_what_came(
        self,
    ) -> None:
        again = {"rows": [1], "next": "a"}
        cases: list[tuple[str, Any, str, int]] = [
            ('cursor: "$.next", as: cursor', again, "page-repeated", 2),
            ('cursor: "$.next", as: cursor', {"next": {"a": 1}}, "cursor-kind", 1),
            (
                'cursor: "$.next", as: cursor, more: "$.more"',
                {"more": True},
                "cursor-missing",
                1,
            ),
            ('url: "$.next"', {"next": 5}, "not-an-address", 1),
            ('url: "$.next"', {"next": "http://[x"}, "not-an-address", 1),
            ('url: "$.next"', {"next": "http://me:pw@127.0.0.1/"}, "not-an-address", 1),
            ('url: "$.next"', {"next": "https://elsewhere.example/a"}, "elsewhere", 1),
            (
                "link: next",
                Says({}, headers={"Link": '<//elsewhere.example/a>; rel="next"'}),
                "elsewhere",
                1,
            ),
            ("number: page", {"a": [1], "b": [2]}, "no-list", 1),
            ("number: page", {"rows": [1]}, "page-same", 2),
            ("offset: from", {"rows": {}}, "no-list", 1),
            ('offset: from, list: "$.rose"', {"rows": [1]}, "no-list", 1),
        ]
        for pages, content, fault, kept in cases:
            with self.subTest(fault, pages=pages), service({"/a": content}) as served:
                self.setUp()
                _, collection = self.collect(
                    f"calls: {{a: {{get: /a, pages: {{{pages}}}}}}}", served.base
                )
                report = collection.report.calls["a"]
                self.assertEqual(
                    (dict(report.faults), report.pages), ({fault: 1}, kept)
                )
                self.assertTrue(collection.report.findings)
        counted = itertools.count(1)
        with service({"/a": lambda asked: Says({"next": next(counted)})}) as served:
            self.setUp()
            limits = "limits: {pages: 4, per_second: 1000}\n"
            text = f'{limits}calls: {{a: {{get: /a, pages: {{cursor: "$.next", as: cursor}}}}}}'
            _, collection = self.collect(text, served.base)
            self.assertEqual(
                dict(collection.report.calls["a"].faults), {"page-limit": 1}
            )
            self.assertEqual(len(served.asked), 4)

    def test_a_path_that_is_wrong_and_a_total_that_is_not_reached_are_told(
        self,
    ) -> None:
        with service(
            {"/a": {"rows": [1, 2], "next_cursor": "b", "total": 9}}
        ) as served:
            _, collection = self.collect(
                'calls: {a: {get: /a, pages: {cursor: "$.next_curser", as: cursor}}}',
                served.base,
            )
            [doubt] = collection.report.calls["a"].doubts
            self.assertEqual(doubt.meant, "$.next_cursor")
        with service(
            {
                "/a": lambda asked: Says(
                    {"rows": [1, 2] if asked.query["page"] == "1" else [], "total": 9}
                )
            }
        ) as s:
            self.setUp()
            _, collection = self.collect(
                'calls: {a: {get: /a, pages: {number: page, total: "$.total"}}}', s.base
            )
            [(last, _)] = collection.report.calls["a"].short
            self.assertEqual((last.count, last.stated, last.short_of), (2, 9, 7))

    def test_a_page_may_be_told_in_the_address_and_constants_too(self) -> None:
        routes = {
            f"/v2/2031-03-28/{number}": {"rows": [number], "pages": 3}
            for number in (1, 2, 3)
        }
        text = """
with: {day: "2031-03-28", unused: 1}
calls: {a: {get: "/{day}/{page}", pages: {number: page, pages: "$.pages", list: "$.rows"}}}
"""
        with service(routes) as served:
            self.collect(text, f"{served.base}/v2")
            self.assertEqual(served.paths(), list(routes))
        self.assertEqual(
            [line["variables"] for line in self.lines()], [{"day": "2031-03-28"}] * 3
        )

    def test_an_empty_answer_after_the_last_page_is_the_end(self) -> None:
        def route(asked: Asked) -> Says:
            return Says([1]) if asked.query["page"] == "1" else Says(b"", 204)

        with service({"/a": route}) as served:
            answers, collection = self.collect(
                "calls: {a: {get: /a, pages: {number: page}}}", served.base
            )
            self.assertFalse(collection.report.findings)
            self.assertEqual(self.kept(newest=True), [[1]])
            self.assertEqual(answers[1].record()["last"], "nothing")


def rows_of(page: Any) -> list[int]:
    if isinstance(page, dict) and "n" in page:
        return [page["n"]]
    rows = page if isinstance(page, list) else page.get("data", page)["rows"]
    return list(rows)


PORTS = {
    "ports": [
        {"code": "OTV", "links": {"b": "berths/1"}},
        {"code": "SKR/2", "links": {"b": "/v2/berths/2{?lit}"}},
    ]
}


class Following(ServiceCase):
    def test_calls_hang_on_each_other_to_any_depth_and_each_address_is_asked_once(
        self,
    ) -> None:
        routes = {
            "/ports": PORTS,
            "/ports/OTV/sailings": {"sailings": [{"no": 1}, {"no": 2}, {"no": 1}]},
            "/ports/SKR%2F2/sailings": {"sailings": []},
            "/sailings/1": {"fares": [{"id": 9}]},
            "/sailings/2": {"fares": [{"id": 9}, {"id": None}, {"id": [8]}, {}]},
            "/fares/9": {"of": "9"},
        }
        text = """
calls:
  ports: {get: /ports}
  sailings: {get: "/ports/{code}/sailings", once_per: {call: ports, with: {code: "$.ports[*].code"}}}
  sailing: {get: "/sailings/{no}", once_per: {call: sailings, with: {no: "$.sailings[*].no"}}}
  fares: {get: "/fares/{fare}", once_per: {call: sailing, rows: "$.fares[*]", with: {fare: "$.id"}}}
"""
        with service(routes) as served:
            _, collection = self.collect(text, served.base)
            self.assertEqual(served.paths(), list(routes))
        lines = self.lines()
        self.assertEqual(lines[3]["variables"], {"code": "OTV", "no": 1})
        self.assertEqual(lines[-1]["variables"], {"code": "OTV", "no": 1, "fare": 9})
        report = collection.report.calls["fares"]
        self.assertEqual(
            dict(report.not_asked),
            {("missing", "fare"): 2, ("not-text", "fare: [8]"): 1},
        )
        self.assertEqual(
            (report.asked_before, collection.report.calls["sailing"].asked_before),
            (1, 1),
        )

    def test_addresses_in_answers_are_resolved_filled_and_asked_at_home_alone(
        self,
    ) -> None:
        with service({"/x": {"of": "elsewhere"}}) as other:
            ports = [
                *PORTS["ports"],
                {"links": {"b": "/v2/berths/{no}"}},
                {"links": {"b": f"{other.base}/x"}},
                {"links": {"b": "javascript:alert(1)"}},
                {"links": {"b": "http://me:pw@127.0.0.1/"}},
            ]
            routes: Mapping[str, Any] = {
                "/v2/ports": {"ports": ports},
                "/v2/berths/1": {"berth": 1},
                "/v2/berths/2": {"berth": 2},
            }
            text = """
sign_in: {basic: {user: {secret: FERRY_USER}, password: {secret: FERRY_PASSWORD}}}
headers: {X-Key: {secret: FERRY_KEY}}
query: {key: {secret: FERRY_KEY}}
calls: {ports: {get: /ports}, berths: {url: "$.links.b", once_per: {call: ports, rows: "$.ports[*]"}}}
"""
            with service(routes) as served:
                _, collection = self.collect(text, f"{served.base}/v2")
                self.assertEqual([one.path for one in served.asked], list(routes))
                self.assertTrue(
                    all(
                        one.query["key"] == SECRETS["FERRY_KEY"] for one in served.asked
                    )
                )
                whys = [why for why, _ in collection.report.calls["berths"].not_asked]
                self.assertEqual(
                    sorted(whys),
                    ["elsewhere", "not-an-address", "not-an-address", "not-filled"],
                )
                self.assertEqual(other.asked, [])
                self.setUp()
                self.collect(f"origins: ['{other.base}']\n{text}", f"{served.base}/v2")
            [one] = other.asked
            self.assertNotIn("authorization", one.headers)
            self.assertNotIn("x-key", one.headers)
            self.assertEqual(one.query, {})

    def test_what_is_made_of_a_secret_stays_at_home_too(self) -> None:
        """In a query or header by way of a variable, and in a body whose next page is said to lie
        elsewhere.
        """
        with service({"/x": {"x": 1}, "/y": {"rows": [], "next": None}}) as other:
            routes: Mapping[str, Any] = {
                "/in": {"pass": "gangway-pass"},
                "/a": {"next": f"{other.base}/x?k=1", "code": "OTV"},
                "/b": {"next": f"{other.base}/y"},
            }
            text = f"""
with: {{hush: {{secret: FERRY_KEY}}}}
sign_in: {{get: /in, keep: {{token: "$.pass"}}}}
query: {{k: "{{hush}}", t: "{{token}}"}}
headers: {{X-T: "t {{token}}"}}
calls:
  a: {{get: /a}}
  x: {{url: "$.next", once_per: {{call: a, rows: $, with: {{code: "$.code"}}}}, query: {{port: "{{code}}"}}}}
  b: {{post: /b, json: {{token: "{{token}}", key: {{secret: FERRY_KEY}}}}, pages: {{url: "$.next"}}}}
origins: ['{other.base}']
"""
            with service(routes) as served:
                _, collection = self.collect(text, served.base)
            [one] = other.asked
            self.assertEqual((one.query, one.body), ({"k": "1", "port": "OTV"}, ""))
            self.assertNotIn("x-t", one.headers)
            self.assertEqual(
                served.asked[1].query, {"k": SECRETS["FERRY_KEY"], "t": "gangway-pass"}
            )
            self.assertEqual(
                dict(collection.report.calls["b"].faults), {"elsewhere": 1}
            )

    def test_a_value_of_a_response_never_leads_out_of_its_folder(self) -> None:
        with service(
            {"/v2/ports": {"ports": ["..", ".", "%2e%2e", "../../x", "a?b", "a#b"]}}
        ) as served:
            text = 'calls: {p: {get: /ports}, q: {get: "/a/{c}/b", once_per: {call: p, with: {c: "$.ports[*]"}}}}'
            self.collect(text, f"{served.base}/v2")
            paths = [one.path for one in served.asked[1:]]
            self.assertEqual(
                paths,
                [
                    "/v2/a/%252e%252e/b",
                    "/v2/a/..%2F..%2Fx/b",
                    "/v2/a/a%3Fb/b",
                    "/v2/a/a%23b/b",
                ],
            )

    def test_headers_take_variables_and_what_they_can_not_hold_is_not_sent(
        self,
    ) -> None:
        rows = {"rows": [{"code": "OTV"}, {"code": "a\nX-Other: b"}, {"code": "Ø"}]}
        text = """
headers: {accept: application/geo+json}
calls:
  a: {get: /a}
  b:
    post: /b
    headers: {X-Port: "port {code}", content-type: application/vnd.ferries+json}
    json: {port: "{code}", more: "{ code }"}
    once_per: {call: a, with: {code: "$.rows[*].code"}}
"""
        with service({"/a": rows, "/b": {"b": 1}}) as served:
            _, collection = self.collect(text, served.base)
        first, second = served.asked
        self.assertEqual(
            (first.headers["accept"], second.headers["x-port"]),
            ("application/geo+json", "port OTV"),
        )
        self.assertEqual(second.headers["content-type"], "application/vnd.ferries+json")
        self.assertEqual(
            (second.method, second.json), ("POST", {"port": "OTV", "more": "{ code }"})
        )
        self.assertEqual(
            [why for why, _ in collection.report.calls["b"].not_asked], ["not-filled"]
        )
        self.assertEqual(sum(collection.report.calls["b"].not_asked.values()), 2)

    def test_a_path_that_finds_nothing_in_any_answer_is_told_with_what_is_near(
        self,
    ) -> None:
        with service({"/ports": PORTS}) as served:
            text = 'calls: {p: {get: /ports}, q: {get: "/{c}", once_per: {call: p, with: {c: "$.ports[*].cod"}}}}'
            _, collection = self.collect(text, served.base)
            path, near = collection.report.calls["q"].unmatched or ("", "")
            self.assertEqual(path, "$.ports[*].cod")
            self.assertIn("did you mean $.ports[*].code?", near or "")


def board(token: Callable[[], str]) -> Callable[[Asked], Says]:
    def route(asked: Asked) -> Says:
        if asked.json != {"user": "deckhand", "password": "salt-and-rope"}:
            return Says({"detail": f"no {asked.body}"}, 403)
        return Says({"pass": token(), "minutes": 1})

    return route


BOARDING = """
sign_in:
  post: /boarding
  json: {user: {secret: FERRY_USER}, password: {secret: FERRY_PASSWORD}}
  keep: {token: {at: "$.pass", lasts: "$.minutes", unit: min}}
headers: {Authorization: "Bearer {token}"}
"""


class SigningIn(ServiceCase):
    def test_a_token_is_renewed_when_its_time_is_over_and_when_it_is_refused(
        self,
    ) -> None:
        tokens = [f"gangway-pass-{number}" for number in range(9)]
        given = iter(tokens)
        good: list[str] = []

        def token() -> str:
            good[:] = [next(given)]
            return good[0]

        def data(asked: Asked) -> Says:
            number = int(asked.query.get("cursor", 0))
            if number == 1 and "dead" not in seen:
                seen.append("dead")
                good.clear()
            if asked.headers["authorization"] != f"Bearer {good[0] if good else ''}":
                return Says({"detail": "who are you?"}, 401)
            return Says({"next": number + 1 if number < 3 else None})

        seen: list[str] = []
        with service({"/boarding": board(token), "/a": data}) as served:
            text = (
                BOARDING
                + 'calls: {a: {get: /a, pages: {cursor: "$.next", as: cursor}}}'
            )
            _, collection = self.collect(text, served.base)
            self.assertEqual(
                (collection.report.pages, collection.report.sign_ins), (4, 2)
            )
            self.assertEqual(collection.fetcher.session.told[0].length, len(tokens[0]))
            everything = "".join(
                file.read_text() for file in self.folder.rglob("*") if file.is_file()
            )
            self.assertNotIn("gangway-pass", everything)

            def slow(asked: Asked) -> Says:
                threading.Event().wait(1)  # a hundred seconds of the quick clock
                return data(asked)

        seen[:] = ["dead"]
        with service({"/boarding": board(token), "/a": slow}) as served:
            self.setUp()
            _, collection = self.collect(text, served.base)
            self.assertEqual(
                (collection.report.sign_ins, collection.report.retries), (4, 0)
            )

    def test_a_refused_sign_in_ends_the_collection_and_says_nothing_of_what_was_sent(
        self,
    ) -> None:
        with service(
            {"/boarding": Says({"detail": "no salt-and-rope for deckhand"}, 403)}
        ) as served:
            with self.assertRaises(InputError) as caught:
                self.collect(
                    BOARDING + "calls: {a: {get: /a}, b: {get: /b}}", served.base
                )
            self.assertEqual((caught.exception.code, len(served.asked)), ("sign-in", 1))
            self.assertIn("no *** for ***", caught.exception.hint or "")
            self.assertFalse((self.folder / "kept").exists())
        for says, part in (
            (Says({"no": 1}), "nothing at $.pass"),
            (Says(b"<html>"), "is not JSON"),
        ):
            with (
                self.subTest(part),
                service({"/boarding": says}) as served,
                self.assertRaises(InputError) as caught,
            ):
                self.collect(BOARDING + "calls: {a: {get: /a}}", served.base)
            self.assertIn(part, caught.exception.message)

    def test_what_is_kept_may_be_a_part_of_addresses_and_its_letters_are_left_alone_elsewhere(
        self,
    ) -> None:
        routes = {
            "/in": {"fleet": 12},
            "/fleets/12/ports": {"ports": [12, 1]},
            "/12": {"n": 12},
            "/1": {"n": 1},
        }
        text = """
sign_in: {get: /in, keep: {fleet: "$.fleet"}}
calls:
  ports: {get: "/fleets/{fleet}/ports"}
  port: {get: "/{no}", once_per: {call: ports, with: {no: "$.ports[*]"}}}
"""
        with service(routes) as served:
            self.collect(text, served.base)
            self.collect(text, served.base, go_on=True)
            self.assertEqual(served.paths(), list(routes), "and nothing is asked twice")
        urls = [line["url"].removeprefix(served.base) for line in self.lines()]
        self.assertEqual(urls, ["/fleets/***/ports", "/12", "/1"])

    def test_oauth_2_client_credentials_by_header_and_in_the_body(self) -> None:
        def token(asked: Asked) -> Says:
            pair = base64.b64encode(b"deckhand:salt-and-rope").decode()
            by_header = asked.headers.get("authorization") == f"Basic {pair}"
            form = "grant_type=client_credentials&scope=read+write"
            in_body = (
                asked.body == f"{form}&client_id=deckhand&client_secret=salt-and-rope"
            )
            if not (in_body or (by_header and asked.body == form)):
                return Says({"error": "invalid_client"}, 401)
            return Says(
                {
                    "access_token": "hush-hush-hush",
                    "expires_in": 3600,
                    "token_type": "Bearer",
                }
            )

        def data(asked: Asked) -> Says:
            return (
                Says({"a": 1})
                if asked.headers.get("authorization") == "Bearer hush-hush-hush"
                else Says({}, 401)
            )

        for send in ("header", "body"):
            with self.subTest(send), service({"/token": token, "/a": data}) as served:
                self.setUp()
                text = (
                    "sign_in: {oauth2: {token: /token, client: {secret: FERRY_USER}, secret: {secret: FERRY_PASSWORD}, "
                    f"scope: read write, send: {send}}}}}\ncalls: {{a: {{get: /a}}}}"
                )
                self.collect(text, served.base)
                self.assertEqual(self.kept(), [{"a": 1}])

    def test_cookies_go_back_to_where_they_came_from_and_nowhere_else(self) -> None:
        with service({"/x": {"x": 1}}) as other:
            routes = {
                "/in": Says({}, headers={"Set-Cookie": "berth=forecastle-7; Path=/"}),
                "/a": lambda asked: Says(
                    {"next": f"{other.base}/x"},
                    200 if "cookie" in asked.headers else 401,
                ),
            }
            text = "sign_in: {get: /in}\ncalls: {a: {get: /a}, b: {url: $.next, once_per: {call: a}}}\n"
            with service(routes) as served:
                self.collect(f"{text}origins: ['{other.base}']", served.base)
                self.assertEqual(
                    served.asked[1].headers["cookie"], "berth=forecastle-7"
                )
            self.assertNotIn("cookie", other.asked[0].headers)


class Rounds(ServiceCase):
    def test_since_last_has_only_that_sent_which_changed_and_newest_reads_each_once(
        self,
    ) -> None:
        version = {"/a": 1, "/b": 1, "/c": 1}

        def route(asked: Asked) -> Says:
            number = version[asked.path]
            tag = (
                {"ETag": f'"{number}"'}
                if asked.path != "/b"
                else {"Last-Modified": f"Fri, 0{number} Mar 2031 12:00:00 GMT"}
            )
            same = asked.headers.get("if-none-match") == tag.get("ETag", "-")
            same = same or asked.headers.get("if-modified-since") == tag.get(
                "Last-Modified", "-"
            )
            if same:
                return Says(status=304, headers=tag)
            return Says(
                {"path": asked.path, "version": number},
                headers=tag if asked.path != "/c" else {},
            )

        text = "calls: {a: {get: /a}, b: {get: /b}, c: {get: /c}}"
        with service(dict.fromkeys(version, route)) as served:
            self.collect(text, served.base)
            version["/a"] = 2
            _, collection = self.collect(text, served.base, since_last=True)
            self.assertEqual(
                [call.unchanged for call in collection.report.calls.values()], [0, 1, 0]
            )
            _, collection = self.collect(text, served.base, since_last=True)
            self.assertEqual(
                [call.unchanged for call in collection.report.calls.values()], [1, 1, 0]
            )
        newest = [(page["path"], page["version"]) for page in self.kept(newest=True)]
        self.assertEqual(sorted(newest), [("/a", 2), ("/b", 1), ("/c", 1)])
        self.assertEqual(
            len(self.kept()),
            6,
            "two of a, one of b, three of c, which says nothing of its version",
        )

    def test_a_round_that_was_not_finished_does_not_hide_the_one_before(self) -> None:
        rows = {"n": 1}

        def route(asked: Asked) -> Says:
            page = int(asked.query["page"])
            return Says([rows["n"]] if page < 4 else [])

        text = "calls: {a: {get: /a, pages: {number: page, first: 1}}}"
        with service(
            {
                "/a": lambda asked: Says(
                    [[rows["n"], asked.query["page"]]]
                    if asked.query["page"] < "4"
                    else []
                )
            }
        ) as s:
            self.collect(text, s.base)
            rows["n"] = 2
            collection = Collection(
                calls_of(text, s.base),
                CaptureFolder(str(self.folder / "kept")),
                manner=Manner("x"),
            )
            running = iter(collection)
            next(running)
            next(running)
            running.close()  # type: ignore[attr-defined]
            self.assertEqual(
                {page[0][0] for page in self.kept(newest=True) if page}, {1}
            )
            _, collection = self.collect(text, s.base)
            self.assertIsNotNone(collection.report.continued)
            self.assertEqual(
                {page[0][0] for page in self.kept(newest=True) if page}, {2}
            )
            self.assertEqual(len(self.kept(newest=True)), 4)
            rounds = [
                json.loads(line)
                for line in (self.folder / "kept/rounds.jsonl").read_text().splitlines()
            ]
            self.assertEqual(
                [("began" in one, one["round"]) for one in rounds],
                [(True, 1), (False, 1), (True, 2), (False, 2)],
            )

    def test_go_on_asks_for_what_is_missing_and_anew_for_all(self) -> None:
        broken = ["/b"]

        def route(asked: Asked) -> Says:
            return Says({}, 500) if asked.path in broken else Says({"path": asked.path})

        text = "limits: {tries: 2, pause: 0.01, per_second: 1000}\ncalls: {a: {get: /a}, b: {get: /b}}"
        with service({"/a": route, "/b": route}) as served:
            _, collection = self.collect(text, served.base)
            self.assertEqual(
                (collection.report.apart, collection.report.retries), (1, 1)
            )
            broken.clear()
            self.collect(text, served.base, go_on=True)
            self.assertEqual(served.paths(), ["/a", "/b", "/b", "/b"])
            self.assertEqual([page["path"] for page in self.kept()], ["/a", "/b"])
            self.collect(text, served.base)
            self.assertEqual(len(served.asked), 6)
        with self.assertRaises(InputError):
            self.setUp()
            self.collect(text, "http://127.0.0.1:1", go_on=True)


class Manners(ServiceCase):
    def test_no_more_requests_begin_in_a_second_than_are_allowed_and_no_more_are_under_way(
        self,
    ) -> None:
        under_way, most = [0], [0]
        lock = threading.Lock()

        def route(asked: Asked) -> Says:
            with lock:
                under_way[0] += 1
                most[0] = max(most[0], under_way[0])
            threading.Event().wait(0.02)
            with lock:
                under_way[0] -= 1
            return Says({"a": 1})

        calls = ", ".join(f"c{number}: {{get: /a}}" for number in range(12))
        with service({"/a": route}) as served:
            clock = QuickClock()
            begun = clock.now()
            self.collect(
                f"limits: {{per_second: 0.2, at_once: 3}}\ncalls: {{{calls}}}",
                served.base,
            )
            self.assertGreaterEqual(clock.now() - begun, 11 * 5)
            self.assertLessEqual(most[0], 3)

    def test_what_may_pass_is_tried_again_after_longer_and_longer_pauses(self) -> None:
        says = [
            Says({}, 500),
            Says(b"<html>"),
            Says(b'{"a": [1'),
            Says({}, 429, {"Retry-After": "50"}),
            Says({"a": 1}),
        ]
        with service({"/a": lambda asked: says.pop(0)}) as served:
            _, collection = self.collect(
                "limits: {pause: 1}\ncalls: {a: {get: /a}}", served.base
            )
        self.assertEqual((self.kept(), collection.report.retries), ([{"a": 1}], 4))
        for pause, (least, most) in zip(
            self.watcher.pauses, ((0.5, 1), (1, 2), (2, 4), (50, 50)), strict=True
        ):
            self.assertTrue(least <= pause.seconds <= most, pause)

    def test_lines_whose_last_one_is_cut_off_are_asked_for_again_and_kept_if_they_stay_so(
        self,
    ) -> None:
        whole, cut = b'{"a": 1}\n{"a": 2}\n', b'{"a": 1}\n{"a": '
        cases: list[tuple[list[bytes], list[Any], int]] = [
            ([cut, whole], [{"a": 1}, {"a": 2}], 0),
            ([cut] * 5, [{"a": 1}], 1),
        ]
        for says, kept, bad in cases:
            waiting = map(Says, says)
            with (
                self.subTest(bad=bad),
                service({"/a": partial(_next_of, waiting)}) as served,
            ):
                self.setUp()
                _, collection = self.collect("calls: {a: {get: /a}}", served.base)
                self.assertEqual(
                    (self.kept(), collection.report.calls["a"].bad_documents),
                    (kept, bad),
                )

    def test_what_will_not_pass_is_told_at_once_and_what_does_not_pass_is_kept_apart(
        self,
    ) -> None:
        cases = [(404, 1), (400, 1), (403, 1), (304, 1), (500, 5), (503, 5), (429, 5)]
        for status, requests in cases:
            with (
                self.subTest(status),
                service({"/a": Says({"x": 1}, status), "/b": {"b": 1}}) as served,
            ):
                self.setUp()
                answers, collection = self.collect(
                    "calls: {a: {get: /a}, b: {get: /b}}", served.base
                )
                self.assertEqual(len(served.asked), requests + 1)
                self.assertEqual(
                    [answer.file[:5] for answer in answers], ["apart", "pages"]
                )
                self.assertTrue(collection.report.findings)

    def test_a_service_that_is_away_or_wants_a_long_pause_ends_it_and_the_same_goes_on_later(
        self,
    ) -> None:
        state = {"open": False}

        def route(asked: Asked) -> Says:
            return (
                Says({"b": 1})
                if state["open"]
                else Says({}, 503, {"Retry-After": "7200"})
            )

        text = "calls: {a: {get: /a}, b: {get: /b}}"
        with service({"/a": {"a": 1}, "/b": route}) as served:
            with self.assertRaises(InputError) as caught:
                self.collect(text, served.base)
            self.assertEqual(caught.exception.code, "asked-to-wait")
            self.assertIn("7,200 s", caught.exception.message)
            state["open"] = True
            self.collect(text, served.base)
            self.assertEqual(served.paths(), ["/a", "/b", "/b"])
        self.assertEqual(self.kept(), [{"a": 1}, {"b": 1}])
        with (
            service({"/in": Says({}, 503, {"Retry-After": "7200"})}) as served,
            self.assertRaises(InputError) as caught,
        ):
            self.collect("sign_in: {get: /in}\ncalls: {a: {get: /a}}", served.base)
        self.assertEqual(
            (caught.exception.code, len(served.asked)), ("asked-to-wait", 1)
        )
        self.setUp()
        with self.assertRaises(MukretError) as away:
            self.collect(text, served.base)
        self.assertEqual(away.exception.code, "not-reached")
        self.assertEqual(len(self.watcher.pauses), 4)

    def test_a_redirect_to_another_origin_is_not_followed_and_the_others_go_on(
        self,
    ) -> None:
        with service({"/x": {"x": 1}}) as other:
            away = Says({}, 302, {"Location": f"{other.base}/x"})
            with service({"/a": away, "/b": {"b": 1}}) as served:
                _, collection = self.collect(
                    "calls: {a: {get: /a}, b: {get: /b}}", served.base
                )
            self.assertEqual(
                [error.code for error in collection.report.given_up], ["redirected"]
            )
            self.assertEqual((self.kept(), other.asked), ([{"b": 1}], []))


class Encrypted(FolderCase):
    def test_tls_is_checked_and_nothing_is_sent_to_whom_nobody_knows(self) -> None:
        import trustme

        authority, stranger = trustme.CA(), trustme.CA()
        authority.cert_pem.write_to_path(str(self.folder / "authority.pem"))
        for known, issuer in ((True, authority), (False, stranger)):
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            issuer.issue_cert("127.0.0.1").configure_cert(context)
            with (
                self.subTest(known=known),
                service({"/a": {"a": 1}}, context) as served,
            ):
                environment = {
                    "SSL_CERT_FILE": str(self.folder / "authority.pem"),
                    **SECRETS,
                }
                with mock.patch.dict("os.environ", environment):
                    done = self.mukret(
                        "collect",
                        f"{served.base}/a",
                        "--bearer",
                        "FERRY_KEY",
                        "--to",
                        "kept",
                    )
                self.assertEqual(
                    (done.returncode, len(served.asked)),
                    (0, 1) if known else (3, 0),
                    done.stderr,
                )
                self.assertEqual("certificate verify failed" in done.stderr, not known)


class Program(ServiceCase):
    def served(self) -> Mapping[str, Any]:
        return {
            "/ports": {
                "ports": [
                    {"code": "OTV", "url": "/ports/OTV"},
                    {"code": "SKR", "url": "/ports/SKR{?x}"},
                ],
                "next": "b",
            },
            "/ports/OTV": {"name": "Otterwick"},
            "/ports/SKR": {"name": "Skerry Roads"},
        }

    def test_follow_asks_for_addresses_in_the_answer_and_save_calls_writes_what_was_done(
        self,
    ) -> None:
        with service(self.served()) as served:
            base = served.base
            done = self.mukret(
                "collect",
                f"{base}/ports",
                "--follow",
                "$..url",
                "--to",
                "kept",
                "--save-calls",
                "f.calls.yaml",
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn(
                "--pages '{cursor: \"$.next\", as: cursor}' asks for them all",
                done.stderr,
            )
            again = self.mukret("collect", "f.calls.yaml", "--to", "again", "--json")
            report = json.loads(again.stdout)
            self.assertEqual(
                [one["call"] for one in report["answers"]],
                ["ports", "followed", "followed"],
            )
            shown = self.mukret("survey", "kept")
            self.assertIn(
                "mukret collect URL --follow '$.ports[*].url' --to kept", shown.stderr
            )
            deeper = self.mukret(
                "collect",
                "f.calls.yaml",
                "--follow",
                "$..tide",
                "--to",
                "deep",
                "--save-calls",
                "g.yaml",
            )
            self.assertEqual(
                deeper.returncode, 1, "there is no tide anywhere, which is told"
            )
            names = [call.name for call in load_calls(self.folder / "g.yaml").calls]
            self.assertEqual(names, ["ports", "followed", "tide", "followed_tide"])
            paged = self.mukret(
                "collect",
                f"{base}/ports",
                "--pages",
                '{cursor: "$.next", as: c}',
                "--to",
                "paged",
            )
            self.assertEqual(paged.returncode, 1)
            self.assertIn(
                "error: ports: the next page would be one that was there before: b [page-repeated]",
                paged.stderr,
            )
            wrong = self.mukret(
                "collect",
                f"{base}/ports",
                "--pages",
                "{cursor: $.next}",
                "--to",
                "paged",
            )
            self.assertEqual(wrong.returncode, 2)
            self.assertIn("at --pages:1:8", wrong.stderr)

    def test_then_extracts_what_was_collected_and_a_kind_is_a_call(self) -> None:
        rules = """mukret: 1
tables:
  ports: {kind: ports, rows: "$.ports[*]", fields: {code: $.code}}
  names: {kind: port, rows: $, fields: {code: {fact: request.code}, name: $.name}}
"""
        calls = """
with: {suffix: x}
calls:
  ports: {get: /ports}
  port: {get: "/ports/{code}", once_per: {call: ports, with: {code: "$.ports[*].code"}}}
"""
        self.file("ports.rules.yaml", rules)
        with service(self.served()) as served:
            self.file("ports.calls.yaml", f"mukret: 1\nbase: {served.base}\n{calls}")
            for to, expected in (
                (("--to", "kept", "--to", "tables"), "kept"),
                (("--to", "tables"), "ports-responses"),
            ):
                done = self.mukret(
                    "collect", "ports.calls.yaml", "--then", "ports.rules.yaml", *to
                )
                self.assertEqual(done.returncode, 0, done.stderr)
                self.assertTrue((self.folder / expected / "capture.jsonl").exists())
                names = (self.folder / "tables/names.csv").read_text()
                self.assertEqual(names, "code,name\nOTV,Otterwick\nSKR,Skerry Roads\n")
            self.mukret("collect", "ports.calls.yaml", "--to", "kept", "-q")
            both = self.mukret("extract", "ports.rules.yaml", "kept", "--to", "tables")
            self.assertIn("read too: 3 earlier answers of", both.stderr)
            done = self.mukret(
                "collect",
                "ports.calls.yaml",
                "--then",
                "none.rules.yaml",
                "--to",
                "new",
                "--to",
                "t",
            )
            self.assertEqual(
                (done.returncode, (self.folder / "new").exists()), (3, False)
            )
            self.assertEqual(
                self.mukret(
                    "collect", "ports.calls.yaml", "--with", "sufix=y", "--to", "k"
                ).returncode,
                2,
            )


if __name__ == "__main__":
    unittest.main()
