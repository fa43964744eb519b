"""Some rows of each table: the first or any, rejected ones among them, each with the number that
trace takes.
"""

from __future__ import annotations

from functools import partial
from typing import Any

from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import MukretError
from mukret.inspect.picking import all_rows, pick
from mukret.inspect.previewing import Anywhere, First, Preview, SeenRow
from mukret.rules import Rules, parse_rules
from mukret.semantics.outcomes import RowOutcome
from mukret.semantics.rejects import PARENT_REJECTED
from tests.helpers import FolderCase, table_rules
from tests.random_feeds import REFERENCE, seeded_feeds


class Previews(FolderCase):
    def preview(
        self, rules: Rules, choice: Any, *, batch_bytes: int = 2_000
    ) -> tuple[Preview, list[Any]]:
        preview = Preview(
            [name for name, table in rules.tables.items() if table.columns], choice
        )
        sources = find_sources([self.folder / "feed.jsonl"])
        run = Run(rules, sources, batch_bytes=batch_bytes, observer=preview.look)
        return preview, list(run.batches())

    def test_all_rows_are_those_that_are_written_and_the_rejected_ones_in_their_order(
        self,
    ) -> None:
        """Over random rules; and each is the row that a pick by its number gives."""
        self.file("words.csv", REFERENCE)
        seen = picked = 0
        for number, feed in enumerate(seeded_feeds(60, 31)):
            self.file("feed.jsonl", "\n".join(feed.lines))
            with self.subTest(number=number):
                try:
                    rules = parse_rules(
                        feed.rules_text, str(self.folder / "feed.rules.yaml")
                    )
                    preview, outputs = self.preview(rules, partial(First, 10**6))
                except MukretError:
                    continue
                for name, rows in preview.rows.items():
                    written = [row for row in rows if row.reject is None]
                    rejected = [row for row in rows if row.reject is not None]
                    expected = [
                        row
                        for output in outputs
                        for row in output.tables[name].to_pylist()
                    ]
                    self.assertEqual(
                        repr([row.values for row in written]), repr(expected)
                    )  # NaN is not itself
                    self.assertEqual(
                        [row.nth for row in written], list(range(1, len(written) + 1))
                    )
                    told = [
                        reject
                        for output in outputs
                        for reject in output.rejects
                        if reject.table == name
                    ]
                    own = [
                        one
                        for one in told
                        if one.problems[0].code != PARENT_REJECTED and one.rows is None
                    ]
                    self.assertEqual(
                        sorted(map(repr, own)),
                        sorted(repr(row.reject) for row in rejected),
                    )
                    seen += len(rows)
                    for row in rows[-1:]:
                        picked += self.is_picked(rules, name, row)
        self.assertGreater((seen, picked), (400, 30))

    def is_picked(self, rules: Rules, name: str, row: SeenRow) -> bool:
        sources = find_sources([self.folder / "feed.jsonl"])
        outcome = RowOutcome.REJECTED if row.reject else RowOutcome.WRITTEN
        found = pick(rules, sources, name, all_rows, outcome, row.nth)
        assert found is not None
        if row.reject is not None:
            self.assertEqual(found.document, row.reject.document)
        self.assertIsNone(
            pick(rules, sources, name, all_rows, RowOutcome.WRITTEN, row.nth + 1)
            if row.reject is None
            else None
        )
        return True

    def test_a_sample_is_of_rows_from_anywhere_in_their_order(self) -> None:
        self.file(
            "feed.jsonl",
            "".join(f'{{"n": {n if n % 10 else "null"}}}\n' for n in range(1000)),
        )
        rules = parse_rules(
            table_rules("n: {at: $.n, type: integer, required: true}", rows="$")
        )
        counts = [0] * 10
        for seed in range(200):
            preview, _ = self.preview(rules, lambda seed=seed: Anywhere(20, seed))
            rows = preview.rows["t"]
            self.assertEqual(len(rows), 20)
            places = [
                row.nth * 10 - 10 if row.reject else int(str(row.values["n"]))
                for row in rows
            ]
            self.assertEqual(places, sorted(set(places)))
            for place in places:
                counts[place // 100] += 1
        self.assertTrue(
            all(330 < count < 470 for count in counts), counts
        )  # 400 each, 18.9 their standard deviation
