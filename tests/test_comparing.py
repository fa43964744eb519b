"""What `compare` says of two versions of rules over the same responses."""

from __future__ import annotations

import json
from typing import Any

from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import MukretError
from mukret.inspect.comparing import RulesComparison, compare_rules
from mukret.rules import parse_rules
from tests.helpers import FolderCase, rules_text
from tests.random_feeds import REFERENCE, seeded_feeds

RULES = """
    tables:
      ports:
        rows: "$.ports[*]"
        fields:
          code: {at: $.code, required: true}
          depth: {at: $.depth, type: "decimal(4,1)"}
          lit: {at: $.lit, type: boolean}
        where: depth > 2
      old: {rows: "$.old[*]", fields: {a: $.a}}
    """
PORTS = [
    {"code": "OTV", "depth": "7.5", "lit": "yes"},
    {"code": "SKR", "depth": "1.5", "lit": "no"},
    {"code": "BRA", "depth": "deep", "lit": "no"},
    {"code": "TOL", "depth": "3", "lit": None, "name": "Tolmar"},
]


class Comparing(FolderCase):
    def compare(self, old: str, new: str, *documents: Any) -> RulesComparison:
        lines = "\n".join(json.dumps(document) for document in documents)
        sources = find_sources([self.file("a.jsonl", lines)])
        return compare_rules(
            parse_rules(rules_text(old)), parse_rules(rules_text(new)), sources
        )

    def test_rows_values_columns_and_tables(self) -> None:
        new = (
            RULES.replace("where: depth > 2", "where: depth < 7")
            .replace('type: "decimal(4,1)"', 'type: "decimal(4,1)", bad: null')
            .replace(
                "lit: {at: $.lit, type: boolean}",
                "lit: {at: $.lit, default: none}\n          name: $.name",
            )
            .replace('old: {rows: "$.old[*]"', 'new: {rows: "$.new[*]"')
        )
        found = self.compare(RULES, new, {"ports": PORTS}, {"ports": []})
        self.assertEqual(
            (found.gone, found.come, found.documents, found.found),
            (["old"], ["new"], 2, True),
        )
        ports = found.tables["ports"]
        self.assertEqual(ports.written, [2, 2])
        self.assertEqual(
            ports.columns, {"lit": ("boolean", "text"), "name": (None, "text")}
        )
        self.assertEqual(
            {
                row_outcomes: (change.count, change.examples[0].place)
                for row_outcomes, change in ports.row_outcomes.items()
            },
            {
                ("written", "filtered"): (
                    1,
                    f"$.ports[0] in {self.folder}/a.jsonl, document 1",
                ),
                ("filtered", "written"): (
                    1,
                    f"$.ports[1] in {self.folder}/a.jsonl, document 1",
                ),
                ("rejected", "filtered"): (
                    1,
                    f"$.ports[2] in {self.folder}/a.jsonl, document 1",
                ),
            },
        )
        self.assertEqual(
            {
                name: [(case.old, case.new) for case in change.examples]
                for name, change in ports.values.items()
            },
            {"lit": [(None, "none")]},
        )

    def test_a_row_that_is_rejected_now_says_why(self) -> None:
        found = self.compare(
            RULES.replace(
                'type: "decimal(4,1)"', 'type: "decimal(4,1)", bad: null'
            ).replace("where: depth > 2", ""),
            RULES.replace("where: depth > 2", ""),
            {"ports": PORTS},
        )
        change = found.tables["ports"].row_outcomes["written", "rejected"]
        self.assertEqual(
            (change.count, change.examples[0].new), (1, "depth: not-a-number")
        )

    def test_rows_that_are_found_another_way_are_known_by_their_place(self) -> None:
        found = self.compare(
            RULES, RULES.replace("$.ports[*]", "$.ports[1:]"), {"ports": PORTS}
        )
        self.assertEqual(
            {
                row_outcomes: change.count
                for row_outcomes, change in found.tables["ports"].row_outcomes.items()
            },
            {("written", None): 1},
        )
        self.assertEqual(found.tables["ports"].values, {})

    def test_rows_below_others_that_are_found_another_way_are_not_taken_for_the_same(
        self,
    ) -> None:
        old = """
            tables:
              ports: {rows: "$.ports[*]", fields: {code: $.code}}
              berths: {within: ports, rows: "$.berths[*]", fields: {no: $.no}}
            """
        document = {
            "ports": [{"berths": [{"no": 1}]}],
            "piers": [{"berths": [{"no": 1}]}],
        }
        found = self.compare(old, old.replace("$.ports", "$.piers"), document).tables[
            "berths"
        ]
        self.assertEqual(
            list(found.row_outcomes), [("written", None), (None, "written")]
        )

    def test_what_is_renamed_is_compared_all_the_same(self) -> None:
        """A table by the way to its rows, also below one that is renamed,
        a column by its source.
        """
        old = """
            tables:
              ports:
                rows: "$.ports[*]"
                key: code
                fields: {code: $.code, depth: {at: $.depth, type: "decimal(6,2)"}, label: {compute: "code || '!'"}}
              berths: {within: ports, rows: "$.berths[*]", inherit: [code], fields: {no: $.no, lit: $.lit}}
              moorings: {within: ports, rows: "$.berths[*]", inherit: [code], fields: {kind: $.kind}}
            """
        new = (
            old.replace("ports:", "harbours:")
            .replace("within: ports", "within: harbours")
            .replace("berths: {", "quays: {")
        )
        new = (
            new.replace("depth:", "deep:")
            .replace("decimal(6,2)", "decimal(9,4)")
            .replace("no: $.no", "berth_no: $.no")
            .replace("lit: $.lit", "lit: $.lamp")
        )
        ports = [
            {
                "code": f"P{n}",
                "depth": f"{n}.45",
                "berths": [{"no": "1", "lit": "a", "lamp": "b"}],
            }
            for n in range(3)
        ]
        found = self.compare(old, new, {"ports": ports})
        self.assertEqual((found.gone, found.come), ([], []))
        self.assertEqual(
            {name: changes.old_name for name, changes in found.tables.items()},
            {"harbours": "ports", "quays": "berths", "moorings": "moorings"},
        )
        harbours, quays = found.tables["harbours"], found.tables["quays"]
        self.assertEqual(
            (
                harbours.renamed,
                harbours.columns,
                harbours.values,
                harbours.row_outcomes,
            ),
            ({"deep": "depth"}, {"deep": ("decimal(6,2)", "decimal(9,4)")}, {}, {}),
        )
        self.assertEqual((quays.renamed, quays.row_outcomes), ({"berth_no": "no"}, {}))
        self.assertEqual(
            {
                name: (change.count, change.examples[0].old, change.examples[0].new)
                for name, change in quays.values.items()
            },
            {"lit": (3, "a", "b")},
        )
        self.file("old.yaml", rules_text(old))
        self.file("new.yaml", rules_text(new))
        shown = self.typed("compare", "old.yaml", "new.yaml", "a.jsonl").stdout
        self.assertIn(
            "harbours (renamed, was ports)  3 rows written, now 3\n  column deep: renamed, was depth\n  column deep: decimal(6,2), now decimal(9,4)\n",
            shown,
        )

    def test_numbers_of_other_types_are_compared_by_their_value(self) -> None:
        old = """tables: {t: {rows: "$[*]", fields: {n: {at: $.n, type: "decimal(9,2)"}}}}"""
        for kind, changed in (
            ('"decimal(12,4)"', 0),
            ("float", 0),
            ("integer, round: half-up", 2),
            ("text", 1),
        ):
            with self.subTest(kind):
                new = old.replace('"decimal(9,2)"', kind)
                found = self.compare(
                    old, new, [{"n": n} for n in ("12.45", "100", "0.50", None)]
                )
                values = found.tables["t"].values
                self.assertEqual(
                    sum(change.count for change in values.values()), changed, values
                )

    def test_random_rules_against_themselves_and_against_others(self) -> None:
        """No difference to themselves; and with others the counts are those of each run."""
        self.file("words.csv", REFERENCE)
        compared = 0
        feeds = list(seeded_feeds(110, 11))
        for number, feed in enumerate(feeds):
            file = self.file("feed.jsonl", "\n".join(feed.lines))
            versions = [
                parse_rules(one.rules_text, str(self.folder / "feed.rules.yaml"))
                for one in (feed, feeds[number - 1])
            ]
            with self.subTest(number=number):
                try:
                    tallies = []
                    for rules in versions:
                        run = Run(rules, find_sources([file]))
                        for _ in run.batches():
                            pass
                        tallies.append(run.tally)
                    same = compare_rules(versions[0], versions[0], find_sources([file]))
                    found = compare_rules(
                        versions[0], versions[1], find_sources([file])
                    )
                except MukretError:
                    continue
                self.assertFalse(
                    same.gone
                    or same.come
                    or any(changes.any for changes in same.tables.values())
                )
                for name, changes in found.tables.items():
                    self.assertEqual(
                        changes.written,
                        [tally.tables[name].rows_written for tally in tallies],
                        name,
                    )
                compared += 1
        self.assertGreater(compared, 50)


class OnTheCommandLine(FolderCase):
    def test_it_is_counted_and_shown_by_example(self) -> None:
        keyed = rules_text(RULES).replace(
            "where: depth > 2", "key: code\n    where: depth > 2"
        )
        self.file("old.yaml", keyed)
        self.file(
            "new.yaml",
            keyed.replace("$.depth", "$.dept").replace("where: depth > 2", ""),
        )
        self.file("a.json", json.dumps({"ports": PORTS}))
        done = self.typed("compare", "old.yaml", "new.yaml", "a.json")
        self.assertEqual(done.returncode, 1)
        self.assertEqual(
            done.stdout.splitlines(),
            [
                "ports  2 rows written, now 4",
                "  rows filtered → written: 1",
                "      code=SKR  $.ports[1] in a.json, document 1",
                "  rows rejected → written: 1",
                "      code=BRA  $.ports[2] in a.json, document 1",
                "  depth: 2",
                "      7.5 → null",
                "        code=OTV  $.ports[0] in a.json, document 1",
                "      3.0 → null",
                "        code=TOL  $.ports[3] in a.json, document 1",
                "the same: old",
                "1 document read by both",
            ],
        )
        next_step = done.stderr.splitlines()[-1].split()
        self.assertEqual(
            " ".join(next_step[1:]),
            "trace new.yaml a.json --table ports --key code=OTV --field depth",
        )
        self.assertEqual(self.typed(*next_step[1:]).returncode, 0)
        done = self.mukret(
            "compare", "old.yaml", "old.yaml", "-", stdin=json.dumps({"ports": PORTS})
        )
        self.assertEqual(
            (done.returncode, done.stdout.splitlines()),
            (0, ["the same: ports, old", "1 document read by both"]),
        )
        lines = "".join(
            json.dumps({"ports": PORTS, "n": n}) + "\n" for n in range(30_000)
        )  # longer than any buffer
        done = self.mukret("compare", "old.yaml", "old.yaml", "-", stdin=lines)
        self.assertEqual(done.stdout.splitlines()[-1], "30,000 documents read by both")
        report = json.loads(
            self.typed("compare", "old.yaml", "new.yaml", "a.json", "--json").stdout
        )
        self.assertEqual(report["tables"]["ports"]["values"]["depth"]["count"], 2)
        self.assertEqual(
            self.typed("compare", "old.yaml", "none.yaml", "a.json").returncode, 3
        )
        self.file("cut.json", '{"ports": [')
        self.assertEqual(
            self.typed("compare", "old.yaml", "old.yaml", "cut.json").returncode, 3
        )
        done = self.typed("compare", "old.yaml", "old.yaml", "a.json", "cut.json")
        self.assertEqual(
            (done.returncode, done.stdout.splitlines()[-1]),
            (1, "1 document read by both, 1 not readable (mukret survey says why)"),
        )
