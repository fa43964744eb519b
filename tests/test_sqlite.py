"""SQLite: read back by Python's own module; tables that are there already; all or nothing."""

from __future__ import annotations

import json
import os
import re
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
from collections.abc import Sequence
from typing import Any
from unittest import mock

from mukret.destinations import database
from mukret.destinations.database import Mode
from mukret.destinations.deliver import RejectLimit, deliver
from mukret.destinations.sqlite import Sqlite
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import OutputError, StoppedError
from mukret.rules import parse_rules
from mukret.types import Boolean, Float, Json, ListOf
from tests import test_formats
from tests.helpers import FolderCase, rules_text

RULES = """
    tables:
      ports: {rows: "$[*]", note: one a quay, key: [code], fields: {code: {at: $.code, required: true, note: painted}, seats: {at: $.seats, type: integer, measured_in: seats}}}
      berths: {within: ports, rows: "$.berths[*]", inherit: [code], fields: {n: {at: $.n, type: integer}}}
    """
PORTS = [
    {"code": "A", "seats": 1, "berths": [{"n": 1}, {"n": 2}]},
    {"code": "B", "seats": "x"},
]


class InAFile(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.folder / "m.db"

    def deliver(
        self,
        rows: Sequence[Any] = PORTS,
        rules: str = RULES,
        mode: str | None = None,
        limit: int | None = None,
        **options: bool,
    ) -> dict[str, Any]:
        file = self.file("feed.json", json.dumps(rows))
        run = Run(parse_rules(rules_text(rules)), find_sources([file]))
        destination = Sqlite(
            f"sqlite:///{self.path}", Mode(mode) if mode else None, **options
        )
        return deliver(
            run, destination, RejectLimit(number=limit) if limit is not None else None
        )

    def ask(self, query: str) -> list[tuple[Any, ...]]:
        with sqlite3.connect(self.path) as connection:
            found = connection.execute(query).fetchall()
        connection.close()
        return found

    def refused(self, code: str, message: str, **arguments: Any) -> None:
        with self.assertRaises(OutputError) as caught:
            self.deliver(**arguments)
        self.assertEqual(caught.exception.code, code)
        self.assertRegex(caught.exception.message, message)

    def test_it_holds_the_values_that_every_format_holds(self) -> None:
        rules = parse_rules(rules_text(test_formats.RULES))
        file = self.file(
            "feed.jsonl", "".join(json.dumps([row]) + "\n" for row in test_formats.ROWS)
        )
        run = Run(rules, find_sources([file]))
        expected = [
            [
                test_formats.texts(kind, row[name])
                for name, kind in rules.tables["t"].columns
            ]
            for output in run.batches()
            for row in output.tables["t"].to_pylist()
        ]
        deliver(
            Run(rules, find_sources([file]), batch_bytes=1),
            Sqlite(f"sqlite:///{self.path}"),
        )
        found = []
        for row in self.ask("SELECT * FROM t ORDER BY rowid"):
            cells: list[str | None] = []
            for value, (_, kind) in zip(row, rules.tables["t"].columns, strict=True):
                if isinstance(kind, ListOf) and value is not None:
                    cells.append(kind.written(json.loads(value)))
                elif isinstance(kind, Boolean | Float) and value is not None:
                    cells.append(
                        kind.written(
                            bool(value) if isinstance(kind, Boolean) else value
                        )
                    )
                elif isinstance(kind, Json):
                    cells.append(test_formats.texts(kind, value))
                else:
                    cells.append(None if value is None else str(value))
            found.append(cells)
        self.assertEqual(found, expected)

    def test_work_that_is_shared_by_processes_gives_the_same(self) -> None:
        """They are forked while the file is open, and must not touch it."""
        rows = [
            {"code": f"{number}", "berths": [{"n": number}] * 3}
            for number in range(400)
        ]
        file = self.file(
            "feed.jsonl", "".join(json.dumps([row]) + "\n" for row in rows)
        )
        found = []
        for workers in (1, 2):
            run = Run(
                parse_rules(rules_text(RULES)),
                find_sources([file]),
                workers=workers,
                batch_bytes=2000,
            )
            deliver(run, Sqlite(f"sqlite:///{self.path}"))
            found.append(
                self.ask("SELECT * FROM ports ORDER BY rowid")
                + self.ask("SELECT * FROM berths ORDER BY rowid")
            )
        self.assertEqual(len(found[0]), 1600)
        self.assertEqual(*found)
        self.assertEqual(self.ask("PRAGMA integrity_check"), [("ok",)])

    def test_tables_have_keys_comments_and_the_records_of_runs_beside_them(
        self,
    ) -> None:
        record = self.deliver()
        self.assertEqual(self.ask("SELECT * FROM berths"), [("A", 1), ("A", 2)])
        [(ports,), (berths,)] = self.ask(
            "SELECT sql FROM sqlite_master WHERE name IN ('ports', 'berths')"
        )
        for part in (
            "-- one a quay",
            '"code" TEXT NOT NULL, -- text; painted',
            '"seats" INTEGER, -- integer; seats',
            'PRIMARY KEY ("code")',
        ):
            self.assertIn(part, ports)
        self.assertIn('FOREIGN KEY ("code") REFERENCES "ports" ("code")', berths)
        self.assertEqual(self.ask("PRAGMA foreign_key_check"), [])
        [(run, told, created)] = self.ask(
            "SELECT run, record, created FROM mukret_runs"
        )
        self.assertEqual(
            (run, json.loads(told), json.loads(created)),
            (1, record, ["ports", "berths"]),
        )
        [(run, place, table, problems)] = self.ask(
            'SELECT run, path, "table", problems FROM mukret_rejects'
        )
        self.assertEqual((run, place, table), (1, "$[1]", "ports"))
        self.assertEqual(json.loads(problems)[0]["code"], "not-a-number")

    def test_what_mukret_made_is_made_anew_and_nothing_else_is_touched(self) -> None:
        self.deliver()
        self.deliver(PORTS[:1])
        self.assertEqual(self.ask("SELECT count(*) FROM ports"), [(1,)])
        self.assertEqual(self.ask("SELECT count(*) FROM mukret_rejects"), [(0,)])
        self.assertEqual(self.ask("SELECT count(*) FROM mukret_runs"), [(2,)])
        self.ask("CREATE TABLE winds (knots INTEGER)")
        winds = 'tables: {winds: {rows: "$[*]", fields: {knots: {at: $.seats, type: integer}}}}'
        for mode in (None, "replace"):
            self.refused(
                "not-empty",
                "winds is there, and Mukret did not make it",
                rules=winds,
                mode=mode,
            )
        self.refused("not-empty", "ports is there already", mode="create")
        self.deliver(PORTS[:1], rules=winds, mode="append")
        self.deliver(PORTS[:1], rules=winds, mode="append")
        self.assertEqual(self.ask("SELECT * FROM winds"), [(1,), (1,)])
        self.refused(
            "not-empty", "did not make it", rules=winds
        )  # added to is not made

    def test_rows_are_added_or_replaced_by_their_key(self) -> None:
        ports = RULES.partition("      berths:")[0]
        self.deliver(rules=ports)
        self.deliver(
            [{"code": "A", "seats": 7}, {"code": "C", "seats": 3}],
            rules=ports,
            mode="upsert",
        )
        self.assertEqual(
            self.ask("SELECT * FROM ports ORDER BY code"), [("A", 7), ("C", 3)]
        )
        for _ in range(2):
            self.deliver([{"code": "D"}], rules=ports, mode="upsert")
        self.assertEqual(
            self.ask("SELECT * FROM ports ORDER BY code"),
            [("A", 7), ("C", 3), ("D", None)],
        )
        self.refused(
            "key-there",
            'ports has a row with code "A" already',
            rows=[{"code": "E"}, {"code": "A"}],
            rules=ports,
            mode="append",
        )
        self.assertEqual(self.ask("SELECT count(*) FROM ports"), [(3,)])
        self.refused("no-key", "berths has no key", mode="upsert")
        self.ask("CREATE TABLE plain (code TEXT)")
        self.refused("no-key", "code is no key of it", mode="upsert",
                     rules='tables: {plain: {rows: "$[*]", key: [code], fields: {code: {at: $.code, required: true}}}}')  # fmt: skip

    def test_all_differences_of_a_table_are_named_before_anything_is_read_and_new_columns_added_if_that_is_asked_for(
        self,
    ) -> None:
        self.ask("CREATE TABLE ports (code INTEGER, extra TEXT NOT NULL)")
        ports = RULES.partition("      berths:")[0]
        with mock.patch.object(Run, "batches", side_effect=AssertionError):
            self.refused(
                "other-table",
                "code is INTEGER, not TEXT; seats is missing .INTEGER.; extra wants a value",
                rules=ports,
                mode="append",
            )
        self.ask("DROP TABLE ports")
        self.ask("CREATE TABLE Ports (CODE text PRIMARY KEY, extra TEXT)")
        self.refused("other-table", "seats is missing", rules=ports, mode="append")
        self.deliver(rules=ports, mode="append", widen=True)
        self.assertEqual(
            self.ask("SELECT code, extra, seats FROM ports"), [("A", None, 1)]
        )

    def test_what_was_taken_before_is_passed_over_if_that_is_asked_for(self) -> None:
        ports = RULES.partition("      berths:")[0]
        self.file("t.rules.yaml", rules_text(ports))
        self.file("in/1.json", '[{"code": "A"}]')
        extract = ("extract", "t.rules.yaml", "in", "--to", "sqlite:///m.db")
        self.assertEqual(self.typed(*extract).returncode, 0)
        self.file("in/2.json", '[{"code": "B"}]')
        self.file("in/copy of 2.json", '[{"code": "B"}]')
        for codes, more in (
            (["A", "B"], "2 files passed over"),
            (["A", "B"], "3 files passed over"),
        ):
            done = self.typed(*extract, "--mode", "append", "--skip-seen")
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn(more, done.stderr)
            self.assertEqual(
                [code for code, _ in self.ask("SELECT * FROM ports ORDER BY code")],
                codes,
            )
        [(told,)] = self.ask("SELECT record FROM mukret_runs WHERE run = 2")
        self.assertEqual(
            [one["file"] for one in json.loads(told)["skipped"]],
            ["in/1.json", "in/copy of 2.json"],
        )
        self.assertEqual(
            [one["file"] for one in json.loads(told)["inputs"]], ["in/2.json"]
        )
        self.file("in/1.json", '[{"code": "C"}]')
        self.assertEqual(
            self.typed(*extract[:2], "in/1.json", *extract[3:]).returncode, 0
        )  # made anew
        done = self.typed(*extract, "--mode", "upsert", "--skip-seen")
        self.assertIn("2 files passed over", done.stderr)
        self.assertEqual(
            [code for code, _ in self.ask("SELECT * FROM ports ORDER BY code")],
            ["B", "C"],
        )
        for mode, where in ((("--mode", "replace"), "sqlite:///m.db"), ((), "out")):
            self.assertEqual(
                self.typed(*extract[:-1], where, *mode, "--skip-seen").returncode, 2
            )

    def test_a_run_that_fails_leaves_what_was_there(self) -> None:
        with self.assertRaises(StoppedError):
            self.deliver(limit=0)
        self.assertFalse(self.path.exists())
        self.deliver()
        before = "\n".join(sqlite3.connect(self.path).iterdump())
        with self.assertRaises(StoppedError):
            self.deliver(limit=0)
        full = sqlite3.OperationalError("database or disk is full")
        with mock.patch.object(
            Sqlite, "write", side_effect=OSError(28, "No space left on device")
        ):
            self.refused("not-written", "no space left")
        with mock.patch.object(Sqlite, "execute", side_effect=full):
            self.refused("not-written", "disk is full")
        self.assertEqual("\n".join(sqlite3.connect(self.path).iterdump()), before)
        os.chmod(self.path, 0o444)
        if os.access(self.path, os.W_OK):  # root writes all the same
            return
        self.refused("not-written", "readonly")

    def test_of_two_runs_at_once_the_second_is_refused(self) -> None:
        self.deliver()
        other = sqlite3.connect(self.path, isolation_level=None)
        self.addCleanup(other.close)
        other.execute("BEGIN IMMEDIATE")
        with mock.patch("mukret.destinations.sqlite.PATIENCE", 0.1):
            self.refused("in-use", "another program writes into it")
        other.execute("ROLLBACK")
        self.deliver()

    def test_a_killed_run_leaves_what_was_there(self) -> None:
        self.deliver(PORTS[:1])
        self.file("t.rules.yaml", rules_text(RULES))
        command = [
            sys.executable,
            "-m",
            "mukret",
            "extract",
            "t.rules.yaml",
            "-",
            "--to",
            "sqlite:///m.db",
        ]
        for _ in range(3):
            with subprocess.Popen(
                command, cwd=self.folder, stdin=subprocess.PIPE
            ) as process:
                assert process.stdin is not None
                line = (
                    json.dumps(
                        [{"code": "Z", "berths": [{"n": n} for n in range(1000)]}]
                    ).encode()
                    + b"\n"
                )
                deadline = time.monotonic() + 60
                while not (self.folder / "m.db-journal").exists():
                    self.assertLess(time.monotonic(), deadline)
                    process.stdin.write(line * 50)
                    process.stdin.flush()
                process.send_signal(signal.SIGKILL)
                with self.assertRaises(BrokenPipeError):
                    while True:
                        process.stdin.write(line * 50)
                with mock.patch.object(process.stdin, "close"):
                    process.wait()
            self.assertEqual(self.ask("SELECT count(*) FROM berths"), [(2,)])
        self.deliver()
        self.assertEqual(self.ask("SELECT count(*) FROM berths"), [(2,)])

    def test_a_table_of_the_records_of_runs_is_refused(self) -> None:
        rules = f'tables: {{{database.RUNS}: {{rows: "$[*]", fields: {{x: $.x}}}}}}'
        self.refused("not-held", "for the records of runs", rules=rules)
        self.assertFalse(self.path.exists())

    def test_the_command_line(self) -> None:
        self.file("t.rules.yaml", rules_text(RULES))
        self.file("a.json", json.dumps(PORTS))
        self.file("text.db", "no database at all, but a text that is long enough" * 10)
        for to, more, code, message in (
            (
                "sqlite:///m.db",
                (),
                1,
                "every reason in mukret_rejects of sqlite:///m.db",
            ),
            ("sqlite:///m.db", ("--mode", "append"), 4, "--mode upsert"),
            ("sqlite:///m.db", ("--format", "csv"), 2, "--format is for files"),
            (
                "sqlite:///m.db",
                ("--widen",),
                2,
                "--widen goes with --mode append or upsert",
            ),
            ("sqlite:///", (), 2, "which file?"),
            ("sqlite://m.db", (), 2, "with three /"),
            ("sqlite:///text.db", (), 4, "file is not a database"),
            ("sqlite:///no/where.db", (), 4, "unable to open database file"),
            ("mysql://x", (), 2, "not supported yet"),
        ):
            with self.subTest(to, more=more):
                done = self.typed(
                    "extract", "t.rules.yaml", "a.json", "--to", to, *more
                )
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertIn(message, done.stderr)
                self.assertIsNone(re.search("Traceback", done.stderr))


if __name__ == "__main__":
    unittest.main()
