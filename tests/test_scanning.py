"""The scanner: it takes what is JSON and nothing else, and finds what the plain paths find; and the
runs that use it.
"""

from __future__ import annotations

import json
import os
import random
import re
import unittest
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from mukret.columns.cells import value_of
from mukret.documents import NotJson, decode, find_sources
from mukret.engine.run import Run
from mukret.engine.scanned import ScannedBatch
from mukret.errors import InputError
from mukret.paths import parse_path
from mukret.plan.compiled import make_plan
from mukret.rules import load_rules, parse_rules
from mukret.scan import Cells, Program, Scan, counted_lines
from mukret.scan.program import CellEnd, Met, Noted, Route, RowEnd, TableShape, compiled
from mukret.values import JsonValue, json_text
from tests.evaluators import EvaluatorsCase
from tests.helpers import FolderCase, rules_text
from tests.random_feeds import seeded_feeds
from tests.test_two_evaluators import SEED

ROOT = Path(__file__).parent.parent
DOUBLED_FEEDS = 150
MUTANTS = int(os.environ.get("MUKRET_MUTANTS", "10000"))
NAMES = ["a", "b", "", "d e", "ü", 'say "so"', "n\\t"]
ROW_PATHS = [
    "$",
    "$.a",
    "$.a[*]",
    "$.*",
    "$[*].a",
    "$.a.b[*]",
    "$['']",
    "$.ü.*",
    "$[1]",
    "$[0][*]",
]
CELL_PATHS = [
    "$",
    "$.a",
    "$.b",
    "$.a.b",
    "$[0]",
    "$.a[2].b",
    "$['say \"so\"']",
    "$['n\\\\t']",
    "$['d e'][1]",
    "$.ü",
]
TEXTS = [
    '{"a": [1, -2.5e-3, "x\\n\\u00e9\\ud83d\\ude00", {"b": null}, []], "b": {"a": true, "": false}}',
    '[{"a": {"b": [1, 2, {}]}}, [[["ü", "\u2028"]]], "", 0, -0, 1e400]',
    '{"\\u0061": 1, "d e": [0, "y"], "say \\"so\\"": 2, "n\\\\t": 3, "ü": {"x": {"a": 1}}}',
    '"plain"', "12", "null", " [ ] ", '{"a":{}}', '{"a":1,"a":2}', '{"a":[1],"a":[2]}', '{"z":1,"z":[2],"a":{"b":1}}',
    "[" * 40 + "]" * 40, '{"b":' * 30 + "1" + "}" * 30,
]  # fmt: skip


def program(rows: str, cells: list[str]) -> Program:
    """One of a table with a column for each path, and all that is met."""
    routes = [Route(0, parse_path(rows).segments, RowEnd(1), Met(1))]
    for number, path in enumerate(cells):
        routes.append(
            Route(1, parse_path(path).segments, CellEnd(1, number), Noted(1, number))
        )
    return compiled([TableShape(0, 0), TableShape(0, len(cells), named=True)], routes)


def column(scan: Scan, number: int) -> list[JsonValue]:
    cells = Cells(scan.buffer, *scan.column(1, number), scan.count(1))
    return [value_of(cells, row) for row in range(cells.count)]


def random_value(rng: random.Random, depth: int) -> JsonValue:
    kind = rng.randrange(6 if depth else 3)
    if kind < 3:
        return rng.choice([None, True, 0, -7, 12, "", "x", "é\n", 10**17, [], {}])
    if kind == 3:
        return [random_value(rng, depth - 1) for _ in range(rng.randrange(4))]
    return {
        rng.choice(NAMES): random_value(rng, depth - 1) for _ in range(rng.randrange(5))
    }


class Scans(unittest.TestCase):
    def test_rows_cells_and_what_was_met_are_those_of_the_paths(self) -> None:
        rng = random.Random(20310401)
        seen = {"rows": 0, "values": 0, "met": 0, "noted": 0}
        for _ in range(4000):
            rows_path = rng.choice(ROW_PATHS)
            paths = rng.sample(CELL_PATHS, rng.randint(1, 4))
            document = random_value(rng, 4)
            text = json.dumps(
                document, ensure_ascii=rng.random() < 0.5, indent=rng.choice([None, 1])
            ).encode()
            scan = Scan(program(rows_path, paths), text)
            self.assertTrue(scan.document(0, len(text)), text)
            expected = parse_path(rows_path).explored(document)
            nodes = [item.value for item in expected]
            told = (rows_path, paths, document)
            self.assertEqual(scan.count(1), len(nodes), told)
            found = Cells(text, *scan.nodes(1), scan.count(1))
            self.assertEqual(
                [value_of(found, row) for row in range(found.count)], nodes, told
            )
            met = [row for row, item in enumerate(expected) if item.step is not None]
            self.assertEqual([row for row, _ in scan.met(1)], met, told)
            noted = {
                number: {row for row, source in scan.events(1) if source == number}
                for number in range(len(paths))
            }
            for number, path in enumerate(paths):
                reached = [
                    parse_path(path).explored(node) if row not in met else []
                    for row, node in enumerate(nodes)
                ]
                values = [
                    next((item.value for item in items if item.step is None), None)
                    for items in reached
                ]
                self.assertEqual(column(scan, number), values, (path, *told))
                self.assertEqual(
                    noted[number],
                    {
                        row
                        for row, items in enumerate(reached)
                        if any(i.step for i in items)
                    },
                )
                seen["values"] += sum(value is not None for value in values)
                seen["noted"] += len(noted[number])
            seen["rows"] += len(nodes)
            seen["met"] += len(met)
        self.assertGreater(min(seen.values()), 300, seen)

    def test_mutated_documents_are_taken_if_and_only_if_they_are_json(self) -> None:
        """But for members that come twice above what is read:
        those documents are left to others.
        """
        rng = random.Random(int(os.environ.get("MUKRET_SEED", "20310402")))
        programs = [program(rows, CELL_PATHS) for rows in ROW_PATHS]
        taken = left = 0
        for _ in range(MUTANTS):
            text = bytearray(rng.choice(TEXTS).encode())
            for _ in range(rng.randint(0, 3)):
                place = rng.randrange(len(text) + 1)
                text[place : place + rng.randint(0, 2)] = rng.choice(
                    [b"", b'"', b"\\", b"\\ud800", b"\xc3", b"\xff", b",", b":", b"}", b"[", b"0", b"-", b"e", b".", b"\n", b"\x00", b"null", b" "]
                )  # fmt: skip
            raw = bytes(text)
            try:
                decode(raw)
                is_json = not raw.startswith(b"\xef\xbb\xbf")
            except NotJson:
                is_json = False
            scan = Scan(rng.choice(programs), raw)
            found = scan.document(0, len(raw))
            taken += found
            if is_json and not found:
                left += 1
                self.assertTrue(self.has_twice(raw), raw)
            else:
                self.assertEqual(found, is_json, raw)
            self.assertEqual(scan.count(1) > 0 and not found, False)
        self.assertGreater(taken, MUTANTS // 10)
        self.assertLess(left, MUTANTS // 4)

    @staticmethod
    def has_twice(raw: bytes) -> bool:
        twice: list[str] = []

        def members(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
            names = [name for name, _ in pairs]
            twice.extend(name for name in names if names.count(name) > 1)
            return dict(pairs)

        json.loads(raw, object_pairs_hook=members)
        return bool(twice)

    def test_limits(self) -> None:
        made = program("$.a", ["$.b"])
        for text, found in (
            ("[" * 800 + "]" * 800, True),
            ("[" * 1200 + "]" * 1200, False),
            ('{"a":' * 1200 + "1" + "}" * 1200, False),
            ("9" * 4300, True),
            ("9" * 4301, False),
            ("[" * 100_000, False),
        ):
            self.assertEqual(
                Scan(made, text.encode()).document(0, len(text)), found, text[:20]
            )
        scan = Scan(made, b"[]")
        for wrong in (lambda: scan.document(0, 3), lambda: scan.column(1, 1), lambda: scan.count(2), lambda: scan.lines(2, 1)):  # fmt: skip
            self.assertRaises(IndexError, wrong)
        with self.assertRaises(IndexError):
            Cells(b"[]", b"\x00", b"", b"", 1)

    def test_an_object_with_very_many_members_is_read_and_one_that_comes_twice_is_seen(
        self,
    ) -> None:
        made = program("$.*", ["$"])
        for count in (5, 64, 65, 70_000):
            text = json_text({f"n{number}": number for number in range(count)})
            scan = Scan(made, text.encode())
            self.assertTrue(scan.document(0, len(text)))
            self.assertEqual(column(scan, 0), list(range(count)))
            twice = f'{text[:-1]},"n{count - 2}":1}}'
            self.assertFalse(Scan(made, twice.encode()).document(0, len(twice)))

    def test_lines_are_read_up_to_one_that_is_wrong_and_nothing_of_it_stays(
        self,
    ) -> None:
        text = b'{"a":[1,2]}\n\n \t\n{"a":[3,{"b":4}}\r\n{"a":[5]}\n7'
        scan = Scan(program("$.a[*]", ["$"]), text)
        wrong = scan.lines(0, len(text))
        self.assertEqual(
            (text[wrong:][:8], scan.count(0), column(scan, 0)), (b'{"a":[3,', 1, [1, 2])
        )
        self.assertEqual(scan.lines(text.index(b"\n", wrong) + 1, len(text)), len(text))
        self.assertEqual(
            (scan.count(0), column(scan, 0), scan.met(1)),
            (3, [1, 2, 5, None], [(3, 0)]),
        )
        self.assertEqual(counted_lines(text), (5, 4))
        self.assertEqual([counted_lines(one) for one in (b"", b"\n", b"\x0b\n1", b"1\n")], [(0, 0), (1, 0), (1, 1), (1, 1)])  # fmt: skip


class Twice(EvaluatorsCase):
    def test_members_that_come_twice(self) -> None:
        """The last one counts, in the place of the first, whatever hangs on it."""
        rules = rules_text("""
            tables:
              ports: {rows: "$.ports[*]", fields: {code: $.code, deep: $.at.x}}
              lines: {within: ports, rows: "$.lines.*", fields: {name: {fact: name}, no: {at: $, type: integer}}}
            """)
        lines = [
            '{"ports": [{"code": "A", "code": "B"}]}',
            '{"ports": [{"at": {"x": 1}, "at": {}}]}',
            '{"ports": [{"at": {"x": 1}, "at": 7}]}',
            '{"ports": [{"lines": {"a": 1, "b": 2, "a": 3}}]}',
            '{"ports": [{"lines": {"a": 1}, "lines": {"c": 2}}]}',
            '{"ports": [{"code": "A"}], "ports": []}',
            '{"ports": [{"code": "A"}], "p\\u006frts": [{"code": "C"}]}',
            '{"x": 1, "x": 2, "ports": [{"code": "D"}]}',
        ]
        rows, _ = self.compare(rules, lines)
        self.assertEqual(
            [row["code"] for row in rows["ports"]], ["B", None, None, None, "C", "D"]
        )
        self.assertEqual(
            [(row["name"], row["no"]) for row in rows["lines"]],
            [("a", 3), ("b", 2), ("c", 2)],
        )

    def test_random_feeds_with_members_doubled(self) -> None:
        rng = random.Random(20310403)
        for feed in seeded_feeds(DOUBLED_FEEDS, SEED):
            lines = []
            for line in feed.lines:
                try:
                    lines.append(doubled(rng, decode(line.encode())))
                except NotJson:
                    lines.append(line)
            self.compare(feed.rules_text, lines)

    def test_null_is_there_and_what_is_missing_is_not(self) -> None:
        rules = rules_text(
            'tables: {t: {rows: "$[?@.a]", when: "@[\'b\'] != 1", fields: {no: $.no}}}'
        )
        lines = [
            '[{"no": 1}, {"a": null, "no": 2}, {"a": 0, "b": 1, "no": 3}, {"no": 4}, {"a": null, "b": null, "no": 5}]'
        ]
        rows, _ = self.compare(rules, lines)
        self.assertEqual([row["no"] for row in rows["t"]], ["2", "5"])


def doubled(rng: random.Random, value: JsonValue) -> str:
    """The JSON text of a value, in which some members come twice."""
    if type(value) is list:
        return f"[{','.join(doubled(rng, element) for element in value)}]"
    if type(value) is not dict:
        return json_text(value)
    members = [(name, doubled(rng, member)) for name, member in value.items()]
    if members and rng.random() < 0.25:
        name, member = rng.choice(members)
        other = rng.choice([member, "null", '"z"', "[1]", "{}"])
        members.insert(rng.randrange(len(members) + 1), (name, other))
    return f"{{{','.join(f'{json.dumps(name)}:{member}' for name, member in members)}}}"


class Runs(FolderCase):
    PORTS = """
        tables:
          ports:
            rows: "$.ports[*]"
            fields: {code: $.code, calls: {at: "$.sailings[*]", take: count}}
          sailings: {within: ports, rows: "$.sailings[*]", fields: {no: $.no, first: "$.decks[0].name"}}
        """
    DOCUMENT: ClassVar[dict[str, Any]] = {"meta": {"page": 1}, "ports": [{"code": "OTV", "sailings": [{"no": 1, "decks": [{"name": "car"}]}]}]}  # fmt: skip

    def scanned(self, rules: str) -> dict[str, tuple[str, ...]]:
        """The tables, with what of each is found one by one."""
        plan = make_plan(parse_rules(rules_text(rules)))
        self.assertEqual(plan.scan is None, plan.response.scan is None)
        return {table.table.name: table.slow for table in plan.tables}

    def test_what_is_found_by_the_scan_and_what_is_not(self) -> None:
        for table, found in (
            (
                "rows: '$.a[*]', fields: {a: $.a, b: {at: '$.c[*].d', take: all, type: list(text)}}",
                True,
            ),
            (
                "rows: '$[?@.a == 1 && @.b.c]', when: '@.d[0] > 2', fields: {a: {at: [$.a, '$.n[?@.k==1].v']}}",
                True,
            ),
            ("rows: '$[?@.a == $.b]', fields: {a: $.a}", False),
            ("rows: $.a, when: '@.b == $.c', fields: {a: $.a}", False),
            ("rows: '$..a', fields: {a: $.a}", False),
            ("rows: '$.a[*]', fields: {a: '$.x[-1]'}", False),
            ("rows: '$.a[*]', recurse: $.a, fields: {a: $.x}", False),
        ):
            with self.subTest(table):
                self.assertEqual(
                    self.scanned(f"tables: {{t: {{{table}}}}}")["t"] == (), found
                )
        embedded = "response: {embedded: '$..a'}\ntables: {t: {fields: {a: $.a}}}"
        self.assertIsNone(make_plan(parse_rules(rules_text(embedded))).scan)

    def test_most_tables_of_the_sample_and_of_the_documentation_are_scanned_and_verbose_says_which(
        self,
    ) -> None:
        """A third or more on the slow way would be a defect."""
        page = (ROOT / "docs/rules-reference.md").read_text(encoding="utf-8")
        self.demo()
        sample = load_rules(self.folder / "merrow-demo/merrow.rules.yaml")
        texts = [
            text
            for text in re.findall(
                r"^```yaml rules\n(.*?)^```$", page, re.MULTILINE | re.DOTALL
            )
            if ".yaml" not in text and ".csv" not in text
        ]
        plans = [
            plan
            for rules in (sample, *map(parse_rules, texts))
            for plan in make_plan(rules).tables
        ]
        slow = [plan.table.name for plan in plans if plan.slow]
        self.assertGreater(len(plans), 40)
        self.assertLess(len(slow), len(plans) / 3, slow)
        told = self.mukret(
            "extract",
            "merrow-demo/merrow.rules.yaml",
            "merrow-demo/feed",
            "--to",
            "out",
            "-v",
        ).stderr
        for line in (
            "documents are scanned for what the rules read",
            "zones: rows one by one (recurse)",
            "sailings: scanned",
        ):
            self.assertIn(f"\n  {line}", told)

    def test_hints_name_members_that_only_documents_decoded_in_full_have(self) -> None:
        rules = parse_rules(
            rules_text('tables: {t: {rows: "$.port[*]", fields: {a: $.a}}}')
        )
        lines = "\n".join(json.dumps(self.DOCUMENT) for _ in range(30))
        with self.assertRaises(InputError) as caught:
            list(Run(rules, find_sources([self.file("a.jsonl", lines)])).batches())
        self.assertEqual(
            caught.exception.hint, "$.port is not there; did you mean $.ports?"
        )

    def test_files_of_one_document_are_scanned_together_archives_and_marks_at_the_beginning_too(
        self,
    ) -> None:
        rules = parse_rules(rules_text(self.PORTS))
        self.file(
            "in/00.har",
            json.dumps({"log": {"version": "1.2", "creator": {}, "entries": []}}),
        )
        for number in range(1, 30):
            mark = "\ufeff" if number == 7 else ""
            self.file(f"in/{number:02}.json", mark + json.dumps(self.DOCUMENT))
        run = Run(rules, find_sources([self.folder / "in"]))
        batches = [rows.batch for rows in run.decided_rows()]
        self.assertTrue(all(isinstance(batch, ScannedBatch) for batch in batches))
        self.assertEqual([len(batch.documents) for batch in batches], [29])
        self.assertEqual(batches[0].whole(6), self.DOCUMENT)
        run = Run(rules, find_sources([self.folder / "in"]))
        found = [
            row
            for output in run.batches()
            for row in output.tables["ports"].to_pylist()
        ]
        self.assertEqual(found, [{"code": "OTV", "calls": 1}] * 29)

    def test_bad_documents_are_told_with_their_places_whoever_sees_them(self) -> None:
        lines = [
            '{"ports": []}',
            '{"x": "\udcff"}',
            "",
            '{"x": [1,]}',
            '{"ports": 2.5}',
            '{"x": ' + "9" * 5000 + "}",
        ]
        file = self.file("a.jsonl", "\n".join(lines).encode("utf-8", "surrogateescape"))
        found = []
        for scanned in (True, False):
            run = Run(parse_rules(rules_text(self.PORTS)), find_sources([file]))
            with (
                mock.patch.object(Scan, "lines", None)
                if False
                else mock.patch.object(
                    run.plan, "scan", run.plan.scan if scanned else None
                )
            ):
                rejects = [
                    reject for output in run.batches() for reject in output.rejects
                ]
            found.append(
                [
                    (reject.document, reject.problems, reject.line())
                    for reject in rejects
                ]
            )
        self.assertEqual([document for document, *_ in found[0]], [2, 3, 4, 5])
        self.assertEqual(found[1], found[0])


if __name__ == "__main__":
    unittest.main()
