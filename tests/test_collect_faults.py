"""A service that is not well: whatever it does, and whenever the collection is killed, what is kept
is what it has.

The faults are drawn by the service; nothing of the client knows them. The seeds are new in each
run, and told where one fails.
"""

from __future__ import annotations

import json
import os
import random
import re
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from typing import Any

from mukret.collect import Bounds, Calls, CaptureFolder, Collection, Manner, parse_calls
from mukret.engine.interface import extract
from mukret.rules import parse_rules
from mukret.sample import CALLS_FILE, CALLS_RULES_FILE, sample_files
from mukret.sample.faults import Faults
from mukret.sample.service import PASSWORD, USER, standing_in
from tests.helpers import FolderCase
from tests.services import QuickClock

SEEDS = 50
KILLS = 3
"""At most so many in one collection."""
SHARE = 0.2
SECRETS = {"FERRY_USER": USER, "FERRY_PASSWORD": PASSWORD}
TOKEN = re.compile(r"gangway-[\w-]{16}")
"""What the service's passes look like."""
MORE = """
  bookings: {get: /bookings, query: {size: 9}, pages: {offset: from}}
  brief: {get: /sailings, query: {size: 8}, pages: {number: page, total: "$.total"}}
  log: {get: /log, query: {size: 2}, pages: {url: "$.paging.next"}}
  graph:
    post: /graph
    json: {query: "query { ports { nodes { code } } }", variables: {first: 2, after: null}}
    pages: {cursor: "$.data.ports.pageInfo.endCursor", as: "$.variables.after", more: "$.data.ports.pageInfo.hasNextPage"}
"""
LIMITS = "limits: {per_second: 2000, at_once: 2, tries: 12, pause: 0.05}"


def calls_at(base: str) -> Calls:
    """The sample's calls, and others for the remaining kinds of pages, for a service that does not
    mind haste.
    """
    return parse_calls(calls_text(base), "service.calls.yaml")


def calls_text(base: str) -> str:
    text = sample_files()[CALLS_FILE].read_text(encoding="utf-8")
    text = re.sub(r"^base: .*$", f"base: {base}", text, flags=re.MULTILINE)
    return re.sub(
        r"^limits: .*$", MORE.strip("\n") + "\n" + LIMITS, text, flags=re.MULTILINE
    )


class Faulty(FolderCase):
    def collect(self, base: str, to: str) -> Collection:
        folder = CaptureFolder(str(self.folder / to))
        collection = Collection(
            calls_at(base),
            folder,
            bounds=Bounds(),
            environment=SECRETS,
            manner=Manner("x"),
            clock=QuickClock(),
        )
        for _ in collection:
            pass
        return collection

    def pages(self, to: str) -> list[tuple[Any, ...]]:
        """What is kept, in its order: of which call, with which variables, which page, and what is
        in it.
        """
        lines = (
            (self.folder / to / "capture.jsonl")
            .read_text(encoding="utf-8")
            .splitlines()
        )
        records = [json.loads(line) for line in lines]
        self.assertEqual(
            sorted(record["file"] for record in records),
            sorted(kept_files(self.folder / to)),
        )
        found = []
        for record in records:
            content = (self.folder / to / record["file"]).read_bytes()
            found.append((record["call"], record["variables"], record["page"], content))
        return found

    def tables(self, to: str) -> dict[str, Any]:
        rules = parse_rules(
            sample_files()[CALLS_RULES_FILE].read_text(encoding="utf-8")
        )
        result = extract(rules, [self.folder / to])
        tables = {name: table.drop_columns(["fetched_at"] if "fetched_at" in table.column_names else [])
                  for name, table in result.tables.items()}  # fmt: skip
        return {name: table.to_pylist() for name, table in tables.items()}

    def test_fifty_seeds_of_faults_and_kills_leave_exactly_what_the_service_has(
        self,
    ) -> None:
        with standing_in() as base:
            self.collect(base, "well")
        pages, tables = self.pages("well"), self.tables("well")
        self.assertEqual(len({call for call, *_ in pages}), 8)
        self.assertGreater(len(pages), 30)
        first = random.SystemRandom().randrange(1_000_000)
        drawn: set[str] = set()
        killed = 0
        for seed in range(first, first + SEEDS):
            with self.subTest(seed=seed):
                faults = Faults(SHARE, seed, wait=1)
                with standing_in(faults=faults) as base:
                    killed += self.killed_now_and_then(
                        base, f"ill-{seed}", random.Random(seed)
                    )
                    collection = self.collect(base, f"ill-{seed}")
                drawn |= set(faults.drawn)
                self.assertEqual(self.pages(f"ill-{seed}"), pages)
                self.assertEqual(self.tables(f"ill-{seed}"), tables)
                self.assertFalse(collection.report.findings)
                self.no_secret_in(self.folder / f"ill-{seed}")
        self.assertEqual(
            len(drawn),
            7,
            f"not every fault came up, beginning with seed {first}: {drawn}",
        )
        self.assertGreater(killed, SEEDS // 2)

    def killed_now_and_then(self, base: str, to: str, chance: random.Random) -> int:
        """Begins the collection in processes that are killed at some moment; how many were."""
        killed = 0
        for _ in range(chance.randrange(KILLS + 1)):
            process = os.fork()
            if process == 0:
                try:
                    self.collect(base, to)
                finally:
                    os._exit(0)
            time.sleep(chance.random() * 0.25)
            os.kill(process, signal.SIGKILL)
            killed += (
                os.waitstatus_to_exitcode(os.waitpid(process, 0)[1]) == -signal.SIGKILL
            )
        return killed

    def no_secret_in(self, folder: Path, *texts: str) -> None:
        files = [file for file in folder.rglob("*") if file.is_file()]
        self.assertTrue(files)
        for text in (*texts, *(file.read_text(encoding="utf-8") for file in files)):
            for secret in (USER, PASSWORD):
                self.assertNotIn(secret, text)
            self.assertIsNone(TOKEN.search(text))

    def test_the_built_program_is_killed_and_interrupted_goes_on_and_tells_no_secret(
        self,
    ) -> None:
        seed = random.SystemRandom().randrange(1_000_000)
        chance = random.Random(seed)
        told = ""
        with self.subTest(seed=seed), standing_in() as base:
            self.collect(base, "well")
        with (
            self.subTest(seed=seed),
            standing_in(faults=Faults(0.3, seed, wait=0)) as base,
        ):
            self.file("ferries.calls.yaml", calls_text(base))
            command = [
                sys.executable,
                "-m",
                "mukret",
                "collect",
                "ferries.calls.yaml",
                "--to",
                "kept",
                "-v",
                "--log",
                "log",
            ]
            # a shell makes what it runs in the background deaf to Ctrl-C, and its children with it
            self.addCleanup(
                signal.signal,
                signal.SIGINT,
                signal.signal(signal.SIGINT, signal.default_int_handler),
            )
            for number in range(8):
                process = subprocess.Popen(
                    command,
                    cwd=self.folder,
                    env={**os.environ, **SECRETS},
                    stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT,
                    text=True,
                )
                by = [signal.SIGKILL, signal.SIGTERM, signal.SIGINT][number % 3]
                try:
                    output, _ = process.communicate(
                        timeout=None if number == 7 else 0.9 + chance.random()
                    )
                except subprocess.TimeoutExpired:
                    process.send_signal(by)
                    output, _ = process.communicate(timeout=30)
                    if (
                        by != signal.SIGKILL and "200 OK" in output
                    ):  # before that it may still be starting
                        self.assertIn(process.returncode, (0, 130), output)
                told += output
                rounds = self.folder / "kept/rounds.jsonl"
                if (
                    rounds.exists() and "ended" in rounds.read_text()
                ):  # a kill may come before anything is kept
                    break
            self.assertIn(
                process.returncode, (0, 130, -signal.SIGKILL), output
            )  # the last two at the very end
            self.assertEqual(self.pages("kept"), self.pages("well"))
            self.assertIn("200 OK", told)
            self.no_secret_in(self.folder, told)


def kept_files(folder: Path) -> list[str]:
    return [
        f"{place}/{file.name}"
        for place in ("pages", "apart")
        for file in (folder / place).glob("*")
    ]


if __name__ == "__main__":
    unittest.main()
