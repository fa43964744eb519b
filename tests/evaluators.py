"""Rules and documents through both evaluators, which must agree."""

from __future__ import annotations

import tempfile
import unittest
from collections import Counter
from contextlib import ExitStack, chdir
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from mukret.documents import NotJson, decode, find_sources
from mukret.engine.run import Run
from mukret.errors import InputError
from mukret.rules import Rules
from mukret.semantics.outcomes import RowOutcome
from mukret.semantics.reference import BadResponse, Document, LeftOut, ReferenceRun
from tests.random_feeds import rules_of

NOW = datetime(2031, 4, 1, 12, 0, 0, 250, tzinfo=UTC)
Rows = dict[str, list[dict[str, Any]]]


class EvaluatorsCase(unittest.TestCase):
    codes: ClassVar[Counter[str]]
    rows: ClassVar[Counter[str]]
    folder: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        cls.codes, cls.rows = Counter(), Counter()
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)

    def compare(
        self, text: str, lines: list[str], *, in_parts: bool = False
    ) -> tuple[Rows, list[Any]]:
        """Rows and rejects by the engine, which are those of the reference: over a file of lines,
        in batches of a few bytes, so that documents of one file meet in several batches.
        `in_parts`: each in a file of its own, cut.
        """
        rules = rules_of(text)
        feed = text, lines  # shown where they differ
        parts = self.rows["parts"]
        reference, expected, expected_rejects = self.by_reference(
            rules, lines, apart=in_parts
        )
        run, found, found_rejects = self.by_engine(rules, lines, apart=in_parts)
        if found is None:
            self.assertFalse(reference)
            return {}, expected_rejects
        assert reference is not None
        self.assertEqual(found, expected, feed)
        if in_parts or self.rows["parts"] > parts:  # table by table in each part
            expected_rejects, found_rejects = (
                sorted(expected_rejects, key=repr),
                sorted(found_rejects, key=repr),
            )
        self.assertEqual(found_rejects, expected_rejects, feed)
        counts: dict[str, Any] = {
            name: tally.as_json() for name, tally in run.tally.tables.items()
        }
        self.assertEqual(
            {**counts, "left out": run.tally.documents_left_out}, reference, feed
        )
        for tally in run.tally.tables.values():
            row_outcomes = (
                tally.rows_written
                + tally.rows_rejected
                + tally.rows_filtered
                + tally.rows_deduplicated
            )
            self.assertEqual(tally.rows_seen, row_outcomes)
            self.rows.update(
                seen=tally.rows_seen,
                written=tally.rows_written,
                filtered=tally.rows_filtered,
            )
            self.rows.update(deduplicated=tally.rows_deduplicated)
        self.codes.update(
            problem["code"]
            for reject in found_rejects
            for problem in reject["problems"]
        )
        return found, found_rejects

    def by_reference(
        self, rules: Rules, lines: list[str], *, apart: bool
    ) -> tuple[dict[str, Any] | None, Rows, list[Any]]:
        run = ReferenceRun(rules, NOW)
        written: Rows = {
            name: [] for name, table in rules.tables.items() if table.columns
        }
        rejects: list[Any] = []
        read = left_out = 0
        documents: dict[int, Document | None] = {}
        for number, line in enumerate(lines, 1):
            try:
                file, place = (
                    (f"{number:04}.json", 1) if apart else ("feed.jsonl", number)
                )
                documents[number] = Document(decode(line.encode()), file, place)
            except NotJson:
                documents[number] = None
        run.prepare(
            [document for document in documents.values() if document is not None]
        )
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
                    {column: row.values[column] for column in kept}
                    for row in rows[name]
                    if row.outcome == RowOutcome.WRITTEN
                ]
        if not read and (left_out == 0 or rejects):
            return None, written, rejects
        counts: dict[str, Any] = {
            name: tally.as_json() for name, tally in run.tally.items()
        }
        return {**counts, "left out": left_out}, written, rejects

    def by_engine(
        self, rules: Rules, lines: list[str], *, apart: bool
    ) -> tuple[Run, Rows | None, list[Any]]:
        written: Rows = {
            name: [] for name, table in rules.tables.items() if table.columns
        }
        rejects: list[Any] = []
        with ExitStack() as stack, tempfile.TemporaryDirectory() as folder:
            stack.enter_context(chdir(folder))
            texts = (
                {f"{n:04}.json": line for n, line in enumerate(lines, 1)}
                if apart
                else {"feed.jsonl": "\n".join(lines)}
            )
            for name, text in texts.items():
                Path(name).write_text(text, encoding="utf-8")
            run = Run(
                rules, find_sources(sorted(texts)), batch_bytes=2 if apart else 80
            )
            run.started = NOW
            outputs = stack.enter_context(
                mock.patch.object(Run, "output", autospec=True, side_effect=Run.output)
            )
            self.rows.update(feeds=1, scanned=run.plan.scan is not None)
            try:
                with mock.patch(
                    "mukret.engine.run.is_sampled", lambda number: number % 3 == 2
                ):
                    for output in run.batches():
                        rejects += output.rejects
                        for name, batch in output.tables.items():
                            written[name] += batch.to_pylist()
            except InputError:
                return run, None, []
            self.rows.update(
                parts=sum(
                    call.args[1].found.array is not None
                    for call in outputs.call_args_list
                )
            )
        return (
            run,
            written,
            [
                reject.as_json()
                if reject.table
                else {
                    "document": int(reject.file.partition(".")[0])
                    if apart
                    else reject.document,
                    "problems": [{"code": reject.problems[0].code}],
                }
                for reject in rejects
            ],
        )
