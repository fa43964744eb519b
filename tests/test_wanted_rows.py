"""Rules out of a few wanted rows: on the tables of all made-up responses, with mistakes in the
typing, and made of others.
"""

from __future__ import annotations

import csv
import json
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from random import Random
from typing import Any

import pyarrow as pa

from mukret.columns.types import written
from mukret.documents import find_sources
from mukret.drafting.wanted import Choice, draft_like, read_wanted
from mukret.drafting.wanted.matching import canonical
from mukret.engine.run import Run
from mukret.errors import InputError, UsageError
from mukret.rules import Rules, parse_rules
from mukret.semantics.examples import run_examples
from mukret.types import Date, DecimalType, Integer, Text, Timestamp, ValueType
from tests.drafts.cases import CASES
from tests.drafts.scoring import write
from tests.helpers import FolderCase

Columns = dict[str, list[str | None]]


def columns_of(rules: Rules, files: Sequence[Path]) -> dict[str, Columns]:
    """The cells of all tables of which no row is rejected, by column."""
    run = Run(rules, find_sources(files))
    found: dict[str, Columns] = {
        name: {column: [] for column in schema.names}
        for name, schema in run.schemas.items()
    }
    for output in run.batches():
        for name, batch in output.tables.items():
            for column, kind in rules.tables[name].columns:
                plain = batch.column(column)
                plain = (
                    plain.cast(pa.string())
                    if pa.types.is_dictionary(plain.type)
                    else plain
                )
                found[name][column] += written(plain, kind).to_pylist()
    return {
        name: columns
        for name, columns in found.items()
        if not run.tally.tables[name].rows_rejected
    }


def kept_whole(rules: Rules) -> Rules:
    """Rules that leave out no row: what is compared are fields,
    and three rows say nothing of keys.
    """
    return replace(
        rules,
        tables={name: replace(table, key=()) for name, table in rules.tables.items()},
    )


def made_of(columns: Columns, kinds: Mapping[str, ValueType]) -> Columns:
    """Columns that stand nowhere, made of those that do: of each kind the first that there are
    values for.
    """
    texts = [
        name
        for name, kind in kinds.items()
        if isinstance(kind, Text) and all(columns[name])
    ]
    numbers = [
        name
        for name, kind in kinds.items()
        if isinstance(kind, Integer | DecimalType) and all(columns[name])
    ]
    days = [
        name
        for name, kind in kinds.items()
        if isinstance(kind, Date | Timestamp) and all(columns[name])
    ]
    found: Columns = {}
    if len(texts) > 1:
        pairs = zip(columns[texts[0]], columns[texts[1]], strict=True)
        found["made_joined"] = [f"{one} / {other}" for one, other in pairs]
    if texts and any(str(text).lower() != text for text in columns[texts[-1]]):
        found["made_small"] = [str(text).lower() for text in columns[texts[-1]]]
    if len(numbers) > 1:
        pairs = zip(columns[numbers[0]], columns[numbers[1]], strict=True)
        found["made_product"] = [
            f"{Decimal(str(one)) * Decimal(str(other)):.2f}" for one, other in pairs
        ]
    if days:
        found["made_month"] = [str(int(str(text)[5:7])) for text in columns[days[0]]]
    return found


class WantedRows(FolderCase):
    def like(
        self, files: Sequence[Path], name: str, columns: Columns, rows: Sequence[int]
    ) -> dict[str, Columns]:
        """What the rules give that are drafted for these rows of a table; `text` has these."""
        file = self.folder / f"{name}.csv"
        with open(file, "w", newline="", encoding="utf-8") as out:
            lines = csv.writer(out)
            lines.writerow(columns)
            lines.writerows(
                ["" if cells[row] is None else cells[row] for cells in columns.values()]
                for row in rows
            )
        self.text = ""
        self.text = draft_like(
            find_sources(files),
            [read_wanted(str(file), name)],
            "like",
            "like.rules.yaml",
        ).text
        return columns_of(parse_rules(self.text, "like.rules.yaml"), files)

    def test_a_draft_is_the_same_each_time(self) -> None:
        """Whatever the order in which sets give what they hold."""
        self.demo()
        like = ("draft", "merrow-demo/feed", "--like", "merrow-demo/crossings.csv")
        drafts = {
            self.mukret(*like, variables={"PYTHONHASHSEED": str(seed)}).stdout
            for seed in (0, 8, 10)
        }
        self.assertEqual(len(drafts), 1)

    def test_whole_tables_out_of_a_few_rows_and_mistakes_are_named(self) -> None:
        seen: Counter[str] = Counter()
        wrong: list[str] = []
        for case in CASES:
            folder = self.folder / case.name
            folder.mkdir()
            files = [
                Path(file)
                for file in write(folder, case, case.documents(Random(case.name)))
            ]
            rules = kept_whole(parse_rules(f"mukret: 1\n{case.rules}"))
            for name, columns in columns_of(rules, files).items():
                count = len(next(iter(columns.values()), []))
                if count < 5 or not any(any(cells) for cells in columns.values()):
                    continue
                kinds = dict(rules.tables[name].columns)
                made = made_of(columns, kinds)
                for size in (2, 3, 5):
                    chance = Random(f"{case.name} {name} {size}")
                    rows = sorted(chance.sample(range(count), size))
                    try:
                        found = self.like(files, name, {**columns, **made}, rows)[name]
                    except UsageError as error:  # for one of its columns; the whole table is counted as wrong
                        found, self.text = (
                            {},
                            "\n".join(f" {one}: {error}" for one in (*columns, *made)),
                        )
                    for column, cells in {**columns, **made}.items():
                        what = "made" if column in made else "plain"
                        right = self.same(
                            kinds.get(column, Text()), cells, found.get(column, [])
                        )
                        seen[what] += 1
                        seen[f"{what} right"] += right
                        line = next(
                            one
                            for one in self.text.splitlines()
                            if f" {column}: " in one
                        )
                        seen["without a rival"] += (
                            not right and "; or " not in line and what == "plain"
                        )
                        wrong += (
                            []
                            if right
                            else [f"{case.name} {name}, {size} rows: {line}"]
                        )
                    told = self.mistyped(files, name, columns, rows, chance)
                    if told is not None:
                        seen["mistyped"] += 1
                        seen["named"] += told
        shares = {
            "plain fields right": seen["plain right"] / seen["plain"],
            "made of others right": seen["made right"] / seen["made"],
            "wrong without a rival": seen["without a rival"] / seen["plain"],
            "mistakes named": seen["named"] / seen["mistyped"],
        }
        print(
            "\nwanted rows:",
            ", ".join(f"{name} {share:.1%}" for name, share in shares.items()),
            dict(seen),
        )
        self.assertGreaterEqual(shares["plain fields right"], 0.95, wrong)
        self.assertGreaterEqual(shares["made of others right"], 0.6, wrong)
        self.assertLessEqual(shares["wrong without a rival"], 0.01, wrong)
        self.assertGreaterEqual(shares["mistakes named"], 0.95)

    @staticmethod
    def same(kind: Any, cells: list[str | None], found: list[str | None]) -> bool:
        one, other = (
            [text and canonical(kind, text) for text in texts]
            for texts in (cells, found)
        )
        return one == other

    def mistyped(
        self,
        files: Sequence[Path],
        name: str,
        columns: Columns,
        rows: Sequence[int],
        chance: Random,
    ) -> bool | None:
        """Whether two digits that were exchanged in one number are told, with the column; None
        where there are none.
        """
        places = [
            (column, row)
            for column, cells in columns.items()
            for row in rows
            if (text := cells[row])
            and text.replace(".", "").isdigit()
            and len(text) > 3
            and text[0] != text[1]
        ]
        if not places:
            return None
        column, row = chance.choice(places)
        cells = list(columns[column])
        text = str(cells[row])
        cells[row] = f"{text[1]}{text[0]}{text[2:]}"
        if cells[row] in columns[column]:
            return None
        try:
            self.like(files, name, {**columns, column: cells}, rows)
        except UsageError as error:
            return column in error.message
        return False

    def test_what_is_made_of_other_values(self) -> None:
        sailings = [
            {
                "id": 1000 + number,
                "vessel": f"MV-{ship}",
                "state": state,
                "departs": f"2031-04-0{day}T{hour:02}:15:00Z",
                "arrives": f"2031-04-0{day}T{hour + 2:02}:{minute:02}:00Z",
                "fare": f"{fare}.50",
                "seats": seats,
                "decks": [{"no": 1}] * (number % 3),
                "notes": [f"n{number}", "late"][: 1 + number % 2],
                "from": origin,
                "to": goal,
            }
            for number, (
                ship,
                state,
                day,
                hour,
                minute,
                fare,
                seats,
                origin,
                goal,
            ) in enumerate(
                [
                    ("PETREL", "DEP", 1, 8, 40, 12, 4, "OTV", "SKR"),
                    ("TERN", "BRD", 2, 9, 55, 31, 3, "SKR", "TOL"),
                    ("EIDER", "CXL", 3, 11, 20, 7, 9, "TOL", "OTV"),
                    ("DUNLIN", "DEP", 4, 6, 5, 22, 2, "LUN", "BRA"),
                    ("PETREL", "BRD", 5, 7, 0, 18, 6, "BRA", "LUN"),
                    ("EIDER", "DEP", 6, 16, 30, 45, 5, "SKR", "OTV"),
                ]
            )
        ]
        codes = ("OTV", "SKR", "TOL", "LUN", "BRA")
        harbours = [
            {"code": code, "title": f"{code.capitalize()} harbour", "berths": 2}
            for code in codes
        ]
        file = self.file(
            "feed.json",
            json.dumps(
                {
                    "operator": "Merrow",
                    "plan": "summer/2031",
                    "sailings": sailings,
                    "harbours": harbours,
                }
            ),
        )
        wanted: Columns = {
            "id": [str(one["id"]) for one in sailings],
            "ship": [str(one["vessel"])[3:] for one in sailings],
            "vessel_small": [str(one["vessel"]).lower() for one in sailings],
            "state": [
                {"DEP": "departed", "BRD": "boarding", "CXL": "cancelled"}[
                    str(one["state"])
                ]
                for one in sailings
            ],
            "day": [str(one["departs"])[:10] for one in sailings],
            "month": ["4"] * 6,
            "minutes": [str(120 + minute - 15) for minute in (40, 55, 20, 5, 0, 30)],
            "takings": [
                f"{float(str(one['fare'])) * int(str(one['seats'])):.2f}"
                for one in sailings
            ],
            "a_seat": [
                f"{float(str(one['fare'])) / int(str(one['seats'])):.2f}"
                for one in sailings
            ],
            "route": [f"{one['from']}-{one['to']}" for one in sailings],
            "first_note": [f"n{number}" for number in range(6)],
            "line": ["ferry"] * 6,
            "operator": ["Merrow"] * 6,
            "season": ["2031"] * 6,
            "port_name": [
                f"{goal.capitalize()} harbour"
                for goal in ("SKR", "TOL", "OTV", "BRA", "LUN", "OTV")
            ],
        }
        found = self.like([file], "sailings", wanted, (0, 1, 2))["sailings"]
        wrong = {
            name: (found[name], cells)
            for name, cells in wanted.items()
            if found[name] != cells
        }
        self.assertEqual(wrong, {})

    def test_an_unwanted_row_makes_a_condition(self) -> None:
        file = self.file(
            "feed.json",
            json.dumps(
                [
                    {
                        "no": n,
                        "state": "sailing" if n % 2 else "moored",
                        "master": "nobody",
                    }
                    for n in range(8)
                ]
            ),
        )
        self.file("sailings.csv", "no\n1\n3\n-,4\n")
        done = self.typed(
            "draft", file, "--like", "sailings.csv", "--out", "s.rules.yaml"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        text = (self.folder / "s.rules.yaml").read_text()
        rules = parse_rules(text)
        self.assertEqual(
            columns_of(rules, [file]), {"sailings": {"no": ["1", "3", "5", "7"]}}
        )
        [example] = run_examples(rules)
        self.assertEqual(
            (example.passed, example.example.gives["sailings"]), (True, ({"no": 1},))
        )
        self.assertNotIn("nobody", text)

    def test_members_of_a_record_as_rows(self) -> None:
        fares = {
            "fares": {
                "adult": {"amount": "7.50"},
                "child": {"amount": "3.25"},
                "car": {"amount": "31.00"},
            }
        }
        file = self.file(
            "feed.json",
            json.dumps({"sailings": [{"no": 1, **fares}, {"no": 2, **fares}]}),
        )
        columns: Columns = {
            "kind": ["adult", "child", "car"] * 2,
            "amount": ["7.50", "3.25", "31.00"] * 2,
        }
        self.assertEqual(
            self.like([file], "fares", columns, (0, 1, 2))["fares"], columns
        )

    def test_two_tables_two_rivals_and_what_is_wrong(self) -> None:
        ports = [
            {
                "code": code,
                "alias": code if n else "X",
                "berths": [{"no": n}, {"no": 9}],
            }
            for n, code in enumerate(("OTV", "SKR", "TOL"))
        ]
        file = self.file("feed.json", json.dumps({"ports": ports}))
        self.file("ports.csv", "code\nSKR\nTOL\n")
        self.file("other.csv", "port,berth\nOTV,0\nSKR,1\n")
        done = self.typed(
            "draft", file, "--like", "ports.csv", "--like", "berths=other.csv"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("or $.alias: row 1 has OTV here, X there", done.stdout)
        asked: list[Choice] = []
        likes = [read_wanted(str(self.folder / "ports.csv"), "ports")]

        def the_second(choice: Choice) -> bool:
            asked.append(choice)
            return True

        other = draft_like(
            find_sources([file]), likes, "", "like.rules.yaml", the_second
        )
        self.assertEqual(
            asked, [Choice("ports", "code", ("$.code", "$.alias"), 1, ("OTV", "X"))]
        )
        self.assertEqual(
            columns_of(parse_rules(other.text), [file])["ports"]["code"],
            ["X", "SKR", "TOL"],
        )
        found = columns_of(parse_rules(done.stdout), [file])
        self.assertEqual(
            found["berths"]["port"], ["OTV", "OTV", "SKR", "SKR", "TOL", "TOL"]
        )
        for text, word in (
            ("", "the file is empty"),
            ("a b\n1\n", "'a b' is no name of a field"),
            ("a,a\n1,2\n", "the field a is there twice"),
            ("a,b\n1\n", "line 2: 1 cells, and the header has 2"),
            ("a\n", "there is no wanted row"),
        ):
            self.file("wrong.csv", text)
            with self.assertRaisesRegex(InputError, word):
                read_wanted(str(self.folder / "wrong.csv"), "wrong")
        self.file("lost.csv", "code\nLUN\n")
        done = self.typed("draft", file, "--like", "lost.csv")
        self.assertEqual(done.returncode, 2)
        self.assertIn(
            "lost.csv, line 2: no row of the input has anything of it [not-given]",
            done.stderr,
        )
        done = self.typed("draft", file, "--like", "a b=lost.csv")
        self.assertIn("'a b' is no name of a table [usage]", done.stderr)
        done = self.typed("draft", file, "--like", "lost.csv", "--path", "$.ports")
        self.assertIn("--like says all that is wanted", done.stderr)
