"""docs/tutorial.md, command by command."""

from __future__ import annotations

import re
import shlex
import shutil
from pathlib import Path

from tests.helpers import FolderCase

PAGE = Path(__file__).parent.parent / "docs" / "tutorial.md"
BLOCK = re.compile(r"^```(\w+) ([^\n]+)\n(.*?)^```$", re.M | re.S)
RULES = "ferries.rules.yaml"


class Tutorial(FolderCase):
    def test_every_command_runs_and_shows_what_the_page_says(self) -> None:
        shown = before = ""
        ran = checked = 0
        for language, kind, text in BLOCK.findall(PAGE.read_text(encoding="utf-8")):
            with self.subTest(kind=kind, text=text):
                match kind.split():
                    case ["run"]:
                        shown = "".join(map(self.run_line, text.splitlines()))
                        ran += 1
                    case ["shown"]:
                        self.assertIn(text, f"{shown}\n")
                        checked += 1
                    case ["in", name]:
                        self.assertIn(text, (self.folder / name).read_text())
                        checked += 1
                    case ["before"]:
                        before = text.rstrip("\n")
                    case ["after"]:
                        rules = self.folder / RULES
                        self.assertEqual(rules.read_text().count(before), 1, before)
                        rules.write_text(
                            rules.read_text().replace(before, text.rstrip("\n"))
                        )
                    case ["file", name]:
                        self.file(name, text)
                    case _:
                        self.fail(f"a block of an unknown kind: {language} {kind}")
        self.assertEqual((ran, checked), (11, 17))

    def run_line(self, line: str) -> str:
        words = shlex.split(line)
        if words[0] == "cp":
            source, target = self.folder / words[-2], self.folder / words[-1]
            shutil.copytree(source, target) if source.is_dir() else shutil.copy(
                source, target
            )
            return ""
        self.assertEqual(words[0], "mukret")
        done = self.mukret(*words[1:], columns=80 if words[1] == "survey" else 120)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        return done.stdout + done.stderr
