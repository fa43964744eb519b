"""Documents decoded as far as the rules read them: what is kept, what is not, and when all of a document is decoded."""

from __future__ import annotations

import json
import re
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from msgspec import UNSET, Struct, structs

from mukret.documents import decode, find_sources
from mukret.documents.doubled import is_sampled
from mukret.engine.run import Run
from mukret.errors import InputError
from mukret.plan.compiled import make_plan
from mukret.plan.projection import projection_for
from mukret.rules import load_rules, parse_rules
from tests.helpers import FolderCase, rules_text

ROOT = Path(__file__).parent.parent
PORTS = """
    tables:
      ports:
        rows: "$.ports[*]"
        fields: {code: $.code, calls: {at: "$.sailings[*]", take: count}}
      sailings: {within: ports, rows: "$.sailings[*]", fields: {no: $.no, first: "$.decks[0].name"}}
      fares: {within: sailings, rows: "$.fares.*", fields: {fare: {at: $}}}
    """
DOCUMENT = {
    "meta": {"page": 1},
    "ports": [{"code": "OTV", "name": "x", "sailings": [{"no": 1, "to": "y", "decks": [{"name": "car", "cars": 2}], "fares": {"adult": {"kr": 1}}}]}],
}  # fmt: skip


def plain(node: Any) -> Any:
    """A node with records as dicts."""
    if isinstance(node, Struct):
        members = {field.encode_name: getattr(node, field.name) for field in structs.fields(node)}
        return {name: plain(value) for name, value in members.items() if value is not UNSET}
    if type(node) is dict:
        return {name: plain(value) for name, value in node.items()}
    return [plain(element) for element in node] if type(node) is list else node


class Projections(FolderCase):
    def test_only_what_is_read_is_kept_and_what_is_counted_is_there(self) -> None:
        projection = projection_for(parse_rules(rules_text(PORTS)))
        assert projection is not None
        kept = {
            "ports": [
                {"code": "OTV", "sailings": [{"no": 1, "decks": [{"name": "car"}], "fares": {"adult": {"kr": 1}}}]}
            ]
        }
        self.assertEqual(plain(projection.decode(json.dumps(DOCUMENT).encode())), kept)
        self.assertEqual(plain(projection.converted(DOCUMENT)), kept)
        for odd in (
            '{"ports": 7}',
            '{"ports": {"a": "x"}}',
            '{"ports": ["x", null, [1.50, {"b": 2}]]}',
            "[1, 2.50]",
            "null",
            '"x"',
        ):
            with self.subTest(odd):
                self.assertEqual(plain(projection.decode(odd.encode())), decode(odd.encode()))
        self.assertEqual(plain(projection.decode(b'{"ports": [2.5]}')), {"ports": [2.5]})

    def test_what_the_decoder_would_skip_without_a_look_makes_it_a_document_to_decode_in_full(self) -> None:
        projection = projection_for(parse_rules(rules_text(PORTS)))
        assert projection is not None
        for raw in (
            b'{"x": "\xff"}',
            b'{"x": ' + b"9" * 4301 + b"}",
            b'{"x": 1,}',
            b'{"x": "\\ud800"}',
        ):
            with self.subTest(raw[:20]), self.assertRaises(ValueError):
                projection.decode(raw)

    def test_rules_that_may_look_anywhere_have_none(self) -> None:
        for table in (
            "fields: {a: {at: $, type: json}}",
            "rows: '$[?@.a == $.b]', fields: {a: $.a}",
            "rows: $.a, when: '@.b == $.c', fields: {a: $.a}",
            "rows: '$..a', fields: {a: $.a}",
            "rest: r, fields: {a: $.a}",
        ):
            with self.subTest(table):
                self.assertIsNone(projection_for(parse_rules(rules_text(f"tables: {{t: {{{table}}}}}"))))
        kinds = 'response: {kinds: {k: {when: "@.a"}}}\ntables: {t: {kind: k, fields: {a: $.a}}}'
        self.assertIsNone(projection_for(parse_rules(rules_text(kinds))))

    def test_hints_name_members_that_only_documents_decoded_in_full_have(self) -> None:
        rules = parse_rules(rules_text('tables: {t: {rows: "$.port[*]", fields: {a: $.a}}}'))
        lines = "\n".join(json.dumps(DOCUMENT) for _ in range(30))
        run = Run(rules, find_sources([self.file("a.jsonl", lines)]))
        with self.assertRaises(InputError) as caught:
            list(run.batches())
        self.assertEqual(caught.exception.hint, "$.port is not there; did you mean $.ports?")

    def test_most_tables_of_the_sample_and_of_the_documentation_take_the_quick_way_and_verbose_says_which(self) -> None:
        """A third or more on the slow way would be a defect."""
        page = (ROOT / "docs/rules-reference.md").read_text(encoding="utf-8")
        self.mukret("demo")
        sample = load_rules(self.folder / "merrow-demo/merrow.rules.yaml")
        self.assertIsNotNone(projection_for(sample))
        texts = [
            text
            for text in re.findall(r"^```yaml rules\n(.*?)^```$", page, re.MULTILINE | re.DOTALL)
            if ".yaml" not in text and ".csv" not in text
        ]
        plans = [plan for rules in (sample, *map(parse_rules, texts)) for plan in make_plan(rules).tables]
        slow = [plan.table.name for plan in plans if plan.slow]
        self.assertGreater(len(plans), 40)
        self.assertLess(len(slow), len(plans) / 3, slow)
        told = self.mukret("extract", "merrow-demo/merrow.rules.yaml", "merrow-demo/feed", "--to", "out", "-v").stderr
        for line in (
            "documents are decoded as far as the rules read them",
            "zones: rows one by one (recurse)",
            "sailings: generated code",
        ):
            self.assertIn(f"\n  {line}\n", told)

    def test_files_of_one_document_are_decoded_in_part_too_but_for_archives(self) -> None:
        rules = parse_rules(rules_text(PORTS))
        self.file("in/00.har", json.dumps({"log": {"version": "1.2", "creator": {}, "entries": []}}))
        for number in range(1, 30):
            self.file(f"in/{number:02}.json", json.dumps(DOCUMENT))
        run = Run(rules, find_sources([self.folder / "in"]))
        parts = [[n for n in range(len(b.documents)) if b.in_part(n) is not None] for b in run.read(is_sampled)]
        self.assertEqual(parts, [list(range(29))])
        run = Run(rules, find_sources([self.folder / "in"]))
        found = [row for output in run.batches() for row in output.tables["ports"].to_pylist()]
        self.assertEqual(found, [{"code": "OTV", "calls": 1}] * 29)

    def test_bad_documents_are_the_same_ones(self) -> None:
        lines = ['{"ports": []}', '{"x": "\udcff"}', '{"x": [1,]}', '{"ports": 2.5}', '{"x": ' + "9" * 5000 + "}"]
        file = self.file("a.jsonl", "\n".join(lines).encode("utf-8", "surrogateescape"))
        found = []
        for sampled in (True, False):
            with mock.patch("mukret.engine.run.is_sampled", lambda number, sampled=sampled: sampled):
                run = Run(parse_rules(rules_text(PORTS)), find_sources([file]))
                found.append(
                    [(reject.document, reject.problems) for output in run.batches() for reject in output.rejects]
                )
        self.assertEqual([document for document, _ in found[0]], [2, 3, 4, 5])
        self.assertEqual(found[1], found[0])


if __name__ == "__main__":
    unittest.main()
