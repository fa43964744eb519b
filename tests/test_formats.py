"""Every format holds what every other holds: read back by other readers than those that wrote it,
value for value.
"""

from __future__ import annotations

import csv
import datetime as dt
import io
import json
import os
import re
import shutil
import subprocess
import sys
import unittest
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any
from unittest import mock

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
from hypothesis import given
from hypothesis import strategies as st

from mukret.cli.commands.extract import command as extract
from mukret.destinations import jsonl, xlsx
from mukret.destinations.contract import PLAIN, Delivery, RowsToWrite, WriteOptions
from mukret.destinations.deliver import RejectLimit, deliver
from mukret.destinations.folder import Folder
from mukret.destinations.formats import FORMATS
from mukret.destinations.json_objects import objects
from mukret.destinations.stream import Stream
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import OutputError, StoppedError, UsageError
from mukret.rules import Rules, parse_rules
from mukret.semantics.rejects import Reject
from mukret.types import (
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Float,
    Integer,
    Json,
    ListOf,
    Time,
    Timestamp,
    ValueType,
)
from tests.helpers import FolderCase, rules_text
from tests.test_documentation import commands_of

RULES = """
    enums: {state: {values: {"in, port": {}, 'say "hi"': {}}}}
    tables:
      t:
        rows: "$[*]"
        fields:
          "id": {at: $.id, type: integer, title: "№"}
          text: $.text
          fare: {at: $.fare, type: "decimal(38,9)"}
          load: {at: $.load, type: float}
          live: {at: $.live, type: boolean}
          day: {at: $.day, type: date}
          clock: {at: $.clock, type: time}
          local: {at: $.local, type: datetime}
          moment: {at: $.at, type: timestamp}
          took: {at: $.took, type: duration}
          state: {at: $.state, type: state}
          tags: {at: $.tags, type: list(text)}
          counts: {at: $.counts, type: list(integer)}
          all: {at: $.all, type: json}
      empty: {rows: "$[*].none[*]", fields: {a: $.a, b: {at: $.b, type: integer}}}
    """
ROWS: list[dict[str, Any]] = [
    {},
    {
        "id": 2**63 - 1, "text": 'a "quote", a \\ and\r\na line; ⛴ \t\x01\u2028', "fare": "12345678901234567890123456789.123456789",
        "load": 1e300, "live": True, "day": "9999-12-31", "clock": "23:59:59.999", "local": "2031-04-01T10:22:07.5",
        "at": "2031-04-01T10:22:07.123+02:00", "took": "-P3DT4H0.000001S", "state": "in, port",
        "tags": ["a;b", "", "\\", '"', "⛴"], "counts": [1, -(2**63)], "all": {"a": [1.10, None, "é"]},
    },
    {
        "id": -(2**63), "text": "=1+1", "fare": "-0.000000001", "load": 0.1, "live": False, "day": "1900-03-01",
        "clock": "00:00", "local": "1900-03-01T00:00", "at": "2262-04-12T00:00:00.000001Z", "took": "PT0S",
        "state": 'say "hi"', "tags": [], "counts": [], "all": "a text",
    },
    {"id": 7, "text": "", "fare": "7", "load": -5e-324, "tags": ["one"], "all": [], "clock": "10:22:00.000001"},
    {"id": 8, "text": "'", "fare": "123456.78", "load": 3, "all": 0},
]  # fmt: skip


def texts(kind: ValueType, value: Any) -> str | None:
    """A value as all formats can be compared: as it stands in CSV."""
    if value is None:
        return None
    if isinstance(kind, Json):
        return json.dumps(
            json.loads(value, parse_float=str, parse_int=str), sort_keys=True
        )
    return kind.written(value)


def from_csv(
    path: Path, columns: Sequence[tuple[str, ValueType]]
) -> list[list[str | None]]:
    with open(path, encoding="utf-8", newline="") as file:
        rows = list(csv.reader(file, strict=True))
    assert rows[0] == [name for name, _ in columns]
    return [[texts(kind, cell) if isinstance(kind, Json) and cell else cell or None
             for cell, (_, kind) in zip(row, columns, strict=True)] for row in rows[1:]]  # fmt: skip


def from_json(
    records: list[dict[str, Any]], columns: Sequence[tuple[str, ValueType]]
) -> list[list[str | None]]:
    def shown(kind: ValueType, value: Any) -> str | None:
        if isinstance(kind, Json) and value is not None:
            return json.dumps(value, sort_keys=True)
        if isinstance(kind, ListOf) and value is not None:
            return kind.written(
                [int(one) if isinstance(kind.item, Integer) else one for one in value]
            )
        if isinstance(kind, Float) and value is not None:
            return kind.written(float(value))
        if isinstance(kind, Boolean) and value is not None:
            return kind.written(value)
        return value if value is None else str(value)

    for record in records:
        assert list(record) == [name for name, _ in columns]
    return [[shown(kind, record[name]) for name, kind in columns] for record in records]


def from_arrow(
    table: Any, columns: Sequence[tuple[str, ValueType]]
) -> list[list[str | None]]:
    return [
        [texts(kind, row[name]) for name, kind in columns] for row in table.to_pylist()
    ]


def from_sheet(
    sheet: Any, columns: Sequence[tuple[str, ValueType]]
) -> list[list[str | None]]:
    def shown(kind: ValueType, value: Any) -> str | None:
        if isinstance(
            value, str
        ):  # this reader leaves control characters as they are escaped in the file
            value = re.sub(
                "_x([0-9A-F]{4})_", lambda match: chr(int(match[1], 16)), value
            )
        if value is None or isinstance(value, str):
            return (
                texts(kind, value)
                if isinstance(kind, Json) and value is not None
                else value
            )
        match kind:
            case DecimalType():
                return kind.written(
                    Decimal(repr(value)).quantize(Decimal(1).scaleb(-kind.scale))
                )
            case Timestamp():
                return kind.written(value.replace(tzinfo=dt.UTC))
            case Date():
                return kind.written(value.date())
            case Float():
                return kind.written(float(value))
            case Integer() | Boolean() | Time() | Datetime():
                return kind.written(value)
        raise AssertionError((kind, value))

    rows = list(sheet.iter_rows(values_only=True))
    assert list(rows[0]) == [name for name, _ in columns]
    return [
        [shown(kind, cell) for cell, (_, kind) in zip(row, columns, strict=True)]
        for row in rows[1:]
    ]


def exactly(text: str) -> Any:
    return json.loads(text, parse_float=str, parse_int=str)


READERS: Mapping[str, Callable[[Path, str, Any], list[list[str | None]]]] = {
    "csv": lambda folder, name, columns: from_csv(folder / f"{name}.csv", columns),
    "jsonl": lambda folder, name, columns: from_json(
        [
            exactly(line)
            for line in (folder / f"{name}.jsonl").read_bytes().decode().split("\n")
            if line
        ],
        columns,
    ),
    "json": lambda folder, name, columns: from_json(
        exactly((folder / f"{name}.json").read_bytes().decode()), columns
    ),
    "parquet": lambda folder, name, columns: from_arrow(
        pq.read_table(folder / f"{name}.parquet"), columns
    ),
    "arrow": lambda folder, name, columns: from_arrow(
        pa.ipc.open_file(folder / f"{name}.arrow").read_all(), columns
    ),
    "xlsx": lambda folder, name, columns: from_sheet(
        openpyxl.load_workbook(folder / "tables.xlsx")[name], columns
    ),
}


class EveryFormat(FolderCase):
    def run_over(
        self, rows: Sequence[Any] = ROWS, rules: str = RULES, **options: Any
    ) -> Run:
        file = self.file(
            "feed.jsonl", "".join(json.dumps([row]) + "\n" for row in rows)
        )
        return Run(parse_rules(rules_text(rules)), find_sources([file]), **options)

    def test_all_hold_the_same_values(self) -> None:
        run = self.run_over()
        found: dict[str, list[dict[str, Any]]] = {name: [] for name in run.schemas}
        for output in run.batches():
            for name, batch in output.tables.items():
                found[name] += batch.to_pylist()
        self.assertEqual((len(found["t"]), run.tally.findings), (len(ROWS), 0))
        self.assertEqual(READERS.keys(), FORMATS.keys())
        for form, read in READERS.items():
            for batch_bytes in (1, 1_000_000):
                folder = self.folder / form
                deliver(
                    self.run_over(batch_bytes=batch_bytes), Folder(str(folder), form)
                )
                for name, table in run.rules.tables.items():
                    expected = [
                        [texts(kind, row[column]) for column, kind in table.columns]
                        for row in found[name]
                    ]
                    if (
                        form == "csv"
                    ):  # its reader can't tell the empty text, which is quoted, from nothing
                        expected = [[cell or None for cell in row] for row in expected]
                    with self.subTest(form, table=name, batch_bytes=batch_bytes):
                        self.assertEqual(read(folder, name, table.columns), expected)

    def test_all_are_whole_or_not_there_and_count_alike(self) -> None:
        before: dict[str, Any] | None = None
        for form in FORMATS:
            with self.subTest(form):
                folder = self.folder / form
                record = deliver(
                    self.run_over([*ROWS, {"id": "x"}]), Folder(str(folder), form)
                )
                self.assertEqual(sorted(os.listdir(folder)), sorted(record["files"]))
                self.assertEqual(json.loads((folder / "run.json").read_text()), record)
                self.assertEqual(
                    len((folder / "rejects.jsonl").read_text().splitlines()), 1
                )
                self.assertEqual(before or record["tables"], record["tables"])
                before = record["tables"]
                there = {
                    name: (folder / name).read_bytes() for name in os.listdir(folder)
                }
                with self.assertRaises(StoppedError):
                    deliver(
                        self.run_over([{"id": "x"}]),
                        Folder(str(folder), form),
                        RejectLimit(number=0),
                    )
                for place in (
                    "mukret.destinations.switching.sync",
                    "mukret.destinations.folder.Folder.write",
                ):
                    full = OSError(28, "No space left on device")
                    with (
                        mock.patch(place, side_effect=full),
                        self.assertRaises(OutputError) as caught,
                    ):
                        deliver(self.run_over(), Folder(str(folder), form))
                    self.assertEqual(caught.exception.code, "not-written")
                self.assertEqual(
                    {name: (folder / name).read_bytes() for name in os.listdir(folder)},
                    there,
                )
        self.assertEqual(
            [name for name in os.listdir(self.folder) if name.startswith(".")], []
        )

    def test_a_table_goes_to_a_stream_as_it_stands_in_its_file(self) -> None:
        for form in FORMATS.values():
            if form.streams and form.name != "arrow":
                with self.subTest(form.name):
                    stream = io.BytesIO()
                    deliver(
                        self.run_over(batch_bytes=1), Stream(stream, form.name, "t")
                    )
                    folder = self.folder / form.name
                    deliver(
                        self.run_over(batch_bytes=1), Folder(str(folder), form.name)
                    )
                    if not form.binary:
                        self.assertEqual(
                            stream.getvalue(), (folder / f"t.{form.name}").read_bytes()
                        )
                    else:
                        self.assertEqual(
                            pq.read_table(io.BytesIO(stream.getvalue())),
                            pq.read_table(folder / "t.parquet"),
                        )
        stream = io.BytesIO()
        deliver(self.run_over(), Stream(stream, "arrow", "t"))
        self.assertEqual(
            pa.ipc.open_stream(stream.getvalue()).read_all().num_rows, len(ROWS)
        )

    def test_several_threads_write_the_same_bytes(self) -> None:
        for form in (form.name for form in FORMATS.values() if not form.binary):
            with self.subTest(form):
                for workers in (1, 2):
                    run = self.run_over(ROWS * 20, batch_bytes=500, workers=workers)
                    deliver(run, Folder(str(self.folder / f"{form}{workers}"), form))
                one, two = (
                    (self.folder / f"{form}{workers}/t.{form}").read_bytes()
                    for workers in (1, 2)
                )
                self.assertEqual(one, two)

    @given(
        st.lists(
            st.tuples(
                st.none() | st.text(), st.none() | st.lists(st.text(), max_size=3)
            ),
            min_size=1,
        )
    )
    def test_any_text_is_json(
        self, rows: list[tuple[str | None, list[str] | None]]
    ) -> None:
        table = parse_rules(
            rules_text(
                'tables: {t: {rows: "$", fields: {a: $.a, b: {at: $.b, type: list(text)}}}}'
            )
        ).tables["t"]
        try:
            batch = pa.RecordBatch.from_arrays(
                [
                    pa.array([a for a, _ in rows], pa.string()),
                    pa.array([b for _, b in rows], pa.list_(pa.string())),
                ],
                names=["a", "b"],
            )
        except UnicodeEncodeError:  # half of a surrogate pair: no text of a document
            return
        for part in (batch, batch.slice(len(rows) // 2)):
            found = [
                json.loads(text) for text in objects(part, table.columns).to_pylist()
            ]
            self.assertEqual(found, part.to_pylist())

    def test_what_the_rules_say_stands_in_the_metadata(self) -> None:
        rules = RULES.replace(
            "type: date}", "type: date, note: by the quay, measured_in: days}"
        )
        run = self.run_over(rules=rules)
        for form, schema_of in (
            ("parquet", pq.read_schema),
            ("arrow", lambda path: pa.ipc.open_file(path).schema),
        ):
            deliver(self.run_over(rules=rules), Folder(str(self.folder / form), form))
            schema = schema_of(self.folder / f"{form}/t.{form}")
            self.assertTrue(schema.equals(run.schemas["t"]))
            self.assertEqual(
                schema.metadata[b"rules_sha256"].decode(), run.rules.sha256
            )
            told = schema.field("day").metadata
            self.assertEqual(
                (told[b"note"], told[b"measured_in"]), (b"by the quay", b"days")
            )

    def test_a_spreadsheet_takes_no_text_for_a_formula_if_that_is_asked_for(
        self,
    ) -> None:
        options = WriteOptions(formulas_as_text=True)
        rows = [
            {"text": text, "id": -1}
            for text in ("=1", "+1", "-1", "@a", "\t=1", "1=", "'")
        ]
        deliver(
            self.run_over(rows),
            Folder(str(self.folder / "out"), "csv"),
            options=options,
        )
        with open(self.folder / "out/t.csv", encoding="utf-8", newline="") as file:
            found = list(csv.DictReader(file))
        self.assertEqual(
            [row["text"] for row in found],
            ["'=1", "'+1", "'-1", "'@a", "'\t=1", "1=", "'"],
        )
        self.assertEqual({row["id"] for row in found}, {"-1"})


class AFolderThatGrows(FolderCase):
    RULES = 'tables: {t: {rows: "$[*]", key: [a], fields: {a: {at: $.a, type: integer}}}, u: {rows: "$[*].u[*]", fields: {b: $}}}'

    def add(
        self,
        *documents: Any,
        rules: str = RULES,
        form: str = "jsonl",
        skip_seen: bool = False,
        **options: Any,
    ) -> dict[str, Any]:
        files = [
            self.file(
                f"in/{json.dumps(document).encode().hex()}.json", json.dumps(document)
            )
            for document in documents
        ]
        run = Run(parse_rules(rules_text(rules)), find_sources(files))
        return deliver(
            run,
            Folder(str(self.folder / "out"), form, append=True),
            skip_seen=skip_seen,
            **options,
        )

    def test_files_are_added_and_counts_add_up(self) -> None:
        for form, read in (("jsonl", lambda path: [json.loads(line) for line in path.read_text().splitlines()]),
                           ("parquet", lambda path: pq.read_table(path).to_pylist())):  # fmt: skip
            out = self.folder / "out"
            first = self.add([{"a": 1}, {"a": "x"}], form=form)
            second = self.add([{"a": 2, "u": ["x"]}, {"a": 1}], form=form)
            third = self.add([{"a": "y"}], [{"a": 3}], form=form)
            self.assertEqual(
                third["files"],
                [
                    *(f"{name}.{form}" for name in ("t", "u", "t.2", "u.2", "t.3")),
                    "rejects.jsonl",
                    "run.json",
                ],
            )
            self.assertEqual(sorted(os.listdir(out)), sorted(third["files"]))
            self.assertEqual(json.loads((out / "run.json").read_text()), third)
            found = [
                [row["a"] for row in read(out / f"t{number}.{form}")]
                for number in ("", ".2", ".3")
            ]
            self.assertEqual(found, [[1], [2, 1], [3]])
            self.assertEqual(
                [
                    third["tables"]["t"][f"rows_{name}"]
                    for name in ("seen", "written", "rejected")
                ],
                [6, 4, 2],
            )
            self.assertEqual(
                (third["runs"], len(third["inputs"]), third["started"]),
                (3, 4, first["started"]),
            )
            self.assertEqual(second["tables"]["u"]["rows_written"], 1)
            self.assertEqual(len((out / "rejects.jsonl").read_text().splitlines()), 2)
            again = self.add(
                [{"a": "y"}], [{"a": 3}], [{"a": 4}], form=form, skip_seen=True
            )
            self.assertEqual(
                (len(again["skipped"]), again["tables"]["t"]["rows_seen"]), (2, 7)
            )
            deliver(
                Run(parse_rules(rules_text(self.RULES)), []), Folder(str(out), form)
            )  # made anew
            self.assertEqual(len(os.listdir(out)), 4)
            shutil.rmtree(out)

    def test_what_does_not_go_together_is_refused_and_all_of_it_named(self) -> None:
        self.add([{"a": 1}])
        before = {
            path.name: path.read_bytes() for path in (self.folder / "out").iterdir()
        }
        other = 'tables: {t: {rows: "$[*]", fields: {a: $.a, c: $.c}}}'
        cases: list[tuple[dict[str, Any], str]] = [
            ({"form": "parquet"}, "it holds jsonl, not parquet"),
            ({"rules": other}, "t.a is integer, now text; t.c is missing, now text"),
        ]
        for arguments, message in cases:
            with self.assertRaisesRegex(OutputError, message) as caught:
                self.add([{"a": 1}], **arguments)
            self.assertEqual(caught.exception.code, "other-table")
        with self.assertRaises(StoppedError):
            self.add([{"a": "x"}], limit=RejectLimit(number=0))
        self.assertEqual(
            {path.name: path.read_bytes() for path in (self.folder / "out").iterdir()},
            before,
        )

    def test_of_two_runs_at_once_none_is_lost(self) -> None:
        self.add([{"a": 1}])

        def meanwhile(
            folder: Folder,
            record: dict[str, Any],
            publish: Callable[[Folder, dict[str, Any]], None] = Folder.publish,
        ) -> None:
            with mock.patch.object(Folder, "publish", publish):
                self.add([{"a": 2}])
            publish(folder, record)

        with (
            mock.patch.object(Folder, "publish", meanwhile),
            self.assertRaises(OutputError) as caught,
        ):
            self.add([{"a": 3}])
        self.assertEqual(caught.exception.code, "in-use")
        self.assertEqual(
            json.loads((self.folder / "out/run.json").read_text())["runs"], 2
        )


class Nested(FolderCase):
    RULES = """
        tables:
          ports: {rows: "$.ports[*]", key: [code], fields: {code: {at: $.code, required: true}}}
          quays: {within: ports, rows: "$.quays[*]", fields: {hidden: {at: $.n, keep: false}}}
          berths: {within: quays, rows: "$.berths[*]", inherit: [code], fields: {n: {at: $.n, type: integer}}}
          ships: {within: berths, rows: "$.ships[*]", where: "name <> 'no'", fields: {name: $.name}}
          winds: {rows: "$.winds[*]", fields: {knots: {at: $, type: integer}}}
        """
    FEED = (
        {"ports": [
            {"code": "A", "quays": [
                {"n": 1, "berths": [{"n": 1, "ships": [{"name": "x"}, {"name": "no"}, {"name": "y"}]}, {"n": "bad", "ships": [{"name": "z"}]}]},
                {"n": 2, "berths": [{"n": 2}]},
            ]},
            {"quays": [{"berths": [{"n": 3}]}]},
            {"code": "B", "quays": []},
        ], "winds": [7, 8]},
        {"ports": [{"code": "A", "quays": [{"berths": [{"n": 9}]}]}, {"code": "C", "quays": [{"berths": [{"n": 4}]}]}]},
    )  # fmt: skip
    EXPECTED: Sequence[dict[str, Any]] = (
        {"code": "A", "berths": [
            {"code": "A", "n": 1, "ships": [{"name": "x"}, {"name": "y"}]},
            {"code": "A", "n": 2, "ships": []},
        ]},
        {"code": "B", "berths": []},
        {"code": "C", "berths": [{"code": "C", "n": 4, "ships": []}]},
    )  # fmt: skip

    def rules(self) -> Rules:
        return parse_rules(rules_text(self.RULES))

    def run_over(self, **options: Any) -> Run:
        file = self.file(
            "feed.jsonl", "".join(json.dumps(document) + "\n" for document in self.FEED)
        )
        return Run(self.rules(), find_sources([file]), **options)

    def test_tables_within_stand_in_the_records_of_the_nearest_table_that_is_written(
        self,
    ) -> None:
        nested = WriteOptions(nested=True)
        for workers in (1, 2):
            for indent in (None, 2):
                out = self.folder / "out"
                options = WriteOptions(nested=True, indent=indent)
                record = deliver(
                    self.run_over(workers=workers, batch_bytes=1),
                    Folder(str(out), "json"),
                    options=options,
                )
                self.assertEqual(
                    record["files"],
                    ["ports.json", "winds.json", "rejects.jsonl", "run.json"],
                )
                self.assertEqual(
                    json.loads((out / "ports.json").read_text()), list(self.EXPECTED)
                )
                self.assertEqual(
                    json.loads((out / "winds.json").read_text()),
                    [{"knots": 7}, {"knots": 8}],
                )
        deliver(self.run_over(), Folder(str(out), "jsonl"), options=nested)
        lines = (out / "ports.jsonl").read_text().splitlines()
        self.assertEqual([json.loads(line) for line in lines], list(self.EXPECTED))

    def test_a_payload_has_all_tables_or_one_with_those_within(self) -> None:
        for options, expected in (
            (
                WriteOptions(nested=True, indent=3),
                {"ports": list(self.EXPECTED), "winds": [{"knots": 7}, {"knots": 8}]},
            ),
            (PLAIN, None),
        ):
            stream = io.BytesIO()
            deliver(self.run_over(), Stream(stream, "json"), options=options)
            found = json.loads(stream.getvalue())
            if expected is not None:
                self.assertEqual(found, expected)
            else:
                self.assertEqual(
                    {name: len(rows) for name, rows in found.items()},
                    {"ports": 3, "berths": 3, "ships": 2, "winds": 2},
                )
        stream = io.BytesIO()
        deliver(
            self.run_over(),
            Stream(stream, "jsonl", "berths"),
            options=WriteOptions(nested=True),
        )
        self.assertEqual(
            [json.loads(line)["n"] for line in stream.getvalue().splitlines()],
            [1, 2, 4],
        )

    def test_a_long_document_is_not_read_in_parts_and_nothing_is_lost(self) -> None:
        ships = [{"name": f"ship {number}"} for number in range(500)]
        document = {
            "ports": [{"code": "A", "quays": [{"berths": [{"n": 1, "ships": ships}]}]}]
        }
        file = self.file("long.json", json.dumps(document))
        out = self.folder / "out"
        deliver(
            Run(self.rules(), find_sources([file]), batch_bytes=100),
            Folder(str(out), "json"),
            options=WriteOptions(nested=True),
        )
        self.assertEqual(
            json.loads((out / "ports.json").read_text())[0]["berths"][0]["ships"], ships
        )

    def test_one_name_for_a_column_and_a_table_within_is_refused(self) -> None:
        rules = parse_rules(
            rules_text("""
                tables:
                  p: {rows: "$[*]", fields: {b: $.b}}
                  a: {within: p, rows: "$.a[*]", fields: {c: {at: $, keep: false}}}
                  b: {within: a, rows: "$[*]", fields: {e: $}}
                """)
        )
        with self.assertRaisesRegex(UsageError, "both named b"):
            deliver(
                Run(rules, find_sources([self.file("a.json", "[]")])),
                Folder(str(self.folder / "out"), "json"),
                options=WriteOptions(nested=True),
            )

    def test_the_nested_sample_read_back_gives_the_same_tables(self) -> None:
        self.demo()
        rules = parse_rules(
            (self.folder / "merrow-demo/merrow.rules.yaml").read_text(),
            str(self.folder / "merrow-demo/merrow.rules.yaml"),
        )
        feed = (
            self.folder / "merrow-demo/merrow.rules.yaml",
            self.folder / "merrow-demo/feed",
        )
        self.typed("extract", *feed, "--to", "nested", "--format", "jsonl", "--nested")
        self.typed("extract", *feed, "--to", "flat")
        below = [name for name in rules.tables if rules.tables[name].within]
        roots = {
            within
            for name in below
            if (within := rules.tables[name].within) and within not in below
        }
        lines = ["mukret: 1", "tables:"]
        for name, table in rules.tables.items():
            if name not in below and name not in roots:
                continue
            own = ", ".join(
                f'"{column}": {{at: "$[\'{column}\']", type: "{_plain(kind)}"}}'
                for column, kind in table.columns
            )
            place = (
                f'within: {table.within}, rows: "$.{name}[*]"'
                if table.within
                else 'rows: "$"'
            )
            lines.append(f"  {name}: {{{place}, fields: {{{own}}}}}")
        self.file("back.rules.yaml", "\n".join(lines))
        done = self.typed(
            "extract", "back.rules.yaml", "nested/ports.jsonl", "--to", "back"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        for name in (*roots, *below):
            if name in (
                "ports",
                "sailings",
                "bookings",
                "fares",
                "decks",
                "berths",
                "tides",
                "announcements",
            ):
                self.assertEqual(
                    (self.folder / f"back/{name}.csv").read_text(),
                    (self.folder / f"flat/{name}.csv").read_text(),
                    name,
                )


def _plain(kind: ValueType) -> str:
    """The type by its name; enums and types of the rules as texts."""
    return kind.name if not hasattr(kind, "names") else "text"


class Workbooks(FolderCase):
    LONG = "a" * 31
    RULES = f"""
        tables:
          {LONG}: {{rows: "$.a[*]", fields: {{day: {{at: $.day, type: date}}, text: $.text}}}}
          {LONG}_and_more: {{rows: "$.b[*]", fields: {{n: {{at: $, type: integer}}}}}}
          rejects: {{rows: "$.c[*]", fields: {{n: {{at: $, type: integer}}}}}}
        """

    def deliver(self, document: Any, **options: bool) -> Any:
        rules = parse_rules(rules_text(self.RULES))
        run = Run(rules, find_sources([self.file("feed.json", json.dumps(document))]))
        deliver(
            run,
            Folder(str(self.folder / "out"), "xlsx"),
            options=WriteOptions(**options),
        )
        return openpyxl.load_workbook(self.folder / "out/tables.xlsx")

    def test_sheets_have_names_that_they_can_have_a_frozen_header_and_one_is_for_rejects(
        self,
    ) -> None:
        book = self.deliver(
            {"a": [{"day": "2031-04-01", "text": "=1+1"}], "b": [1, "x"], "c": []}
        )
        self.assertEqual(
            book.sheetnames, ["a" * 31, "a" * 29 + "~2", "rejects", "rejects~2"]
        )
        sheet = book["a" * 31]
        self.assertEqual(
            (sheet.freeze_panes, sheet["A2"].value, sheet["A2"].number_format),
            ("A2", dt.datetime(2031, 4, 1), "yyyy-mm-dd"),
        )
        self.assertEqual((sheet["B2"].value, sheet["B2"].data_type), ("=1+1", "s"))
        told = [cell.value for cell in book["rejects~2"][2]]
        self.assertEqual((told[2], told[5], told[6]), ("1", "not-a-number", "x"))

    def test_what_a_sheet_can_not_hold_is_refused_with_its_place_before_anything_is_published(
        self,
    ) -> None:
        for document, message in (
            (
                {"a": [{}, {"day": "1900-02-28"}]},
                "row 2: a sheet holds no date before 1900-03-01, such as 1900-02-28",
            ),
            (
                {"a": [{"text": "x" * 40_000}]},
                "a cell holds 32,767 characters at the most, not 40,000",
            ),
        ):
            with self.assertRaises(OutputError) as caught:
                self.deliver(document)
            self.assertEqual(caught.exception.code, "not-held")
            self.assertIn(message, caught.exception.message)
            self.assertFalse((self.folder / "out").exists())
        with (
            mock.patch.object(xlsx, "MOST_ROWS", 2),
            self.assertRaisesRegex(OutputError, "more rows than a sheet"),
        ):
            self.deliver({"b": [1, 2, 3]})

    def test_without_its_library_it_says_what_to_install(self) -> None:
        with (
            mock.patch.dict(sys.modules, {"xlsxwriter": None}),
            self.assertRaises(UsageError) as caught,
        ):
            self.deliver({"a": []})
        self.assertEqual(caught.exception.code, "missing-extra")


class OneMore:
    """A destination in one class: all that the contract asks for."""

    target = "a list"
    linked = encodes = False
    outcome = "nothing was kept"

    def __init__(self, fails_at: str = "") -> None:
        self.fails_at = fails_at
        self.called: list[str] = []
        self.rows: list[dict[str, Any]] = []

    def call(self, name: str) -> None:
        self.called.append(name)
        if name == self.fails_at:
            raise OSError(5, "Input/output error")

    def open(self, delivery: Delivery) -> None:
        self.call("open")

    def taken(self) -> set[str]:
        return set()

    def encode(self, table: str, batch: Any) -> Any:
        raise AssertionError

    def write(self, rows: RowsToWrite) -> None:
        self.call("write")
        self.rows += [
            row for batch in rows.tables.values() for row in batch.to_pylist()
        ]

    def set_aside(self, rejects: Sequence[Reject]) -> None:
        self.call("set_aside")

    def publish(self, record: dict[str, Any]) -> None:
        self.call("publish")

    def abort(self) -> None:
        self.called.append("abort")


class TheContract(FolderCase):
    def test_a_new_destination_is_one_class_and_is_told_of_every_failure(self) -> None:
        rules = parse_rules(
            rules_text(
                'tables: {t: {rows: "$[*]", fields: {a: {at: $.a, type: integer}}}}'
            )
        )
        file = self.file("feed.json", '[{"a": 1}, {"a": "x"}]')
        calls = ["open", "write", "set_aside", "publish"]
        fine = OneMore()
        deliver(Run(rules, find_sources([file])), fine)
        self.assertEqual((fine.called, fine.rows), (calls, [{"a": 1}]))
        for number, name in enumerate(calls):
            broken = OneMore(name)
            with (
                self.subTest(name),
                self.assertRaisesRegex(OutputError, "a list: input/output error"),
            ):
                deliver(Run(rules, find_sources([file])), broken)
            self.assertEqual(
                [
                    one
                    for one in broken.called
                    if one != "set_aside" or name == "set_aside"
                ][-1],
                "abort",
            )
            self.assertEqual(broken.called.count("abort"), 1)
            self.assertNotIn("publish", broken.called[: number and 3])


class Names(FolderCase):
    def test_a_table_never_takes_the_file_of_the_record_or_of_the_rejects(self) -> None:
        file = self.file("a.json", "[1]")
        for table, form in (
            ("run", "json"),
            ("Run", "json"),
            ("rejects", "jsonl"),
            ("run", "csv"),
            ("rejects", "json"),
        ):
            rules = parse_rules(
                rules_text(f'tables: {{{table}: {{rows: "$[*]", fields: {{a: $}}}}}}')
            )
            out = self.folder / f"{table}-{form}"
            with self.subTest(table, form=form):
                run = Run(rules, find_sources([file]))
                if (table.lower(), form) in (("run", "json"), ("rejects", "jsonl")):
                    with self.assertRaises(OutputError) as caught:
                        deliver(run, Folder(str(out), form))
                    self.assertEqual(
                        (caught.exception.code, out.exists()), ("not-held", False)
                    )
                else:
                    deliver(run, Folder(str(out), form))
                    self.assertTrue((out / f"{table}.{form}").exists())


class OnTheCommandLine(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file(
            "t.rules.yaml",
            rules_text(
                'tables: {t: {rows: "$[*]", fields: {a: $.a}}, u: {within: t, rows: "$.u[*]", fields: {b: $}}}'
            ),
        )
        self.file("a.json", '[{"a": "é", "u": [1, 2]}]')

    def test_formats_and_their_options(self) -> None:
        for arguments, code, expected in (
            (("--to", "-", "--table", "t", "--format", "jsonl"), 0, '{"a":"é"}\n'),
            (
                ("--to", "-", "--table", "t", "--format", "json", "--indent", "1"),
                0,
                '[\n {\n  "a": "é"\n }\n]\n',
            ),
            (
                ("--to", "-", "--format", "json", "--nested"),
                0,
                '{\n"t": [\n{"a":"é","u":[{"b":"1"},{"b":"2"}]}\n]\n}\n',
            ),
            (("--to", "-", "--format", "jsonl"), 2, "of which table?"),
            (("--to", "-", "--format", "xlsx", "--table", "t"), 2, "xlsx is no stream"),
            (
                ("--to", "out", "--format", "csv", "--nested"),
                2,
                "--nested is for jsonl and json, not for csv",
            ),
            (("--to", "out", "--format", "xslx"), 2, "did you mean xlsx?"),
            (("--to", "out.xlsx", "--format", "xlsx"), 2, "DEST is a folder"),
            (
                ("--to", "out", "--mode", "append"),
                2,
                "--mode append is for jsonl and parquet, not for csv",
            ),
            (("--to", "out", "--mode", "upsert"), 2, "--mode upsert is for databases"),
            (("--to", "out", "--widen"), 2, "--widen is for databases"),
            (("--to", "out", "--skip-seen"), 2, "--skip-seen goes with --mode append"),
            (
                ("--to", "-", "--mode", "append", "--table", "t"),
                2,
                "are for a folder or a database",
            ),
        ):
            with self.subTest(arguments):
                done = self.typed("extract", "t.rules.yaml", "a.json", *arguments, "-q")
                self.assertEqual(done.returncode, code, done.stderr)
                if code:
                    self.assertIn(expected, done.stderr)
                else:
                    self.assertEqual(done.stdout, expected)

    def test_a_reader_of_a_stream_that_has_seen_enough_is_no_error(self) -> None:
        self.file("long.json", json.dumps([{"a": "x" * 1000}] * 2000))
        for form in ("csv", "jsonl", "json", "arrow", "parquet"):
            command = f"{sys.executable} -m mukret extract t.rules.yaml long.json --to - --table t --format {form} -q | head -c 10"
            done = subprocess.run(
                ["bash", "-o", "pipefail", "-c", command],
                cwd=self.folder,
                capture_output=True,
                check=False,
            )
            self.assertEqual((done.returncode, done.stderr), (0, b""), form)


class Page(FolderCase):
    def test_it_has_every_format_with_its_options_and_every_type(self) -> None:
        page = (Path(__file__).parent.parent / "docs/destinations.md").read_text(
            encoding="utf-8"
        )
        formats, types = (
            section.partition("\n## ")[0].split("\n\n")
            for section in page.split("## How each type is held")
        )
        rows = [
            line.split(" | ")
            for block in formats
            for line in block.splitlines()
            if line.startswith("| `")
        ]
        self.assertEqual([row[0].strip("| `") for row in rows], list(FORMATS))
        told = next(
            option.to_info_dict()["help"]
            for option in extract.params
            if option.name == "form"
        )
        self.assertEqual(
            told.replace(" (if it is not said)", ""),
            f"Format of the tables: {', '.join(FORMATS)}.",
        )
        for row, form in zip(rows, FORMATS.values(), strict=True):
            options = {name.replace("_", "-") for name in form.options}
            self.assertEqual(
                set(re.findall("`--([a-z-]+)`", row[-1])), options, form.name
            )
            self.assertIn(form.about, row[1])
            self.assertEqual("not as a stream" not in row[2], form.streams)
        named = [
            line.split(" | ")[0].strip("| `")
            for block in types
            for line in block.splitlines()
            if line.startswith("| ")
        ]
        self.assertEqual(named[2:], ["null", "text", "integer", "decimal(p,s)", "float", "boolean", "date", "time",
                                     "datetime", "timestamp", "duration", "enum", "list(…)", "json"])  # fmt: skip

    def test_its_commands_work(self) -> None:
        self.demo()
        commands = commands_of("docs/destinations.md")
        self.assertEqual(len(commands), 5)
        for arguments in commands:
            self.assertEqual(
                self.typed(*arguments).returncode, 1, arguments
            )  # its rejects


class TheirWriters(unittest.TestCase):
    def test_a_writer_is_imported_when_it_is_asked_for(self) -> None:
        code = "import sys, mukret.destinations.formats; print([name for name in sys.modules if 'xlsx' in name or 'parquet' in name])"
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        )
        self.assertEqual(done.stdout.strip(), "[]")
        self.assertGreater(jsonl.ROWS_AT_ONCE, 1)


if __name__ == "__main__":
    unittest.main()
