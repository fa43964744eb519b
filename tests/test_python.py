"""What programs call: files, responses in hand, a single one; and its page."""

from __future__ import annotations

import gzip
import io
import json
import subprocess
import sys
import threading
import unittest
from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from pathlib import Path
from random import Random
from typing import Any
from unittest import mock

import mukret
from mukret.documents.blocks import BLOCK_BYTES
from mukret.engine.run import Run
from mukret.rules import parse_rules
from tests.helpers import FolderCase, rules_text
from tests.test_documentation import blocks

RULES = parse_rules(
    rules_text("""
        enums: {state: {values: {boarding: {}, departed: {accept: [DEP]}}}}
        response: {fields: {asked: {fact: url}}}
        tables:
          ports: {rows: "$.ports[*]", inherit: [asked], key: [code], fields: {code: {at: $.code, required: true}}}
          hidden: {within: ports, rows: "$.quays[*]", fields: {n: {at: $.n, keep: false}}}
          sailings:
            within: hidden
            rows: "$.sailings[*]"
            inherit: [code]
            fields:
              id: {at: $.id, type: integer}
              fare: {at: $.fare, type: "decimal(9,2)"}
              load: {at: $.load, type: float}
              state: {at: $.state, type: state}
              day: {at: $.day, type: date}
              clock: {at: $.clock, type: time}
              local: {at: $.local, type: datetime}
              moment: {at: $.moment, type: timestamp}
              took: {at: $.took, type: duration}
              tags: {at: $.tags, type: list(text)}
              rest: {at: $.rest, type: json}
              double: {compute: "2 * fare"}
        """)
)
SAILING: dict[str, Any] = {
    "id": "1", "fare": Decimal("12.50"), "load": 0.5, "state": "DEP", "day": "2031-04-01", "clock": "10:22",
    "local": "2031-04-01T10:22", "moment": "2031-04-01T10:22:00+02:00", "took": "PT1H", "tags": ["a"],
    "rest": {"a": [Decimal("1.10"), 2]},
}  # fmt: skip
DOCUMENT: dict[str, Any] = {
    "ports": [
        {
            "code": "OTV",
            "quays": [
                {"n": 1, "sailings": [SAILING, {"id": "x"}]},
                {"n": 2, "sailings": [{"id": 2}]},
            ],
        },
        {"quays": [{"sailings": [{"id": 3}]}]},
        {"code": "SKR"},
    ]
}
EXPECTED = {
    "code": "OTV", "id": 1, "fare": Decimal("12.50"), "load": 0.5, "state": "departed", "day": date(2031, 4, 1),
    "clock": time(10, 22), "local": datetime(2031, 4, 1, 10, 22), "moment": datetime(2031, 4, 1, 8, 22, tzinfo=UTC),
    "took": timedelta(hours=1), "tags": ["a"], "rest": {"a": [Decimal("1.10"), 2]}, "double": Decimal("25.00"),
}  # fmt: skip


def as_text(document: Any) -> str:
    return json.dumps(document, default=float)


class InHand(FolderCase):
    def test_records_have_pythons_types_and_nested_ones_those_within(self) -> None:
        result = mukret.extract(
            RULES, documents=DOCUMENT, origin="https://isles.example/ports"
        )
        one = mukret.extract_one(
            RULES, DOCUMENT, origin=mukret.Origin("https://isles.example/ports")
        )
        for found in (result, one):
            self.assertEqual(found.records("sailings")[0], EXPECTED)
            self.assertEqual([row["id"] for row in found.records("sailings")], [1, 2])
            self.assertEqual(
                found.records("ports")[0],
                {"asked": "https://isles.example/ports", "code": "OTV"},
            )
            nested = found.nested("ports")
            self.assertEqual([row["code"] for row in nested], ["OTV", "SKR"])
            self.assertEqual([row["id"] for row in nested[0]["sailings"]], [1, 2])
            self.assertEqual(nested[1]["sailings"], [])
            codes = {
                (reject.table, reject.problems[0].code) for reject in found.rejects
            }
            rejected = {("hidden", "parent-rejected"), ("sailings", "parent-rejected")}
            self.assertEqual(
                codes, {("ports", "required"), ("sailings", "not-a-number"), *rejected}
            )

    def test_every_way_to_give_documents_gives_the_same(self) -> None:
        text = as_text(DOCUMENT)
        other = '{"ports": [{"code": "LUN"}]}'
        path = self.file("a.json", text)

        def pages() -> Iterator[Any]:
            yield DOCUMENT
            yield other.encode()

        with open(path, encoding="utf-8") as file, open(path, "rb") as raw:
            for documents in (
                pages(),
                [text, other],
                (text.encode(), bytearray(other.encode())),
                [file, io.StringIO(other)],
                [raw, json.loads(other)],
                f"{text}\n{other}\n",
                io.BytesIO(f"\ufeff{text}\n\n{other}".encode()),
                [json.dumps(json.loads(text), indent=2), f"  {other}\n"],
            ):
                found = mukret.extract(RULES, documents=documents)
                self.assertEqual(
                    [row["code"] for row in found.records("ports")],
                    ["OTV", "SKR", "LUN"],
                )
                self.assertEqual(found.records("sailings")[0], EXPECTED)
                self.assertEqual({reject.document for reject in found.rejects}, {1})
        files = mukret.extract(
            RULES, [path, self.file("b.json.gz", gzip.compress(other.encode()))]
        )
        self.assertEqual(
            [row["code"] for row in files.records("ports")], ["OTV", "SKR", "LUN"]
        )

    def test_decimals_are_taken_digit_for_digit(self) -> None:
        rules = parse_rules(rules_text('tables: {t: {rows: "$[*]", fields: {a: $.a}}}'))
        for value, text in (
            ("1.10", "1.10"),
            ("-0", "-0"),
            ("1E+3", "1E+3"),
            ("7", "7"),
            ("1E+99999999", "1E+99999999"),
        ):
            document = [{"a": Decimal(value), "b": [1.5, True, None, "é"]}]
            self.assertEqual(
                mukret.extract_one(rules, document).records("t"), [{"a": text}]
            )

    def test_pages_are_taken_when_it_is_their_turn(self) -> None:
        taken: list[int] = []

        def pages() -> Iterator[dict[str, Any]]:
            for number in range(40):
                taken.append(number)
                yield {
                    "ports": [{"code": f"{number}", "more": "x" * (BLOCK_BYTES // 8)}]
                }

        first = next(mukret.stream(RULES, documents=pages()))
        self.assertEqual(first[0], "ports")
        self.assertLess(len(taken), 30)

    def test_rules_that_need_all_documents_before_get_them(self) -> None:
        rules = parse_rules(
            rules_text(
                'tables: {t: {rows: "$[*]", key: [a], duplicates: last, fields: {a: $.a, b: $.b}}}'
            )
        )
        found = mukret.extract(
            rules, documents=([{"a": 1, "b": number}] for number in range(3))
        )
        self.assertEqual(found.records("t"), [{"a": "1", "b": "2"}])

    def test_rows_of_long_documents_in_parts_find_their_parents(self) -> None:
        quays = [
            {"sailings": [{"id": number} for number in range(200)]} for _ in range(3)
        ]
        path = self.file(
            "long.json",
            json.dumps(
                {
                    "ports": [
                        {"code": "A", "quays": quays},
                        {"code": "B", "quays": quays},
                    ]
                }
            ),
        )
        usual = mukret.extract(RULES, path).nested("ports")
        with mock.patch.object(
            Run.__init__,
            "__kwdefaults__",
            {**(Run.__init__.__kwdefaults__ or {}), "batch_bytes": 500},
        ):
            found = mukret.extract(RULES, [path, path])
        self.assertEqual([len(port["sailings"]) for port in usual], [600, 600])
        self.assertEqual(
            [port["code"] for port in found.nested("ports")], ["A", "B"]
        )  # the second file's are duplicates
        self.assertEqual(found.nested("ports"), usual)

    def test_rows_of_random_documents_stand_where_a_single_one_has_them(self) -> None:
        """By columns and links for all of them, by rows and their parents for each."""
        rules = parse_rules(
            rules_text("""
                tables:
                  a: {rows: "$[*]", where: "n <> 3", fields: {n: {at: $.n, type: integer}}}
                  b: {within: a, rows: "$.b[*]", fields: {hidden: {at: $.n, type: integer, keep: false}}}
                  c: {within: b, rows: "$.c[*]", fields: {n: {at: $.n, type: integer}}}
                  d: {within: c, rows: "$.d[*]", where: "n <> 1", fields: {n: {at: $.n, type: integer}}}
                  e: {within: a, rows: "$..e[*]", fields: {n: {at: $.n, type: integer}}}
                """)
        )
        random = Random(20310401)

        def some(*names: str) -> list[dict[str, Any]]:
            below = {name: some(*names[1:]) for name in names[:1]}
            return [{"n": random.choice([1, 2, 3, 4, "x"]), **below, "e": [{"n": 5}] * random.randint(0, 1)}
                    for _ in range(random.randint(0, 3))]  # fmt: skip

        documents = [some("b", "c", "d") for _ in range(60)]
        expected = [
            row
            for document in documents
            for row in mukret.extract_one(rules, document).nested("a")
        ]
        run = mukret.extract(rules, documents=documents)
        self.assertEqual(run.nested("a"), expected)
        self.assertGreater(sum(len(row["c"]) for row in expected), 20)

    def test_what_makes_no_sense_is_an_error_of_the_family(self) -> None:
        calls: list[tuple[dict[str, Any], str]] = [
            (
                {"documents": [{"a": {1, 2}}]},
                "document 1 can't be read as JSON: it holds a set",
            ),
            ({"documents": [1, float("nan")]}, "document 2 can't be read as JSON"),
            (
                {"documents": [{"a": Decimal("Infinity")}]},
                "Infinity is no number of JSON",
            ),
            ({"documents": [{"a": datetime(2031, 4, 1)}]}, "it holds a datetime"),
            (
                {"documents": [{"a": Decimal("1.10"), "b": datetime(2031, 4, 1)}]},
                "document 1 .* it holds a datetime",
            ),
            (
                {"documents": [{"a": [Decimal("1.10"), float("inf")]}]},
                "document 1 can't be read as JSON",
            ),
            (
                {"documents": [{}, b""]},
                "document 2 can't be read as JSON: there is nothing in it",
            ),
            (
                {"documents": iter([io.StringIO("\n ")])},
                "document 1 can't be read as JSON: there is nothing in it",
            ),
            ({"documents": ["\ud800"]}, "half of a surrogate pair"),
            ({"documents": 7}, "it is a int"),
            ({}, "files or documents, one of them"),
            ({"inputs": "a.json", "documents": []}, "files or documents, one of them"),
            ({"inputs": [b"{}"]}, "a path is wanted, not a bytes"),
            ({"inputs": {"ports": []}}, "a path is wanted, not a dict"),
            ({"inputs": "nowhere.json"}, "no such file"),
            ({"documents": "{"}, "no document of the run could be read"),
        ]
        for arguments, message in calls:
            with (
                self.subTest(arguments),
                self.assertRaisesRegex(mukret.MukretError, message),
            ):
                mukret.extract(RULES, **arguments)
        for one, message in (
            ("{", "the document is no JSON"),
            ("{}\n{}", "there are 2 documents in it"),
            (b"", "no JSON"),
        ):
            with self.subTest(one), self.assertRaisesRegex(mukret.MukretError, message):
                mukret.extract_one(RULES, one)
        with self.assertRaisesRegex(mukret.UsageError, "rules are wanted first"):
            mukret.extract("feed.rules.yaml", "a.json")  # type: ignore[arg-type]
        for found in (
            mukret.extract(RULES, documents=[]),
            mukret.extract_one(RULES, {"ports": []}),
        ):
            self.assertEqual(found.records("ports"), [])
            with self.assertRaisesRegex(mukret.UsageError, "no table prots"):
                found.records("prots")

    def test_one_that_the_rules_can_not_read_is_a_reject(self) -> None:
        found = mukret.extract_one(RULES, {"error": "busy"})
        self.assertEqual(
            [(one.table, one.problems[0].code) for one in found.rejects],
            [(None, "nothing-read")],
        )
        self.assertEqual(found.nested("ports"), [])

    def test_calls_of_several_threads_do_not_meet(self) -> None:
        wrong: list[object] = []

        def work(number: int) -> None:
            for _ in range(20):
                found = mukret.extract_one(
                    RULES, {"ports": [{"code": f"{number}"}]}
                ).records("ports")
                if [row["code"] for row in found] != [f"{number}"]:
                    wrong.append(found)

        threads = [threading.Thread(target=work, args=(number,)) for number in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(wrong, [])

    def test_one_is_read_without_arrow(self) -> None:
        self.file(
            "t.rules.yaml", rules_text('tables: {t: {rows: "$[*]", fields: {a: $.a}}}')
        )
        self.file("one.py", "import sys, mukret\n"
                  "found = mukret.extract_one(mukret.load_rules('t.rules.yaml'), [{'a': 1}])\n"
                  "print(found.records('t'), [name for name in sys.modules if name.startswith('pyarrow')])\n")  # fmt: skip
        done = subprocess.run(
            [sys.executable, "one.py"],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(done.stdout, "[{'a': '1'}] []\n")


class Page(FolderCase):
    def test_its_examples_run_one_after_the_other(self) -> None:
        self.demo()
        code = "\n".join(
            content
            for language, _, content in blocks("docs/python.md")
            if language == "python"
        )
        self.file("page.py", code)
        done = subprocess.run(
            [sys.executable, "page.py"],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertEqual(done.stdout.count("sailings "), 2)
        page = (Path(__file__).parent.parent / "docs/python.md").read_text(
            encoding="utf-8"
        )
        for name in mukret.__all__:
            if name.endswith("Error") and name not in (
                "ExpressionError",
                "PathSyntaxError",
            ):
                self.assertIn(f"`{name}", page.replace("`mukret.", "`"))


if __name__ == "__main__":
    unittest.main()
