"""Several processes at the work of one: the same rows, rejects and counts, in the same order, and none of them left."""

from __future__ import annotations

import gzip
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any
from unittest import mock

from mukret.documents import find_sources
from mukret.engine.interface import extract
from mukret.engine.run import Run
from mukret.engine.workers import Workers, sensible, why_alone
from mukret.errors import InputError, StoppedError
from mukret.rules import parse_rules
from tests.evaluators import NOW
from tests.helpers import FolderCase, rules_text
from tests.random_feeds import REFERENCE, seeded_feeds
from tests.test_two_evaluators import SEED

FEEDS = 120
RULES = """
    tables:
      sailings:
        rows: "$.sailings[*]"
        fields:
          no: {at: $.no, type: integer, required: true}
          fare: {at: $.fare, type: "decimal(8,2)"}
          line: {fact: document, type: integer}
        key: no
        duplicates: first
    """


def lines(count: int) -> str:
    """Sailings of which each number comes up twice, far from each other; now and then one without a number, a broken
    line, or a fare that is none."""
    made = []
    for number in range(count):
        sailing = {"no": number % (count // 2) if number % 50 else None, "fare": "ask" if number % 77 == 5 else "4.50"}
        made.append('{"sailings": [' if number % 99 == 98 else json.dumps({"sailings": [sailing]}))
    return "\n".join(made)


class TheSame(FolderCase):
    def run_of(self, rules: Any, files: list[Path], workers: int, **options: Any) -> dict[str, Any]:
        run = Run(rules, find_sources(files), workers=workers, **options)
        run.started = NOW
        self.assertEqual(run.workers == 1, workers == 1 or why_alone(rules) is not None)
        found: dict[str, Any] = {"rows": {name: [] for name in run.schemas}, "rejects": [], "error": None}
        try:
            for output in run.batches():
                found["rejects"] += [reject.line().decode() for reject in output.rejects]
                for name, batch in output.tables.items():
                    found["rows"][name] += batch.to_pylist()
        except (InputError, StoppedError) as error:
            return {**found, "error": str(error)}
        found["tally"] = run.tally.as_json()
        found["unmatched"] = [str(rule) for rule in run.unmatched()]
        found["sample"] = run.sample.as_json()
        found["notices"] = [str(notice) for notice in run.notices()]
        found["files"] = [(source.documents, source.sha256) for source in run.sources]
        return found

    def test_random_rules_on_random_documents(self) -> None:
        self.file("words.csv", REFERENCE)
        shared = 0
        for number, feed in enumerate(seeded_feeds(FEEDS, SEED)):
            rules = parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml"))
            files = [self.file("feed.jsonl", "\n".join(feed.lines))]
            with self.subTest(number=number), mock.patch("mukret.engine.run.is_sampled", lambda n: n % 3 == 2):
                one = self.run_of(rules, files, 1, batch_bytes=80)
                shared += why_alone(rules) is None
                self.assertEqual(self.run_of(rules, files, 2 + number % 2, batch_bytes=80), one)
        self.assertGreater(shared, FEEDS // 2)

    def test_many_files_packed_ones_and_long_documents(self) -> None:
        """Keys that come up again are met in another block, by another worker."""
        rules = parse_rules(rules_text(RULES))
        text = lines(3000)
        whole = {"sailings": [{"no": number % 900, "fare": "1"} for number in range(2000)]}
        files = [self.file("a.jsonl", text), self.file("b.jsonl.gz", gzip.compress(text.encode()))]
        files += [self.file("c.json", json.dumps(whole)), self.file("d.json", "[}"), self.file("e.json", "")]
        one = self.run_of(rules, [self.folder], 1, batch_bytes=3000)
        self.assertEqual(self.run_of(rules, [self.folder], 3, batch_bytes=3000), one)
        self.assertEqual(one["tally"]["tables"]["sailings"]["rows_deduplicated"], 6256)
        self.assertEqual(one["tally"]["bad_documents"], 62)

    def test_what_ends_a_run_ends_it_at_the_same_place(self) -> None:
        stop = parse_rules(rules_text(RULES.replace('"decimal(8,2)"', '"decimal(8,2)", bad: stop')))
        broken = self.file("broken.jsonl", "}\n" * 500)
        cut_off = self.file("cut.jsonl.gz", gzip.compress(lines(30_000).encode())[:-2000])
        cases = ((stop, self.file("a.jsonl", lines(500))), (parse_rules(rules_text(RULES)), broken))
        for rules, file in (*cases, (parse_rules(rules_text(RULES)), cut_off)):
            with self.subTest(file.name):
                one = self.run_of(rules, [file], 1, batch_bytes=200)
                self.assertIsNotNone(one["error"])
                self.assertEqual(self.run_of(rules, [file], 2, batch_bytes=200), one)

    def test_what_one_process_must_do(self) -> None:
        for more, reason in (("duplicates: last", "duplicates: last wants"), ("recurse: $.on", "that recurses")):
            rules = parse_rules(rules_text(RULES.replace("duplicates: first", more)))
            with self.subTest(more):
                run = Run(rules, [], workers=2)
                self.assertIn(reason, str(run.alone))
                self.assertEqual(run.workers, 1)

    def test_small_inputs_are_not_worth_it(self) -> None:
        with mock.patch("os.sched_getaffinity", lambda _: {0, 1, 2}):
            self.assertEqual(sensible(find_sources([self.file("a.jsonl", lines(10))])), 1)
            with mock.patch("mukret.engine.workers.PAYS_FROM", 100):
                self.assertEqual(sensible(find_sources([self.file("a.jsonl", lines(10))])), 3)


class Processes(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.rules = parse_rules(rules_text(RULES))
        self.input = self.file("a.jsonl", lines(3000))
        self.made: list[Any] = []
        started = Workers.started

        def noted(workers: Workers) -> Any:
            self.made += started(workers)
            return list(self.made)

        patched = mock.patch.object(Workers, "started", noted)
        patched.start()
        self.addCleanup(patched.stop)

    def gone(self) -> bool:
        return all(not worker.process.is_alive() for worker in self.made)

    def test_none_is_left_when_all_is_read_or_nobody_wants_more(self) -> None:
        run = Run(self.rules, find_sources([self.input]), workers=2, batch_bytes=500)
        self.assertEqual(sum(output.size > 0 for output in run.batches()), len(list(run.blocks())))
        self.assertTrue(self.gone() and self.made)
        self.made.clear()
        outputs = Run(self.rules, find_sources([self.input]), workers=2, batch_bytes=500).batches()
        next(outputs)
        outputs.close()  # type: ignore[attr-defined]
        self.assertTrue(self.gone() and self.made)

    def test_one_that_is_killed_ends_the_run(self) -> None:
        outputs = Run(self.rules, find_sources([self.input]), workers=2, batch_bytes=500).batches()
        next(outputs)
        os.kill(self.made[1].process.pid, signal.SIGKILL)
        with self.assertRaises(InputError) as caught:
            list(outputs)
        self.assertEqual(caught.exception.code, "worker-lost")
        self.assertTrue(self.gone())

    def test_a_defect_in_one_is_told(self) -> None:
        with (
            mock.patch.object(Run, "rejects", side_effect=ZeroDivisionError("here")),
            self.assertRaisesRegex(ZeroDivisionError, "here"),
        ):
            list(Run(self.rules, find_sources([self.input]), workers=2).batches())

    def test_calls_from_programs_start_none(self) -> None:
        self.assertEqual(len(extract(self.rules, self.input).tables["sailings"]), 1470)
        self.assertEqual(self.made, [])


class OnTheCommandLine(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file("ferry.rules.yaml", rules_text(RULES))
        self.file("a.jsonl", lines(30_000))

    def test_the_files_are_the_same_bytes(self) -> None:
        for form in ("csv", "parquet"):
            for workers in (1, 3):
                options = ("--format", form, "--workers", str(workers), "--to", f"{form}{workers}", "-v")
                done = self.mukret("extract", "ferry.rules.yaml", "a.jsonl", *options)
                self.assertEqual(done.returncode, 1, done.stderr)
                self.assertEqual("3 processes" in done.stderr, workers == 3, done.stderr)
            for name in (f"sailings.{form}", "rejects.jsonl"):
                first, second = ((self.folder / f"{form}{workers}" / name).read_bytes() for workers in (1, 3))
                self.assertEqual(first, second)
        done = self.mukret("extract", "ferry.rules.yaml", "a.jsonl", "--to", "-", "--table", "sailings", "--workers", "2")  # fmt: skip
        self.assertEqual(done.stdout.encode(), (self.folder / "csv1/sailings.csv").read_bytes())

    def test_ctrl_c_ends_all_of_them_at_once(self) -> None:
        self.addCleanup(signal.signal, signal.SIGINT, signal.signal(signal.SIGINT, signal.default_int_handler))
        command = [sys.executable, "-m", "mukret", "extract", "ferry.rules.yaml", "-", "--to", "out", "--workers", "2"]
        with subprocess.Popen(
            command, cwd=self.folder, stdin=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True
        ) as process:
            children = Path(f"/proc/{process.pid}/task/{process.pid}/children")
            deadline = time.monotonic() + 60
            while len(pids := children.read_text().split()) < 2:
                self.assertLess(time.monotonic(), deadline)
                time.sleep(0.02)
            os.killpg(process.pid, signal.SIGINT)
            started = time.monotonic()
            _, errors = process.communicate(timeout=60)
        self.assertLess(time.monotonic() - started, 5)
        self.assertEqual((process.returncode, errors.decode().strip()), (130, "interrupted; nothing was published"))
        self.assertFalse([pid for pid in pids if Path(f"/proc/{pid}").exists()])
        self.assertFalse([name for name in os.listdir(self.folder) if "out" in name])
