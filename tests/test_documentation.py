"""The documentation is true: its examples run, its codes are those of the code,
its commands work.
"""

from __future__ import annotations

import ast
import contextlib
import io
import json
import os
import re
import shlex
import unittest
from pathlib import Path
from typing import Any

from mukret import codes
from mukret.collect import (
    Answer,
    Limits,
    calls_file,
    load_calls,
    reading_calls,
    reading_pages,
    reading_sign_in,
)
from mukret.collect.judging import AnswerSort, Judgement
from mukret.collect.paging import End, Fault, Last, Lost
from mukret.columns.types import value_type
from mukret.columns.types import written as written_column
from mukret.destinations.csv import CsvFile
from mukret.documents import decode
from mukret.engine.interface import Result, extract
from mukret.errors import ExpressionError
from mukret.expressions import compile_expression
from mukret.rules import Rules, load_rules, parse_rules
from mukret.rules.reader import Reader
from mukret.rules.source import Problems, SourceText, read_source
from mukret.rules.typing import TypeNames
from mukret.semantics.reference import Document, ReferenceRun
from mukret.survey.look import LOOKS
from mukret.text import counted
from tests.helpers import FolderCase

ROOT = Path(__file__).parent.parent
FENCE = re.compile(r"^```(\w+)(?: ([\w.]+))?\n(.*?)^```$", re.MULTILINE | re.DOTALL)


def blocks(page: str) -> list[tuple[str, str, str]]:
    """Language, label and content of each fenced block."""
    return FENCE.findall((ROOT / page).read_text(encoding="utf-8"))


class Messages(unittest.TestCase):
    def test_each_code_stands_on_the_page_once_in_its_section(self) -> None:
        page = (ROOT / "docs" / "messages.md").read_text(encoding="utf-8")
        _, rejects, problems, runs = re.split(r"^## .*$", page, flags=re.MULTILINE)
        shared = {
            "unknown-table",
            "not-supported",
        }  # of a rules file and of a run alike
        for section, known in (
            (rejects, codes.REJECTS),
            (problems, codes.RULES),
            (runs, codes.RUNS),
        ):
            listed = re.findall(r"^\| `([a-z0-9-]+)` \|", section, flags=re.MULTILINE)
            self.assertEqual(len(listed), len(set(listed)))
            expected = set(known) - (shared if known is codes.RUNS else set())
            self.assertEqual(set(listed), expected)

    def test_every_code_of_the_table_is_used_and_every_code_used_is_in_the_table(
        self,
    ) -> None:
        sources = [
            path
            for path in (ROOT / "src" / "mukret").rglob("*.py")
            if path.name != "codes.py"
        ]
        known = {**codes.REJECTS, **codes.RULES, **codes.SURPRISES, **codes.RUNS}
        self.assertEqual(set(known), set(codes.Code))
        texts = "".join(path.read_text() for path in sources)
        for code in known:
            with self.subTest(code):
                self.assertTrue(f"Code.{code.name}" in texts or f"[{code}]" in texts)

    def test_no_code_is_spelled_out_where_the_name_of_it_would_do(self) -> None:
        """What raises and what compares codes says `Code.NOT_OPENED`, which a slip breaks at once."""
        for path in (ROOT / "src" / "mukret").rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call):
                    first = node.exc.args[0] if node.exc.args else None
                    spelled = isinstance(first, ast.Constant) and first.value in set(
                        codes.Code
                    )
                    self.assertFalse(spelled, f"{path}:{node.lineno}")


class Reference(FolderCase):
    PAGE = "docs/rules-reference.md"

    def test_every_example_gives_what_stands_beside_it(self) -> None:
        self.assertGreaterEqual(self.examples_hold("docs/rules-reference.md"), 45)
        self.assertEqual(self.examples_hold("docs/expressions.md"), 1)

    def examples_hold(self, page: str) -> int:
        """A block of rules is followed by blocks of documents and of the tables or rejects that
        they give. One whose label is the name of a file is that file, beside the rules that follow.
        """
        document, rules = "", Path()
        shown = 0
        for language, label, content in blocks(page):
            if "." in label:
                self.file(label, content)
            elif label == "rules":
                rules = self.file("feed.rules.yaml", content)
                load_rules(rules)
            elif label == "document":
                document = content
            elif label and label != "row":
                with self.subTest(label, content=content):
                    checked = load_rules(rules)
                    result = extract(checked, [self.file("document.json", document)])
                    self.assertEqual(
                        self.as_shown(checked, result, label), content.strip()
                    )
                    shown += 1
            self.assertIn(language, ("yaml", "json", "csv", "text"))
        return shown

    def as_shown(self, rules: Rules, result: Result, label: str) -> str:
        if label == "rejects":
            return "\n".join(
                f"{reject.table} {reject.path}: {problem.field or 'row'}: {problem.code}: {problem.message}"
                + (f" ({counted(reject.rows, 'row')})" if reject.rows else "")
                for reject in result.rejects
                for problem in reject.problems
            )
        stream = io.BytesIO()
        file = CsvFile(rules.tables[label], stream)
        for batch in result.tables[label].to_batches():
            file.write(batch)
        file.close()
        return stream.getvalue().decode().strip()


class TypesPage(FolderCase):
    PAGE = "docs/types.md"
    ROW = re.compile(
        r"^\| (.+?) \|(?: `([a-z]+(?:\(.*?\)+)?)` \|)? ?(?:`(.*?)`)? ?\| (.+?) \|$"
    )

    def cases(self) -> dict[tuple[str, str], list[tuple[str, str]]]:
        """By type and options: what stands in the response, and what is written."""
        found: dict[tuple[str, str], list[tuple[str, str]]] = {}
        for section in (
            (ROOT / self.PAGE).read_text(encoding="utf-8").split("\n## ")[2:]
        ):
            kind = section.partition("\n")[0]
            for line in section.splitlines():
                if line.startswith("| `"):
                    match = self.ROW.match(line)
                    assert match, line
                    value, own, options, written = match.groups()
                    found.setdefault((own or kind, options or ""), []).append(
                        (value.strip("`"), written.strip("`"))
                    )
        return found

    def test_every_row_is_true_for_each_value_alone_and_for_all_of_a_column(
        self,
    ) -> None:
        rows = 0
        for (kind, options), cases in self.cases().items():
            rules = self.rules(kind, options)
            alone = [self.found(self.by_reference(rules, value)) for value, _ in cases]
            by_columns = self.by_columns(rules, [value for value, _ in cases])
            for (value, written), one, other in zip(
                cases, alone, by_columns, strict=True
            ):
                with self.subTest(kind=kind, options=options, value=value):
                    self.assertEqual((one, other), (written, written))
                    rows += 1
        self.assertGreater(rows, 280)

    def rules(self, kind: str, options: str) -> Rules:
        values = "values: {boarding: {accept: [BRD, now boarding, 1]}, departed: {accept: [DEP, true]}}"
        enums = "".join(
            f"  {name}: {{{values}{more}}}\n"
            for name, more in (
                ("status", ""),
                ("exact", ", case: exact"),
                ("lenient", ", otherwise: null"),
                ("sorted", ", otherwise: departed"),
            )
        )
        field = f'{{at: "$.v", type: "{kind}"{", " if options else ""}{options}}}'
        return parse_rules(
            f'mukret: 1\nenums:\n{enums}tables: {{t: {{rows: "$[*]", fields: {{n: {{fact: position}}, v: {field}}}}}}}\n'
        )

    def by_reference(self, rules: Rules, value: str) -> tuple[Any, str | None]:
        rows, rejects = ReferenceRun(rules).document(
            Document(decode(f'[{{"v": {value}}}]'.encode()))
        )
        [row] = rows["t"]
        found = row.values["v"]
        code = rejects[0].problems[0].code if rejects else None
        return (
            None if found is None else rules.tables["t"].fields[1].type.written(found)
        ), code

    @staticmethod
    def found(outcome: tuple[Any, str | None]) -> str:
        value, code = outcome
        return code or ("*null*" if value is None else str(value) or '""')

    def by_columns(self, rules: Rules, values: list[str]) -> list[str]:
        result = extract(
            rules,
            [
                self.file(
                    "values.json",
                    "[" + ",".join(f'{{"v": {value}}}' for value in values) + "]",
                )
            ],
        )
        kind = rules.tables["t"].fields[1].type
        found = ["*null*"] * len(values)
        table = result.tables["t"]
        texts = written_column(
            table["v"].combine_chunks().cast(value_type(kind)), kind
        ).to_pylist()
        for number, text in zip(table["n"].to_pylist(), texts, strict=True):
            found[int(number)] = self.found((text, None))
        for reject in result.rejects:
            found[int(re.findall(r"\d+", str(reject.path))[0])] = reject.problems[
                0
            ].code
        return found


class ExpressionsPage(FolderCase):
    PAGE = "docs/expressions.md"
    ROW = re.compile(r"^\| `(.+)` \| `([^`]+)` \| (\S.*) \|$", re.MULTILINE)
    ENUM = "{values: {boarding: {rank: 1, label: Boarding now}, departed: {rank: 2}}}"

    def sections(self) -> list[list[tuple[str, str, str]]]:
        page = (ROOT / self.PAGE).read_text(encoding="utf-8")
        return [
            [
                (text.replace("\\|", "|"), kind, value.strip("`"))
                for text, kind, value in self.ROW.findall(section)
            ]
            for section in page.split("\n## ")
        ]

    def row_fields(self) -> str:
        [row] = [content for _, label, content in blocks(self.PAGE) if label == "row"]
        found = re.findall(r"^(\w+): (\S.*?) +# (an enum|\S+)", row, re.MULTILINE)
        kinds = {
            name: "state" if kind == "an enum" else kind for name, _, kind in found
        }
        return ", ".join(
            f'{name}: {{at: "$.{name}", type: "{kind}"}}'
            for name, kind in kinds.items()
        )

    def document(self) -> str:
        [row] = [content for _, label, content in blocks(self.PAGE) if label == "row"]
        found = re.findall(r"^(\w+): (\S.*?) +#", row, re.MULTILINE)
        return json.dumps(
            [{name: None if value == "null" else value for name, value in found}] * 2
        )

    def test_every_row_is_true_row_by_row_and_by_columns(self) -> None:
        cases = [case for section in self.sections()[:-1] for case in section]
        self.assertGreater(len(cases), 160)
        computed = "".join(
            f"      e{number}: {{compute: {json.dumps(text)}}}\n"
            for number, (text, _, _) in enumerate(cases)
        )
        fields = "".join(
            f"      {field}\n" for field in re.split(r", (?=\w+: {)", self.row_fields())
        )
        head = f"mukret: 1\nenums: {{state: {self.ENUM}}}\ntables:\n  t:\n    rows: '$[*]'\n    fields:\n"
        rules = parse_rules(head + fields + computed)
        rows, rejects = ReferenceRun(rules).document(
            Document(json.loads(self.document()))
        )
        codes_found = (
            {problem.field: problem.code for problem in rejects[0].problems}
            if rejects
            else {}
        )
        result = extract(rules, [self.file("row.json", self.document())])
        by_columns = {
            problem.field: problem.code for problem in result.rejects[0].problems
        }
        kinds = rules.tables["t"].types
        for number, (text, kind, value) in enumerate(cases):
            name = f"e{number}"
            with self.subTest(text):
                self.assertEqual(kinds[name].name, kind)
                found = rows["t"][0].values[name]
                shown = codes_found.get(name) or (
                    "*null*" if found is None else kinds[name].written(found) or '""'
                )
                self.assertEqual(shown, value)
                self.assertEqual(by_columns.get(name), codes_found.get(name))
        sound = "".join(
            line
            for number, line in enumerate(computed.splitlines(True))
            if f"e{number}" not in codes_found
        )
        checked = parse_rules(head + fields + sound)
        table = extract(checked, [self.folder / "row.json"]).tables["t"]
        for number, (text, _, value) in enumerate(cases):
            if f"e{number}" not in codes_found:
                with self.subTest(text, by="columns"):
                    kind_of = checked.tables["t"].types[f"e{number}"]
                    column = (
                        table[f"e{number}"].combine_chunks().cast(value_type(kind_of))
                    )
                    found = written_column(column, kind_of)[1].as_py()
                    self.assertEqual(
                        "*null*" if found is None else found or '""', value
                    )

    def test_what_is_refused_is_refused_at_its_character(self) -> None:
        refused = self.sections()[-1]
        self.assertGreater(len(refused), 20)
        kinds = {
            field.partition(":")[0]: re.findall(r'type: "(.*?)"', field)[0]
            for field in re.split(r", (?=\w+: {)", self.row_fields())
        }
        types = TypeNames(Reader(Problems()))
        types.read_enums(read_source(SourceText("", f"state: {self.ENUM}"), Problems()))
        fields = {name: types.reading(kind).type for name, kind in kinds.items()}
        for text, code, at in refused:
            with self.subTest(text):
                with self.assertRaises(ExpressionError) as caught:
                    compile_expression(text, fields, types.reading)
                self.assertEqual(
                    (caught.exception.code, str(caught.exception.position)), (code, at)
                )


def commands_of(page: str) -> list[list[str]]:
    """The arguments of each command of a page that works as it stands, one after the other in one
    folder.
    """
    return [
        shlex.split(line)[1:]
        for language, _, content in blocks(page)
        if language == "sh"
        for line in content.splitlines()
        if line.startswith("mukret ")
    ]


class SurveyPage(FolderCase):
    PAGE = "docs/survey.md"

    def test_ten_questions_are_answered_by_the_screen_of_80_columns(self) -> None:
        page = (ROOT / self.PAGE).read_text(encoding="utf-8")
        self.assertEqual(
            re.findall(r"^\*\*(\d+)\. ", page, re.MULTILINE),
            [str(number) for number in range(1, 11)],
        )
        self.demo()
        screen = self.mukret(*commands_of(self.PAGE)[0], columns=80).stdout
        for _, label, content in blocks(self.PAGE):
            if label == "screen":
                with self.subTest(content):
                    self.assertIn(f"\n{content}", screen)
        longest = max(
            screen.splitlines(),
            key=lambda line: 0 if line.startswith("    at ") else len(line),
        )
        self.assertLessEqual(len(longest), 80, longest)

    def test_its_commands_work(self) -> None:
        self.demo()
        commands = commands_of(self.PAGE)
        self.assertEqual(len(commands), 4)
        for arguments in commands:
            with self.subTest(arguments):
                self.assertEqual(self.mukret(*arguments).returncode, 0)

    def test_every_look_and_surprise_has_its_row(self) -> None:
        page = (ROOT / self.PAGE).read_text(encoding="utf-8")
        _, looks, surprises, scripts = re.split(
            r"^## (?:Looks|Surprises|For scripts)$", page, flags=re.MULTILINE
        )
        self.assertEqual(
            re.findall(r"^\| `([^`]+)` \|", looks, re.MULTILINE), list(LOOKS)
        )
        self.assertEqual(
            re.findall(r"^\| `([^`]+)` \|", surprises, re.MULTILINE),
            list(codes.SURPRISES),
        )
        source = "".join(
            path.read_text() for path in (ROOT / "src/mukret/survey").glob("*.py")
        )
        names = re.findall(r"Surprise\(\s*Code\.([A-Z0-9_]+)", source)
        self.assertEqual({codes.Code[name] for name in names}, set(codes.SURPRISES))
        self.assertLessEqual(set(re.findall(r'Look\(\s*"([^"]+)"', source)), set(LOOKS))
        self.demo()
        report = json.loads(self.mukret(*commands_of(self.PAGE)[0], "--json").stdout)
        for name in sorted(
            {
                *report,
                *(name for place in report["places"] for name in place),
                *report["records"][0],
            }
        ):
            with self.subTest(name):
                self.assertIn(f"`{name}`", scripts)


class CollectingPage(FolderCase):
    PAGE = "docs/collect.md"

    def test_every_calls_file_of_the_page_is_one(self) -> None:
        found = [content for _, label, content in blocks(self.PAGE) if label == "calls"]
        self.assertEqual(len(found), 4)
        for content in found:
            with self.subTest(content):
                self.assertTrue(load_calls(self.file("c.yaml", content)).calls)

    def test_every_key_and_every_limit_is_on_the_page(self) -> None:
        page = (ROOT / self.PAGE).read_text(encoding="utf-8")
        known = set(
            calls_file._TOP.known
            | reading_calls._CALL.known
            | reading_calls._ONCE_PER.known
        )
        known |= (
            reading_pages.ANY_PAGES.known
            | reading_sign_in._SIGN_IN.known
            | reading_sign_in._OAUTH2.known
        )
        for key in known | reading_sign_in._KEPT.known:
            with self.subTest(key):
                self.assertRegex(page, rf"`{key}\b|\b{key}:")
        for name, limit in vars(Limits()).items():
            self.assertIn(f"| `{name}` | {limit:g} |", page)

    def test_every_option_and_every_member_of_a_line_is_on_the_page(self) -> None:
        page = (ROOT / self.PAGE).read_text(encoding="utf-8")
        options = set(re.findall(r"--[a-z-]+", self.mukret("collect", "--help").stdout))
        for option in options - {"--json", "--quiet", "--verbose", "--log", "--help"}:
            with self.subTest(option):
                self.assertIn(f"`{option}", page)
        ends = Last(End.NO_LINK), Lost(Fault.REPEATED)
        judgement = Judgement(AnswerSort.EMPTY, "no data")
        answers = [
            Answer(
                "a",
                {},
                "u",
                "v",
                "w",
                2,
                "POST",
                200,
                "OK",
                None,
                "",
                0.0,
                0,
                "",
                "",
                judgement,
                "",
                outlook,
                "e",
                "m",
                {"a": "b"},
            )
            for outlook in ends
        ]
        for name in {name for answer in answers for name in answer.record(1)}:
            with self.subTest(name):
                self.assertIn(f"`{name}`", page)


class Output(FolderCase):
    def test_the_page_names_every_member_of_the_record_and_of_a_reject(self) -> None:
        page = (ROOT / "docs" / "output.md").read_text(encoding="utf-8")
        self.demo()
        record = json.loads(
            (self.folder / "merrow-demo/tables/run.json").read_text(encoding="utf-8")
        )
        counts = (
            set(record["tables"]["ports"])
            | set(record["inputs"][0])
            | set(record["sample"])
            | set(record["response"])
        )
        for name in sorted(set(record) | counts):
            with self.subTest(name):
                self.assertIn(f"`{name}`", page)
        line = (
            (self.folder / "merrow-demo/tables/rejects.jsonl")
            .read_text(encoding="utf-8")
            .splitlines()[0]
        )
        [shown] = [
            content
            for language, _, content in blocks("docs/output.md")
            if language == "json"
        ]
        self.assertEqual(list(json.loads(shown)), list(json.loads(line)))
        self.assertEqual(
            list(json.loads(shown)["problems"][0]),
            list(json.loads(line)["problems"][0]),
        )


class Readme(FolderCase):
    def test_every_command_of_the_readme_works_in_its_order(self) -> None:
        """Those with mukret in them, in one folder, as a reader would type them; pip is left to the
        installation.
        """
        commands = commands_of("README.md")
        self.assertGreaterEqual(len(commands), 6)
        for arguments in commands:
            with self.subTest(arguments):
                done = self.mukret(*arguments)
                self.assertIn(done.returncode, (0, 1), done.stderr)

    def test_the_python_of_the_readme_runs(self) -> None:
        self.demo()
        [code] = [
            content
            for language, _, content in blocks("README.md")
            if language == "python"
        ]
        before = Path.cwd()
        os.chdir(self.folder)
        self.addCleanup(os.chdir, before)
        scope: dict[str, object] = {}
        printed = io.StringIO()
        with contextlib.redirect_stdout(printed):
            exec(compile(code, "README.md", "exec"), scope)
        self.assertIn("sailings 86", printed.getvalue())

    def test_every_page_and_picture_that_is_linked_exists(self) -> None:
        for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
            for link in re.findall(
                r"\]\(([^)#]+)[^)]*\)", page.read_text(encoding="utf-8")
            ):
                if "://" not in link:
                    with self.subTest(page=page.name, link=link):
                        self.assertTrue((page.parent / link).exists())


if __name__ == "__main__":
    unittest.main()
