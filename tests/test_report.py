"""The report page: what it counts is so, what it says is weighed, and a real browser shows it."""

from __future__ import annotations

import json
import random
import unittest
from collections import Counter
from collections.abc import Iterator
from html import unescape
from html.parser import HTMLParser
from pathlib import Path
from typing import Any, ClassVar

import pyarrow as pa

from mukret.delivered.contract import Delivered, DeliveredReject, DeliveredTable
from mukret.delivered.opening import open_delivered
from mukret.destinations.deliver import deliver
from mukret.destinations.folder import Folder
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.report.findings import Fitness, weighed
from mukret.report.joins import KeyHashes, joined
from mukret.report.page import page
from mukret.report.profile import SAMPLED_ROWS, profile
from mukret.report.reading import Report, read_report
from mukret.report.words import percent, sentence
from mukret.rules import parse_rules
from tests.browser import BROWSER, measured, run, served
from tests.helpers import FolderCase, rules_text
from tests.postgres import PostgresCase

HEADINGS = [
    "Fit for use?",
    "Where rows went",
    "Columns",
    "Refused and why",
    "Never read",
    "How tables join",
]


class InHand(Delivered):
    """A delivery of texts that a test has in hand."""

    def __init__(
        self,
        types: dict[str, str],
        columns: dict[str, list[str | None]],
        at_once: int = 1000,
    ) -> None:
        super().__init__("in hand", {"t": DeliveredTable("t", types)}, [{}])
        self.table = pa.table(
            {name: pa.array(column, pa.string()) for name, column in columns.items()}
        )
        self.at_once = at_once

    def texts(self, table: str) -> Iterator[Any]:
        yield from self.table.to_batches(self.at_once)

    def rejects(self) -> Iterator[DeliveredReject]:
        yield from ()


class Profiles(unittest.TestCase):
    def test_ends_nulls_and_values_of_every_type(self) -> None:
        for kind, texts, smallest, largest in (
            (
                "integer",
                ["7", "-12", "9007199254740993", "9007199254740992"],
                "-12",
                "9007199254740993",
            ),
            (
                "decimal(20,2)",
                ["7.00", "-12.50", "123456789012345678.02", "123456789012345678.01"],
                "-12.50",
                "123456789012345678.02",
            ),
            ("float", ["0.5", "1e300", "-2.25"], "-2.25", "1e300"),
            ("date", ["2031-04-01", "1898-06-30"], "1898-06-30", "2031-04-01"),
            (
                "timestamp",
                ["2031-04-01T08:22:07Z", "2031-04-01T08:22:07.5Z"],
                "2031-04-01T08:22:07Z",
                "2031-04-01T08:22:07.5Z",
            ),
            (
                "datetime",
                ["2031-04-01T08:22:07", "2031-03-01T00:00:00"],
                "2031-03-01T00:00:00",
                "2031-04-01T08:22:07",
            ),
            ("time", ["08:22:07", "23:00:00"], "08:22:07", "23:00:00"),
            ("duration", ["PT90M", "P1D", "PT1H"], "PT1H", "P1D"),
            ("text", ["b", "a", ""], None, None),
            ("sailing_state", ["delayed", "boarding"], None, None),
            ("boolean", ["true", "false"], None, None),
            ("list(integer)", ["1;2", ""], None, None),
            ("json", ['{"a":1.50}'], None, None),
        ):
            with self.subTest(kind=kind):
                one = InHand({"c": kind}, {"c": [*texts, None, texts[0]]}, at_once=2)
                column = profile(one, one.tables["t"]).columns["c"]
                self.assertEqual((column.smallest, column.largest), (smallest, largest))
                self.assertEqual(
                    (column.rows, column.nulls, column.different),
                    (len(texts) + 2, 1, len(texts)),
                )
                self.assertEqual(dict(column.top)[texts[0]], 2)

    def test_much_is_estimated_and_sampled_and_says_so(self) -> None:
        chance = random.Random(20310404)
        different, rows = 40_000, 100_000
        texts = [f"B{chance.randrange(different):05}" for _ in range(rows)]
        one = InHand(
            {"ref": "text", "paid": "boolean"},
            {"ref": [*texts], "paid": ["true", None] * (rows // 2)},
        )
        found = profile(one, one.tables["t"])
        ref, paid = found.columns["ref"], found.columns["paid"]
        self.assertFalse(ref.exactly)
        self.assertAlmostEqual(ref.different / len(set(texts)), 1, delta=0.08)
        self.assertEqual(
            (paid.exactly, paid.top, paid.nulls),
            (True, [("true", rows // 2)], rows // 2),
        )
        self.assertEqual((found.sampled, len(ref.sample)), (SAMPLED_ROWS, SAMPLED_ROWS))
        self.assertAlmostEqual(
            len(paid.sample) / SAMPLED_ROWS, 0.5, delta=0.02
        )  # rows are drawn whole, and evenly

    def test_joins_are_counted_as_by_hand(self) -> None:
        chance = random.Random(20310405)
        parents = [str(number) for number in range(3000)]
        children = [str(chance.randrange(4000)) for _ in range(9000)]
        for most in (100_000, 500):
            of_parent, of_child = KeyHashes(["no"], most), KeyHashes(["no"], most)
            for hashes, texts in ((of_parent, parents), (of_child, children)):
                for start in range(0, len(texts), 700):
                    hashes.see(
                        pa.record_batch({"no": pa.array(texts[start : start + 700])})
                    )
            join = joined("calls", "sailings", of_child, of_parent)
            counts = Counter(children)
            of_each = sorted(counts.get(parent, 0) for parent in parents)
            orphans = sum(
                count for child, count in counts.items() if int(child) >= 3000
            )
            if join.one_in == 1:
                self.assertEqual(
                    (join.parents, join.without, join.orphans),
                    (3000, of_each.count(0), orphans),
                )
                self.assertEqual(
                    (join.fewest, join.median, join.most),
                    (of_each[0], of_each[1500], of_each[-1]),
                )
            else:
                self.assertAlmostEqual(join.parents * join.one_in / 3000, 1, delta=0.35)
                self.assertAlmostEqual(
                    join.orphans * join.one_in / orphans, 1, delta=0.5
                )
        self.assertGreater(join.one_in, 1)

    def test_shares_never_round_something_to_nothing(self) -> None:
        for count, of, words in (
            (0, 7, "0%"),
            (1, 10_000, "< 0.1%"),
            (9_999, 10_000, "> 99.9%"),
            (1, 3, "33.3%"),
            (7, 7, "100%"),
            (0, 0, "–"),
        ):
            self.assertEqual(percent(count, of), words)


def elements(text: str) -> Counter[tuple[str, ...]]:
    """How often a page has each element, with the names of its attributes."""
    seen: Counter[tuple[str, ...]] = Counter()

    class Reading(HTMLParser):
        def handle_starttag(
            self, tag: str, attrs: list[tuple[str, str | None]]
        ) -> None:
            seen[(tag, *(name for name, _ in attrs))] += 1

    Reading().feed(text)
    return seen


class Reports(FolderCase):
    RULES = """
        tables:
          sailings:
            rows: "$.sailings[*]"
            key: no
            duplicates: first
            where: "fare > 1"
            fields:
              no: {at: $.no, type: integer, required: true}
              fare: {at: $.fare, type: "decimal(8,2)"}
              note: $.note
          calls: {within: sailings, rows: "$.calls[*]", inherit: [no], fields: {call: $}}
        """
    GOOD: ClassVar[dict[str, Any]] = {
        "no": 1,
        "fare": "7.50",
        "note": "calm",
        "calls": ["a", "b"],
    }

    def delivered(
        self,
        *sailings: dict[str, Any],
        name: str = "out",
        form: str = "csv",
        rules: str = RULES,
    ) -> Report:
        file = self.file(f"{name}.json", json.dumps({"sailings": list(sailings)}))
        deliver(
            Run(parse_rules(rules_text(rules)), find_sources([file])),
            Folder(str(self.folder / name), form),
        )
        return self.report(name)

    def report(self, name: str, against: str | None = None) -> Report:
        before = None if against is None else open_delivered(str(self.folder / against))
        return read_report(open_delivered(str(self.folder / name)), before)

    def said(self, report: Report) -> tuple[Fitness, list[str]]:
        verdict, findings = weighed(report)
        return verdict, [sentence(one) for one in findings]

    def test_what_speaks_for_and_against_is_weighed(self) -> None:
        good, other = self.GOOD, {**self.GOOD, "no": 2}
        bad = {**self.GOOD, "no": "seven"}
        for sailings, verdict, said in (
            (
                [good, other],
                Fitness.YES,
                "None of 6 rows was rejected, and every document could be read.",
            ),
            (
                [good, other, bad],
                Fitness.WITH_CARE,
                "33.3% of the rows of sailings were rejected: 1 of 3, and with them 2 rows of the tables within.",
            ),
            (
                [good, bad, bad],
                Fitness.NO,
                "66.7% of the rows of sailings were rejected: 2 of 3, and with them 4 rows of the tables within.",
            ),
            ([bad], Fitness.NO, "No table has a row."),
            (
                [{**good, "note": None}],
                Fitness.WITH_CARE,
                "sailings.note is null in all of 1 row.",
            ),
            (
                [{**good, "calls": []}],
                Fitness.WITH_CARE,
                "calls is empty: no row was found in the input.",
            ),
            (
                [good, {**other, "fare": None}],
                Fitness.WITH_CARE,
                "1 row of sailings left out since the condition was unknown, not false (of 1 left out in all).",
            ),
        ):
            with self.subTest(said=said):
                found, sentences = self.said(self.delivered(*sailings))
                self.assertEqual((found, sentences[0]), (verdict, said))

    def test_what_changed_since(self) -> None:
        self.delivered(
            *({**self.GOOD, "no": number} for number in range(20)), name="before"
        )
        self.delivered(
            *({**self.GOOD, "no": number} for number in range(5)), name="less"
        )
        self.delivered(
            *(
                {**self.GOOD, "no": number, "note": "x" if number % 3 else None}
                for number in range(20)
            ),
            name="nulls",
        )
        without = self.RULES.replace("note: $.note", "").replace(
            "calls: {within: sailings", "halts: {within: sailings"
        )
        self.delivered(
            *({**self.GOOD, "no": number} for number in range(20)),
            name="other",
            rules=without,
        )
        for name, verdict, said in (
            (
                "before",
                Fitness.YES,
                ["Beside the delivery before nothing is out of the way."],
            ),
            (
                "less",
                Fitness.WITH_CARE,
                [
                    "calls has shrunk to 10 rows, from 40 before.",
                    "sailings has shrunk to 5 rows, from 20 before.",
                ],
            ),
            (
                "nulls",
                Fitness.WITH_CARE,
                ["sailings.note is null in 35% of its rows; before it was 0%."],
            ),
            (
                "other",
                Fitness.NO,
                [
                    "calls is gone; before it had 40 rows.",
                    "sailings.note is gone; it was there before.",
                ],
            ),
        ):
            with self.subTest(name=name):
                found, sentences = self.said(self.report(name, "before"))
                self.assertEqual((found, sentences[: len(said)]), (verdict, said))
        self.assertIn("<small>was 20", page(self.report("less", "before")))

    def test_whatever_stands_in_the_data_is_text_on_the_page(self) -> None:
        """The page has the same elements and attributes, whatever the texts and names are."""
        evil = (
            "</style><script>alert(1)</script><img src=x onerror=alert(1)>{{ 7 * 7 }}"
        )
        calm, hostile = (
            page(
                self.delivered(
                    {**self.GOOD, "note": text}, {**self.GOOD, "no": text, text: 1}
                )
            )
            for text in ("calm", evil)
        )
        self.assertEqual(elements(hostile), elements(calm))
        # No rule reads it, so that the page names it, as it was.
        unread = f"<code>$.sailings[*]['{evil}']</code>"
        self.assertEqual(unescape(hostile).count(unread), 1)

    def test_a_delivery_of_several_runs_and_a_table_that_is_counted_only(self) -> None:
        rules = self.RULES.replace(
            "fields: {call: $}", "fields: {call: {at: $, keep: false}}"
        ).replace("inherit: [no], ", "")
        report = self.delivered(self.GOOD, rules=rules)
        self.assertEqual(
            (report.tables["calls"].rows, report.tables["calls"].columns), (2, {})
        )
        self.assertIn(">calls</th>", page(report))
        self.file("feed.rules.yaml", rules_text(self.RULES))
        for number, sailings in enumerate(([self.GOOD], [])):
            self.file(f"{number}.json", json.dumps({"sailings": sailings}))
            self.typed(
                "extract",
                "feed.rules.yaml",
                f"{number}.json",
                "--to",
                "sqlite:///f.db",
                "--mode",
                "append",
            )
        found = json.loads(self.typed("report", "sqlite:///f.db", "--json").stdout)
        told = {
            name: (table["rows"], table["rows_seen"])
            for name, table in found["tables"].items()
        }
        self.assertEqual(
            (found["fit_for_use"], told), ("yes", {"sailings": (1, 0), "calls": (2, 0)})
        )

    def test_every_kind_of_destination(self) -> None:
        self.demo()
        rules, feed = "merrow-demo/merrow.rules.yaml", "merrow-demo/feed"
        texts = set()
        for target, form in (
            ("a", "parquet"),
            ("b", "jsonl"),
            ("sqlite:///f.db", None),
            ("c", "csv"),
        ):
            done = self.typed(
                "extract",
                rules,
                feed,
                "--to",
                target,
                *(["--format", form] if form else []),
            )
            self.assertEqual(done.returncode, 1, done.stderr)
            done = self.typed("report", target, "--out", "page.html", "-q")
            self.assertEqual((done.returncode, done.stderr), (0, ""))
            text = (self.folder / "page.html").read_text()
            columns = text[
                text.index("<h2>Columns") : text.index('<section id="unread"')
            ]
            texts.add(columns.replace(f"{feed}/", ""))
        self.assertEqual(len(texts), 1)

    def test_the_command(self) -> None:
        self.delivered(self.GOOD)
        for arguments, code, word in (
            (["out", "--out", "page.html"], 0, "fit for use? yes"),
            (["out", "--plot", "sailings.fare", "p.png"], 0, "sailings.fare → p.png"),
            (["out"], 2, "a page, a picture or JSON?"),
            (
                ["out", "--json", "--plot", "sailings.fare", "p.png"],
                2,
                "--plot draws one picture and nothing else",
            ),
            (
                ["out", "--plot", "sailings.fair", "p.png"],
                2,
                "did you mean sailings.fare?",
            ),
            (
                ["out", "--plot", "sailings.fare", "p.gif"],
                2,
                "a name that ends in .png, .svg, .pdf",
            ),
            (["nowhere", "--out", "page.html"], 3, "no run wrote it"),
            (["out", "--out", "no/page.html"], 4, "no such file or directory"),
            (
                ["out", "--out", "page.html", "--against", "nowhere"],
                3,
                "no run wrote it",
            ),
        ):
            with self.subTest(arguments=arguments):
                done = self.typed("report", *arguments)
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertIn(word, done.stderr)
        self.assertTrue((self.folder / "p.png").read_bytes().startswith(b"\x89PNG"))
        told = json.loads(self.typed("report", "out", "--json").stdout)
        self.assertEqual(
            (
                told["fit_for_use"],
                told["tables"]["sailings"]["columns"]["fare"]["largest"],
            ),
            ("yes", "7.50"),
        )
        self.file(
            "elsewhere/jinja2/__init__.py",
            "raise ModuleNotFoundError('gone', name='jinja2')",
        )
        place = {"PYTHONPATH": str(self.folder / "elsewhere")}
        done = self.mukret("report", "out", "--out", "page.html", variables=place)
        self.assertEqual(done.returncode, 2)
        self.assertIn("pip install 'mukret[report]'", done.stderr)


class InPostgres(PostgresCase, FolderCase):
    def test_tables_and_rejects_are_read_again(self) -> None:
        self.demo()
        address = f"postgresql:///postgres?{self.dsn.replace(' dbname=postgres', '').replace(' ', '&')}"
        rules, feed = "merrow-demo/merrow.rules.yaml", "merrow-demo/feed"
        self.assertEqual(
            self.typed("extract", rules, feed, "--to", address).returncode, 1
        )
        there, here = (
            self.typed("report", target, "--json").stdout
            for target in (address, "merrow-demo/tables")
        )
        self.assertEqual(json.loads(there), json.loads(here))


@unittest.skipIf(BROWSER is None, "Chromium is not installed")
class InABrowser(FolderCase):
    def test_it_loads_shows_and_prints(self) -> None:
        self.demo()
        folder = Path(self.folder)
        long, wide = (
            f"a_name_{'long_' * 10}",
            json.dumps([{"no": 12345678901234567890 * 10**40, "x" * 150: "y" * 500}]),
        )
        rules = f"tables: {{{long}: {{rows: '$[*]', fields: {{{long}_: '$.{'x' * 150}', no: {{at: $.no}}, gone: $.gone}}}}}}"
        deliver(
            Run(
                parse_rules(rules_text(rules)),
                find_sources([self.file("wide.json", wide)]),
            ),
            Folder(str(folder / "wide")),
        )
        for name in ("merrow-demo/tables", "merrow-demo/service-tables", "wide"):
            text = page(read_report(open_delivered(str(folder / name))))
            record = json.loads((folder / name / "run.json").read_text())
            for width in (1280, 390):
                with self.subTest(name=name, width=width):
                    told = measured(text, width, folder)
                    self.assertEqual(
                        (told["width"], told["wide"], told["headings"]),
                        (width, [], HEADINGS),
                    )
                    names = ("seen", "written", "rejected", "filtered", "deduplicated")
                    wanted = [
                        [table, *(f"{counts[f'rows_{one}']:,}" for one in names)]
                        for table, counts in record["tables"].items()
                    ]
                    self.assertEqual(told["rows"], wanted)
        with served(text.encode()) as (address, asked):
            done = run(folder, f"--print-to-pdf={folder / 'page.pdf'}", address)
        self.assertEqual(asked, ["/page.html"])
        self.assertNotIn("CONSOLE", done.stderr)
        printed = (folder / "page.pdf").read_bytes()
        self.assertTrue(printed.startswith(b"%PDF"))
        self.assertGreater(len(printed), 20_000)
