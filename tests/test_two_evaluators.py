"""The engine, by cells and columns, and the plain reference evaluator mean the same."""

from __future__ import annotations

import os
import unittest
from collections import Counter
from unittest import mock

from hypothesis import HealthCheck, Phase, given, settings

from mukret.codes import REJECTS
from mukret.plan.compiled import make_plan
from tests import random_feeds
from tests.evaluators import EvaluatorsCase
from tests.random_feeds import Feed, feeds, rules_of, seeded_feeds

HYPOTHESIS_EXAMPLES = int(os.environ.get("MUKRET_EXAMPLES", "150"))
SEEDED_EXAMPLES = int(os.environ.get("MUKRET_SEEDED_EXAMPLES", "1600"))
SEED = int(os.environ.get("MUKRET_SEED", "20310401"))


class TwoEvaluators(EvaluatorsCase):
    @settings(
        max_examples=HYPOTHESIS_EXAMPLES,
        deadline=None,
        derandomize=True,
        suppress_health_check=list(HealthCheck),
        phases=(Phase.generate, Phase.shrink),
        report_multiple_bugs=False,
    )
    @given(feeds())
    def test_random_rules_on_random_documents_give_the_same_rows_rejects_and_tally(
        self, feed: Feed
    ) -> None:
        self.compare(feed.rules_text, feed.lines)

    def test_many_seeded_feeds_do_and_they_hit_every_reject_code(self) -> None:
        before = Counter(self.rows)
        for feed in seeded_feeds(SEEDED_EXAMPLES, SEED):
            self.compare(feed.rules_text, feed.lines)
        rows = self.rows - before
        listing = ", ".join(f"{code} {self.codes[code]}" for code in sorted(REJECTS))
        print(
            f"\nrandom rules on random documents: {dict(rows)}\n  reject codes hit: {listing}",
            flush=True,
        )
        self.assertGreater(
            rows["written"],
            0.4 * rows["seen"],
            "agreement about rejection alone proves little",
        )
        never = {
            "no-data",
            "too-long",
        }  # only an answer in an HTTP archive, only a very long line
        self.assertEqual({code for code in REJECTS if not self.codes[code]}, never)

    def test_rows_that_stand_where_others_stand_give_the_same(self) -> None:
        with mock.patch.multiple(
            random_feeds, ROW_PATHS=["$", "$", "$.a", "$[*]", "$[0]", "$.*"]
        ):
            for feed in random_feeds.seeded_feeds(SEEDED_EXAMPLES // 8, SEED):
                self.compare(feed.rules_text, feed.lines)

    def test_an_array_or_nothing_in_the_place_of_a_row_that_is_spread(self) -> None:
        documents = ['[{"a": 1}, {"a": [{"b": 2}, null, 3]}]', "null", "[]", "{}", "[null]", '[[{"a": 1}]]', '{"a": null}',
                     '{"a": [{"b": 1}]}', '"x"', "7", '[{"a": null}, {"a": {"b": 1}}]']  # fmt: skip
        for tables in (
            'z: {rows: "$", spread: true, fields: {a: $.a}}',
            'z: {rows: "$", spread: true, fields: {a: $.a}}, y: {rows: "$", within: z, spread: true, fields: {b: $.b}}',
            'z: {rows: "$", spread: true, fields: {a: $.a}}, y: {rows: "$.a", within: z, spread: true, fields: {b: $.b}}',
            'z: {rows: "$[*]", fields: {p: {fact: position}}}, y: {rows: "$", within: z, spread: true, inherit: [p], fields: {a: $.a}}',
            'z: {rows: "$", fields: {p: {fact: path}}}, y: {rows: "$.a", within: z, spread: true, fields: {b: {at: "$[*].b", take: all}}}',
            'z: {rows: "$.a", spread: true, fields: {b: $.b}}, y: {rows: "$", spread: true, outer: true, fields: {a: $.a}}',
        ):
            with self.subTest(tables):
                self.compare(f"mukret: 1\ntables: {{{tables}}}", documents)

    def test_the_two_zeros_of_a_float_are_one_key(self) -> None:
        for more in (
            "",
            "duplicates: first, ",
            "duplicates: last, ",
            "recurse: $.on, ",
        ):
            with self.subTest(more):
                rules = f'mukret: 1\ntables: {{z: {{rows: "$", key: a, {more}fields: {{a: {{at: $.a, type: float}}}}}}}}'
                found, _ = self.compare(
                    rules, ['{"a": 0}', '{"a": -0.0}', '{"a": 1, "on": {"a": -0e1}}']
                )
                self.assertEqual(len(found["z"]), 2)

    def test_documents_that_are_read_in_parts_give_the_same(self) -> None:
        """Each in a file of its own, and all but the shortest cut wherever the rules allow it."""
        rows = [
            "$.a[*]",
            "$.b[*]",
            "$.a[*]",
            "$.b[*]",
            "$.c[*]",
            "$[*]",
            "$.a[*].b[*]",
            "$.a",
        ]
        with mock.patch.multiple(
            random_feeds, ROW_PATHS=rows, CONDITIONS=["@.a", "!@.b"], KINDS={}
        ):
            for feed in random_feeds.seeded_feeds(SEEDED_EXAMPLES // 4, SEED):
                if make_plan(rules_of(feed.rules_text)).long.arrays:
                    self.compare(feed.rules_text, feed.lines, in_parts=True)
        self.assertGreater(self.rows["parts"], SEEDED_EXAMPLES // 80)


if __name__ == "__main__":
    unittest.main()
