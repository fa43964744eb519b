"""On a cluster with a master and a worker: an executor that is killed changes nothing."""

from __future__ import annotations

import json
from threading import Thread

from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.rules import parse_rules
from tests.helpers import rules_text
from tests.spark import ClusterCase

TIMES = 3
RULES = """
    tables:
      sailings:
        rows: "$.sailings[*]"
        key: no
        duplicates: first
        fields: {no: {at: $.no, type: integer, required: true}, fare: {at: $..fare, type: "decimal(8,2)"}}
      calls: {within: sailings, rows: "$.calls[*]", inherit: [no], fields: {call: $}}
      bookings: {rows: "$.sailings[*]", key: no, duplicates: reject, fields: {no: {at: $.no, type: integer}}}
    """


class OnACluster(ClusterCase):
    def test_an_executor_that_is_killed_at_work_changes_nothing(self) -> None:
        from mukret.spark import extract

        rules = parse_rules(rules_text(RULES))
        for day in range(8):
            sailings = [
                {
                    "no": day * 500 + n,
                    "prices": {"fare": "ask crew" if n % 500 == 9 else "7.50"},
                    "calls": ["a", "b"],
                }
                for n in range(700)
            ]
            self.file(f"feed/{day:02}.json", json.dumps({"sailings": sailings}))
        run = Run(rules, find_sources([self.folder / "feed"]))
        rejects = [
            reject.line() for output in run.batches() for reject in output.rejects
        ]
        failed = 0
        for time in range(TIMES):
            with self.subTest(time=time):
                stages: list[int] = []
                killer = Thread(
                    target=lambda stages=stages: stages.append(
                        self.kill_an_executor_at_work()
                    ),
                    daemon=True,
                )
                killer.start()
                found = extract(
                    self.session, rules, self.folder / "feed", piece_bytes=1
                )
                rows = {name: found[name].count() for name in ("sailings", "calls")}
                killer.join(60)
                [stage] = stages
                failed += (
                    self.session.sparkContext.statusTracker()
                    .getStageInfo(stage)
                    .numFailedTasks
                )
                self.assertEqual(
                    rows, {name: run.tally.tables[name].rows_written for name in rows}
                )
                self.assertEqual(found.tally.as_json(), run.tally.as_json())
                self.assertEqual(
                    sorted(bytes(row["line"]) for row in found.reject_lines.collect()),
                    sorted(rejects),
                )
                found.release()
        self.assertGreater(failed, 0)
