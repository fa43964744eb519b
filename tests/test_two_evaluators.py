"""The engine, by columns and generated code, and the plain reference evaluator mean the same."""

from __future__ import annotations

import os
import tempfile
import unittest
from collections import Counter
from contextlib import ExitStack, chdir
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from hypothesis import HealthCheck, Phase, given, settings

from mukret.codes import REJECTS
from mukret.documents import NotJson, decode, find_sources
from mukret.engine.fates import Fate
from mukret.engine.plan import make_plan
from mukret.engine.reference import BadResponse, Document, LeftOut, ReferenceRun
from mukret.engine.run import Run
from mukret.errors import InputError
from mukret.rules import Rules, parse_rules
from tests import random_feeds
from tests.random_feeds import REFERENCE, Feed, feeds, seeded_feeds

HYPOTHESIS_EXAMPLES = int(os.environ.get("MUKRET_EXAMPLES", "150"))
SEEDED_EXAMPLES = int(os.environ.get("MUKRET_SEEDED_EXAMPLES", "1600"))
SEED = int(os.environ.get("MUKRET_SEED", "20310401"))
NOW = datetime(2031, 4, 1, 12, 0, 0, 250, tzinfo=UTC)
Rows = dict[str, list[dict[str, Any]]]


class TwoEvaluators(unittest.TestCase):
    codes: ClassVar[Counter[str]] = Counter()
    rows: ClassVar[Counter[str]] = Counter()
    folder: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        (cls.folder / "words.csv").write_text(REFERENCE, encoding="utf-8")

    @settings(
        max_examples=HYPOTHESIS_EXAMPLES,
        deadline=None,
        derandomize=True,
        suppress_health_check=list(HealthCheck),
        phases=(Phase.generate, Phase.shrink),
        report_multiple_bugs=False,
    )
    @given(feeds())
    def test_random_rules_on_random_documents_give_the_same_rows_rejects_and_tally(self, feed: Feed) -> None:
        self.compare(feed)

    def test_many_seeded_feeds_do_and_they_hit_every_reject_code(self) -> None:
        before = Counter(self.rows)
        for feed in seeded_feeds(SEEDED_EXAMPLES, SEED):
            self.compare(feed)
        rows = self.rows - before
        listing = ", ".join(f"{code} {self.codes[code]}" for code in sorted(REJECTS))
        print(f"\nrandom rules on random documents: {dict(rows)}\n  reject codes hit: {listing}", flush=True)
        self.assertGreater(rows["written"], 0.4 * rows["seen"], "agreement about rejection alone proves little")
        never = {"no-data", "too-long"}  # only an answer in an HTTP archive, only a very long line
        self.assertEqual([code for code in REJECTS if not self.codes[code]], sorted(never))

    def test_documents_that_are_read_in_parts_give_the_same(self) -> None:
        """Each in a file of its own, and all but the shortest cut wherever the rules allow it."""
        rows = ["$.a[*]", "$.b[*]", "$.a[*]", "$.b[*]", "$.c[*]", "$[*]", "$.a[*].b[*]", "$.a"]
        with mock.patch.multiple(random_feeds, ROW_PATHS=rows, CONDITIONS=["@.a", "!@.b"], KINDS={}):
            for feed in random_feeds.seeded_feeds(SEEDED_EXAMPLES // 4, SEED):
                if make_plan(parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml"))).long.arrays:
                    self.compare(feed, in_parts=True)
        self.assertGreater(self.rows["parts"], SEEDED_EXAMPLES // 80)

    def compare(self, feed: Feed, *, in_parts: bool = False) -> None:
        """Over a file of lines, in batches of a few bytes, so that documents of one file meet in several batches."""
        rules = parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml"))
        parts = self.rows["parts"]
        reference, expected, expected_rejects = self.by_reference(rules, feed.lines, apart=in_parts)
        run, found, found_rejects = self.by_engine(rules, feed.lines, apart=in_parts)
        if found is None:
            self.assertFalse(reference)
            return
        assert reference is not None
        self.assertEqual(found, expected, feed)
        if in_parts or self.rows["parts"] > parts:  # table by table in each part
            expected_rejects, found_rejects = sorted(expected_rejects, key=repr), sorted(found_rejects, key=repr)
        self.assertEqual(found_rejects, expected_rejects, feed)
        counts: dict[str, Any] = {name: tally.as_json() for name, tally in run.tally.tables.items()}
        self.assertEqual({**counts, "left out": run.tally.documents_left_out}, reference, feed)
        for tally in run.tally.tables.values():
            fates = tally.rows_written + tally.rows_rejected + tally.rows_filtered + tally.rows_deduplicated
            self.assertEqual(tally.rows_seen, fates)
            self.rows.update(seen=tally.rows_seen, written=tally.rows_written, filtered=tally.rows_filtered)
            self.rows.update(deduplicated=tally.rows_deduplicated)
        self.codes.update(problem["code"] for reject in found_rejects for problem in reject["problems"])

    def by_reference(
        self, rules: Rules, lines: list[str], *, apart: bool
    ) -> tuple[dict[str, Any] | None, Rows, list[Any]]:
        run = ReferenceRun(rules, NOW)
        written: Rows = {name: [] for name, table in rules.tables.items() if table.columns}
        rejects: list[Any] = []
        read = left_out = 0
        documents: dict[int, Document | None] = {}
        for number, line in enumerate(lines, 1):
            try:
                file, place = (f"{number:04}.json", 1) if apart else ("feed.jsonl", number)
                documents[number] = Document(decode(line.encode()), file, place)
            except NotJson:
                documents[number] = None
        run.prepare([document for document in documents.values() if document is not None])
        for number, document in documents.items():
            try:
                if document is None:
                    raise BadResponse("not-json", "")
                rows, found = run.document(document)
            except BadResponse as bad:
                rejects.append({"document": number, "problems": [{"code": bad.code}]})
                continue
            except LeftOut:
                left_out += 1
                continue
            read += 1
            rejects += [reject.as_json() for reject in found]
            for name in written:
                kept = [column for column, _ in rules.tables[name].columns]
                written[name] += [
                    {column: row.values[column] for column in kept} for row in rows[name] if row.fate == Fate.WRITTEN
                ]
        if not read and (left_out == 0 or rejects):
            return None, written, rejects
        counts: dict[str, Any] = {name: tally.as_json() for name, tally in run.tally.items()}
        return {**counts, "left out": left_out}, written, rejects

    def by_engine(self, rules: Rules, lines: list[str], *, apart: bool) -> tuple[Run, Rows | None, list[Any]]:
        written: Rows = {name: [] for name, table in rules.tables.items() if table.columns}
        rejects: list[Any] = []
        with ExitStack() as stack, tempfile.TemporaryDirectory() as folder:
            stack.enter_context(chdir(folder))
            texts = (
                {f"{n:04}.json": line for n, line in enumerate(lines, 1)} if apart else {"feed.jsonl": "\n".join(lines)}
            )
            for name, text in texts.items():
                Path(name).write_text(text, encoding="utf-8")
            run = Run(rules, find_sources(sorted(texts)), batch_bytes=2 if apart else 80)
            run.started = NOW
            outputs = stack.enter_context(mock.patch.object(Run, "output", autospec=True, side_effect=Run.output))
            self.rows.update(feeds=1, projected=run.projection is not None)
            try:
                with mock.patch("mukret.engine.run.is_sampled", lambda number: number % 3 == 2):
                    for output in run.batches():
                        rejects += output.rejects
                        for name, batch in output.tables.items():
                            written[name] += batch.to_pylist()
            except InputError:
                return run, None, []
            self.rows.update(parts=sum(call.args[1].part.array is not None for call in outputs.call_args_list))
        return (
            run,
            written,
            [
                reject.as_json()
                if reject.table
                else {
                    "document": int(reject.file.partition(".")[0]) if apart else reject.document,
                    "problems": [{"code": reject.problems[0].code}],
                }
                for reject in rejects
            ],
        )


if __name__ == "__main__":
    unittest.main()
