"""Several threads at the work of one: the same rows, rejects and counts, in the same order, and
none of them left.
"""

from __future__ import annotations

import gzip
import json
import os
import signal
import subprocess
import sys
import threading
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from mukret.documents import find_sources
from mukret.engine import run as running
from mukret.engine.ahead import sensible
from mukret.engine.interface import extract
from mukret.engine.run import Run
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
    """Sailings of which each number comes up twice, far from each other; now and then one without a
    number, a broken line, or a fare that is none.
    """
    made = []
    for number in range(count):
        sailing = {
            "no": number % (count // 2) if number % 50 else None,
            "fare": "ask" if number % 77 == 5 else "4.50",
        }
        made.append(
            '{"sailings": ['
            if number % 99 == 98
            else json.dumps({"sailings": [sailing]})
        )
    return "\n".join(made)


class TheSame(FolderCase):
    def run_of(
        self, rules: Any, files: list[Path], workers: int, **options: Any
    ) -> dict[str, Any]:
        run = Run(rules, find_sources(files), workers=workers, **options)
        run.started = NOW
        found: dict[str, Any] = {
            "rows": {name: [] for name in run.schemas},
            "rejects": [],
            "error": None,
        }
        try:
            for output in run.batches():
                found["rejects"] += [
                    reject.line().decode() for reject in output.rejects
                ]
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
        for number, feed in enumerate(seeded_feeds(FEEDS, SEED)):
            rules = parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml"))
            files = [self.file("feed.jsonl", "\n".join(feed.lines))]
            with (
                self.subTest(number=number),
                mock.patch("mukret.engine.run.is_sampled", lambda n: n % 3 == 2),
            ):
                one = self.run_of(rules, files, 1, batch_bytes=80)
                self.assertEqual(
                    self.run_of(rules, files, 2 + number % 2, batch_bytes=80), one
                )

    def test_many_files_packed_ones_and_long_documents(self) -> None:
        """Keys that come up again are met in another block, by another worker."""
        rules = parse_rules(rules_text(RULES))
        text = lines(3000)
        whole = {
            "sailings": [{"no": number % 900, "fare": "1"} for number in range(2000)]
        }
        files = [
            self.file("a.jsonl", text),
            self.file("b.jsonl.gz", gzip.compress(text.encode())),
        ]
        files += [
            self.file("c.json", json.dumps(whole)),
            self.file("d.json", "[}"),
            self.file("e.json", ""),
        ]
        one = self.run_of(rules, [self.folder], 1, batch_bytes=3000)
        self.assertEqual(self.run_of(rules, [self.folder], 3, batch_bytes=3000), one)
        self.assertEqual(one["tally"]["tables"]["sailings"]["rows_deduplicated"], 6256)
        self.assertEqual(one["tally"]["bad_documents"], 62)

    def test_what_ends_a_run_ends_it_at_the_same_place(self) -> None:
        stop = parse_rules(
            rules_text(RULES.replace('"decimal(8,2)"', '"decimal(8,2)", bad: stop'))
        )
        broken = self.file("broken.jsonl", "}\n" * 500)
        cut_off = self.file("cut.jsonl.gz", gzip.compress(lines(6_000).encode())[:-400])
        cases = (
            (stop, self.file("a.jsonl", lines(500))),
            (parse_rules(rules_text(RULES)), broken),
        )
        for rules, file in (*cases, (parse_rules(rules_text(RULES)), cut_off)):
            with self.subTest(file.name):
                one = self.run_of(rules, [file], 1, batch_bytes=200)
                self.assertIsNotNone(one["error"])
                self.assertEqual(self.run_of(rules, [file], 2, batch_bytes=200), one)

    def test_rules_that_go_through_the_input_before(self) -> None:
        for more in ("duplicates: last", "duplicates: first\n        recurse: $.on"):
            rules = parse_rules(rules_text(RULES.replace("duplicates: first", more)))
            file = self.file("a.jsonl", lines(500))
            with self.subTest(more):
                one = self.run_of(rules, [file], 1, batch_bytes=300)
                self.assertEqual(self.run_of(rules, [file], 3, batch_bytes=300), one)

    def test_small_inputs_are_not_worth_it(self) -> None:
        with mock.patch("os.sched_getaffinity", lambda _: {0, 1, 2}):
            self.assertEqual(
                sensible(find_sources([self.file("a.jsonl", lines(10))])), 1
            )
            with mock.patch("mukret.engine.ahead.PAYS_FROM", 100):
                self.assertEqual(
                    sensible(find_sources([self.file("a.jsonl", lines(10))])), 3
                )


class Threads(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.rules = parse_rules(rules_text(RULES))
        self.input = self.file("a.jsonl", lines(3000))

    def at_work(self) -> list[str]:
        return [
            thread.name
            for thread in threading.enumerate()
            if thread.name.startswith("work")
        ]

    def test_none_is_left_when_all_is_read_or_nobody_wants_more(self) -> None:
        usual = sys.getswitchinterval()
        run = Run(self.rules, find_sources([self.input]), workers=2, batch_bytes=500)
        outputs = run.batches()
        self.assertEqual(next(outputs).size > 0, len(self.at_work()) == 2)
        self.assertEqual(
            1 + sum(output.size > 0 for output in outputs), len(list(run.blocks()))
        )
        self.assertEqual(self.at_work(), [])
        outputs = Run(
            self.rules, find_sources([self.input]), workers=2, batch_bytes=500
        ).batches()
        next(outputs)
        outputs.close()  # type: ignore[attr-defined]
        self.assertEqual((self.at_work(), sys.getswitchinterval()), ([], usual))

    def test_a_defect_in_one_is_told(self) -> None:
        with (
            mock.patch.object(
                running, "evaluated", side_effect=ZeroDivisionError("here")
            ),
            self.assertRaisesRegex(ZeroDivisionError, "here"),
        ):
            list(Run(self.rules, find_sources([self.input]), workers=2).batches())
        self.assertEqual(self.at_work(), [])

    def test_few_blocks_are_worked_on_ahead_of_what_is_taken(self) -> None:
        """Memory is bounded by what waits, however slow the destination is."""
        begun: list[int] = []
        evaluated = Run.evaluated

        def noted(run: Run, block: Any, *rest: Any, **options: Any) -> Any:
            begun.append(block.size)
            return evaluated(run, block, *rest, **options)

        with mock.patch.object(Run, "evaluated", noted):
            outputs = Run(
                self.rules, find_sources([self.input]), workers=2, batch_bytes=500
            ).batches()
            for taken in range(1, 50):
                next(outputs)
                self.assertLessEqual(len(begun), taken + 2 * 2)
            outputs.close()  # type: ignore[attr-defined]

    def test_calls_from_programs_may_use_them(self) -> None:
        self.assertEqual(
            len(extract(self.rules, self.input, workers=2).tables["sailings"]), 1470
        )


class OnTheCommandLine(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file("ferry.rules.yaml", rules_text(RULES))
        self.file("a.jsonl", lines(30_000))

    def test_the_files_are_the_same_bytes(self) -> None:
        for form in ("csv", "parquet"):
            for workers in (1, 3):
                options = (
                    "--format",
                    form,
                    "--workers",
                    str(workers),
                    "--to",
                    f"{form}{workers}",
                    "-v",
                )
                done = self.mukret("extract", "ferry.rules.yaml", "a.jsonl", *options)
                self.assertEqual(done.returncode, 1, done.stderr)
                self.assertEqual("3 threads" in done.stderr, workers == 3, done.stderr)
            for name in (f"sailings.{form}", "rejects.jsonl"):
                first, second = (
                    (self.folder / f"{form}{workers}" / name).read_bytes()
                    for workers in (1, 3)
                )
                self.assertEqual(first, second)
        done = self.mukret("extract", "ferry.rules.yaml", "a.jsonl", "--to", "-", "--table", "sailings", "--workers", "2")  # fmt: skip
        self.assertEqual(
            done.stdout.encode(), (self.folder / "csv1/sailings.csv").read_bytes()
        )

    def test_ctrl_c_ends_them(self) -> None:
        # a shell makes what it runs in the background deaf to Ctrl-C, and its children with it
        self.addCleanup(
            signal.signal,
            signal.SIGINT,
            signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        command = [
            sys.executable,
            "-m",
            "mukret",
            "extract",
            "ferry.rules.yaml",
            "-",
            "--to",
            "out",
            "--workers",
            "2",
        ]
        with subprocess.Popen(
            command,
            cwd=self.folder,
            stdin=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
        ) as process:
            assert process.stdin is not None
            text = lines(30_000).encode()
            for _ in range(8):  # so much that blocks are worked on
                process.stdin.write(text + b"\n")
            process.stdin.flush()
            os.killpg(process.pid, signal.SIGINT)
            _, errors = process.communicate(
                timeout=60
            )  # much less, where nothing else is at work
        self.assertEqual(
            (process.returncode, errors.decode().strip()),
            (130, "interrupted; nothing was published"),
        )
        self.assertFalse([name for name in os.listdir(self.folder) if "out" in name])


if __name__ == "__main__":
    unittest.main()
