"""Shell completion: what is offered where a name is to be typed, and that a shell takes it."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest
from pathlib import Path

from tests.helpers import FolderCase

PROGRAM = str(Path(sys.executable).parent / "mukret")


class Completing(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.demo()
        self.file(
            "broken.rules.yaml",
            "tables:\n  ports: {kee: 1, fields: {code: $.code, name: {at: }}}\n  berths: {within: prts, inherit: code",
        )
        self.file(
            "half.rules.yaml",
            "mukret: 1\ntables:\n  ports: {fields: {code: '$.co[de', name: {at: }}}\n",
        )

    def offered(self, line: str) -> list[str]:
        """What is offered for the last word of a line."""
        words = line.split(" ")
        environment = {
            **os.environ,
            "_MUKRET_COMPLETE": "bash_complete",
            "COMP_WORDS": line,
            "COMP_CWORD": str(len(words) - 1),
        }
        done = subprocess.run(
            [PROGRAM],
            cwd=self.folder,
            env=environment,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual((done.returncode, done.stderr), (0, ""), line)
        return [entry.partition(",")[2] for entry in done.stdout.splitlines() if entry]

    def test_what_is_offered(self) -> None:
        rules = "merrow-demo/merrow.rules.yaml"
        self.mukret("extract", rules, "merrow-demo/feed", "--to", "one", "-q")
        for line, offered in (
            ("mukret de", ["describe", "demo"]),
            ("mukret describe merrow-demo/m", [rules]),
            (f"mukret preview {rules} f --table b", ["berths", "bookings"]),
            (
                f"mukret preview {rules} f --table berths --columns lit,de",
                ["lit,depth"],
            ),
            (f"mukret trace {rules} f --table berths --key b", ["berth_no="]),
            (f"mukret trace {rules} f --table berths --key berth_no=", []),
            (f"mukret trace {rules} f --table zones --field m", ["more"]),
            ("mukret extract r f --format j", ["jsonl", "json"]),
            ("mukret extract r f --mode a", ["append"]),
            (
                "mukret compare one one --ignore-fields depth,port_n",
                ["depth,port_name"],
            ),
            ("mukret describe r --dialect s", ["sqlite"]),
            ("mukret trace half.rules.yaml f --table ports --field n", ["name"]),
            ("mukret trace broken.rules.yaml f --table ", []),
            ("mukret trace nowhere.yaml f --table ", []),
            (
                "mukret survey merrow-demo/f",
                ["merrow-demo/f"],
            ),  # the shell looks for files itself
        ):
            with self.subTest(line):
                self.assertEqual(self.offered(line), offered)

    def test_bash_takes_it(self) -> None:
        script = f"""PATH={Path(PROGRAM).parent}:$PATH
            eval "$(_MUKRET_COMPLETE=bash_source mukret)"
            COMP_WORDS=(mukret preview merrow-demo/merrow.rules.yaml f --table v); COMP_CWORD=5
            _mukret_completion mukret; echo "${{COMPREPLY[@]}}" """
        done = subprocess.run(
            ["bash", "-c", script],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual((done.stdout, done.stderr), ("vessels\n", ""))


if __name__ == "__main__":
    unittest.main()
