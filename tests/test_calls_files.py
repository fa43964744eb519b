"""Calls files: what may stand in them, every problem with its place, and that what is written reads
back the same.
"""

from __future__ import annotations

import unittest
from datetime import UTC, datetime
from functools import partial
from typing import Any

from mukret.collect import Limits, Secret, load_calls, parse_calls, write_calls
from mukret.collect.calls import InBody, InHeader, InQuery, OAuth2, SignInCall
from mukret.collect.calls_file import parse_pages
from mukret.collect.manners import retry_after
from mukret.collect.paging import Page, links, spotted
from mukret.collect.templates import NotFilled, filled_address, filled_body, filled_text
from mukret.errors import RulesError
from mukret.sample import CALLS_FILE, sample_files
from tests.helpers import FolderCase

HEAD = "mukret: 1\nbase: https://ferries.example/v2\n"

EVERYTHING = (
    HEAD
    + """
with: {day: "2031-03-28", size: 50, hush: {secret: HUSH}}
sign_in:
  post: /boarding
  query: {by: "{day}"}
  headers: {X-Deck: upper}
  json: {user: {secret: FERRY_USER}, crew: [{secret: FERRY_CREW}, 7, null, true, 1.50, "8"]}
  keep:
    token: {at: "$.gangway.pass", lasts: "$.gangway.minutes", unit: min}
    berth: {header: X-Berth}
    until: {at: "$.until", until: "$.ends"}
    plain: "$.plain"
headers: {Authorization: "Bearer {token}", X-Hush: "{hush}"}
query: {lang: en, key: {secret: FERRY_KEY}}
calls:
  ports: {get: /ports, query: {size: "{size}", tag: [a, b]}, pages: {cursor: "$.next", as: cursor, total: "$.total"}}
  heads: {get: /heads, pages: {cursor: {header: X-Next}, as: {header: X-Cursor}, more: "$.more"}}
  graph:
    post: /graph
    json: {query: "query($after: String) { ports(after: $after) { nodes { code } } }", variables: {after: null, day: "{day}"}}
    pages: {cursor: "$.data.ports.pageInfo.endCursor", as: "$.variables.after", list: "$.data.ports.nodes"}
  form: {post: /form, form: {day: "{day}", key: {secret: FERRY_KEY}}}
  linked: {get: /linked, pages: {link: next}}
  numbered: {get: "/numbered/{page}", pages: {number: page, first: 0, pages: "$.pages"}}
  offset: {get: /offset, pages: {offset: from, first: 1, step: 20, list: "$.rows"}}
  addressed: {get: /addressed, pages: {url: "$.next"}}
  sailings:
    get: /ports/{code}/sailings{?day}
    once_per: {call: ports, rows: "$.ports[*]", with: {code: "$.code", local: "$.name"}}
  fares: {get: "/sailings/{no}/fares/{code}", once_per: {call: sailings, with: {no: "$.sailings[*].no"}}}
  berths: {url: "$.links.berths", once_per: {call: ports, rows: "$.ports[*]"}}
origins: [https://tides.example]
limits: {per_second: 2.5, at_once: 4, tries: 9, timeout: 10.0, pages: 7, pause: 0.5, longest_wait: 30.0}
"""
)

PROBLEMS: list[tuple[str, str, tuple[int, int], str, str]] = [
    # what stands after the head, code, line and column, part of the message, part of the hint
    (
        "calls: {a: {gett: /a}}",
        "unknown-key",
        (3, 13),
        "no key gett",
        "did you mean get?",
    ),
    (
        "calls: {a: {query: {b: 1}}}",
        "missing-key",
        (3, 12),
        "the call a needs get, post or url",
        "get: /ADDRESS",
    ),
    (
        "calls: {a: {get: /a, post: /a}}",
        "wrong-value",
        (3, 22),
        "get and post: one of them",
        "",
    ),
    ("calls: {a: {get: a}}", "wrong-value", (3, 18), "begins with /", "write get: /a"),
    (
        "calls: {a: {get: //b/a}}",
        "wrong-value",
        (3, 18),
        "begins with /",
        "a calls file of its own",
    ),
    ("calls: {a: {get: '/a/{b'}}", "wrong-value", (3, 18), "RFC 6570", ""),
    ("calls: {a: {get: '/a#b'}}", "wrong-value", (3, 18), "never sent", ""),
    (
        "calls: {a: {get: '/ports/{kode}'}}\nwith: {code: OTV}",
        "unknown-variable",
        (3, 26),
        "what kode is",
        "code?",
    ),
    (
        "calls: {a: {get: /a, query: {x: 'a {y}'}}}",
        "unknown-variable",
        (3, 36),
        "what y is",
        "once_per",
    ),
    (
        "headers: {X-A: '{y}'}\ncalls: {a: {get: /a}}",
        "unknown-variable",
        (3, 17),
        "what y is",
        "",
    ),
    (
        "calls: {a: {post: /a, json: {b: ['{y}']}}}",
        "unknown-variable",
        (3, 35),
        "what y is",
        "",
    ),
    (
        "calls: {a: {get: /a, json: {b: 1}}}",
        "wrong-value",
        (3, 22),
        "only a post has a body",
        "post: /a",
    ),
    (
        "calls: {a: {post: /a, json: {b: 1}, form: {b: 1}}}",
        "wrong-value",
        (3, 37),
        "json or form, not both",
        "",
    ),
    ("calls: {}", "wrong-value", (3, 8), "there are no calls", "ports"),
    (
        "calls: {a: {get: /a}, A: {get: /b}}",
        "name-clash",
        (3, 23),
        "differ only in case",
        "",
    ),
    (
        "calls: {a: {get: /a}, b: {get: /b, once_per: {call: aa}}}",
        "wrong-value",
        (3, 53),
        "no call aa",
        "a?",
    ),
    (
        "calls: {a: {get: /a, once_per: {call: b}}, b: {get: /b, once_per: {call: a}}}",
        "cycle",
        (3, 39),
        "a → b → a",
        "",
    ),
    (
        "calls: {a: {get: /a}, b: {url: $.x}}",
        "missing-key",
        (3, 27),
        "in the answers of another call",
        "once_per",
    ),
    (
        'calls: {a: {get: /a}, b: {get: "/{x}/{y}", once_per: {call: a, with: {x: $.x, y: $.y}}}}',
        "missing-key",
        (3, 44),
        "rows says which records these values stand in",
        'rows: "$.ports[*]"',
    ),
    (
        "calls: {a: {get: /a, pages: {}}}",
        "wrong-value",
        (3, 29),
        "none of its ways",
        "{link: next}",
    ),
    (
        "calls: {a: {get: /a, pages: {link: next, url: $.n}}}",
        "wrong-value",
        (3, 29),
        "both link and url",
        "",
    ),
    (
        "calls: {a: {get: /a, pages: {cursor: $.n}}}",
        "missing-key",
        (3, 29),
        "as: how the cursor is sent",
        "",
    ),
    (
        "calls: {a: {get: /a, pages: {link: next, as: c}}}",
        "wrong-value",
        (3, 42),
        "as means nothing with link",
        "",
    ),
    (
        "calls: {a: {get: /a, pages: {number: page, first: x}}}",
        "wrong-value",
        (3, 51),
        "a whole number",
        "",
    ),
    (
        "calls: {a: {get: /a, pages: {cursor: $.n, as: $.b}}}",
        "wrong-value",
        (3, 47),
        "in the body of a post",
        "",
    ),
    (
        "calls: {a: {get: /a, pages: {cursor: '$.n[', as: c}}}",
        "path-syntax",
        (3, 42),
        "cursor",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nlimits: {tries: 0}",
        "wrong-value",
        (4, 17),
        "a whole number, not '0'",
        "from 1 to 100",
    ),
    (
        "calls: {a: {get: /a}}\nlimits: {per_sec: 1}",
        "unknown-key",
        (4, 10),
        "per_sec",
        "per_second?",
    ),
    (
        "calls: {a: {get: /a}}\nheaders: {Cookie: abc}",
        "wrong-value",
        (4, 19),
        "does not belong in a file",
        "secret",
    ),
    (
        "calls: {a: {get: /a}}\nheaders: {Host: a, Connection: b}",
        "wrong-value",
        (4, 20),
        "from what is sent",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nwith: {password: abc}",
        "wrong-value",
        (4, 18),
        "does not belong in a file",
        "",
    ),
    (
        "calls: {a: {get: /a}}\norigins: [ftp://x]",
        "wrong-value",
        (4, 11),
        "origins: that is no address",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nsign_in: {}",
        "wrong-value",
        (4, 10),
        "here is none",
        "keep",
    ),
    (
        "calls: {a: {get: /a}}\nsign_in: {bearer: abc}",
        "wrong-value",
        (4, 19),
        "does not belong in a file",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nsign_in: {basic: {user: {secret: U}}}",
        "missing-key",
        (4, 18),
        "needs password",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nsign_in: {oauth2: {token: t}}",
        "wrong-value",
        (4, 27),
        "begins with /",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nsign_in: {get: /x, json: {a: 1}}",
        "wrong-value",
        (4, 20),
        "a get has no body",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nsign_in: {get: /x, keep: {t: {}}}",
        "missing-key",
        (4, 27),
        "is kept from at",
        "",
    ),
    (
        "calls: {a: {get: /a}}\nsign_in: {post: /x, json: {password: abc}}",
        "wrong-value",
        (4, 38),
        "belong in a file",
        "",
    ),
    (
        "with: {t: 1}\ncalls: {a: {get: /a}}\nsign_in: {get: /x, keep: {t: $.t}}",
        "name-clash",
        (5, 27),
        "value already",
        "",
    ),
]


class Files(FolderCase):
    def test_every_problem_has_its_place_its_words_and_what_to_do(self) -> None:
        for text, code, place, message, hint in PROBLEMS:
            with self.subTest(text), self.assertRaises(RulesError) as caught:
                parse_calls(HEAD + text, "x.yaml")
            found = {
                (one.code, one.line, one.column): one
                for one in caught.exception.diagnostics
            }
            with self.subTest(text):
                self.assertIn((code, *place), found)
                one = found[code, *place]
                self.assertIn(message, one.message)
                self.assertIn(hint, one.hint or "")

    def test_what_stands_in_a_file_is_what_is_meant(self) -> None:
        calls = parse_calls(EVERYTHING, "x.yaml")
        by_name: dict[str, Any] = {call.name: call for call in calls.calls}
        self.assertEqual(
            calls.constants,
            (("day", "2031-03-28"), ("size", 50), ("hush", Secret("HUSH"))),
        )
        assert isinstance(calls.sign_in, SignInCall) and calls.sign_in.body
        crew = [Secret("FERRY_CREW"), 7, None, True, "1.50", "8"]
        self.assertEqual(
            calls.sign_in.body.content, {"user": Secret("FERRY_USER"), "crew": crew}
        )
        self.assertEqual(
            [one.lasts.unit for one in calls.sign_in.keep if one.lasts], [60.0, 1.0]
        )
        self.assertEqual(
            by_name["ports"].query, (("size", "{size}"), ("tag", "a"), ("tag", "b"))
        )
        targets = [
            by_name[name].pages.target for name in ("ports", "heads", "graph", "offset")
        ]
        self.assertEqual(
            targets,
            [
                InQuery("cursor"),
                InHeader("X-Cursor"),
                InBody(("variables", "after")),
                InQuery("from"),
            ],
        )
        self.assertEqual(calls.limits, Limits(2.5, 4, 9, 10.0, 7, 0.5, 30.0))
        self.assertEqual(calls.origins, ("https://tides.example:443",))
        self.assertEqual(
            {one.variable for one in calls.secrets()},
            {"HUSH", "FERRY_USER", "FERRY_CREW", "FERRY_KEY"},
        )

    def test_what_is_written_reads_back_as_the_same_calls(self) -> None:
        oauth2 = (
            HEAD
            + "sign_in: {oauth2: {token: /t, client: {secret: A}, secret: {secret: B}, scope: a b, send: body}}\n"
        )
        sample = sample_files()[CALLS_FILE].read_text(encoding="utf-8")
        for number, text in enumerate(
            (EVERYTHING, oauth2 + "calls: {a: {get: /a}}", sample)
        ):
            with self.subTest(number):
                calls = parse_calls(text, "x.yaml")
                path = self.folder / f"{number}.calls.yaml"
                write_calls(calls, str(path))
                self.assertEqual(load_calls(path), calls)
        assert isinstance(load_calls(self.folder / "1.calls.yaml").sign_in, OAuth2)

    def test_check_takes_a_calls_file_and_dry_run_shows_what_would_be_asked_without_secrets(
        self,
    ) -> None:
        self.file("f.calls.yaml", EVERYTHING)
        done = self.typed("check", "f.calls.yaml")
        self.assertEqual(
            (
                done.returncode,
                "no problems (11 calls; secrets: FERRY_CREW" in done.stdout,
            ),
            (0, True),
        )
        self.assertIn("the environment has no FERRY_KEY", done.stderr)
        self.file("g.calls.yaml", HEAD + "calls: {a: {get: '/{b}'}}")
        done = self.typed("check", "g.calls.yaml")
        self.assertEqual(done.returncode, 2)
        self.assertIn("at g.calls.yaml:3:20", done.stderr)
        self.assertEqual(self.typed("check", "f.calls.yaml", "x.json").returncode, 2)
        done = self.typed("collect", "f.calls.yaml", "--dry-run")
        self.assertEqual(done.returncode, 0, done.stderr)
        for line in (
            'body: {"user": "***", "crew": ["***", 7, null, true, 1.50, "8"]}',
            "GET   https://ferries.example/v2/ports?lang=en&key=***&size=50&tag=a&tag=b",
            "once per: answer of ports, $.ports[*] code at $.code, local at $.name",
            "pages: by the cursor at the header X-Next, sent as the header X-Cursor",
            "GET   (the address at $.ports[*] $.links.berths in answers of ports)",
        ):
            self.assertIn(line, done.stdout)

    def test_a_secret_that_stands_in_a_file_is_not_shown(self) -> None:
        """Neither by its own problem nor by others of its line."""
        basic = "sign_in: {basic: {user: oda, password: hunter2}}"
        cookie = 'headers: {Cookie: "hunter2", Connection: b}'
        self.file(
            "s.calls.yaml", f"{HEAD}calls: {{a: {{get: /a}}}}\n{basic}\n{cookie}\n"
        )
        for command in (("check",), ("collect", "--to", "kept")):
            done = self.typed(*command, "s.calls.yaml")
            self.assertEqual((done.returncode, done.stdout), (2, ""))
            self.assertEqual(
                [line for line in done.stderr.splitlines() if " │ " in line][::2],
                [
                    f"    4 │ sign_in: {{basic: {{user: {'*' * 24}",
                    f"    4 │ sign_in: {{basic: {{user: {'*' * 24}",
                    f"    5 │ headers: {{Cookie: {'*' * 25}",
                    f"    5 │ headers: {{Cookie: {'*' * 25}",
                ],
            )
            self.assertEqual(done.stderr.count("s.calls.yaml:5:30"), 1)


class Templates(unittest.TestCase):
    def test_addresses_are_filled_as_rfc_6570_says(self) -> None:
        known = {
            "code": "Ø/1 a",
            "n": 7,
            "empty": "",
            "null": None,
            "list": [1],
            "dots": "..",
            "yes": True,
        }
        cases: list[tuple[str, str | None]] = [
            ("/ports/{code}", "/ports/%C3%98%2F1%20a"),
            ("/ports/{+code}", "/ports/%C3%98/1%20a"),
            ("/n{?n,missing}{&yes}", "/n?n=7&yes=true"),
            ("/n{/missing}{#missing}{;missing}{.missing}", "/n"),
            ("/n/{code:1}", "/n/%C3%98"),
            ("/no/braces", "/no/braces"),
            ("/n/{missing}", None),
            ("/n/{+missing}", None),
            ("/n/{n,missing}", None),
            ("/n/{empty}", None),
            ("/n/{null}", None),
            ("/n/{list}", None),
            ("/n/{dots}/x", None),
            ("/n/{+dots}", None),
            ("/n/{}", None),
            ("/n/{n", None),
            ("/n/{=n}", None),
            ("/n/{a b}", None),
        ]
        for template, expected in cases:
            with self.subTest(template):
                if expected is None:
                    with self.assertRaises(NotFilled):
                        filled_address(template, known)
                else:
                    self.assertEqual(filled_address(template, known), expected)

    def test_a_body_takes_whole_texts_for_variables_with_their_types_and_secrets_and_leaves_braces_alone(
        self,
    ) -> None:
        body = {
            "a": "{n}",
            "b": ["{n} m", "{ n }"],
            "q": "{ports {code}}",
            "s": Secret("X"),
        }
        found = filled_body(body, {"n": 7, "code": "OTV"}, {Secret("X"): "hush"})
        self.assertEqual(
            found, {"a": 7, "b": ["{n} m", "{ n }"], "q": "{ports {code}}", "s": "hush"}
        )
        self.assertEqual(filled_text("a {n} {b c}", {"n": 7}), "a 7 {b c}")
        with self.assertRaises(NotFilled):
            filled_text("{m}", {"n": 7})


class Spotted(unittest.TestCase):
    def test_an_answer_that_goes_on_says_how_and_others_say_nothing(self) -> None:
        cases: list[tuple[Any, dict[str, str], str | None]] = [
            ({"next_cursor": "a"}, {}, '{cursor: "$.next_cursor", as: cursor}'),
            (
                {"meta": {"nextPageToken": "a"}},
                {},
                '{cursor: "$.meta.nextPageToken", as: pageToken}',
            ),
            (
                {"paging": {"next": "https://ferries.example/a"}},
                {},
                '{url: "$.paging.next"}',
            ),
            ({"next": "log?part=2"}, {}, '{url: "$.next"}'),
            ({"@odata.nextLink": "https://a/b"}, {}, "{url: \"$['@odata.nextLink']\"}"),
            (
                {"page": 1, "total_pages": 3, "rows": []},
                {},
                '{number: page, pages: "$.total_pages"}',
            ),
            ([1], {"link": '</a>; rel="next"'}, "{link: next}"),
            (
                {"next_cursor": None, "total_pages": 1, "next": "", "after": False},
                {},
                None,
            ),
            (
                {"next_sailing": "12:40", "rows": [{"next": "x"}], "pages": "many"},
                {},
                None,
            ),
            ([{"next": "x"}], {}, None),
        ]
        for document, headers, expected in cases:
            with self.subTest(document):
                page = Page(
                    partial(list, (document,)), headers, "https://ferries.example/", 9
                )
                found = spotted(page)
                self.assertEqual(found, expected)
                if expected is not None:
                    parse_pages(expected)


class Headers(unittest.TestCase):
    def test_link_is_read_as_rfc_8288_has_it(self) -> None:
        cases: list[tuple[str, list[tuple[str, str]]]] = [
            ('</a?x=1,2>; rel="next"', [("next", "/a?x=1,2")]),
            (
                '</p>; rel=prev, </n>; title="a, b"; rel="Next last"',
                [("prev", "/p"), ("next", "/n"), ("last", "/n")],
            ),
            (
                '</n>;rel=next;rel=prev , </x>; rel="a\\"b"',
                [("next", "/n"), ('a"b', "/x")],
            ),
            ('</n>; rel="next"; anchor="#foo"', []),
            ("</n>; title=next", []),
            ("nonsense", []),
            ("", []),
        ]
        for header, expected in cases:
            with self.subTest(header):
                self.assertEqual(list(links(header)), expected)

    def test_retry_after_is_seconds_or_an_instant(self) -> None:
        now = datetime(2031, 3, 28, 12, 0, 0, tzinfo=UTC)
        cases = [
            ("7", 7.0),
            (" 0 ", 0.0),
            ("Fri, 28 Mar 2031 12:01:30 GMT", 90.0),
            ("Fri, 28 Mar 2031 11:00:00 GMT", 0.0),
            ("soon", None),
            ("-5", None),
            (None, None),
        ]
        for value, expected in cases:
            with self.subTest(value):
                self.assertEqual(retry_after(value, lambda: now), expected)


if __name__ == "__main__":
    unittest.main()
