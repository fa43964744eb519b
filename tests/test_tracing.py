"""`trace` tells how values came about: the same values, told from the response on."""

from __future__ import annotations

import json
import shlex
from contextlib import suppress
from functools import partial
from typing import Any
from unittest import mock

from mukret.documents import find_sources
from mukret.engine.interface import extract
from mukret.engine.run import Run
from mukret.errors import MukretError
from mukret.inspect.picking import (
    Picked,
    RowCondition,
    all_rows,
    meeting,
    pick,
    pick_answer,
    with_values,
)
from mukret.inspect.tracing import Traced, TracedRow, surroundings, trace
from mukret.rules import parse_rules
from mukret.semantics.outcomes import RowOutcome
from tests.helpers import FolderCase, rules_text
from tests.random_feeds import REFERENCE, seeded_feeds

RULES = """
    enums:
      state: {values: {open: {accept: [OPN], label: Open}, closed: {}}}
    response: {fields: {day: {at: $.day, type: date}}}
    tables:
      ports:
        rows: "$.ports[*]"
        inherit: [day]
        key: code
        fields:
          code: {at: $.code, required: true}
          state: {at: [$.mode, $.state], type: state}
          label: {compute: state.label}
          owner: {at: $.owner}
          owner_name: {lookup: {in: owners, by: owner, give: name}}
          seats: {compute: "COALESCE(SUM(berths.size), 0)"}
      berths:
        within: ports
        rows: "$.berths[*]"
        inherit: [code]
        fields:
          size: {at: $.size, type: integer, strip: [m], bad: null}
          lit: {at: "$.lit[*]", take: count}
          at: {fact: position}
          depth: {at: $.depth, type: "decimal(6,1)", capture: "about (.*)", default: 1}
      owners:
        rows: "$.owners[*]"
        key: id
        fields: {id: $.id, name: {at: $.name, required: true}}
    """
DOCUMENT = {
    "day": "2031-04-01",
    "ports": [
        {"code": "OTV", "state": " opn ", "owner": "b", "berths": [{"size": " 12 m", "lit": [1, 2]}, {"size": "?", "depth": "about 7.5"}]},
        {"code": "SKR", "mode": None, "state": "adrift", "owner": "z", "berths": [{"size": 3}]},
    ],
    "owners": [{"id": "a", "name": "Ann"}, {"id": "b", "name": "Bob"}],
}  # fmt: skip


class Tracing(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.rules = parse_rules(rules_text(RULES))
        self.input = self.file(
            "a.jsonl",
            json.dumps({"ports": [{"code": "X"}]}) + "\n" + json.dumps(DOCUMENT),
        )

    def picked(
        self,
        table: str,
        wanted: Any = all_rows,
        outcome: RowOutcome | None = RowOutcome.WRITTEN,
        nth: int = 1,
    ) -> Picked | None:
        return pick(self.rules, find_sources([self.input]), table, wanted, outcome, nth)

    def traced(self, table: str, only: str | None = None, **choice: Any) -> TracedRow:
        picked = self.picked(table, **choice)
        assert picked is not None
        return trace(picked, only)

    def field(self, table: str, name: str, **choice: Any) -> Traced:
        (found,) = self.traced(table, name, **choice).fields
        return found

    def test_each_step_from_the_response_to_the_value(self) -> None:
        size = self.field("berths", "size")
        self.assertEqual((size.value, size.type), ("12", "integer"))
        self.assertEqual(
            size.steps,
            [
                '$.size finds " 12 m" at $.ports[0].berths[0].size',
                'in {"size": " 12 m", "lit": [1,2]}',
                'trimmed: "12 m"',
                'stripped of "m": "12"',
                "read as integer",
            ],
        )
        state = self.field("ports", "state", nth=2)
        self.assertEqual(state.value, "open")
        self.assertEqual(
            state.steps[:2],
            ["$.mode finds nothing", '$.state finds " opn " at $.ports[0].state'],
        )
        self.assertEqual(self.field("berths", "lit").steps[-1], "counted: 2")
        self.assertEqual(
            self.field("berths", "at", nth=2).steps[0], "the fact position: 1"
        )
        depth = self.field("berths", "depth", nth=2)
        self.assertEqual(
            (depth.value, depth.steps[2]), ("7.5", 'captured by about (.*): "7.5"')
        )
        self.assertEqual(
            self.field("berths", "depth").steps,
            ["$.depth finds nothing", "nothing there: the default 1.0"],
        )

    def test_what_a_value_was_made_of_inward_to_the_response(self) -> None:
        label = self.field("ports", "label", nth=2)
        self.assertEqual(label.steps, ["= state.label", "with state = open"])
        self.assertEqual([inner.name for inner in label.inner], ["state"])
        name = self.field("ports", "owner_name", nth=2)
        self.assertEqual(name.value, "Bob")
        self.assertEqual(
            name.steps,
            [
                "name of the row of owners whose id is b (owner)",
                "found: the row of owners at $.owners[1]",
            ],
        )
        self.assertEqual(
            [(inner.name, inner.value) for inner in name.inner],
            [("owner", "b"), ("name", "Bob")],
        )
        day = self.field("ports", "day", nth=2)
        self.assertEqual(
            (day.steps, day.inner[0].steps[0]),
            (["inherited from the response at $"], '$.day finds "2031-04-01" at $.day'),
        )
        (group,) = self.field("ports", "seats", nth=2).inner
        self.assertEqual((group.name, group.value), ("SUM(berths.size)", "of 2 rows"))
        self.assertEqual(
            group.steps,
            [
                "the row of berths at $.ports[0].berths[0]: 12",
                "the row of berths at $.ports[0].berths[1]: null",
            ],
        )

    def test_each_element_of_a_list_with_its_steps(self) -> None:
        self.rules = parse_rules(
            rules_text("""
            tables:
              ports:
                rows: "$.ports[*]"
                fields:
                  tags: {at: $.tags, type: "list(text)", split: ",", capture: "t:(.*)"}
                  sizes: {at: "$.sizes[*]", type: "list(decimal(6,2))", take: all, capture: "(.*) m", point: ","}
                  total: {at: "$.sizes[*]", type: "decimal(6,2)", take: sum, capture: "(.*) m", point: ","}
            """)
        )
        ports = [
            {"tags": "t: red ,,blue", "sizes": ["1,5 m", None, " 2 m"]},
            {"tags": ["t:a,b", None, "t:c"]},
            {"tags": "t:a", "sizes": [str(n) for n in range(9)]},
        ]
        self.input = self.file("a.json", json.dumps({"ports": ports}))
        sizes = [
            '[0] "1,5 m": captured by (.*) m: "1,5", read as decimal(6,2) (point ",")',
            '[1] " 2 m": trimmed: "2 m", captured by (.*) m: "2", read as decimal(6,2) (point ",")',
        ]
        self.assertEqual(
            self.field("ports", "sizes").steps[-3:], [*sizes, "taken together: all"]
        )
        self.assertEqual(
            self.field("ports", "total").steps[-3:], [*sizes, "taken together: sum"]
        )
        self.assertEqual(
            self.field("ports", "tags").steps[-4:],
            ['captured by t:(.*): " red ,,blue"', 'split at ",": "red", "blue"', '[0] "red": read as text', '[1] "blue": read as text'],
        )  # fmt: skip
        self.assertEqual(
            self.field("ports", "tags", nth=2).steps[2:],
            [
                '[0] "t:a,b": captured by t:(.*): "a,b", split at ",": "a", "b", [0] "a": read as text, [1] "b": read as text',
                "[1] null: null: left out",
                '[2] "t:c": captured by t:(.*): "c", split at ",": "c", [0] "c": read as text',
            ],
        )  # fmt: skip
        bad = self.field("ports", "sizes", outcome=RowOutcome.REJECTED).steps
        self.assertIn('[0] "0": does not match (.*) m, [no-match]', bad)
        self.assertIn("and 4 more", bad)

    def test_a_lookup_across_the_run_says_in_which_document_it_found_its_row(
        self,
    ) -> None:
        self.rules = parse_rules(
            rules_text("""
            tables:
              ports:
                rows: "$.ports[*]"
                fields: {code: $.code, owner: {lookup: {in: owners, by: code, give: name, across: run}}}
              owners: {rows: "$.owners[*]", key: port, fields: {port: $.port, name: $.name}}
            """)
        )
        lines = [
            {"ports": [{"code": "OTV"}, {"code": "SKR"}]},
            {"owners": [{"port": "TOL"}, {"port": "OTV", "name": "Ann"}]},
        ]
        self.input = self.file("a.jsonl", "\n".join(map(json.dumps, lines)))
        sources = find_sources([self.input])
        for nth, value, told in (
            (
                1,
                "Ann",
                f"found: the row of owners at $.owners[1] in {self.input}, document 2",
            ),
            (2, None, "in all documents of the run there is none, or it is null there"),
        ):
            picked = pick(
                self.rules, sources, "ports", all_rows, RowOutcome.WRITTEN, nth
            )
            assert picked is not None
            (owner,) = trace(
                picked,
                "owner",
                lambda lookup, form: pick_answer(self.rules, sources, lookup, form),
            ).fields
            self.assertEqual((owner.value, owner.steps[1]), (value, told))
            for source in sources:
                source.rewind()

    def test_a_row_of_a_long_document_is_traced_by_its_part(self) -> None:
        """Its place, its number and what stands around the array are those of the
        whole document.
        """
        self.rules = parse_rules(
            rules_text("""
            response: {fields: {day: $.day}}
            tables:
              ports:
                rows: "$.data.ports[*]"
                inherit: [day]
                fields: {code: $.code, at: {fact: position}, path: {fact: path}, many: {compute: COUNT(berths)}}
              berths: {within: ports, rows: "$.berths[*]", inherit: [code], fields: {no: $.no}}
            """)
        )
        ports = [
            {"code": f"P{n}", "berths": [{"no": b} for b in range(n % 3)]}
            for n in range(400)
        ]
        self.input = self.file(
            "a.json", json.dumps({"day": "2031-04-01", "data": {"ports": ports}})
        )
        with mock.patch("mukret.inspect.picking.Run", partial(Run, batch_bytes=1500)):
            row = self.traced("ports", nth=300)
            self.assertEqual((row.path, row.document), ("$.data.ports[299]", 1))
            self.assertEqual(
                [one.value for one in row.fields],
                ["2031-04-01", "P299", "299", "$['data']['ports'][299]", "2"],
            )
            self.assertEqual(
                self.traced("berths", nth=300).path, "$.data.ports[299].berths[1]"
            )
            self.assertLess(self.picked("ports", nth=300).table.rows.count, 100)  # type: ignore[union-attr]

    def test_a_rejected_row_says_why(self) -> None:
        row = self.traced("ports", outcome=RowOutcome.REJECTED)
        self.assertEqual(
            (row.path, row.outcome, row.document), ("$.ports[1]", "rejected", 2)
        )
        self.assertEqual(
            row.problems, ["state: expected one of open, closed [unknown-word]"]
        )
        state = next(found for found in row.fields if found.name == "state")
        self.assertIn("unknown-word", str(state.problem))
        self.assertIsNone(state.value)

    def test_a_row_with_a_text_that_is_no_json_says_so(self) -> None:
        """Also where the rows of other tables, and a document that is bad for another such text,
        come before it.
        """
        self.rules = parse_rules(
            rules_text("""
            response: {embedded: ["$.log", "$.notes[*].text"]}
            tables:
              notes: {rows: "$.notes[*]", fields: {n: $.text.n}}
              ports: {rows: "$.ports[*]", fields: {code: $.code}}
            """)
        )
        lines = [
            {"log": "{"},
            {
                "ports": [{"code": "OTV"}],
                "notes": [{"text": '{"n": 1}'}, {"text": "[1,]"}],
            },
        ]
        self.input = self.file("a.jsonl", "\n".join(map(json.dumps, lines)))
        row = self.traced("notes", outcome=RowOutcome.REJECTED)
        self.assertEqual((row.path, row.document), ("$.notes[1]", 2))
        [problem] = row.problems
        self.assertIn("embedded text that is not JSON: a trailing comma", problem)
        self.assertEqual(self.traced("ports").path, "$.ports[0]")

    def test_rows_are_chosen_by_number_by_value_and_by_condition(self) -> None:
        ports, berths = self.rules.tables["ports"], self.rules.tables["berths"]
        self.assertEqual(self.traced("ports", nth=2).path, "$.ports[0]")
        self.assertEqual(
            self.traced(
                "ports", wanted=with_values(ports, {"code": "SKR"}), outcome=None
            ).path,
            "$.ports[1]",
        )
        self.assertEqual(
            self.traced(
                "berths", wanted=meeting(RowCondition(berths.types, "size > 5"))
            ).path,
            "$.ports[0].berths[0]",
        )
        self.assertIsNone(
            self.picked("ports", wanted=with_values(ports, {"code": "SKR"}))
        )
        self.assertIsNone(self.picked("ports", nth=3))

    def test_what_stands_beside_a_node(self) -> None:
        node = {"a": {"v": 1, "w": "x" * 99, "x": 2, "y": 3, "z": 4}, "list": [1, 2, 3]}
        self.assertEqual(surroundings(node, ("a", "z")), '{…, "x": 2, "y": 3, "z": 4}')
        self.assertEqual(
            surroundings(node, ("a", "v")), f'{{"v": 1, "w": "{"x" * 38}…, "x": 2, …}}'
        )
        self.assertEqual(surroundings(node, ("list", 1)), "[1, 2, 3]")
        self.assertEqual(surroundings(node, ()), "")

    def test_the_values_are_those_that_are_written_whatever_the_rules(self) -> None:
        """Of every written row of random feeds, however it is found and whatever its fields are
        made of.
        """
        self.file("words.csv", REFERENCE)
        rows = 0
        for number, feed in enumerate(seeded_feeds(90, 5)):
            rules = parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml"))
            if "CURRENT" in feed.rules_text or "request." in feed.rules_text:
                continue
            file = self.file("feed.jsonl", "\n".join(feed.lines))
            with self.subTest(number=number), suppress(MukretError):
                result = extract(rules, file)
                for name, table in result.tables.items():
                    kinds = dict(rules.tables[name].columns)
                    for nth, row in enumerate(table.to_pylist()[:4], 1):
                        picked = pick(
                            rules,
                            find_sources([file]),
                            name,
                            all_rows,
                            RowOutcome.WRITTEN,
                            nth,
                        )
                        assert picked is not None
                        for one in trace(picked).fields:
                            if one.name in row:
                                text = (
                                    None
                                    if row[one.name] is None
                                    else one.value
                                    and kinds[one.name].written(row[one.name])
                                )
                                self.assertEqual(one.value, text, (name, nth, one.name))
                        rows += 1
        self.assertGreater(rows, 40)


class OnTheCommandLine(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file("ferry.rules.yaml", rules_text(RULES))
        self.file("a.json", json.dumps(DOCUMENT))

    def test_it_reads_like_an_explanation(self) -> None:
        done = self.typed(
            "trace",
            "ferry.rules.yaml",
            "a.json",
            "--table",
            "ports",
            "--key",
            "code=OTV",
            "--field",
            "label",
        )
        self.assertEqual(done.returncode, 0)
        self.assertEqual(
            done.stdout.splitlines(),
            [
                "ports, a row that is written",
                "at $.ports[0] in a.json, document 1",
                "",
                "label text  Open",
                "    = state.label",
                "    with state = open",
                "    state state  open",
                "        $.mode finds nothing",
                '        $.state finds " opn " at $.ports[0].state',
                '        in {"code": "OTV", "state": " opn ", "owner": "b", "berths": [{"size":" 12 m","lit":[1,2]},{"size":"…}',
                '        trimmed: "opn"',
                "        read as state",
            ],
        )
        self.assertEqual(
            done.stderr.splitlines()[-1], "  mukret look a.json '$.ports[0]' --nth 1"
        )
        report = json.loads(
            self.typed(
                "trace",
                "ferry.rules.yaml",
                "a.json",
                "--table",
                "ports",
                "--reject",
                "1",
                "--json",
            ).stdout
        )
        self.assertEqual((report["path"], report["fate"]), ("$.ports[1]", "rejected"))

    def test_of_a_row_within_a_text_it_leads_to_the_text(self) -> None:
        rules = 'response: {embedded: [$.log]}\ntables:\n  log: {rows: "$.log.rows[*]", fields: {n: $.n}}\n'
        self.file("text.rules.yaml", f"mukret: 1\n{rules}")
        self.file("text.json", json.dumps({"log": '{"rows": [{"n": 1}]}'}))
        done = self.typed(
            "trace", "text.rules.yaml", "text.json", "--table", "log", "--nth", "1"
        )
        step = shlex.split(done.stderr.splitlines()[-1])
        self.assertEqual(step, ["mukret", "look", "text.json", "$.log", "--nth", "1"])
        self.assertEqual(self.typed(*step[1:]).returncode, 0)

    def test_a_value_that_equals_the_default_is_not_taken_for_it(self) -> None:
        self.file(
            "d.rules.yaml",
            rules_text(
                'tables: {t: {rows: "$[*]", fields: {a: {at: $.a, default: none}}}}'
            ),
        )
        self.file("d.json", '[{"a": "none"}, {}, {"a": null}]')
        last = []
        for nth in "123":
            choice = ("--nth", nth, "--field", "a")
            done = self.typed("trace", "d.rules.yaml", "d.json", *choice)
            last.append(done.stdout.splitlines()[-1].strip())
        nothing = "nothing there: the default none"
        self.assertEqual(last, ["read as text", nothing, nothing])

    def test_the_folder_of_a_run_leads_to_its_input(self) -> None:
        self.typed("extract", "ferry.rules.yaml", "a.json", "--to", "tables")
        done = self.typed(
            "trace",
            "ferry.rules.yaml",
            "tables",
            "--table",
            "owners",
            "--where",
            "name = 'Ann'",
        )
        self.assertEqual(
            done.stdout,
            """\
owners, a row that is written
at $.owners[0] in a.json, document 1

id text  a
    $.id finds "a" at $.owners[0].id
    read as text

name text  Ann
    $.name finds "Ann" at $.owners[0].name
    read as text

""".removesuffix("\n"),
        )

    def test_a_broken_file_is_told_and_not_taken_for_one_without_rows(self) -> None:
        self.file("cut.json", '{"ports": [')
        done = self.typed("trace", "ferry.rules.yaml", "cut.json", "--table", "ports")
        self.assertEqual(done.returncode, 3)
        self.assertIn("[nothing-read]", done.stderr)

    def test_what_is_typed_wrong_is_told(self) -> None:
        cases = [
            (["--table", "port"], 2, "did you mean ports?"),
            (["--table", "ports", "--field", "cod"], 2, "did you mean code?"),
            (["--table", "ports", "--key", "cod=X"], 2, "did you mean code?"),
            (["--table", "ports", "--where", "cod = 'X'"], 2, "--where, character 1"),
            (["--table", "ports", "--where", "code ="], 2, "--where, character"),
            (["--table", "ports", "--where", "CAST(code AS nope) = 1"], 2, "nope"),
            (
                ["--table", "ports", "--reject", "1", "--nth", "1"],
                2,
                "goes with no other choice",
            ),
            (["--table", "ports", "--nth", "9"], 1, "there are fewer than 9"),
            (
                ["--table", "ports", "--key", "code=X"],
                1,
                "no row of ports is chosen so",
            ),
        ]
        for arguments, code, told in cases:
            with self.subTest(arguments=arguments):
                done = self.typed("trace", "ferry.rules.yaml", "a.json", *arguments)
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertIn(told, done.stderr)
