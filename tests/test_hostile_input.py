"""What real services send on a bad day, and what somebody might send on purpose: through the built
program.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
import unittest

from tests.helpers import FolderCase, rules_text

RULES = rules_text("""
    tables:
      t:
        rows: "$.a[*]"
        fields:
          "no": {at: "$.no", type: integer}
          text: $.text
          select: {at: "$['select; drop table t']"}
    """)


class HostileInput(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file("t.rules.yaml", RULES)

    def rejects(self) -> list[dict[str, object]]:
        return [
            json.loads(line)
            for line in (self.folder / "out/rejects.jsonl").read_text().splitlines()
        ]

    def run_on(self, *files: str) -> subprocess.CompletedProcess[str]:
        done = self.mukret("extract", "t.rules.yaml", *files, "--to", "out")
        self.assertNotIn("Traceback", done.stderr)
        self.assertNotIn("\x1b", done.stderr)
        return done

    def test_bad_lines_of_every_kind_are_set_aside_and_the_others_go_on(self) -> None:
        lines = [
            b'{"a": [{"no": 1}]}',
            b"{'a': 1}",
            b'{"a": [{"no": "\xff"}]}',
            b'{"a": ["\\ud800"]}',
            b'{"a": [{"no": 1}',
            b"[" * 100_000,
            b"[" * 100_000 + b"]" * 100_000,
            b'{"a": ' + b"9" * 10_000 + b"}",
            b'{"a": NaN}',
            b'{"a": "\x00"}',
            b"\xff\xfe{\x00}\x00",
            b'{"a": [{"no": 2, "no": 3}]}',
        ]
        self.file("feed.jsonl", b"\n".join(lines))
        done = self.run_on("feed.jsonl")
        self.assertEqual(done.returncode, 1)
        self.assertEqual(
            (self.folder / "out/t.csv").read_text().splitlines()[1:], ["1,,", "3,,"]
        )
        rejects = self.rejects()
        self.assertEqual([reject["document"] for reject in rejects], list(range(2, 12)))
        self.assertEqual({reject["table"] for reject in rejects}, {None})
        self.assertIn("10 documents not readable", done.stderr)
        self.assertIn("1 member came twice in one object", done.stderr)
        self.assertIn("$['a'][0]['no'] in feed.jsonl, document 12", done.stderr)
        for arguments, said in (
            (("survey",), "1 member"),
            (("look",), ""),
            (("look", "--every"), ""),
        ):
            with self.subTest(arguments):
                shown = self.mukret(arguments[0], "feed.jsonl", *arguments[1:])
                self.assertEqual(shown.returncode, 1)
                self.assertIn("10 documents could not be read", shown.stderr)
                self.assertIn(said, shown.stdout)
                self.assertNotIn("Traceback", shown.stderr)

    def test_huge_values_are_read_and_shown_short(self) -> None:
        """A text of 20 MB, a hundred thousand members, a number of 4,000 digits."""
        members = ",".join(f'"m{number}":{number}' for number in range(100_000))
        row = f'{{"no": "{"x" * 20_000_000}", "text": {"9" * 4_000}, {members}}}'
        self.file("big.json", f'{{"a": [{row}, {{"no": 1, "text": "{"y" * 1000}"}}]}}')
        self.assertEqual(self.run_on("big.json").returncode, 1)
        [reject] = self.rejects()
        self.assertLess((self.folder / "out/rejects.jsonl").stat().st_size, 1000)
        self.assertEqual(reject["path"], "$['a'][0]")
        self.assertEqual(
            (self.folder / "out/t.csv").read_text().splitlines()[1], f"1,{'y' * 1000},"
        )
        for command in ("survey", "look"):
            with self.subTest(command):
                shown = self.mukret(command, "big.json")
                self.assertEqual(
                    (shown.returncode, len(shown.stdout) < 40_000),
                    (0, True),
                    shown.stderr,
                )

    def test_data_can_not_move_the_cursor_nor_leave_its_cell(self) -> None:
        document = {
            "a": [
                {"no": "\x1b[2J\u202eevil", "text": "x"},
                {"no": 1, "text": '=1+1,"\n;'},
                {"select; drop table t": "kept"},
            ]
        }
        self.file("\x1b[31mred.json", json.dumps(document))
        done = self.run_on("\x1b[31mred.json")
        self.assertIn("\\u001b[2J", done.stderr)
        shown = self.mukret("preview", "t.rules.yaml", "\x1b[31mred.json")
        self.assertNotIn("\x1b", shown.stdout + shown.stderr)
        self.assertNotIn("\u202e", shown.stdout + done.stderr)
        self.file("\x1b[32m.json", "<html>")
        failed = self.run_on("\x1b[32m.json")
        self.assertIn("this is an HTML page", failed.stderr)
        self.assertIn("\\u001b[32m.json:1:1", failed.stderr)
        text = (self.folder / "out/t.csv").read_text(encoding="utf-8")
        self.assertEqual(text, 'no,text,select\n1,"=1+1,""\n;",\n,,kept\n')

    def test_a_killed_run_leaves_what_was_there_and_the_next_clears_up(self) -> None:
        self.file("one.json", '{"a": [{"no": 1}]}')
        self.run_on("one.json")
        command = [
            sys.executable,
            "-m",
            "mukret",
            "extract",
            "t.rules.yaml",
            "-",
            "--to",
            "out",
        ]
        with subprocess.Popen(
            command, cwd=self.folder, stdin=subprocess.PIPE
        ) as process:
            deadline = time.monotonic() + 60
            while not any(name.startswith(".out.") for name in os.listdir(self.folder)):
                self.assertLess(time.monotonic(), deadline)
                time.sleep(0.02)
            process.send_signal(signal.SIGKILL)
        self.assertTrue(
            any(name.startswith(".out.") for name in os.listdir(self.folder))
        )
        self.assertEqual(
            (self.folder / "out/t.csv").read_text(), "no,text,select\n1,,\n"
        )
        self.file("one.json", '{"a": [{"no": 2}]}')
        self.run_on("one.json")
        self.assertEqual(
            (self.folder / "out/t.csv").read_text(), "no,text,select\n2,,\n"
        )
        self.assertFalse(
            any(name.startswith(".out.") for name in os.listdir(self.folder))
        )

    def test_memory_does_not_grow_with_the_number_of_lines(self) -> None:
        """Four times the input takes about the same: the peak of the larger run is within 60 MB of
        the smaller.
        """
        line = json.dumps(
            {"a": [{"no": number, "text": "x" * 200} for number in range(20)]}
        )
        peaks = []
        for count in (8_000, 32_000):  # for both of which threads are worth it
            self.file("many.jsonl", "\n".join([line] * count))
            # the high-water mark of the process itself: what wait4 tells begins with the size of the parent
            code = (
                "import sys; sys.argv = ['mukret', 'extract', 't.rules.yaml', 'many.jsonl', '--to', 'out', '-q']\n"
                "from mukret.cli.main import run\n"
                "try: run()\nexcept SystemExit as end: code = end.code\n"
                "print(code, *(line.split()[1] for line in open('/proc/self/status') if line.startswith('VmHWM')))"
            )
            command = [sys.executable, "-c", code]
            done = subprocess.run(
                command, cwd=self.folder, capture_output=True, text=True, check=True
            )
            status, peak = done.stdout.split()
            self.assertEqual(status, "0", done.stderr)
            peaks.append(int(peak) / 1000)
        self.assertLess(peaks[1], peaks[0] + 60)


if __name__ == "__main__":
    unittest.main()
