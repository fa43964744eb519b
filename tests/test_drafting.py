"""Drafts of rules: valid, without harm to what they were drafted from, and close to what a person
would write.
"""

from __future__ import annotations

import json
import random
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import mukret.sample
from mukret.documents import find_sources
from mukret.drafting import draft_rules, rules_text
from mukret.drafting.adding import Added, added_to
from mukret.drafting.names import fresh, singular, snake_case
from mukret.engine.run import Run
from mukret.errors import UsageError
from mukret.inspect.drift import drift
from mukret.paths import parse_path
from mukret.rules import load_rules, parse_rules
from mukret.rules.model import Rules
from mukret.rules.sources import At
from mukret.semantics.rejects import PARENT_REJECTED
from mukret.semantics.tally import Reason
from tests.helpers import FolderCase

MORE_THAN_NODES = """\
  tide:
    rows: {zip: {times: "$.tide.times[*]", heights: "$.tide.heights[*]"}}
    fields:
      time:   {at: "$.times", type: time
      height: {at: "$.heights", type: "decimal(18,2)"

  log:
    rows: "$.log.rows[*]"
    header: "$.log.columns"
    fields:
      at:   {at: "$.at", type: time
      port: {at: "$.port"

  notes:
    rows: "$.notes[*]"
    recurse: "$.replies[*]"
    fields:
      id:       {at: "$.id", type: integer
      text:     {at: "$.text"
      above_id: {parent: id}

  days:
    rows: "$.days.*"
    key: date
    fields:
      date: {fact: name, type: date
      n:    {at: "$.n", type: integer"""

# Paths and notes hold what the data holds, escaped; names of columns are plain ones.
HOSTILE = r"""  ts:
    rows: "$.t[*]"
    fields:
      null_:   {at: "$.null", note: "e.g. null: # \u0007"}
      e_a:     {at: "$['é à']", note: "e.g. é à: # \u0007"}
      n_1st:   {at: "$['1st']", note: "e.g. 1st: # \u0007"}
      type:    {at: "$.type", note: "e.g. type: # \u0007"}
      a_b:     {at: "$['a\"b']", note: "e.g. a\"b: # \u0007"}
      x:       {at: "$['# x']", note: "e.g. # x: # \u0007"}
      a_b_2:   {at: "$['a: b']", note: "e.g. a: b: # \u0007"}
      id:      {at: "$['@id']", note: "e.g. @id: # \u0007"}
      value:   {at: "$['$']", note: "e.g. $: # \u0007"}
      value_2: {at: "$['\u2028']", trim: true, note: "e.g. \u2028: # \u0007"}
      value_3: {at: "$['']", note: "e.g. : # \u0007"}
      key:     {at: "$.key", note: "e.g. key: # \u0007"}
      t:       {at: "$.t", note: "e.g. t: # \u0007"}

  key_2:
    rows: "$.key[*]"
    fields:
      t: {at: "$.t", type: integer, note: "e.g. 1"}

  null:
    rows: "$.null[*]"
    fields:
      true_: {at: "$.true", type: boolean}
"""

RELATED = """\
  ports:
    rows: "$.ports[*]"
    key: port_code
    fields:
      port_code: {at: "$.code", required: true
      name:      {at: "$.name"
      tags:      {at: "$.tags[*]", take: all, type: list(text)

  berths:
    within: ports
    rows: "$.berths[*]"
    inherit: [port_code]
    key: [port_code, berth_no]
    fields:
      berth_no: {at: "$.no", type: integer, required: true
      lit:      {at: "$.lit", type: boolean

  sailings:
    rows: "$.sailings[*]"
    key: sailing_id
    fields:
      sailing_id: {at: "$.id", type: integer, required: true
      port:       {at: "$.port"
      # port_name: {lookup: {in: ports, by: port, give: name}}
      fare:       {at: "$.fare", type: "decimal(18,2)\""""
SAMPLE = Path(mukret.sample.__file__).parent


class Drafts(FolderCase):
    def draft(self, *documents: Any) -> str:
        """A draft for some documents, tried on them."""
        text = "\n".join(
            json.dumps(document, ensure_ascii=False) for document in documents
        )
        return self.tried(self.file("a.jsonl", text))

    def tried(self, place: Path) -> str:
        text = rules_text(draft_rules(find_sources([place]), "A draft"))
        run = Run(parse_rules(text), find_sources([place]))
        for _ in run.batches():
            pass
        unsaid = [
            reason
            for reason in run.tally.reasons.values()
            if reason.table and not is_said(reason, text)
        ]
        self.assertEqual(
            [(reason.table, reason.field, reason.code) for reason in unsaid], [], text
        )
        self.assertEqual(
            sum(tally.values_nulled for tally in run.tally.tables.values()), 0, text
        )
        self.assertEqual(dict(run.sample.unread), {}, text)
        return text

    def fields(self, *documents: Any) -> str:
        """The tables of a draft, without notes."""
        text = self.draft(*documents)
        return "\n".join(
            line.partition(', note: "')[0]
            for line in text.partition("tables:\n")[2].splitlines()
        )

    def test_records_their_lists_and_what_they_refer_to(self) -> None:
        port = {
            "code": "OTV",
            "name": "Otterwick",
            "tags": ["a"],
            "berths": [{"no": 1, "lit": "yes"}, {"no": 2, "lit": "no"}],
        }
        other = {
            "code": "SKR",
            "name": "Skerry",
            "tags": [],
            "berths": [{"no": 1, "lit": "no"}],
        }
        sailings = [
            {"id": f"{1000 + n}", "port": ["OTV", "SKR"][n % 2], "fare": "12.50"}
            for n in range(12)
        ]
        found = self.fields(
            {"meta": {"took": 3}, "ports": [port, other], "sailings": sailings}
        )
        self.assertEqual(found, RELATED)
        self.assertNotIn(
            'name:      {at: "$.name", required', found
        )  # its lack would take the berths with it

    def test_rows_that_are_more_than_nodes(self) -> None:
        reply = {
            "id": 5,
            "text": "hi",
            "replies": [{"id": 6, "text": "ho", "replies": []}],
        }
        drafted = self.fields(
            {
                "fares": {
                    "adult": "12.50",
                    "child": "6.25",
                    "car": "80.00",
                    "dog": "1.00",
                    "bike": "2.00",
                },
                "tide": {"times": ["02:46", "08:14"], "heights": ["1.01", "4.03"]},
                "log": {
                    "columns": ["at", "port"],
                    "rows": [["04:10", "OTV"], ["05:20", "SKR"], ["06:30", "TOL"]],
                },
                "notes": [
                    {"id": 1, "text": "x", "replies": [reply]},
                    {"id": 2, "text": "y", "replies": []},
                ],
                "position": [57.2041, -8.1203],
                "days": {
                    "2031-04-01": {"n": 1},
                    "2031-04-02": {"n": 2},
                    "2031-04-03": {"n": 3},
                },
            }
        )
        self.assertEqual(drafted, MORE_THAN_NODES)

    def columns(self, *documents: Any) -> dict[str, list[str]]:
        """The types of the columns of a draft, by table."""
        rules = parse_rules(self.draft(*documents))
        return {
            name: [f"{column} {kind.name}" for column, kind in table.columns]
            for name, table in rules.tables.items()
        }

    def test_what_is_said_of_a_list_beside_it_in_an_array(self) -> None:
        ports = [
            {"code": f"P{n}", "built": str(1900 + n), "value": None if n else 12}
            for n in range(3)
        ]
        self.assertEqual(
            self.columns([{"page": 1, "pages": 2}, ports]),
            {"a": ["a_code text", "built integer", "value integer"]},
        )

    def test_lists_below_names_that_are_data(self) -> None:
        days = {
            f"2031-04-0{day}": [
                {"id": f"{day}{n}", "closest": "0.12345"} for n in range(2)
            ]
            for day in range(1, 4)
        }
        self.assertEqual(
            self.columns({"count": 6, "sailings": days}),
            {
                "sailing_dates": ["date date"],
                "sailings": [
                    "date date",
                    "sailing_id integer",
                    "closest decimal(18,5)",
                ],
            },
        )
        fares = {
            f"2031-04-0{day}": dict.fromkeys(("OTV", "SKR", "TOL", "BRA", "LUN"), 1.5)
            for day in range(1, 4)
        }
        self.assertEqual(
            self.columns({"fares": fares}),
            {
                "fare_dates": ["date date"],
                "fares": ["date date", "fare_code text", "fare decimal(18,2)"],
            },
        )
        self.assertEqual(
            self.columns(fares["2031-04-01"]), {"a": ["a_code text", "value float"]}
        )
        years = {
            "ports": [
                {"code": f"P{n}", "depth": {str(2020 + n): 3.5, "2031": 4}}
                for n in range(3)
            ]
        }
        self.assertEqual(
            self.columns(years)["depth"],
            ["port_code text", "year integer", "value float"],
        )

    def test_texts_that_hold_json_are_looked_into_where_all_of_them_do(self) -> None:
        events = [
            {"id": n, "payload": json.dumps({"kind": "x", "lines": json.dumps([n])})}
            for n in range(2)
        ]
        text = self.draft({"events": events})
        self.assertIn(
            '  embedded: ["$.events[*].payload", "$.events[*].payload.lines"]\n', text
        )
        self.assertEqual(
            self.columns({"events": events}),
            {
                "events": [
                    "event_id integer",
                    "payload_kind text",
                    "payload_lines list(integer)",
                ]
            },
        )
        self.assertEqual(
            self.columns('{"ports": [{"code": "OTV"}]}'), {"ports": ["code text"]}
        )
        for other in ("", "{", None):
            with self.subTest(other=other):
                found = self.columns(
                    {
                        "events": [
                            {"payload": "{}"},
                            {"payload": "[1]"},
                            {"payload": other},
                        ]
                    }
                )
                self.assertEqual(
                    found["events"],
                    ["payload text"] if other is not None else ["payload json"],
                )

    def test_records_whose_names_have_numbers_in_them_are_no_data(self) -> None:
        tides = {
            f"2031-04-0{day}": {
                "1. low": "1.0100",
                "2. high": "4.2500",
                "3. no": str(day),
            }
            for day in range(1, 4)
        }
        self.assertEqual(
            self.columns({"Tides (Daily)": tides}),
            {
                "tides_daily": [
                    "date date",
                    "low decimal(18,4)",
                    "high decimal(18,4)",
                    "no integer",
                ]
            },
        )

    def test_resources_with_attributes_and_relationships(self) -> None:
        data = [
            {
                "type": "sailing",
                "id": str(n),
                "attributes": {"state": "open", "departs": "2031-04-01T10:00:00+01:00"},
                "relationships": {"port": {"data": {"type": "port", "id": "OTV"}}},
            }
            for n in range(4)
        ]
        included = [{"type": "port", "id": "OTV", "attributes": {"name": "Otterwick"}}]
        self.assertEqual(
            self.columns({"data": data, "included": included}),
            {
                "data": [
                    "data_id integer",
                    "type text",
                    "state text",
                    "departs timestamp",
                    "port_type text",
                    "port_id text",
                ],
                "included": ["included_id text", "type text", "name text"],
            },
        )

    def test_records_with_lists_of_their_own_and_lists_of_scalars(self) -> None:
        vessel = {
            "name": "Petrel",
            "built": 1998,
            "cars": 42,
            "lit": True,
            "decks": [{"no": 1}, {"no": 2}],
        }
        vessel_types = ["name text", "built integer", "cars integer", "lit boolean"]
        self.assertEqual(
            self.columns({"id": 7, **vessel}),
            {
                "a": ["a_id integer", *vessel_types],
                "decks": ["a_id integer", "deck_no integer"],
            },
        )
        self.assertEqual(
            self.columns({"status": 1, "vessel": vessel}),
            {
                "vessel": ["vessel_position integer", *vessel_types],
                "decks": ["vessel_position integer", "deck_no integer"],
            },
        )
        crew = {"crew": ["Birk", "Gale", "Jarvie"]}
        self.assertEqual(
            self.columns({"code": "x", **crew}), {"a": ["code text", "crew list(text)"]}
        )
        self.assertEqual(self.columns(crew["crew"]), {"a": ["value text"]})
        self.assertEqual(
            self.columns([{"a": 1, "b": 2}]), {"as": ["a integer", "b integer"]}
        )
        calls = {
            name: list("abc")[: n % 4]
            for n, name in enumerate(
                [
                    "otter",
                    "skerry",
                    "brann",
                    "luna",
                    "tol",
                    "ness",
                    "wick",
                    "sand",
                    "roads",
                    "bell",
                ]
            )
        }
        self.assertEqual(
            self.columns({"calls": calls}),
            {"call_names": ["call_name text", "calls list(text)"]},
        )

    def test_features_on_a_map(self) -> None:
        features = [
            {
                "type": "Feature",
                "id": f"b{n}",
                "properties": {
                    "mag": 1.5 + n,
                    "time": 1_706_000_000_000 + n,
                    "felt": n or None,
                    "type": "buoy",
                },
                "geometry": {"type": "Point", "coordinates": [-8.1 - n, 57.2, 3]},
            }
            for n in range(3)
        ]
        self.assertEqual(
            self.columns(
                {
                    "type": "FeatureCollection",
                    "metadata": {"generated": 1_706_000_000_500, "count": 3},
                    "features": features,
                    "bbox": [-9, 57, 0, -8, 58, 10],
                }
            ),
            {
                "features": [
                    "generated timestamp",
                    "feature_id text",
                    "type text",
                    "mag float",
                    "time timestamp",
                    "felt integer",
                    "properties_type text",
                    "geometry_type text",
                    "geometry_longitude float",
                    "geometry_latitude float",
                    "geometry_altitude integer",
                ]
            },
        )

    def test_names_decide_what_values_leave_open(self) -> None:
        cases: list[tuple[str, list[Any], str]] = [
            ("sailed_at", [1_706_000_000, 1_706_000_300], "timestamp"),
            ("revid", [1_190_000_000, 1_190_000_300], "integer"),
            ("is_open", [0, 1], "boolean"),
            ("has_bar", ["0", "1"], "boolean"),
            ("is_open", [0, 2], "integer"),
            ("berths", [0, 1], "integer"),
            ("price", [1.5, 2.25], "decimal(18,2)"),
            ("feels_like", [1.5, 2.25], "float"),
            ("lat", ["57.2", "57.3"], "float"),
            ("height", ["57.2", "57.3"], "decimal(18,2)"),
            ("zip", ["10004", "10005"], "text"),
            ("calling", ["+44", "+47"], "text"),
            ("change", ["+1", "-2"], "integer"),
            ("version", ["3.1", "2.0"], "text"),
            ("name", ["T 1", "T 2"], "text"),
            ("pickup", ["t", "t"], "text"),
            ("pickup", ["t", "f"], "boolean"),
            ("opens", ["7:27:02 AM", "5:05:55 PM"], "time"),
            ("day", ["2031-Apr-01 20:28", "2031-May-02 01:10"], "datetime"),
            ("kind", ["ferry", "launch"] * 6, "text"),
            ("kind", ["ferry", "launch", "tug"] * 6, "kind"),
            ("vessel", ["Petrel", "Tern"] * 6, "text"),
            ("hull", ["steel", "wood", "iron"] * 10, "hull"),
            ("hull", ["steel", "wood", "iron"] * 6, "text"),
        ]
        for name, values, expected in cases:
            with self.subTest(name, values=values[:2]):
                [[column]] = self.columns([{name: value} for value in values]).values()
                self.assertEqual(column, f"{name} {expected}")

    def test_how_values_are_read(self) -> None:
        cases: list[tuple[list[Any], str]] = [
            (["1", "22", "333"], "type: integer"),
            (
                ["kr 1,204.50", "kr 7.00"],
                'type: "decimal(18,2)", grouping: ",", strip: [kr]',
            ),
            (["12%", "7.5%"], 'type: "decimal(18,3)", percent: true'),
            ([57.2041, 1.5], "type: float"),
            (
                ["2031-04-01", "n/a", "2031-05-02", "2031-05-03"],
                'type: date, blank: "n/a"',
            ),
            (["2031-04-01T10:22:07Z", "2031-04-01T10:22:07+02:00"], "type: timestamp"),
            (["2031-04-01T10:22:07", "2031-04-02T10:22:07"], "type: datetime"),
            (["01/04/2031", "28/04/2031"], 'type: date, format: "%d/%m/%Y"'),
            (["yes", "no", "Y"], "type: boolean"),
            ([True, "yes"], "type: boolean"),
            (["007", "123"], ""),
            ([1, "x"], ""),
            ([1, {"a": 1}], "type: json"),
            ([12345678901234567890], ""),
            (["12.50"] * 30 + ["ask crew"], 'type: "decimal(18,2)"'),
            ([1] * 30 + ["on request"], "type: integer"),
            (["y", "n", "y", "partly"], ""),
            (["car,dog", "car", "dog,bicycle"], 'type: list(text), split: ","'),
            (
                ["4837301406400512", "4837301406400512,5738199136272384"],
                'type: list(text), split: ","',
            ),
            (["1,204", "12,50"], 'type: "decimal(18,3)", point: ","'),
            (["org 0", "org 12"], ""),
            ([1932964927000, "2031-04-03T06:42:07Z"], ""),
            (["Mar 01 2031", "Apr 12 2031"], 'type: date, format: "%b %d %Y"'),
            (["2031-03-01T00:00:00Z"] * 6, 'type: date, format: "%Y-%m-%dT00:00:00Z"'),
            (
                ["2031-04-03T06:42:07.123456789Z"] * 6,
                'type: timestamp, round: "half-even"',
            ),
        ]
        for values, reading in cases:
            with self.subTest(values=values):
                found = self.fields([{"v": value, "w": 1} for value in values])
                line = next(
                    line.strip()
                    for line in found.splitlines()
                    if line.strip().startswith("v:")
                )
                options = (
                    line.partition('"$.v"')[2]
                    .partition("  #")[0]
                    .removesuffix("}")
                    .removesuffix(", required: true")
                )
                self.assertEqual(options.removeprefix(", ").strip(), reading)

    def test_an_amount_in_json_numbers_stays_exact(self) -> None:
        self.assertEqual(
            self.columns([{"fare": 12.5}, {"fare": 7}]), {"a": ["fare decimal(18,2)"]}
        )

    def test_words_of_a_fixed_set_are_an_enum(self) -> None:
        states = ["boarding", "Departed", "departed ", "DEPARTED", "delayed"] * 4
        text = self.draft(
            [{"state": state, "name": f"x{state[0]}"} for state in states]
        )
        self.assertEqual(
            self.words_of_state(text),
            {"boarding": set(), "Departed": set(), "delayed": set()},
        )
        self.assertEqual(
            {name: kind.name for name, kind in parse_rules(text).tables["a"].columns},
            {"state": "state", "name": "text"},
        )

    def words_of_state(self, text: str) -> dict[str, set[str]]:
        """The names of the one enum of a draft, and which other words each accepts."""
        (state,) = parse_rules(text).enums.values()
        return {value.name: set(value.accept) for value in state.values}

    def test_a_code_is_the_word_that_begins_with_it(self) -> None:
        states = ["DEP", "Departed", "car", "cargo", "CXL"] * 6
        text = self.draft([{"state": state} for state in states])
        self.assertEqual(
            self.words_of_state(text),
            {"Departed": {"DEP"}, "car": set(), "cargo": set(), "CXL": set()},
        )

    def test_documents_that_differ_in_a_moment_have_it_in_their_keys(self) -> None:
        documents = [
            {
                "made": f"2031-04-0{day}T10:00:00Z",
                "page": 1,
                "ports": [{"code": "OTV"}, {"code": "SKR"}],
            }
            for day in (1, 2, 3)
        ]
        text = self.draft(*documents)
        rules = parse_rules(text)
        [made] = rules.response_fields
        assert isinstance(made.source, At)
        self.assertEqual(
            (made.name, [path.text for path in made.source.paths]),
            ("made", ["$.made"]),
        )
        self.assertEqual(
            (rules.tables["ports"].key, [path.text for path in rules.ignore]),
            (("made", "port_code"), ["$.page"]),
        )

    def test_answers_of_several_calls_have_tables_of_their_own_named_by_the_calls(
        self,
    ) -> None:
        answers = [
            (
                "ports",
                {},
                {
                    "data": [
                        {"code": "OTV", "name": "Otterwick"},
                        {"code": "SKR", "name": "Skerry"},
                    ],
                    "on": "2031-03-28",
                },
            ),
            ("ships", {}, [{"code": "PTR", "ports": 3}, {"code": "TRN", "ports": 4}]),
            (
                "berths",
                {"port": "OTV"},
                {
                    "data": [{"no": 1, "lit": "yes"}, {"no": 2, "lit": "no"}],
                    "on": "2031-03-28",
                },
            ),
            (
                "berths",
                {"port": "SKR"},
                {"data": [{"no": 1, "lit": "yes"}], "on": "2031-03-28"},
            ),
        ]
        for number, (call, variables, body) in enumerate(answers):
            self.file(f"kept/pages/{number}.json", json.dumps(body))
            line = {
                "call": call,
                "variables": variables,
                "url": f"http://a/{number}",
                "file": f"pages/{number}.json",
            }
            with open(self.folder / "kept/capture.jsonl", "a") as file:
                file.write(json.dumps(line) + "\n")
        done = self.typed("draft", "kept", "--out", "x.rules.yaml")
        self.assertEqual(done.returncode, 0, done.stderr)
        rules = load_rules(self.folder / "x.rules.yaml")
        self.assertEqual(
            {name: table.kind for name, table in rules.tables.items()},
            {name: name for name, *_ in answers},
        )
        self.assertIn(
            "ports_", rules.tables["ships"].types, "a field can't be named like a table"
        )
        self.assertIn(
            "port",
            rules.tables["berths"].types,
            "the variable that tells the ports apart",
        )
        text = (self.folder / "x.rules.yaml").read_text()
        self.assertEqual(
            (text.count("#   on:"), [path.text for path in rules.ignore]), (1, ["$.on"])
        )
        done = self.typed(
            "extract", "x.rules.yaml", "kept", "--to", "tables", "--strict"
        )
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_hostile_names_and_values(self) -> None:
        names = [
            "null",
            "é à",
            "1st",
            "type",
            'a"b',
            "# x",
            "a: b",
            "@id",
            "$",
            "\u2028",
            "",
            "key",
            "t",
            "t",
        ]
        record = {name: f"{name}: # \u0007" for name in names}
        text = self.draft(
            {"t": [record, record], "key": [{"t": 1}], "null": [{"true": False}]}
        )
        self.assertEqual(text.partition("tables:\n")[2], HOSTILE)

    def test_only_a_part_is_drafted(self) -> None:
        sailings = [
            {"id": n, "vessel": "Petrel", "decks": [{"deck": "car", "cars": n}]}
            for n in range(30)
        ]
        place = self.file(
            "a.json",
            json.dumps(
                {"meta": {"took": 3}, "ports": [{"code": "OTV", "sailings": sailings}]}
            ),
        )
        path = parse_path("$.ports[*].sailings[*]")
        below = parse_rules(
            rules_text(draft_rules(find_sources([place]), "t", path=path))
        )
        self.assertEqual(
            {name: list(table.types) for name, table in below.tables.items()},
            {
                "sailings": ["sailing_id", "vessel"],
                "decks": ["sailing_id", "deck", "cars"],
            },
        )
        self.assertEqual(
            (below.tables["sailings"].rows.paths, below.ignore), ((path,), ())
        )
        some = parse_rules(
            rules_text(
                draft_rules(find_sources([place]), "t", fields=["vessel", "cars"])
            )
        )
        self.assertEqual(
            {
                name: [own.name for own in table.fields]
                for name, table in some.tables.items()
            },
            {"ports": ["position"], "sailings": ["vessel"], "decks": ["cars"]},
        )
        for asked in ({"fields": ["vesel"]}, {"path": parse_path("$.port")}):
            with self.assertRaises(UsageError) as caught:
                draft_rules(find_sources([place]), "t", **asked)
            self.assertIn("did you mean", str(caught.exception.hint))

    def test_random_documents(self) -> None:
        for number in range(60):
            draw = random.Random(number)
            make = _record(draw, 4)
            with self.subTest(number=number):
                self.draft(*(make() for _ in range(draw.randrange(1, 8))))

    def test_the_sample_is_drafted_as_a_person_would(self) -> None:
        """At least nine of ten fields that both have are of the type that the sample's own rules
        give them.
        """
        ours, theirs = (
            parse_rules(self.tried(SAMPLE / "feed")),
            load_rules(SAMPLE / "merrow.rules.yaml"),
        )
        mine, wanted = types_by_path(ours), types_by_path(theirs)
        both = sorted(mine.keys() & wanted.keys())
        wrong = [
            (path, mine[path], wanted[path])
            for path in both
            if mine[path] != wanted[path]
        ]
        self.assertGreater(len(both), 24)
        self.assertLessEqual(len(wrong), len(both) / 10, wrong)


def types_by_path(rules: Rules) -> dict[str, str]:
    """Families of types by the path from the document: exact and other numbers are one, so are
    moments.
    """
    found: dict[str, str] = {}
    bases: dict[str | None, str] = {None: "$"}
    for table in rules.parents_first():
        path = table.rows.named_paths[0].text.replace(".*", "[*]")
        bases[table.name] = (
            bases[table.within]
            + path.removeprefix("$")
            + ("[*]" if table.rows.spread else "")
        )
        for own in table.fields:
            if (
                isinstance(own.source, At)
                and not table.rows.zip
                and own.source.take == "only"
            ):
                kind = type(own.type).__name__.removesuffix("Type")
                family = {
                    "Decimal": "Number",
                    "Float": "Number",
                    "Datetime": "Moment",
                    "Timestamp": "Moment",
                }
                found[
                    bases[table.name] + own.source.paths[0].text.removeprefix("$")
                ] = family.get(kind, kind)
    return found


def is_said(reason: Reason, text: str) -> bool:
    """Whether a draft says that it rejects rows for this."""
    if reason.code == PARENT_REJECTED:
        return True
    return (
        re.search(
            rf"^ +{reason.field or reason.table}:.*# .*rejects ", text, re.MULTILINE
        )
        is not None
    )


NAMES = [
    "id",
    "code",
    "name",
    "a",
    "b",
    "items",
    "état",
    "x y",
    "1st",
    "type",
    "key",
    "rows",
    "createdAt",
    "tags",
]
VALUES = [
    1,
    -7,
    1.5,
    "x",
    "yes",
    "n/a",
    "",
    "2031-04-01",
    "2031-04-01T10:00",
    "12.50",
    "1,204.50",
    "12%",
    "P1D",
    True,
    None,
    '{"a":1}',
    "#x: y",
    "- a",
    "٣",
]
POOLS: list[list[Any]] = [
    ["a", "b", "c"],
    [1, 2, 3],
    ["1", "30"],
    ["2031-04-01", "2031-05-02"],
    [True, False],
    ["x ", " y"],
    [1.5, 2.25],
    ["kr 1", "kr 2.50"],
]


def _value(draw: random.Random, depth: int) -> Any:
    kind = draw.random()
    if depth <= 0 or kind < 0.45:
        return draw.choice(VALUES)
    if kind < 0.7:
        make: Callable[[], Any] = (
            _record(draw, depth - 1)
            if draw.random() < 0.7
            else lambda: _value(draw, depth - 1)
        )
        return [make() for _ in range(draw.randrange(5))]
    return _record(draw, depth - 1)()


def _record(draw: random.Random, depth: int) -> Callable[[], Any]:
    """Makes records that are much alike."""
    seeds = {name: draw.random() for name in draw.sample(NAMES, draw.randrange(1, 6))}

    def make() -> Any:
        record = {}
        for name, seed in seeds.items():
            if draw.random() < 0.12:
                continue
            if seed < 0.6:
                pool = POOLS[int(seed * 13) % len(POOLS)]
                record[name] = (
                    draw.choice(pool) if draw.random() < 0.95 else _value(draw, 0)
                )
            else:
                record[name] = _value(
                    random.Random(seed) if draw.random() < 0.8 else draw, depth
                )
        return record

    return make


class Adding(FolderCase):
    def added(self, rules: str, *documents: Any) -> Added:
        place = self.file("a.jsonl", "\n".join(map(json.dumps, documents)))
        added = added_to(parse_rules(rules), rules, find_sources([place]))
        remaining = iter(added.text.split("\n"))
        for line in rules.split("\n"):  # all of it is there, in its order
            self.assertTrue(
                any(
                    line == other or line.strip() in ("", other.strip())
                    for other in remaining
                ),
                (line, added.text),
            )
        return added

    def unread(self, rules: str) -> list[str]:
        return [
            one.path
            for one in drift(
                parse_rules(rules), find_sources([self.folder / "a.jsonl"])
            ).unread
        ]

    def test_what_is_new_is_put_where_it_belongs_and_all_else_stays(self) -> None:
        rules = (
            'mukret: 1\n# my tables\ntables:\n  quays:   # all of them\n    rows: "$.ports[*]"\n    key: code\n    fields:\n'
            "      code: {at: $.code, required: true}\n      # more to come\n\n# the end\n"
        )
        port = {
            "code": "OTV",
            "name": "Otterwick",
            "berths": [{"no": 1, "lit": "yes"}, {"no": 2, "lit": "no"}],
        }
        added = self.added(
            rules, {"took": 3, "ports": [port], "ferries": [{"id": 1}, {"id": 2}]}
        )
        self.assertEqual(
            (added.fields, added.tables, added.ignored),
            (["quays.name"], ["berths", "ferries"], ["$.took"]),
        )
        self.assertIn(
            '      # more to come\n      name: {at: "$.name", note: "e.g. Otterwick"}\n\n  berths:\n',
            added.text,
        )
        self.assertIn("    within: quays\n", added.text)
        self.assertIn("    inherit: [code]\n    key: [code, berth_no]\n", added.text)
        self.assertTrue(
            added.text.startswith(
                'mukret: 1\nresponse:\n  ignore:\n    - "$.took"\n\n# my tables\ntables:\n'
            ),
            added.text,
        )
        self.assertTrue(added.text.endswith("# the end\n"))
        self.assertEqual(self.unread(added.text), [])
        again = added_to(
            parse_rules(added.text), added.text, find_sources([self.folder / "a.jsonl"])
        )
        self.assertEqual((again.anything, again.text), (False, added.text))

    def test_facts_beside_the_lists_go_to_the_fields_of_the_response_if_there_are_such(
        self,
    ) -> None:
        tables = 'tables:\n  ports:\n    rows: "$.ports[*]"\n    fields:\n      code: $.code\n'
        block = f"mukret: 1\nresponse:\n  fields:\n    made: $.made   # when\n{tables}"
        documents = [
            {
                "made": "x",
                "network": "Merrow",
                "season": {"year": 2031},
                "ports": [{"code": "OTV"}],
            }
        ]
        added = self.added(block, *documents)
        self.assertEqual(
            (added.fields, added.ignored),
            (["response.network", "response.season_year"], []),
        )
        self.assertIn(
            '    made: $.made   # when\n    network: {at: "$.network", note: "e.g. Merrow"}\n',
            added.text,
        )
        self.assertEqual(self.unread(added.text), [])
        without = f"mukret: 1\nresponse: {{ignore: [$.made]}}\n{tables}"
        place = find_sources([self.folder / "a.jsonl"])
        self.assertEqual(
            added_to(parse_rules(without), without, place).ignored,
            ["$.network", "$.season"],
        )

    def test_what_rejects_rows_is_proposed_to_be_made_wider_and_once(self) -> None:
        rules = (
            "mukret: 1\nenums: {state: {values: {open: {}, shut: {}}}}\ntables:\n  ports:\n    rows: $[*]\n    fields:\n"
            '      state: {at: "$.state", type: state}\n      depth: {at: "$.depth", type: "decimal(4,1)"}  # metres\n'
            '      name: {at: "$.name", required: true}\n'
        )
        documents = [{"state": "open", "depth": "1.25", "name": "Holm"}] * 8 + [
            {"state": "adrift", "depth": "2.5"}
        ]
        added = self.added(rules, documents)
        self.assertEqual(
            [one.field for one in added.proposals],
            ["state", "depth", "name"],
            added.text,
        )
        indent = "\n      # draft: "
        for words in (
            '1 value such as "adrift": no word of state; add it there, or accept it for another',
            '8 values such as "1.25": too-many-digits, and the rows are rejected; a draft of these responses reads it as '
            '{at: "$.depth", type: "decimal(18,2)"}',
            "not there in 1 of 9 rows, which are rejected: is it required?",
        ):
            self.assertIn(indent + words, added.text)
        again = added_to(
            parse_rules(added.text), added.text, find_sources([self.folder / "a.jsonl"])
        )
        self.assertEqual(
            (again.text, again.anything, again.rejected), (added.text, False, 9)
        )

    def test_to_the_rules_of_the_sample(self) -> None:
        text = (SAMPLE / "merrow.rules.yaml").read_text()
        (self.folder / "fare_classes.csv").write_bytes(
            (SAMPLE / "fare_classes.csv").read_bytes()
        )
        rules = parse_rules(text, str(self.folder / "merrow.rules.yaml"))
        added = added_to(rules, text, find_sources([SAMPLE / "feed"]))
        self.assertEqual(
            (added.fields, added.tables, added.ignored), ([], ["contacts"], [])
        )

    def test_to_random_rules(self) -> None:
        for number in range(40):
            draw = random.Random(number)
            make = _record(draw, 3)
            first, others = make(), [make() for _ in range(3)]
            with self.subTest(number=number):
                self.file("first.json", json.dumps(first))
                rules = rules_text(
                    draft_rules(find_sources([self.folder / "first.json"]), "First")
                )
                added = self.added(rules, first, *others)
                parse_rules(added.text)

    def test_on_the_command_line(self) -> None:
        self.file("a.json", '{"ports": [{"code": "OTV", "name": "x"}]}')
        self.file(
            "r.yaml",
            'mukret: 1\ntables:\n  ports:\n    rows: "$.ports[*]"\n    fields: {code: $.code}\n',
        )
        self.file(
            "flow.yaml",
            'mukret: 1\ntables: {t: {rows: "$.t[*]", fields: {code: $.code}}}\n',
        )
        done = self.typed("draft", "a.json", "--add", "r.yaml")
        self.assertEqual(
            done.stderr.splitlines(),
            ["r.yaml: 1 field, 0 tables and 0 paths to ignore added", "  ports.name"],
        )
        self.assertEqual(
            (self.folder / "r.yaml").read_text().splitlines()[-1],
            '    fields: {code: $.code, name: {at: "$.name", note: "e.g. x"}}',
        )
        self.assertIn(
            "nothing is new", self.typed("draft", "a.json", "--add", "r.yaml").stderr
        )
        done = self.typed("draft", "a.json", "--add", "flow.yaml")
        self.assertEqual(done.returncode, 2)
        self.assertIn("tables stands in one line, in braces", done.stderr)
        self.assertEqual(
            self.typed("draft", "a.json", "--add", "r.yaml", "--out", "x").returncode,
            2,
        )


class Names(FolderCase):
    def test_names_are_snake_case(self) -> None:
        cases = {
            "createdAt": "created_at",
            "HTTPStatus": "http_status",
            "Größe (m)": "grosse_m",
            "1st": "n_1st",
            "null": "null_",
            "☺": "",
        }
        for name, expected in cases.items():
            self.assertEqual(snake_case(name), expected)
        self.assertEqual(
            [singular(name) for name in ("ports", "ferries", "boxes", "bus", "glass")],
            ["port", "ferry", "box", "bus", "glass"],
        )
        self.assertEqual(fresh("a", {"a", "a_2"}), "a_3")


class OnTheCommandLine(FolderCase):
    def test_a_draft_is_written_once_and_says_what_comes_next(self) -> None:
        self.file("a b.json", '{"ports": [{"code": "OTV"}, {"code": "SKR"}]}')
        done = self.typed("draft", "a b.json", "--out", "new.rules.yaml")
        self.assertEqual((done.returncode, done.stdout), (0, ""))
        self.assertEqual(
            done.stderr.splitlines(),
            [
                "new.rules.yaml: 1 table with 1 field, tried on 1 file",
                "  mukret preview new.rules.yaml 'a b.json'",
            ],
        )
        self.assertEqual(
            self.typed("draft", "a b.json").stdout.splitlines()[1:],
            (self.folder / "new.rules.yaml").read_text().splitlines()[1:],
        )
        again = self.typed("draft", "a b.json", "--out", "new.rules.yaml")
        self.assertEqual(again.returncode, 2)
        self.assertIn("new.rules.yaml is there already", again.stderr)
        self.assertIn(
            "there is no folder",
            self.typed("draft", "a b.json", "--out", "x/new.rules.yaml").stderr,
        )

    def test_standard_input_and_documents_that_are_broken(self) -> None:
        done = self.mukret(
            "draft", "-", stdin='{"ports": [{"code": "OTV"}]}\n{"ports": [{"cod\n'
        )
        self.assertEqual(done.returncode, 1)
        self.assertIn('rows: "$.ports[*]"', done.stdout)
        self.assertIn("1 document could not be read", done.stderr)
        self.assertEqual(self.mukret("draft", "-", stdin="<html>").returncode, 3)
