"""Standard streams that are closed, full, gone, or of another encoding: exit codes hold, and no
result goes silently.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import unittest

from tests.helpers import FolderCase, rules_text

COMMANDS = {
    "check t.rules.yaml": 0,
    "extract t.rules.yaml bad.json --to out": 1,
    "extract t.rules.yaml bad.json --to - --table t": 1,
    "survey ports.json": 0,
    "look nowhere": 3,
    "look": 2,
}


class Streams(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file(
            "t.rules.yaml",
            rules_text(
                'tables: {t: {rows: "$[*]", fields: {a: {at: $.a, type: integer}}}}'
            ),
        )
        self.file("bad.json", '[{"a": 1}, {"a": "x"}]')
        self.file("ports.json", '[{"Händelsnamn": "Liegeplätze"}]')

    def code(self, command: str, redirected: str, **environment: str) -> int:
        self.said = subprocess.run(
            [
                "bash",
                "-c",
                f"{shlex.quote(sys.executable)} -m mukret {command} {redirected}",
            ],
            cwd=self.folder,
            env={**os.environ, **environment},
            capture_output=True,
            check=False,
            timeout=120,
        )
        self.assertNotIn(b"Traceback", self.said.stderr)
        return self.said.returncode

    def test_messages_that_nobody_can_be_told_change_no_exit_code(self) -> None:
        for command, expected in COMMANDS.items():
            for redirected in ("2>&-", "2>/dev/full", "<&-", "<&- 2>&-"):
                with self.subTest(command, redirected=redirected):
                    self.assertEqual(self.code(command, redirected), expected)

    def test_results_that_can_not_be_written_are_an_error_that_says_so(self) -> None:
        for command in (
            "check t.rules.yaml",
            "extract t.rules.yaml bad.json --to - --table t",
            "survey ports.json",
        ):
            for redirected, message in (
                (">&-", "standard output is closed"),
                (">/dev/full", "no space left on device"),
            ):
                with self.subTest(command, redirected=redirected):
                    self.assertEqual(self.code(command, redirected), 4)
                    self.assertIn(message, self.said.stderr.decode())
        self.assertEqual(
            self.code("extract t.rules.yaml bad.json --to out", ">&-"), 1
        )  # it has no results to print

    def test_results_are_utf_8_whatever_the_locale(self) -> None:
        plain = {"LC_ALL": "C", "PYTHONCOERCECLOCALE": "0", "PYTHONUTF8": "0"}
        for environment in (
            plain,
            {"PYTHONIOENCODING": "ascii"},
            {"PYTHONIOENCODING": "latin-1"},
        ):
            for command in ("survey ports.json", "look ports.json", "draft ports.json"):
                with self.subTest(command, **environment):
                    self.assertEqual(self.code(command, "", **environment), 0)
                    self.assertIn("Händelsnamn", self.said.stdout.decode())


if __name__ == "__main__":
    unittest.main()
