"""Parts of an extraction, merged, are what one run over all of the input gives: rows, rejects,
counts, warnings.
"""

from __future__ import annotations

import json
import random
import unittest
from collections import Counter
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any

from mukret.destinations.contract import WriteOptions
from mukret.destinations.deliver import deliver, deliver_extraction
from mukret.destinations.folder import Folder
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import InputError, StoppedError, UsageError
from mukret.parts.merging import Merge
from mukret.parts.reading import Part
from mukret.parts.shares import Share, fingerprint, refuse_what_looks_across
from mukret.parts.writing import extract_part
from mukret.rules import Rules, parse_rules
from tests.evaluators import NOW
from tests.helpers import FolderCase, rules_text
from tests.random_feeds import REFERENCE, seeded_feeds

FEEDS = 300
KEYED = """
    tables:
      ports: {rows: "$.ports[*]", key: code, duplicates: KIND, fields: {code: {at: $.code, required: true}, no: {at: $.no, type: integer}}}
      sailings:
        within: ports
        rows: "$.sailings[*]"
        inherit: [code]
        key: no
        where: "fare > 1"
        fields: {no: {at: $.no, type: integer, keep: false}, fare: {at: $.fare, type: "decimal(8,2)"}}
      calls: {within: sailings, rows: "$.calls[*]", inherit: [code], fields: {call: $}}
    """


class Merged(FolderCase):
    def parts(
        self, rules: Rules, files: Sequence[Path], of: int, **options: Any
    ) -> list[Part]:
        """Extracted in so many parts, and read again in another order."""
        made = []
        for number in range(1, of + 1):
            share, everything = Share(number, of), find_sources(files)
            own = [everything[taken] for taken in share.taken(everything)]
            target = str(self.folder / f"part{number}-{of}")
            extract_part(
                Run(rules, own, started=NOW, resolves_keys=False, **options),
                share,
                everything,
                target,
            )
            made.append(Part(target))
        random.Random(of).shuffle(made)
        return made

    def outcome(self, run: Run | Merge) -> dict[str, Any]:
        rows: dict[str, list[Any]] = {}
        rejects: list[bytes] = []
        try:
            for output in run.batches():
                for name, batch in output.tables.items():
                    rows.setdefault(name, []).extend(batch.to_pylist())
                rejects += [reject.line() for reject in output.rejects]
        except (InputError, StoppedError) as error:
            return {"error": type(error)}
        return {
            "rows": {name: found for name, found in rows.items() if found},
            "rejects": sorted(
                rejects
            ),  # those of a document that is read in parts come table by table in each
            "tally": run.tally.as_json(),
            "reasons": {key: reason.count for key, reason in run.tally.reasons.items()},
        }

    def test_random_rules_on_random_documents(self) -> None:
        self.file("words.csv", REFERENCE)
        hit: Counter[str] = Counter()
        for number, feed in enumerate(seeded_feeds(FEEDS, 20310402)):
            rules = parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml"))
            try:
                refuse_what_looks_across(rules)
            except UsageError:
                continue
            chance = random.Random(number)
            apart = chance.randint(1, 4)
            files = [
                self.file(f"{n}.jsonl", "\n".join(feed.lines[n::apart]) or "[]")
                for n in range(apart)
            ]
            one = self.outcome(
                Run(rules, find_sources(files), batch_bytes=80, started=NOW)
            )
            with self.subTest(number=number, rules=feed.rules_text):
                count = chance.randint(1, 4)
                parts = self.stopped_or(
                    partial(self.parts, rules, files, count, batch_bytes=80)
                )
                other = (
                    parts
                    if isinstance(parts, dict)
                    else self.outcome(Merge(rules, parts))
                )
                self.assertEqual(other, one)
            hit.update(code for _, _, code in one.get("reasons", ()))
            hit["dropped"] += sum(
                table["rows_deduplicated"]
                for table in one.get("tally", {"tables": {}})["tables"].values()
            )
        self.assertGreater(
            min(hit["duplicate"], hit["parent-rejected"], hit["dropped"]), 5, hit
        )

    def stopped_or(self, made: Any) -> Any:
        try:
            return made()
        except StoppedError as error:  # by the rules
            return {"error": type(error)}

    def test_keys_are_resolved_across_parts_with_all_that_stands_below(self) -> None:
        """Also what would have been left out for a row that is itself left out."""
        days = [
            [
                {
                    "code": "OTV",
                    "no": 1,
                    "sailings": [{"no": 1, "fare": 7, "calls": ["a"]}],
                }
            ],
            [
                {
                    "code": "SKR",
                    "no": 2,
                    "sailings": [
                        {"no": 2, "fare": 7, "calls": ["b", "c"]},
                        {"no": 3, "fare": 0},
                    ],
                }
            ],
            [
                {
                    "code": "OTV",
                    "no": 3,
                    "sailings": [
                        {"no": 2, "fare": 8, "calls": ["d"]},
                        {"no": 4, "fare": 0, "calls": ["e"]},
                    ],
                }
            ],
            [
                {
                    "code": "BRA",
                    "no": 4,
                    "sailings": [
                        {"no": 4, "fare": 9, "calls": ["f"]},
                        {"no": 1, "fare": 9},
                    ],
                }
            ],
        ]
        files = [
            self.file(f"{n}.json", json.dumps({"ports": ports}))
            for n, ports in enumerate(days)
        ]
        for kind in ("reject", "first", "last"):
            rules = parse_rules(rules_text(KEYED.replace("KIND", kind)))
            one = self.outcome(Run(rules, find_sources(files)))
            for of in (1, 2, 3, 4, 6):
                with self.subTest(kind, of=of):
                    self.assertEqual(
                        self.outcome(Merge(rules, self.parts(rules, files, of))), one
                    )
            codes = [row["code"] for row in one["rows"]["ports"]]
            self.assertEqual(
                codes,
                ["SKR", "OTV", "BRA"] if kind == "last" else ["OTV", "SKR", "BRA"],
            )

    def test_what_is_delivered_is_the_same_to_the_byte_and_so_is_its_record(
        self,
    ) -> None:
        self.demo()
        path = self.folder / "merrow-demo/merrow.rules.yaml"
        rules = parse_rules(path.read_bytes(), str(path))
        feed = [self.folder / "merrow-demo/feed"]
        for form, options in (
            ("csv", WriteOptions()),
            ("json", WriteOptions(nested=True)),
            ("parquet", WriteOptions()),
        ):
            with self.subTest(form):
                record = deliver(
                    Run(rules, find_sources(feed)),
                    Folder(str(self.folder / "one"), form),
                    options=options,
                )
                merge = Merge(rules, self.parts(rules, feed, 3))
                other = deliver_extraction(
                    merge.extraction,
                    Folder(str(self.folder / "other"), form),
                    options=options,
                )
                self.assertEqual(other.pop("parts"), 3)
                for name in ("started", "finished", "sample"):
                    record.pop(name), other.pop(name)
                self.assertEqual(other, record)
                for name in record["files"]:
                    if (
                        name != "run.json" and form != "parquet"
                    ):  # row groups are cut where blocks end
                        self.assertEqual(
                            (self.folder / "other" / name).read_bytes(),
                            (self.folder / "one" / name).read_bytes(),
                            name,
                        )

    def test_a_rule_that_finds_nothing_is_told_though_some_parts_had_nothing_to_look_in(
        self,
    ) -> None:
        rules = parse_rules(
            rules_text("""
            tables:
              t: {rows: "$.a[*]", fields: {b: $.b, c: $.c}}
              u: {rows: "$.none[*]", fields: {d: $.d}}
            """)
        )
        files = [
            self.file("1.json", '{"a": [{"b": 1, "C": 2}]}'),
            self.file("2.json", '{"a": []}'),
        ]
        one = Run(rules, find_sources(files))
        deliver(one, Folder(str(self.folder / "one")))
        expected = [
            (notice.code, notice.message, notice.hint) for notice in one.notices()
        ]
        self.assertEqual(len(expected), 2)
        for of in (1, 2, 4):
            merge = Merge(rules, self.parts(rules, files, of))
            self.assertEqual(
                [
                    (notice.code, notice.message, notice.hint)
                    for notice in merge.notices()
                ],
                expected,
                of,
            )
            self.assertEqual(
                [rule.as_json() for rule in merge.together.unmatched],
                [rule.as_json() for rule in one.unmatched()],
            )

    def test_parts_that_do_not_belong_together_are_refused(self) -> None:
        rules, files = (
            parse_rules(rules_text(KEYED.replace("KIND", "last"))),
            [
                self.file("a.json", '{"ports": []}'),
                self.file("b.json", '{"ports": []}'),
            ],
        )
        parts = sorted(self.parts(rules, files, 2), key=lambda part: part.folder)
        others = self.parts(rules, files[:1], 1)
        for some, told in (
            (parts[:1], "missing: part 2/2"), ([*parts, parts[0]], "part 1/2 is there twice"),
            ([parts[0], *others], "saw another number of parts"),
        ):  # fmt: skip
            with self.subTest(told), self.assertRaisesRegex(InputError, told):
                Merge(rules, some)
        with self.assertRaisesRegex(InputError, "by other rules"):
            Merge(parse_rules(rules_text(KEYED.replace("KIND", "first"))), parts)
        Part(parts[0].folder)
        for name in ("nowhere", "merrow"):
            self.file("merrow/run.json", "{}")
            with self.subTest(name), self.assertRaises(InputError):
                Part(str(self.folder / name))

    def test_a_part_that_was_damaged_is_an_error_and_nothing_is_published(self) -> None:
        rules, files = (
            parse_rules(rules_text(KEYED.replace("KIND", "last"))),
            [self.file("a.json", '{"ports": [{"code": "OTV"}]}')],
        )
        for name, content in (
            ("ports.arrow", b"ARROW1"),
            ("blocks.jsonl", b"{}\n"),
            ("blocks.jsonl", b"[\n"),
            ("blocks.jsonl", b""),
            ("calls.arrow", None),
        ):
            with self.subTest(name, content=content):
                merge = Merge(rules, self.parts(rules, files, 1))
                place = self.folder / "part1-1" / name
                place.unlink() if content is None else place.write_bytes(content)
                with self.assertRaisesRegex(InputError, "part1-1: "):
                    deliver_extraction(
                        merge.extraction, Folder(str(self.folder / "out"))
                    )
                self.assertFalse((self.folder / "out").exists())

    def test_if_no_document_can_be_read_in_any_part_nothing_is_published(self) -> None:
        rules, files = (
            parse_rules(rules_text(KEYED.replace("KIND", "last"))),
            [self.file("a.json", "}"), self.file("b.json", "{")],
        )
        merge = Merge(rules, self.parts(rules, files, 2))
        with self.assertRaisesRegex(InputError, "no document could be read"):
            deliver_extraction(merge.extraction, Folder(str(self.folder / "out")))
        self.assertFalse((self.folder / "out").exists())


class Shares(FolderCase):
    def test_all_inputs_are_taken_once_and_about_evenly(self) -> None:
        sizes = [900, 10, 10, 500, 400, 0, 0, 30, 60, 90]
        files = [self.file(f"{n}.json", "x" * size) for n, size in enumerate(sizes)]
        for of in (1, 2, 3, 7, 16):
            with self.subTest(of):
                shares = [
                    Share(number, of).taken(find_sources(files))
                    for number in range(1, of + 1)
                ]
                self.assertEqual(
                    sorted(number for share in shares for number in share),
                    list(range(len(files))),
                )
                self.assertEqual(shares, [sorted(share) for share in shares])
        halves = [
            sum(sizes[n] for n in Share(number, 2).taken(find_sources(files)))
            for number in (1, 2)
        ]
        self.assertEqual(halves, [1000, 1000])
        seen = fingerprint(find_sources(files))
        self.file("3.json", "y")
        self.assertNotEqual(fingerprint(find_sources(files)), seen)

    def test_what_is_no_share_is_refused(self) -> None:
        self.assertEqual(Share.parse("3/16"), Share(3, 16))
        for text in ("3", "0/3", "4/3", "a/3", "1/", "/3", "-1/3", "1/3/3", ""):
            with self.subTest(text), self.assertRaises(UsageError):
                Share.parse(text)


class OnTheCommandLine(FolderCase):
    def test_the_demo_in_parts(self) -> None:
        self.demo()
        rules, feed = "merrow-demo/merrow.rules.yaml", "merrow-demo/feed"
        codes = [
            self.typed(
                "extract", rules, feed, "--part", f"{k}/6", "--to", f"parts/{k}", "-q"
            ).returncode
            for k in range(1, 7)
        ]
        self.assertEqual(Counter(codes), {0: 3, 1: 3})  # a clean one, two without files
        parts = [f"parts/{k}" for k in range(1, 7)]
        done = self.typed("merge", *parts, "--to", "sqlite:///ferries.db")
        self.assertEqual(done.returncode, 1)
        self.assertIn(
            "6 parts: 4 documents in 4 files → sqlite:///ferries.db", done.stderr
        )
        self.assertIn("sailings: 1 × duplicate", done.stderr)
        self.assertEqual(
            self.typed(
                "compare", "merrow-demo/tables", "sqlite:///ferries.db"
            ).returncode,
            0,
        )
        self.assertEqual(
            self.typed("merge", *parts, "--to", "out", "--max-rejects", "5").returncode,
            1,
        )
        self.assertFalse((self.folder / "out").exists())
        refused = self.typed("compare", "parts/1", "merrow-demo/tables")
        self.assertEqual(
            (refused.returncode, "whose keys are not resolved" in refused.stderr),
            (3, True),
        )

    def test_what_hangs_on_the_time_is_said_before(self) -> None:
        self.file("a.json", '{"a": [1]}')
        for field, said in (("{compute: CURRENT_TIMESTAMP}", True), ("$", False)):
            self.file(
                "a.rules.yaml",
                rules_text(
                    f'tables: {{t: {{rows: "$.a[*]", fields: {{a: {field}}}}}}}'
                ),
            )
            done = self.typed(
                "extract", "a.rules.yaml", "a.json", "--part", "1/1", "--to", "p"
            )
            self.assertEqual(
                (
                    done.returncode,
                    "CURRENT_TIMESTAMP is the time of each part" in done.stderr,
                ),
                (0, said),
            )

    def test_what_makes_no_sense_is_told(self) -> None:
        self.file("a.json", '{"a": [1]}')
        self.file(
            "a.rules.yaml", rules_text('tables: {t: {rows: "$.a[*]", fields: {a: $}}}')
        )
        looks = 'tables: {t: {rows: "$.a[*]", key: a, fields: {a: $, b: {lookup: {in: t, by: a, give: a, across: run}}}}}'
        self.file("b.rules.yaml", rules_text(looks))
        for arguments, told in (
            (
                (
                    "a.rules.yaml",
                    "a.json",
                    "--part",
                    "1/2",
                    "--to",
                    "p",
                    "--format",
                    "json",
                ),
                "--format goes with `mukret merge`",
            ),
            (
                ("a.rules.yaml", "a.json", "--part", "1/2", "--to", "-"),
                "a part goes into a folder",
            ),
            (("a.rules.yaml", "-", "--part", "1/2", "--to", "p"), "- is none"),
            (
                ("b.rules.yaml", "a.json", "--part", "1/2", "--to", "p"),
                "looks at rows of the whole run",
            ),
        ):
            with self.subTest(arguments):
                done = self.typed("extract", *arguments)
                self.assertEqual(
                    (done.returncode, told in done.stderr), (2, True), done.stderr
                )


if __name__ == "__main__":
    unittest.main()
