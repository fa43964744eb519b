"""What `check` says of responses: what is new in them,
and how the rules are told to leave it out.
"""

from __future__ import annotations

import json
from typing import Any

from mukret.documents import find_sources
from mukret.inspect.drift import Drift, drift, looking_at_all
from mukret.rules import parse_rules
from mukret.rules.edit import with_ignored
from tests.helpers import FolderCase, rules_text

RULES = """
    enums:
      state: {values: {open: {}, closed: {accept: [CLS]}}, otherwise: null}
      way: {values: {in: {}, out: {}}}
    tables:
      ports:
        rows: "$.ports[*]"
        fields:
          code: {at: $.code, required: true}
          state: {at: $.state, type: state}
          way: {at: $.way, type: way}
          depth: {at: $.depth, type: "decimal(4,1)", bad: null}
          lit: {at: $.lit, type: boolean}
          owner: {at: $.ownr}
    """
PORTS = [
    {
        "code": "OTV",
        "state": "open",
        "way": "in",
        "depth": "7.5",
        "lit": "yes",
        "owner": {"id": 1},
    },
    {
        "code": "SKR",
        "state": "sunk",
        "way": "out",
        "depth": "deep",
        "lit": "yes",
        "owner": {"id": 2, "nick": "\u001b[1m"},
    },
    {
        "code": None,
        "state": "CLS",
        "way": "up",
        "depth": "1",
        "lit": "perhaps",
        "piers": [7],
        "notes": [],
    },
    {
        "code": "TOL",
        "state": "sunk",
        "way": "up",
        "depth": None,
        "lit": None,
        "master": None,
        "mail": "",
        "sea": {},
    },
]


class Drifting(FolderCase):
    def drift(self, rules: str, *documents: Any) -> Drift:
        lines = "\n".join(json.dumps(document) for document in documents)
        return drift(
            parse_rules(rules_text(rules)), find_sources([self.file("a.jsonl", lines)])
        )

    def test_all_that_the_rules_do_not_expect_is_named_and_counted(self) -> None:
        found = self.drift(RULES, {"ports": PORTS, "page": 1})
        self.assertEqual(
            [(one.path, one.count, one.example) for one in found.unread],
            [
                ("$.page", 1, "1"),
                ("$.ports[*].owner", 2, '{"id":1}'),
                ("$.ports[*].piers", 1, "[7]"),
            ],
        )
        self.assertEqual(
            [(one.field, one.hint) for one in found.unmatched],
            [("owner", "$.ownr is not there; did you mean $.owner?")],
        )
        self.assertEqual(
            [(one.field, one.enum, one.word, one.count) for one in found.words],
            [("state", "state", "sunk", 2), ("way", "way", "up", 2)],
        )
        self.assertEqual(
            {
                (reason.field, reason.code, reason.count, rows)
                for reason, rows in found.unfit
            },
            {("code", "required", 1, 4), ("lit", "not-a-boolean", 1, 4)},
        )
        self.assertEqual(
            [(reason.field, reason.example.value) for reason, _ in found.nulled],
            [("depth", "deep")],
        )
        self.assertTrue(found.found)

    def test_every_document_is_looked_at(self) -> None:
        """Not a sample, as `extract` does: what is rare is found as well."""
        documents = [
            {"ports": [{"code": str(number), "state": "open"}]}
            for number in range(3000)
        ]
        documents[2999]["ports"][0]["rare"] = "x"
        found = self.drift(RULES, *documents)
        self.assertEqual(
            [(one.path, one.count) for one in found.unread], [("$.ports[*].rare", 1)]
        )

    def test_where_all_is_expected_nothing_is_said(self) -> None:
        rules = RULES.replace("          owner: {at: $.ownr}\n", "")
        found = self.drift(rules, {"ports": PORTS[:1]}, {"ports": []})
        self.assertEqual([one.path for one in found.unread], ["$.ports[*].owner"])
        rules = rules.replace(
            "tables:", 'response: {ignore: "$.ports[*].owner"}\n    tables:'
        )
        found = self.drift(rules, {"ports": PORTS[:1]})
        self.assertFalse(found.found)
        self.assertEqual(found.as_json()["unread"], [])

    def test_a_bad_value_above_does_not_hide_those_below(self) -> None:
        rules = """
            tables:
              ports: {rows: "$.ports[*]", fields: {no: {at: $.no, type: integer}}}
              berths: {within: ports, rows: "$.berths[*]", fields: {depth: {at: $.depth, type: integer}}}
            """
        found = self.drift(rules, {"ports": [{"no": "x", "berths": [{"depth": "y"}]}]})
        self.assertEqual(
            [(reason.table, reason.code) for reason, _ in found.unfit],
            [("ports", "not-a-number"), ("berths", "not-a-number")],
        )


class IgnoringMore(FolderCase):
    def test_all_else_stays_as_it_was_written(self) -> None:
        """However `response.ignore` is written, or if it is not there at all."""
        tables = 'tables: {t: {rows: "$.a[*]", fields: {b: $.b}}}  # the end\n'
        cases = {
            "": 0,
            "response: {}\n": 0,
            "response:\n  fields: {x: $.x}  # why\n": 0,
            "response: {fields: {x: $.x}}\n": 0,
            "response:\n  ignore:\n    - $.q  # why\n    - $.r\n  fields: {x: $.x}\n": 2,
            "response:\n  ignore: [$.q]  # why\n": 1,
            "response:\n  ignore: []\n": 0,
            "response:\n  ignore: $.q   # why\n": 1,
            "response:\n  ignore:\n  - $.q": 1,
            "response:\n  ignore:\n    - $.q\n\n# on tables\n\n": 1,
        }
        for response, known in cases.items():
            for text in (
                f"mukret: 1\n# top\n{response.rstrip()}\n{tables}",
                f"mukret: 1\n{tables}{response}",
            ):
                if not response and not text.endswith(tables):
                    continue
                with self.subTest(text):
                    changed = with_ignored(text, ["$.m", "$['a b']"])
                    rules = parse_rules(changed)
                    self.assertEqual(
                        [path.text for path in rules.ignore][known:],
                        ["$.m", "$['a b']"],
                    )
                    self.assertEqual(len(rules.ignore), known + 2)
                    self.assertEqual(len(rules.response_fields), text.count("x: $.x"))
                    for comment in ("# top", "# why", "# the end", "# on tables"):
                        self.assertEqual(changed.count(comment), text.count(comment))


class WhatIsRead(FolderCase):
    """What counts as read, and what is reported since nobody decided about it."""

    def unread(self, rules: str, *documents: Any, **files: Any) -> dict[str, int]:
        for number, document in enumerate(documents):
            self.file(f"in/{number}.json", json.dumps(document))
        for name, document in files.items():
            self.file(f"in/{name}.json", json.dumps(document))
        found = drift(
            parse_rules(rules_text(rules)), find_sources([self.folder / "in"])
        )
        return {one.path: one.count for one in found.unread}

    def test_what_holds_nothing_is_nothing_to_be_read_until_it_holds_something(
        self,
    ) -> None:
        rules = 'tables: {t: {rows: "$[*]", fields: {a: $.a}}}'
        empty: list[Any] = [
            {
                "a": 1,
                "b": None,
                "c": [],
                "d": {},
                "e": "",
                "f": 0,
                "g": False,
                "h": [[]],
            }
        ]
        self.assertEqual(
            self.unread(rules, empty), {"$[*].f": 1, "$[*].g": 1, "$[*].h": 1}
        )
        self.assertEqual(
            self.unread(
                rules, [{"a": 1, "b": 2, "c": [3], "d": {"x": 1}, "e": "late"}]
            ),
            {"$[*].b": 1, "$[*].c": 1, "$[*].d": 1, "$[*].e": 1},
        )

    def test_of_several_kinds_of_responses_each_is_held_against_the_tables_that_read_it(
        self,
    ) -> None:
        rules = """
            response: {kinds: {ports: {files: "p*"}, calls: {files: "c*"}}}
            tables:
              ports: {kind: ports, rows: "$.rows[*]", fields: {code: $.code}}
              calls: {kind: calls, rows: "$.rows[*]", fields: {no: $.no}}
            """
        row = {"rows": [{"code": "OTV", "no": 1}]}
        self.assertEqual(
            self.unread(rules, p=row, c=row), {"$.rows[*].code": 1, "$.rows[*].no": 1}
        )

    def test_what_is_counted_and_what_conditions_look_at_is_read_but_not_what_stands_below(
        self,
    ) -> None:
        rules = """
            tables:
              t:
                rows: "$.rows[?@.ok == true && $.on]"
                when: "@.state != 'off' && @.seen"
                fields:
                  a: {at: "$.list[*]", take: count}
                  b: {at: "$.ids[?@.type == 'main'].value"}
                  all: {at: $.raw, type: json}
            """
        row = {
            "ok": True,
            "state": "on",
            "seen": {"by": "x"},
            "list": [{"x": 1}, 7],
            "ids": [{"type": "main", "value": 1, "of": 2}],
            "raw": {"deep": {"er": 1}},
        }
        self.assertEqual(
            self.unread(rules, {"on": 1, "off": 2, "rows": [row]}),
            {
                "$.off": 1,
                "$.rows[*].ids[*].of": 1,
                "$.rows[*].list[*].x": 1,
                "$.rows[*].seen.by": 1,
            },
        )

    def test_a_document_is_looked_at_to_its_end_however_long_it_is(self) -> None:
        """Cut into many parts, or as lines: the same counts, and a member that comes twice near the
        end.
        """
        ports = [{"code": str(number), "name": "x" * 40} for number in range(3000)]
        text = json.dumps({"day": 1, "ports": ports}).replace(
            '"2990", ', '"2990", "late": 7, "code": "2990", '
        )
        self.file("whole.json", text)
        self.file(
            "lines.jsonl",
            text.partition("[")[2].rpartition("]")[0].replace("}, {", "}\n{"),
        )
        rules = 'tables: {t: {rows: "ROWS", fields: {code: $.code}}}'
        for rows, name, below in (
            ("$.ports[*]", "whole.json", "$.ports[*]."),
            ("$", "lines.jsonl", "$."),
        ):
            with self.subTest(name):
                source = find_sources([self.folder / name])
                run = looking_at_all(
                    parse_rules(rules_text(rules.replace("ROWS", rows))),
                    source,
                    batch_bytes=4000,
                )
                for _ in run.batches():
                    pass
                expected = {
                    f"{below}name": 3000,
                    f"{below}late": 1,
                    **({"$.day": 1} if name == "whole.json" else {}),
                }
                self.assertEqual(dict(run.sample.unread), expected)
                [twice] = run.sample.twice
                self.assertEqual(
                    twice.path,
                    "$['ports'][2990]['code']" if name == "whole.json" else "$['code']",
                )


class OnTheCommandLine(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file("ferry.rules.yaml", rules_text(RULES) + "# kept\n")
        self.file("a.json", json.dumps({"ports": PORTS}))

    def test_what_is_new_is_shown_with_what_to_type_next(self) -> None:
        done = self.typed("check", "ferry.rules.yaml", "a.json")
        self.assertEqual(done.returncode, 1)
        for line in (
            '  $.ports[*].owner  2  e.g. {"id":1}',
            "  ports.owner  $.ownr  ferry.rules.yaml:14  $.ownr is not there; did you mean $.owner?",
            '  ports.state  "sunk"  2  not in state',
            '  ports.lit   1 of 4  not-a-boolean  e.g. "perhaps"',
            "      $.ports[2].lit in a.json, document 1",
            '  ports.depth  1 of 4  not-a-number  e.g. "deep"',
            "1 document: 2 paths read by no rule, 1 rule without effect, 2 new words, 2 kinds of misfits",
        ):
            self.assertIn(line, done.stdout.splitlines())
        self.assertIn(
            "  mukret check ferry.rules.yaml a.json --ignore-now", done.stderr
        )
        report = json.loads(
            self.typed("check", "ferry.rules.yaml", "a.json", "--json").stdout
        )
        self.assertEqual(
            [one["path"] for one in report["responses"]["unread"]],
            ["$.ports[*].owner", "$.ports[*].piers"],
        )

    def test_ignore_now_changes_the_rules_file_and_nothing_else_in_it(self) -> None:
        before = (self.folder / "ferry.rules.yaml").read_text()
        done = self.typed("check", "ferry.rules.yaml", "a.json", "--ignore-now")
        self.assertIn("ferry.rules.yaml: 2 paths more under ignore", done.stderr)
        after = (self.folder / "ferry.rules.yaml").read_text()
        added = [line for line in after.splitlines() if line not in before.splitlines()]
        self.assertEqual(
            added,
            [
                "response:",
                "  ignore:",
                '    - "$.ports[*].owner"',
                '    - "$.ports[*].piers"',
                "",
            ],
        )
        self.assertNotIn(
            "Read by no rule", self.typed("check", "ferry.rules.yaml", "a.json").stdout
        )
        self.assertEqual(
            sorted(path.name for path in self.folder.iterdir()),
            ["a.json", "ferry.rules.yaml"],
        )
        self.assertEqual(
            self.typed("check", "ferry.rules.yaml", "--ignore-now").returncode, 2
        )
