"""On Apache Spark rows, rejects, counts and warnings are those of one machine."""

from __future__ import annotations

import datetime as dt
import gzip
import json
from collections import Counter
from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pyarrow as pa

from mukret.delivered.comparing import compare_deliveries
from mukret.delivered.opening import open_delivered
from mukret.destinations.deliver import deliver as deliver_run
from mukret.destinations.folder import Folder
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import InputError, MukretError, OutputError, StoppedError
from mukret.rules import Rules, load_rules, parse_rules
from tests.evaluators import NOW
from tests.helpers import rules_text
from tests.random_feeds import REFERENCE, seeded_feeds
from tests.spark import SparkCase

FEEDS = 6
KEYED = """
    tables:
      ports: {rows: "$.ports[*]", key: code, duplicates: KIND, fields: {code: {at: $.code, required: true}, no: {at: $.no, type: integer}}}
      sailings:
        within: ports
        rows: "$.sailings[*]"
        inherit: [code]
        key: [code, no]
        where: "fare > 1"
        fields: {no: {at: $.no, type: integer, required: true}, fare: {at: $.fare, type: "decimal(8,2)"}}
      calls: {within: sailings, rows: "$.calls[*]", inherit: [code], key: call, duplicates: KIND, fields: {call: $}}
    """


def told_apart(schema: Any) -> Any:
    """A schema in which enums are texts."""
    return pa.schema(
        [
            one.with_type(pa.string()) if pa.types.is_dictionary(one.type) else one
            for one in schema
        ]
    )


class OnSpark(SparkCase):
    def on_one_machine(
        self, rules: Rules, files: Sequence[str | Path]
    ) -> dict[str, Any]:
        run = Run(rules, find_sources(files), started=NOW)
        rows: dict[str, list[Any]] = {name: [] for name in run.schemas}
        rejects: list[bytes] = []
        try:
            for output in run.batches():
                for name, batch in output.tables.items():
                    rows[name] += batch.to_pylist()
                rejects += [reject.line() for reject in output.rejects]
        except MukretError as error:
            return {"error": (type(error), error.code, error.message, error.place)}
        return {
            "rows": {name: Counter(map(repr, found)) for name, found in rows.items()},
            "rejects": sorted(rejects),
            "tally": run.tally.as_json(),
            "reasons": {key: reason.count for key, reason in run.tally.reasons.items()},
            "unmatched": sorted(json.dumps(rule.as_json()) for rule in run.unmatched()),
            "inputs": [
                (source.name, source.sha256, source.size, source.documents)
                for source in run.sources
            ],
        }

    def on_spark(
        self, rules: Rules, files: Sequence[str | Path], size: int | None = None
    ) -> dict[str, Any]:
        from mukret.spark.extracting import extract_planned
        from mukret.spark.pieces import find_inputs
        from mukret.spark.planning import planned

        try:
            found = extract_planned(
                self.session,
                rules,
                planned(self.session, find_inputs(files), size),
                NOW,
            )
        except MukretError as error:
            return {"error": (type(error), error.code, error.message, error.place)}
        rows = {
            name: frame.toArrow().cast(told_apart(found.schemas[name])).to_pylist()
            for name, frame in found.items()
        }
        outcome = {
            "rows": {name: Counter(map(repr, some)) for name, some in rows.items()},
            "rejects": sorted(
                bytes(row["line"]) for row in found.reject_lines.collect()
            ),
            "tally": found.tally.as_json(),
            "reasons": {
                key: reason.count for key, reason in found.tally.reasons.items()
            },
            "unmatched": sorted(json.dumps(rule.as_json()) for rule in found.unmatched),
            "inputs": [
                (one["file"], one["sha256"], one["bytes"], one["documents"])
                for one in found.inputs
            ],
        }
        found.release()
        return outcome

    def both(
        self, rules: Rules, files: Sequence[str | Path], size: int | None = None
    ) -> dict[str, Any]:
        one = self.on_one_machine(rules, files)
        self.assertEqual(self.on_spark(rules, files, size), one)
        return one

    def test_the_sample(self) -> None:
        self.demo()
        folder = self.folder / "merrow-demo"
        rules = load_rules(folder / "merrow.rules.yaml")
        self.both(rules, [folder / "feed"], 40_000)

    def test_random_rules_on_random_documents(self) -> None:
        self.file("words.csv", REFERENCE)
        for number, feed in enumerate(seeded_feeds(FEEDS, 20310402)):
            rules = parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml"))
            files = [
                self.file(f"{n}.jsonl", "\n".join(feed.lines[n::3]) or "[]")
                for n in range(3)
            ]
            with self.subTest(number=number, rules=feed.rules_text):
                self.both(rules, files, 300 + number % 2 * 5000)

    def test_long_files_are_split_and_documents_keep_their_numbers(self) -> None:
        text = """
            tables:
              sailings:
                rows: $
                key: no
                duplicates: first
                fields:
                  no: {at: $.no, type: integer, required: true}
                  fare: {at: $.fare, type: "decimal(8,2)"}
                  document: {fact: document}
                  file: {fact: file}
            """
        lines = [
            json.dumps(
                {"no": n % 170, "fare": "ask crew" if n % 31 == 0 else f"{n}.50"}
            )
            for n in range(200)
        ]
        lines[50:52] = ["", "  "]
        lines[120] = "{broken"
        split = self.file("day.jsonl", "\ufeff" + "\r\n".join(lines))
        packed = self.folder / "packed.jsonl.gz"
        packed.write_bytes(gzip.compress("\n".join(lines[:20]).encode()))
        one = self.both(parse_rules(rules_text(text)), [split, packed], 1000)
        self.assertEqual(one["tally"]["bad_documents"], 1)
        self.assertIn((None, None, "not-json"), one["reasons"])

    def test_keys_are_resolved_across_all_of_the_input(self) -> None:
        days = [
            [
                {
                    "code": "OTV",
                    "no": 1,
                    "sailings": [{"no": 1, "fare": 7, "calls": ["a", "a"]}],
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
                        {"no": 1, "fare": 0, "calls": ["b"]},
                    ],
                }
            ],
            [
                {
                    "code": "BRA",
                    "no": 4,
                    "sailings": [
                        {"no": 4, "fare": 9, "calls": ["d", "a"]},
                        {"no": 4, "fare": 9},
                    ],
                }
            ],
        ]
        files = [
            self.file(f"{n}.json", json.dumps({"ports": ports}))
            for n, ports in enumerate(days)
        ]
        for kind in ("reject", "first", "last"):
            with self.subTest(kind=kind):
                one = self.both(
                    parse_rules(rules_text(KEYED.replace("KIND", kind))), files, 10
                )
                gone = one["tally"]["tables"]["ports"]
                self.assertEqual(gone["rows_rejected"] + gone["rows_deduplicated"], 1)

    def test_a_row_goes_with_the_row_above_it_in_its_own_table(self) -> None:
        text = """
            tables:
              zones:
                rows: "$.zones[*]"
                recurse: "$.zones[*]"
                key: name
                duplicates: KIND
                fields: {name: {at: $.name, required: true}}
              lights: {within: zones, rows: "$.lights[*]", key: light, duplicates: KIND, fields: {light: $}}
            """
        days = [
            [
                {
                    "name": "north",
                    "zones": [
                        {"name": "sound", "lights": ["x"]},
                        {"name": "reef", "zones": [{"name": "bay"}]},
                    ],
                }
            ],
            [
                {"name": "reef", "zones": [{"name": "point", "lights": ["x", "y"]}]},
                {"name": "point", "lights": ["y"]},
            ],
            [{"name": "sound", "zones": [{"name": "north"}]}],
        ]
        files = [
            self.file(f"{n}.json", json.dumps({"zones": zones}))
            for n, zones in enumerate(days)
        ]
        for kind in ("reject", "first", "last"):
            with self.subTest(kind=kind):
                self.both(
                    parse_rules(rules_text(text.replace("KIND", kind))), files, 10
                )

    def test_lookups_across_the_run_and_every_type(self) -> None:
        text = """
            enums: {state: {values: {sailing: {accept: [S]}, moored: {}}}}
            tables:
              ports: {rows: "$.ports[*]", key: code, duplicates: first, fields: {code: $.code, name: $.name}}
              sailings:
                rows: "$.sailings[*]"
                fields:
                  no: {at: $.no, type: integer}
                  port: {lookup: {in: ports, by: code, give: name, across: run}}
                  code: {at: $.port, keep: false}
                  fare: {at: $.fare, type: "decimal(12,2)"}
                  load: {at: $.load, type: float}
                  late: {at: $.late, type: boolean}
                  day: {at: $.at, type: date, format: "%Y-%m-%dT%H:%M:%SZ"}
                  clock: {at: $.clock, type: time}
                  local: {at: $.local, type: datetime}
                  at: {at: $.at, type: timestamp}
                  took: {at: $.took, type: duration}
                  state: {at: $.state, type: state}
                  decks: {at: "$.decks[*]", take: all, type: "list(integer)"}
                  rest: {at: $.rest, type: json}
            """
        sailing = {
            "no": 7,
            "port": "OTV",
            "fare": "1204.50",
            "load": 0.25,
            "late": True,
            "at": "2031-04-01T08:22:07Z",
            "clock": "08:22:07",
            "local": "2031-04-01T08:22:07",
            "took": "PT1H30M",
            "state": "S",
            "decks": [1, 2],
            "rest": {"a": [1.50]},
        }
        later = self.file(
            "b.json",
            json.dumps(
                {
                    "ports": [
                        {"code": "OTV", "name": "Otterwick"},
                        {"code": "OTV", "name": "No"},
                    ]
                }
            ),
        )
        first = self.file(
            "a.json", json.dumps({"sailings": [sailing, {"no": 8}], "ports": []})
        )
        one = self.both(parse_rules(rules_text(text)), [first, later], 10)
        noon = dt.datetime(2031, 4, 1, 8, 22, 7)
        typed = {
            "no": 7,
            "port": "Otterwick",
            "fare": Decimal("1204.50"),
            "load": 0.25,
            "late": True,
            "day": noon.date(),
            "clock": noon.time(),
            "local": noon,
            "at": noon.replace(tzinfo=ZoneInfo("UTC")),
            "took": dt.timedelta(minutes=90),
            "state": "sailing",
            "decks": [1, 2],
            "rest": '{"a":[1.5]}',
        }
        empty: dict[str, object] = {**dict.fromkeys(typed), "no": 8, "decks": []}
        self.assertEqual([*one["rows"]["sailings"]], [str(typed), str(empty)])

    def test_errors_are_those_of_one_machine(self) -> None:
        stop = "tables: {sailings: {rows: '$[*]', fields: {no: {at: $.no, type: integer, bad: stop}}}}"
        rules = parse_rules(rules_text(stop))
        good, bad = (
            self.file("a.json", '[{"no": 1}]'),
            self.file("b.json", '[{"no": "one"}]'),
        )
        self.assertIs(self.both(rules, [good, bad, bad], 10)["error"][0], StoppedError)
        broken, empty = self.file("c.json", "{"), self.file("d.json", "")
        self.assertEqual(
            self.both(rules, [broken, broken], 10)["error"][1], "nothing-read"
        )
        self.assertEqual(self.both(rules, [good, empty], 10)["error"][1], "empty-input")
        cut = self.folder / "e.json.gz"
        cut.write_bytes(gzip.compress(b"[" + b'{"no": 1},' * 1000 + b"{}]")[:-20])
        self.assertIs(self.both(rules, [good, cut], 10)["error"][0], InputError)

    def test_a_document_that_is_read_in_parts(self) -> None:
        rules = parse_rules(rules_text(KEYED.replace("KIND", "first")))
        sailings = [{"no": n, "fare": n + 1, "note": "x" * 120} for n in range(3)]
        ports = [
            {"code": f"P{n % 15_000}", "no": n, "sailings": sailings}
            for n in range(20_000)
        ]
        files = [
            self.file(f"{n}.json", json.dumps({"ports": some}))
            for n, some in enumerate((ports, ports[:3]))
        ]
        one = self.both(rules, files)
        self.assertEqual(one["tally"]["tables"]["ports"]["rows_deduplicated"], 5003)

    def test_rejects_as_columns(self) -> None:
        from mukret.spark import extract

        rules = parse_rules(
            rules_text(
                "tables: {sailings: {rows: '$[*]', fields: {no: {at: $.no, type: integer}}}}"
            )
        )
        file = self.file("a.json", '[{"no": 1}, {"no": {"x": 1.50}}]')
        found = extract(self.session, rules, file)
        [row] = found.rejects.collect()
        self.assertEqual(
            (row["file"], row["document"], row["path"], row["table"], row["rows"]),
            (str(file), 1, "$[1]", "sailings", None),
        )
        [problem] = row["problems"]
        self.assertEqual(
            (problem["field"], problem["path"], problem["value"]),
            ("no", "$[1]['no']", '{"x":1.50}'),
        )
        found.release()

    # ---- delivered

    def test_a_delivery_is_compared_with_that_of_one_machine(self) -> None:
        from mukret.spark.delivering import deliver
        from mukret.spark.extracting import extract_planned
        from mukret.spark.pieces import find_inputs
        from mukret.spark.planning import planned

        self.demo()
        folder = self.folder / "merrow-demo"
        rules = load_rules(folder / "merrow.rules.yaml")
        run = Run(rules, find_sources([folder / "feed"]))
        record = deliver_run(run, Folder(str(self.folder / "one"), "parquet"))
        found = extract_planned(
            self.session,
            rules,
            planned(self.session, find_inputs(folder / "feed"), 40_000),
        )
        for target in (str(self.folder / "here"), f"file://{self.folder}/there"):
            with self.subTest(target=target):
                told = deliver(found, target)
                place = Path(target.removeprefix("file://"))
                one, other = (
                    open_delivered(str(self.folder / "one")),
                    open_delivered(str(place)),
                )
                self.assertFalse(compare_deliveries(one, other).any)
                one.close()
                other.close()
                self.assertEqual(
                    (place / "rejects.jsonl").read_bytes(),
                    (self.folder / "one/rejects.jsonl").read_bytes(),
                )
                same = (
                    "tables",
                    "inputs",
                    "columns",
                    "keys",
                    "within",
                    "unmatched",
                    "bad_documents",
                    "response",
                )
                self.assertEqual(
                    {name: told[name] for name in same},
                    {name: record[name] for name in same},
                )
                deliver(found, target)  # once more, in its place
                foreign = place / "notes.txt"
                foreign.write_text("mine")
                with self.assertRaises(OutputError) as caught:
                    deliver(found, target)
                self.assertEqual(caught.exception.code, "not-empty")
                self.assertTrue(foreign.exists())
        found.release()
