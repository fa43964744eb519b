"""What the shape of the code promises, read off its syntax trees."""

from __future__ import annotations

import ast
import re
import runpy
import unittest
from collections.abc import Iterator
from dataclasses import MISSING, fields
from importlib import import_module
from pathlib import Path

from mukret.cli.main import COMMANDS
from mukret.survey.look import LOOKS

SOURCE = Path(__file__).parent.parent / "src" / "mukret"
WORDS = re.compile(r"[a-z]{2,} [a-z]{2,}|^ ?(is|of|and) $")
"""Prose: two words beside each other, or a word that only stands in sentences."""
FOREIGN = {
    "rules/traps.py",  # what the YAML library says, which has no codes
    "documents/diagnose.py",  # what the JSON decoder says, likewise
}
COMPREHENSIONS = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
SEARCHING = {
    "startswith",
    "endswith",
    "partition",
    "rpartition",
    "split",
    "find",
    "index",
    "removeprefix",
    "removesuffix",
}


class Prose(unittest.TestCase):
    def test_no_module_reads_the_sentences_of_another(self) -> None:
        """Facts travel as types; words are made where they are shown."""
        found = []
        for path in sorted(SOURCE.rglob("*.py")):
            name = path.relative_to(SOURCE).as_posix()
            if name not in FOREIGN:
                found += [
                    f"{name}:{line}: {text!r}"
                    for line, text in sentences_looked_for(
                        ast.parse(path.read_text(encoding="utf-8"))
                    )
                ]
        self.assertEqual(found, [])

    def test_the_test_sees_them(self) -> None:
        for code in (
            '"cut off" in message',
            'text.endswith("always midnight")',
            'a.partition(" and ")',
            'x == "no value tells"',
            'note.startswith("is ")',
        ):
            with self.subTest(code):
                self.assertTrue(list(sentences_looked_for(ast.parse(code))))
        for code in (
            '"a b" + c',
            'form == "epoch-ms"',
            'x.split(", ")',
            'name in ("date", "time")',
            'print("no value")',
        ):
            with self.subTest(code):
                self.assertFalse(list(sentences_looked_for(ast.parse(code))))


def sentences_looked_for(tree: ast.AST) -> Iterator[tuple[int, str]]:
    """Where something is compared with a sentence, or looked for or taken apart by one."""
    for node in ast.walk(tree):
        operands: list[ast.expr] = []
        if isinstance(node, ast.Compare):
            operands = [node.left, *node.comparators]
        elif (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and node.func.attr in SEARCHING
        ):
            operands = list(node.args)
        for operand in operands:
            if (
                isinstance(operand, ast.Constant)
                and isinstance(operand.value, str)
                and operand.value not in LOOKS
                and WORDS.search(operand.value)
            ):
                yield operand.lineno, operand.value


class OneThoughtALine(unittest.TestCase):
    def test_a_comprehension_holds_no_other_and_decides_nothing(self) -> None:
        """What is inside has a name of its own: a local, or a function."""
        found = []
        for path in sorted(SOURCE.rglob("*.py")):
            name = path.relative_to(SOURCE).as_posix()
            tree = ast.parse(path.read_text(encoding="utf-8"))
            found += [f"{name}:{line}" for line in packed_comprehensions(tree)]
        self.assertEqual(found, [])

    def test_the_test_sees_them(self) -> None:
        for code, lines in (
            ("[a if a else b for a in c]", [1]),
            ("{a: [b for b in a] for a in c}", [1]),
            ("any(all(b for b in a) for a in c)", [1]),
            ("a = [\n  b\n  for b in c\n  if {d for d in b}\n]", [4]),
            ("[b for b in c] if c else [d for d in c]", []),
        ):
            with self.subTest(code):
                self.assertEqual(list(packed_comprehensions(ast.parse(code))), lines)


def packed_comprehensions(tree: ast.AST) -> Iterator[int]:
    """The lines of comprehensions and of conditional expressions within a comprehension."""
    for outer in ast.walk(tree):
        if isinstance(outer, COMPREHENSIONS):
            for inner in ast.walk(outer):
                if inner is not outer and isinstance(
                    inner, (*COMPREHENSIONS, ast.IfExp)
                ):
                    yield inner.lineno


class Declared(unittest.TestCase):
    def test_a_handler_takes_exactly_what_its_command_declares(self) -> None:
        for name in COMMANDS:
            with self.subTest(name):
                command = import_module(f"mukret.cli.commands.{name}").command
                request = import_module(f"mukret.cli.handlers.{name}").Request
                declared = {parameter.name for parameter in command.params}
                taken = {field.name for field in fields(request)}
                needed = {
                    field.name for field in fields(request) if field.default is MISSING
                }
                self.assertEqual((declared - taken, needed - declared), (set(), set()))


class Picture(unittest.TestCase):
    def test_the_picture_shows_the_imports_that_there_are(self) -> None:
        """After a change of layers or imports: python scripts/draw_architecture.py"""
        root = SOURCE.parent.parent
        drawn = runpy.run_path(str(root / "scripts" / "draw_architecture.py"))[
            "picture"
        ]()
        self.assertEqual(
            (root / "docs" / "architecture.svg").read_text(encoding="utf-8"), drawn
        )


if __name__ == "__main__":
    unittest.main()
