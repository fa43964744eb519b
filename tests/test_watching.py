"""What is shown at every save, and in which order: a rules file that is changed while somebody
watches it.
"""

from __future__ import annotations

import contextlib
import io
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from mukret.cli.handlers.watching import watch
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import RulesError
from mukret.rules import Rules, load_rules
from tests.helpers import FolderCase, table_rules


@dataclass
class FakeLook:
    """Is finished after so many pieces."""

    rules: Rules
    pieces: int
    read: int = 0
    finished: bool = False
    asked: list[float] = field(default_factory=list)

    def go_on(self, until: float) -> None:
        self.asked.append(until)
        self.read += 1
        self.finished = self.read >= self.pieces


class Watching(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.rules = self.file("t.rules.yaml", table_rules("a: $.a"))
        self.shown: list[tuple[str, int, str | None]] = []
        """Of each time: the fields, how many pieces were read, and the fields of the look before.
        """
        self.saves: list[str] = []

    def watch(self, pieces: int) -> list[str]:
        """Watches; each time that something is shown the next text is saved, until there is none
        left.
        """

        def fields(look: FakeLook) -> str:
            return ",".join(look.rules.tables["t"].types)

        def show(look: FakeLook, before: FakeLook | None) -> None:
            self.shown.append(
                (fields(look), look.read, fields(before) if before else None)
            )
            if look.finished or self.saves[:1] == ["at once"]:
                self.save()

        said = io.StringIO()
        with (
            contextlib.redirect_stderr(said),
            contextlib.redirect_stdout(io.StringIO()),
        ):
            watch(str(self.rules), lambda: self.begin(pieces), show)
        return said.getvalue().splitlines()

    def begin(self, pieces: int) -> FakeLook:
        return FakeLook(load_rules(str(self.rules)), pieces)

    def save(self) -> None:
        if self.saves[:1] == ["at once"]:
            self.saves.pop(0)
        if not self.saves:
            raise KeyboardInterrupt
        Path(self.rules).write_text(self.saves.pop(0), encoding="utf-8")

    def test_what_there_is_is_shown_at_once_and_again_when_all_is_read(self) -> None:
        self.saves = [table_rules("b: $.b, c: $.c")]
        said = self.watch(3)
        self.assertEqual(
            self.shown,
            [("a", 1, None), ("a", 3, None), ("b,c", 1, "a"), ("b,c", 3, "a")],
        )
        self.assertEqual(
            [line.endswith("; reading on") for line in said if line],
            [True, False, True],
        )

    def test_a_save_ends_the_reading_under_the_rules_before(self) -> None:
        self.saves = ["at once", table_rules("b: $.b")]
        self.watch(3)
        self.assertEqual(self.shown, [("a", 1, None), ("b", 1, "a"), ("b", 3, "a")])

    def test_rules_that_are_wrong_are_said_and_the_next_are_compared_with_the_last_that_were_right(
        self,
    ) -> None:
        self.saves = [
            "mukret: 1\ntables: {t: {rows: $.a, rows: $.b}}\n",
            table_rules("d: $.d"),
        ]
        begin = self.begin
        self.begin = lambda pieces: self.begun_or_saved(begin, pieces)  # type: ignore[method-assign]
        said = self.watch(1)
        self.assertEqual(self.shown, [("a", 1, None), ("d", 1, "a")])
        self.assertIn(f"{self.rules}: 2 problems; no input was opened", said)

    def begun_or_saved(self, begin: Callable[[int], FakeLook], pieces: int) -> FakeLook:
        try:
            return begin(pieces)
        except RulesError:
            self.save()
            raise


class Window(FolderCase):
    def test_a_run_that_is_to_end_early_says_whether_there_was_more(self) -> None:
        rules = table_rules("a: {at: $.a, type: integer}, b: $.b", rows="$").replace(
            "fields", "key: b\n    duplicates: last\n    fields"
        )
        file = self.file(
            "a.jsonl", "".join(f'{{"a": {n}, "b": "x"}}\n' for n in range(2000))
        )
        for most, cut_short in ((None, False), (10_000, True), (10**6, False)):
            with self.subTest(most=most):
                run = Run(
                    load_rules(str(self.file("r.rules.yaml", rules))),
                    find_sources([file]),
                    batch_bytes=4_000,
                    most_bytes=most,
                )
                rows = [
                    row["a"]
                    for output in run.batches()
                    for row in output.tables["t"].to_pylist()
                ]
                self.assertEqual(run.cut_short, cut_short)
                self.assertEqual(
                    rows, [run.tally.documents - 1]
                )  # the last of what was read, not of the file
                self.assertEqual(run.tally.documents == 2000, not cut_short)
