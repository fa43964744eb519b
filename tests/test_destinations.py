"""Destinations: CSV as documented, and folders that appear whole or not at all."""

from __future__ import annotations

import csv
import io
import json
import os
import unittest
from pathlib import Path
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from mukret.destinations import publish, switching
from mukret.destinations.csv import CsvFile
from mukret.destinations.deliver import RejectLimit, deliver
from mukret.destinations.folder import Folder
from mukret.destinations.publish import Publication
from mukret.destinations.stream import Stream
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import Interrupted, OutputError, StoppedError, UsageError
from mukret.locks import hold
from mukret.rules import parse_rules
from mukret.semantics.tally import TableTally, Tally
from mukret.values import json_text
from tests.helpers import FolderCase, rules_text

RULES = """
    enums: {state: {values: {"in, port": {}, departed: {}}}}
    tables:
      t:
        rows: "$[*]"
        fields:
          id: {at: $.id, type: integer}
          name: $.name
          fare: {at: $.fare, type: "decimal(9,2)"}
          load: {at: $.load, type: float}
          live: {at: $.live, type: boolean}
          day: {at: $.day, type: date}
          at: {at: $.at, type: timestamp}
          state: {at: $.state, type: state}
          tags: {at: $.tags, type: list(text)}
      empty: {rows: "$[*].none[*]", fields: {a: $.a, b: {at: $.b, type: integer}}}
    """
ONE = {
    "id": 1, "name": 'Captain "Coat", Esq.', "fare": "1204.5", "load": 0.5, "live": "yes", "day": "2031-04-01",
    "at": "2031-04-01T10:22:07.50+02:00", "state": "in, port", "tags": ["a;b", "", "c"],
}  # fmt: skip


class Delivery(FolderCase):
    def run_over(self, *documents: object, rules: str = RULES) -> Run:
        files = [
            self.file(f"{number}.json", json.dumps(document))
            for number, document in enumerate(documents)
        ]
        return Run(parse_rules(rules_text(rules)), find_sources(files))

    def deliver(
        self, *documents: object, target: str = "out", limit: str | None = None
    ) -> Path:
        folder = self.folder / target
        deliver(
            self.run_over(*documents),
            Folder(str(folder)),
            RejectLimit.parse(limit) if limit else None,
        )
        return folder

    def test_parquet_holds_the_same_rows_in_the_same_types_and_what_the_rules_say_of_them(
        self,
    ) -> None:
        import pyarrow.parquet as pq

        rules = """
            tables:
              t:
                rows: "$[*]"
                note: one line a sailing
                fields:
                  id: {at: $.id, type: integer, note: painted on the quay}
                  fare: {at: $.fare, type: "decimal(9,2)", measured_in: crowns}
                  took: {at: $.took, type: duration}
                  clock: {at: $.clock, type: time}
                  local: {at: $.local, type: datetime}
                  tags: {at: $.tags, type: list(integer)}
                  all: {at: $, type: json}
              empty: {rows: "$[*].none[*]", fields: {a: $.a}}
            """
        lines = [
            {
                "id": n,
                "fare": f"{n}.50",
                "took": "PT1H",
                "clock": "10:22",
                "local": "2031-04-01T10:22",
                "tags": [n, 2],
            }
            for n in range(7)
        ]
        with mock.patch("mukret.destinations.parquet.ROWS_OF_A_GROUP", 3):
            run = Run(
                parse_rules(rules_text(rules)),
                find_sources(
                    [
                        self.file(
                            "a.jsonl",
                            "".join(json.dumps([line]) + "\n" for line in lines),
                        )
                    ]
                ),
                batch_bytes=1,
            )
            record = deliver(run, Folder(str(self.folder / "out"), "parquet"))
        self.assertEqual(
            record["files"], ["t.parquet", "empty.parquet", "rejects.jsonl", "run.json"]
        )
        self.assertEqual(
            sorted(os.listdir(self.folder / "out")), sorted(record["files"])
        )
        file = pq.ParquetFile(self.folder / "out/t.parquet")
        self.assertEqual(
            ([file.metadata.row_group(n).num_rows for n in range(file.num_row_groups)]),
            [3, 3, 1],
        )
        table = file.read()
        expected = Run(
            parse_rules(rules_text(rules)), find_sources([self.folder / "a.jsonl"])
        )
        self.assertEqual(
            table.to_pylist(),
            [
                row
                for output in expected.batches()
                for row in output.tables["t"].to_pylist()
            ],
        )
        self.assertTrue(table.schema.equals(expected.schemas["t"]))
        described = [
            (table.schema.field(name).metadata or {}) for name in ("id", "fare", "took")
        ]
        self.assertEqual(
            [item.get(b"note") or item.get(b"measured_in") for item in described],
            [b"painted on the quay", b"crowns", None],
        )
        self.assertEqual(table.schema.metadata[b"note"], b"one line a sailing")
        self.assertEqual(
            pq.read_table(self.folder / "out/empty.parquet").column_names, ["a"]
        )

    def test_a_folder_holds_a_file_per_table_the_rejects_and_the_record(self) -> None:
        out = self.deliver([ONE, {"id": 2}, {"id": "x"}])
        self.assertEqual(
            sorted(os.listdir(out)),
            ["csv-metadata.json", "empty.csv", "rejects.jsonl", "run.json", "t.csv"],
        )
        self.assertEqual(
            (out / "t.csv").read_text(encoding="utf-8"),
            "id,name,fare,load,live,day,at,state,tags\n"
            '1,"Captain ""Coat"", Esq.",1204.50,0.5,true,2031-04-01,2031-04-01T08:22:07.5Z,"in, port",a\\;b;\\e;c\n'
            "2,,,,,,,,\n",
        )
        self.assertEqual((out / "empty.csv").read_text(), "a,b\n")
        [reject] = map(json.loads, (out / "rejects.jsonl").read_text().splitlines())
        self.assertEqual(
            (reject["table"], reject["path"], reject["document"]), ("t", "$[2]", 1)
        )
        self.assertEqual(
            reject["problems"],
            [{"field": "id", "code": "not-a-number", "path": "$[2]['id']", "value": "x",
              "message": 'expected a number, such as 12, not "x"'}],
        )  # fmt: skip

    def test_the_record_says_what_was_read_and_what_became_of_it(self) -> None:
        out = self.deliver([ONE, {"id": "x"}], [])
        record = json.loads((out / "run.json").read_text())
        self.assertEqual(
            record["tables"]["t"],
            {"rows_seen": 2, "rows_written": 1, "rows_rejected": 1, "rows_filtered": 0, "rows_deduplicated": 0,
             "values_nulled": 0, "rows_filtered_unknown": 0},
        )  # fmt: skip
        first, second = record["inputs"]
        self.assertEqual(
            (first["documents"], first["bytes"]),
            (1, (self.folder / "0.json").stat().st_size),
        )
        self.assertEqual(
            second["sha256"],
            "4f53cda18c2baa0c0354bb5f9a3ecbe5ed12ab4d8e11ba873c2f11161202b945",
        )
        self.assertEqual(record["bad_documents"], 0)
        self.assertEqual([rule["table"] for rule in record["unmatched"]], ["empty"])
        self.assertTrue(
            record["started"].endswith("Z") and record["started"] <= record["finished"]
        )

    def test_the_metadata_says_what_the_columns_hold_what_identifies_a_row_and_what_joins(
        self,
    ) -> None:
        rules = """
            title: Ferries
            tables:
              ports:
                rows: "$[*]"
                key: code
                fields: {code: {at: $.code, required: true, note: Short code}, depth: {at: $.depth, type: "decimal(4,1)", measured_in: m}}
              notices:
                within: ports
                rows: "$.notices"
                inherit: [code]
                fields: {texts: {at: "$", type: list(text)}}
            """
        out = self.folder / "out"
        deliver(
            self.run_over([{"code": "OTV", "notices": ["a"]}], rules=rules),
            Folder(str(out)),
        )
        metadata = json.loads((out / "csv-metadata.json").read_text())
        ports, notices = metadata["tables"]
        self.assertEqual(
            (metadata["@context"], ports["url"]),
            ("http://www.w3.org/ns/csvw", "ports.csv"),
        )
        self.assertEqual(ports["tableSchema"]["primaryKey"], ["code"])
        code, depth = ports["tableSchema"]["columns"]
        self.assertEqual(
            (code["datatype"], code["required"], code["dc:description"]),
            ("string", True, "Short code"),
        )
        self.assertEqual(
            (depth["datatype"], depth["dc:description"]),
            ({"base": "decimal", "format": "0.0"}, "(m)"),
        )
        self.assertEqual(notices["tableSchema"]["columns"][1]["separator"], ";")
        [join] = notices["tableSchema"]["foreignKeys"]
        self.assertEqual(
            join["reference"], {"resource": "ports.csv", "columnReference": ["code"]}
        )

    def test_what_a_run_wrote_is_replaced_by_the_next_as_a_whole(self) -> None:
        self.deliver([ONE])
        out = self.deliver([{"id": 7}])
        self.assertEqual((out / "t.csv").read_text().splitlines()[1], "7,,,,,,,,")
        self.assertEqual(
            [name for name in os.listdir(self.folder) if name.startswith(".")], []
        )

    def test_a_folder_with_anything_else_in_it_is_refused_and_untouched(self) -> None:
        out = self.deliver([ONE])
        (out / "notes.txt").write_text("mine")
        before = (out / "t.csv").read_text()
        with self.assertRaises(OutputError) as caught:
            self.deliver([])
        self.assertIn("notes.txt", caught.exception.message)
        self.assertIn("--to", caught.exception.hint or "")
        self.assertEqual((out / "t.csv").read_text(), before)
        with self.assertRaises(OutputError):
            self.deliver([], target="0.json")

    def test_a_run_that_fails_leaves_what_was_there_before(self) -> None:
        out = self.deliver([ONE])
        before = {name: (out / name).read_bytes() for name in os.listdir(out)}
        with self.assertRaises(StoppedError):
            self.deliver([{"id": "x"}], limit="0")
        full = OSError(28, "No space left on device")
        with (
            mock.patch("mukret.destinations.csv.CsvFile.write", side_effect=full),
            self.assertRaises(OutputError) as caught,
        ):
            self.deliver([{"id": 3}])
        self.assertEqual(
            (caught.exception.code, caught.exception.exit_code), ("not-written", 4)
        )
        with (
            mock.patch(
                "mukret.destinations.csv.CsvFile.write", side_effect=KeyboardInterrupt
            ),
            self.assertRaises(KeyboardInterrupt),
        ):
            self.deliver([{"id": 3}])
        self.assertEqual(
            {name: (out / name).read_bytes() for name in os.listdir(out)}, before
        )
        self.assertEqual(
            [name for name in os.listdir(self.folder) if name.startswith(".")], []
        )

    def test_without_an_exchange_of_names_two_renames_do(self) -> None:
        self.deliver([ONE])
        with mock.patch.object(switching, "exchange", return_value=False):
            out = self.deliver([{"id": 8}])
        self.assertEqual((out / "t.csv").read_text().splitlines()[1], "8,,,,,,,,")
        self.assertEqual(
            [name for name in os.listdir(self.folder) if name.startswith(".")], []
        )

    def test_what_a_killed_run_left_is_cleared_by_the_next_and_what_a_run_holds_is_not(
        self,
    ) -> None:
        dead, held = (self.folder / f".out.mukret-{name}" for name in ("1", "2"))
        for work in (dead, held):
            work.mkdir()
        descriptor = os.open(held, os.O_RDONLY)
        self.addCleanup(os.close, descriptor)
        self.assertTrue(hold(descriptor))
        out = self.deliver([ONE])
        self.assertEqual(
            {entry.name for entry in self.folder.iterdir() if entry.is_dir()},
            {out.name, held.name},
        )

    def test_what_a_run_had_moved_aside_when_it_was_killed_is_put_back_by_the_next(
        self,
    ) -> None:
        """Even if that one fails: without an exchange of names there is a moment without the
        folder.
        """
        out = self.deliver([ONE])
        os.rename(out, self.folder / ".out.mukret-1-old")
        with self.assertRaises(StoppedError):
            self.deliver([{"id": "x"}], limit="0")
        self.assertIn("t.csv", os.listdir(out))
        self.assertEqual(
            [name for name in os.listdir(self.folder) if name.startswith(".")], []
        )

    def test_of_two_runs_at_once_into_one_folder_each_is_whole_and_the_last_one_stays(
        self,
    ) -> None:
        for exchange in (switching.exchange, lambda *_: False):
            with mock.patch.object(switching, "exchange", exchange):
                out = self.deliver([ONE])
                target = str(out)
                runs = [Publication(target), Publication(target)]
                for run in runs:
                    run.begin()
                self.assertNotEqual(runs[0].work, runs[1].work)
                for number, run in enumerate(runs):
                    (run.work / "run.json").write_text(
                        json.dumps({"mukret": "0", "files": [f"{number}.csv"]})
                    )
                    (run.work / f"{number}.csv").touch()
                for run in reversed(runs):
                    run.publish()
                    run.close()
                self.assertEqual(sorted(os.listdir(out)), ["0.csv", "run.json"])
                self.assertEqual(
                    [name for name in os.listdir(self.folder) if name.startswith(".")],
                    [],
                )

    def test_a_foreign_file_that_comes_while_a_run_works_is_never_deleted(self) -> None:
        out = self.deliver([ONE])
        run = Publication(str(out))
        self.addCleanup(run.close)
        run.begin()
        (out / "notes.txt").write_text("mine")
        with self.assertRaises(OutputError) as caught:
            run.publish()
        self.assertEqual(caught.exception.code, "not-empty")
        self.assertIn("notes.txt", caught.exception.message)
        self.assertEqual((out / "notes.txt").read_text(), "mine")
        self.assertIn("t.csv", os.listdir(out))

    def test_an_interrupt_before_the_work_has_begun_leaves_no_folder(self) -> None:
        for module, step in ((publish, "hold"), (switching, "is_name_of")):
            with (
                mock.patch.object(module, step, side_effect=KeyboardInterrupt),
                self.subTest(step),
            ):
                with self.assertRaisesRegex(Interrupted, "nothing was published"):
                    self.deliver([ONE])
                self.assertEqual(
                    [name for name in os.listdir(self.folder) if "out" in name], []
                )

    def test_an_interrupt_says_truly_whether_something_was_published(self) -> None:
        def interrupted(work: Path, place: Path) -> None:
            switch(work, place)
            raise KeyboardInterrupt

        switch = switching.switch
        for rows in ([ONE], [{"id": 8}]):
            with (
                mock.patch.object(switching, "switch", interrupted),
                self.assertRaisesRegex(Interrupted, "out was published"),
            ):
                self.deliver(rows)
        with (
            mock.patch.object(switching, "sync", side_effect=KeyboardInterrupt),
            self.assertRaisesRegex(Interrupted, "nothing was published"),
        ):
            self.deliver([{"id": 9}])
        self.assertIn("\n8,", (self.folder / "out/t.csv").read_text())

    def test_limits_on_rejects(self) -> None:
        tally = Tally(
            {"t": TableTally(rows_seen=200, rows_rejected=3)}, bad_documents=1
        )
        cases = [
            ("4", True),
            ("3", False),
            ("2%", True),
            ("1.9%", False),
            ("0", False),
            ("100%", True),
        ]
        for text, allowed in cases:
            with self.subTest(text):
                self.assertEqual(RejectLimit.parse(text).allows(tally), allowed)
        for text in ("x", "-1", "1.5", "101%", "%"):
            with self.subTest(text), self.assertRaises(ValueError):
                RejectLimit.parse(text)

    def test_one_table_goes_to_a_stream(self) -> None:
        stream = io.BytesIO()
        deliver(self.run_over([ONE, {"id": 2}]), Stream(stream, table="t"))
        self.assertEqual(stream.getvalue().count(b"\n"), 3)
        with self.assertRaises(UsageError):
            deliver(self.run_over([ONE]), Stream(stream, table="nope"))

    @given(
        st.lists(
            st.tuples(st.none() | st.text(), st.none() | st.text(alphabet='a",\n\r ;'))
        )
    )
    def test_any_text_reads_back_as_itself_and_null_apart_from_the_empty_text(
        self, rows: list[tuple[str | None, ...]]
    ) -> None:
        """By Python's own reader; an unquoted empty cell is null."""
        clean = [
            tuple(
                cell if cell is None or cell.isprintable() or cell.isascii() else None
                for cell in row
            )
            for row in rows
        ]
        rules = parse_rules(
            rules_text(
                'tables: {t: {rows: "$[*]", fields: {a: $.a, b: $.b, c: {constant: x}}}}'
            )
        )
        document = [{"a": a, "b": b} for a, b in clean]
        stream = io.BytesIO()
        with mock.patch(
            "mukret.documents.sources.open",
            side_effect=lambda *_: io.BytesIO(json_text(document).encode()),
        ):
            from mukret.documents import Source

            run = Run(rules, [Source("-mock-")])
            file = CsvFile(rules.tables["t"], stream)
            for output in run.batches():
                file.write(output.tables["t"])
            file.close()
        text = stream.getvalue().decode()
        found = list(csv.reader(io.StringIO(text, newline=""), strict=True))[1:]
        self.assertEqual(found, [[a or "", b or "", "x"] for a, b in clean])
        empties = sum(cell == "" for row in clean for cell in row)
        cells = [cell for line in text.split("\n") for cell in line.split(",")]
        self.assertGreaterEqual(
            sum('""' in cell for cell in cells), 1 if empties else 0
        )


if __name__ == "__main__":
    unittest.main()
