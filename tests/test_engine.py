"""What becomes of rows, what is on record about them, and what a run counts and notices."""

from __future__ import annotations

import gc
import json
import sys
import unittest
import weakref
from contextlib import suppress
from datetime import date
from decimal import Decimal
from typing import Any
from unittest import mock

from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.engine.table_rows import TableRows
from mukret.errors import InputError, MukretError, StoppedError, UsageError
from mukret.rules import parse_rules
from tests.helpers import FolderCase, rules_text
from tests.random_feeds import REFERENCE, seeded_feeds

FERRIES = """
    response: {fields: {day: {at: "$.day", type: date}}}
    tables:
      ports:
        rows: "$.ports[*]"
        key: code
        inherit: [day]
        where: "open"
        fields:
          code: "$.code"
          open: {at: "$.open", type: boolean, default: yes}
      sailings:
        within: ports
        rows: "$.sailings[*]"
        inherit: [code]
        where: "fare > 1"
        fields:
          no: {at: "$.no", type: integer, required: true}
          fare: {at: "$.fare", type: "decimal(9,2)", bad: null}
      notices:
        within: sailings
        rows: "$.notices[*]"
        inherit: [no, code]
        fields: {notice: {at: "$"}, position: {fact: position}}
    """


def sailing(no: Any, fare: Any = 5, notices: int = 1) -> dict[str, Any]:
    return {
        "no": no,
        "fare": fare,
        "notices": [f"n{number}" for number in range(notices)],
    }


class RowOutcomes(FolderCase):
    def run_ferries(self, *ports: dict[str, Any], day: Any = "2031-04-01") -> Any:
        return self.extract(FERRIES, json.dumps({"day": day, "ports": list(ports)}))

    def counts(self, result: Any) -> dict[str, tuple[int, ...]]:
        """Seen, written, rejected, filtered by table."""
        return {
            name: (
                table.rows_seen,
                table.rows_written,
                table.rows_rejected,
                table.rows_filtered,
            )
            for name, table in result.tally.tables.items()
        }

    def test_children_share_the_fate_of_the_row_above_them(self) -> None:
        result = self.run_ferries(
            {"code": "OTV", "sailings": [sailing(1), sailing(None), sailing(3, 0, 2)]},
            {"code": None, "sailings": [sailing(4)]},
            {"code": "SKR", "open": "no", "sailings": [sailing(5), sailing("x")]},
            {"code": "OTV", "sailings": [sailing(6)]},
        )
        self.assertEqual(
            self.counts(result),
            {"ports": (4, 1, 2, 1), "sailings": (7, 1, 4, 2), "notices": (8, 1, 4, 3)},
        )
        self.assertEqual(
            result.tables["notices"].to_pylist(),
            [{"no": 1, "code": "OTV", "notice": "n0", "position": 0}],
        )
        codes = [
            (reject.table, reject.path, reject.problems[0].code)
            for reject in result.rejects
        ]
        self.assertIn(("ports", "$['ports'][1]", "key-missing"), codes)
        self.assertIn(("ports", "$['ports'][3]", "duplicate"), codes)
        self.assertIn(
            ("sailings", "$['ports'][2]['sailings'][1]", "not-a-number"), codes
        )
        self.assertIn(
            ("sailings", "$['ports'][3]['sailings'][0]", "parent-rejected"), codes
        )
        self.assertIn(
            (
                "notices",
                "$['ports'][0]['sailings'][1]['notices'][0]",
                "parent-rejected",
            ),
            codes,
        )

    def test_rejects_stand_in_the_order_of_documents_tables_and_rows(self) -> None:
        document = json.dumps(
            {
                "day": "2031-04-01",
                "ports": [{"code": None, "sailings": [sailing(None)]}, {"code": None}],
            }
        )
        result = self.extract(FERRIES, document, document)
        order = [
            (reject.file.rpartition("/")[2], reject.table) for reject in result.rejects
        ]
        one = ["ports", "ports", "sailings", "notices"]
        self.assertEqual(
            order,
            [("0-feed.json", name) for name in one]
            + [("1-feed.json", name) for name in one],
        )

    def test_keys_are_remembered_over_the_files_of_a_run(self) -> None:
        document = json.dumps({"ports": [{"code": "OTV"}]})
        result = self.extract(FERRIES, document, document)
        [reject] = result.rejects
        self.assertEqual(
            (reject.file.rpartition("/")[2], reject.problems[0].value),
            ("1-feed.json", {"code": "OTV"}),
        )

    def test_a_bad_value_of_the_response_rejects_every_row_that_inherits_it_and_those_below(
        self,
    ) -> None:
        result = self.run_ferries(
            {"code": "OTV", "sailings": [sailing(1)]}, {"code": "SKR"}, day="someday"
        )
        first, second, *_ = result.rejects
        self.assertEqual(first.path, "$['ports'][0]")
        [problem] = first.problems
        self.assertEqual(
            (problem.field, problem.code, problem.path, problem.value),
            ("day", "not-a-date", "$['day']", "someday"),
        )
        self.assertEqual(second.problems, first.problems)
        self.assertEqual(self.counts(result)["sailings"], (1, 0, 1, 0))

    def test_a_condition_that_is_unknown_filters_and_is_counted_apart(self) -> None:
        result = self.run_ferries(
            {
                "code": "OTV",
                "sailings": [sailing(1, None), sailing(2, 0), sailing(3, "x")],
            }
        )
        tally = result.tally.tables["sailings"]
        self.assertEqual(
            (tally.rows_filtered, tally.rows_filtered_unknown, tally.values_nulled),
            (3, 2, 1),
        )

    def test_what_is_worth_a_look_is_said_with_its_place(self) -> None:
        file = self.file(
            "feed.json",
            json.dumps({"ports": [{"code": "OTV", "sailings": [sailing(1, None)]}]}),
        )
        run = Run(
            parse_rules(rules_text(FERRIES), "f.rules.yaml"), find_sources([file])
        )
        self.assertEqual(len(list(run.batches())), 1)
        self.assertEqual(
            [(notice.code, notice.place) for notice in run.notices()],
            [
                ("unmatched", "f.rules.yaml:2:21"),
                ("unmatched", "f.rules.yaml:11:7"),
                ("filtered-unknown", "f.rules.yaml:12:3"),
            ],
        )

    def test_a_row_with_three_bad_fields_has_three_problems_in_the_order_of_the_file(
        self,
    ) -> None:
        rules = """
            tables:
              t:
                rows: "$[*]"
                key: k
                fields:
                  z: {compute: "a + b"}
                  a: {at: "$.a", type: integer}
                  b: {at: "$.b", type: integer, required: true}
                  c: {at: ["$.x", "$.c.d"], type: boolean}
                  k: $.k
            """
        [reject] = self.extract(rules, '[{"a": [1], "c": {"d": "maybe"}}]').rejects
        self.assertEqual(
            [
                (problem.field, problem.code, problem.path, problem.value)
                for problem in reject.problems
            ],
            [
                ("a", "wrong-kind", "$[0]['a']", [1]),
                ("b", "required", "$[0]['b']", None),
                ("c", "not-a-boolean", "$[0]['c']['d']", "maybe"),
                ("k", "key-missing", "$[0]", None),
            ],
        )
        self.assertEqual(
            reject.problems[2].message,
            'expected true/false, yes/no, y/n, t/f, on/off or 1/0, not "maybe"',
        )
        self.assertEqual(json.loads(reject.line())["problems"][0]["value"], [1])

    def test_a_list_of_nodes_names_the_element_that_is_bad(self) -> None:
        rules = 'tables: {t: {rows: "$[*]", fields: {a: {at: "$.a[*]", take: all}, b: {at: $.b, type: list(text)}}}}'
        first, second = self.extract(
            rules, '[{"a": ["x", null, {"y": 1}]}, {"b": ["x", [2]]}]'
        ).rejects
        self.assertEqual(
            (first.problems[0].path, first.problems[0].value),
            ("$[0]['a'][2]", {"y": 1}),
        )
        self.assertEqual(
            (second.problems[0].path, second.problems[0].value), ("$[1]['b'][1]", [2])
        )

    def test_a_table_may_be_called_response(self) -> None:
        rules = """
            response: {fields: {day: {at: $.day, type: date}}}
            tables:
              response: {rows: "$.x[*]", inherit: [day], fields: {a: $.a}}
              t: {within: response, rows: "$.y[*]", inherit: [day, a], fields: {b: $.b}}
              u: {rows: "$.x[*]", inherit: [day], fields: {a: $.a}}
            """
        result = self.extract(
            rules, '{"day": "2031-04-01", "x": [{"a": 1, "y": [{"b": 2}]}]}'
        )
        day = date(2031, 4, 1)
        self.assertEqual(
            result.tables["response"].to_pylist(), [{"day": day, "a": "1"}]
        )
        self.assertEqual(
            result.tables["t"].to_pylist(), [{"day": day, "a": "1", "b": "2"}]
        )
        self.assertEqual(result.tables["u"].to_pylist(), [{"day": day, "a": "1"}])
        self.assertEqual(result.unmatched, [])

    def test_takes(self) -> None:
        rules = """
            tables:
              t:
                rows: "$[*]"
                fields:
                  only: {at: "$.a[*]", bad: null}
                  first: {at: "$.a[*]", take: first}
                  all: {at: "$.a[*]", take: all}
                  count: {at: "$.a[*]", take: count}
            """
        result = self.extract(
            rules, '[{"a": [null, 1, 2]}, {"a": [null, 3]}, {"a": []}, {}]'
        )
        self.assertEqual(
            result.tables["t"].to_pylist(),
            [
                {"only": None, "first": "1", "all": ["1", "2"], "count": 3},
                {"only": "3", "first": "3", "all": ["3"], "count": 2},
                {"only": None, "first": None, "all": [], "count": 0},
                {"only": None, "first": None, "all": [], "count": 0},
            ],
        )
        self.assertEqual(result.tally.tables["t"].values_nulled, 1)

    def test_defaults_fill_what_is_missing_and_not_what_was_bad(self) -> None:
        rules = 'tables: {t: {rows: "$[*]", fields: {a: {at: $.a, type: integer, default: 5, bad: null}}}}'
        result = self.extract(
            rules, '[{"a": 1}, {}, {"a": null}, {"a": " "}, {"a": "x"}]'
        )
        self.assertEqual(result.tables["t"]["a"].to_pylist(), [1, 5, 5, 5, None])

    def test_an_expression_over_a_bad_field_adds_no_problem_of_its_own(self) -> None:
        rules = """
            tables:
              t:
                rows: "$[*]"
                where: "b > 0"
                fields:
                  a: {at: $.a, type: integer}
                  b: {compute: "10 / a", required: true}
                  c: {compute: "b + 1", required: true}
            """
        result = self.extract(rules, '[{"a": "x"}, {"a": 0}, {"a": 5}]')
        self.assertEqual(
            [
                [(problem.field, problem.code) for problem in reject.problems]
                for reject in result.rejects
            ],
            [[("a", "not-a-number")], [("b", "division-by-zero")]],
        )
        self.assertEqual(result.tables["t"].num_rows, 1)

    def test_rows_of_objects_whose_member_names_are_data_know_their_names(self) -> None:
        rules = """
            tables:
              classes: {rows: "$.fares.*", fields: {fare_class: {fact: name}, place: {fact: position}, price: $}}
              same: {within: classes, rows: $, fields: {name: {fact: name}}}
            """
        result = self.extract(rules, '{"fares": {"adult": 9.50, "child": 4}}')
        self.assertEqual(
            result.tables["classes"].to_pylist(),
            [
                {"fare_class": "adult", "place": 0, "price": "9.50"},
                {"fare_class": "child", "place": 1, "price": "4"},
            ],
        )
        self.assertEqual(result.tables["same"]["name"].to_pylist(), ["adult", "child"])

    def test_a_list_that_came_as_something_else_never_turns_into_rows_of_nulls(
        self,
    ) -> None:
        rules = 'tables: {t: {rows: "$.berths[*]", fields: {no: $.no, depth: $.depth}}}'
        result = self.extract(
            rules,
            '{"berths": {"no": 1, "depth": 2}}',
            '{"berths": 7}',
            '{"berths": [[]]}',
        )
        found = [
            (reject.path, reject.problems[0].code, reject.problems[0].value)
            for reject in result.rejects
        ]
        self.assertEqual(
            found,
            [
                ("$['berths']['no']", "row-shape", 1),
                ("$['berths']['depth']", "row-shape", 2),
                ("$['berths']", "row-shape", 7),
                ("$['berths'][0]", "row-shape", []),
            ],
        )

    def test_a_table_of_which_no_field_is_kept_is_counted_and_not_written(self) -> None:
        rules = 'tables: {t: {rows: "$[*]", fields: {a: {at: $.a, keep: false}}}}'
        result = self.extract(rules, "[{}, {}]")
        self.assertEqual(
            (result.tables, result.tally.tables["t"].rows_written), ({}, 2)
        )

    def test_stop_ends_the_run_and_says_where(self) -> None:
        rules = 'tables: {t: {rows: "$[*]", bad: stop, fields: {a: {at: $.a, type: integer}}}}'
        with self.assertRaises(StoppedError) as caught:
            self.extract(rules, '[{"a": 1}, {"a": "x"}]')
        self.assertIn("$[1]['a'] in ", caught.exception.place or "")

    def test_a_bad_document_does_not_keep_the_others_from_being_read(self) -> None:
        rules = 'tables: {t: {rows: "$[*]", fields: {a: $.a}}}'
        result = self.extract(
            rules, '[{"a": 1}]', "<html>no such page</html>", '[{"a": 2}]'
        )
        self.assertEqual(result.tables["t"]["a"].to_pylist(), ["1", "2"])
        [reject] = result.rejects
        self.assertEqual((reject.table, reject.path, reject.document), (None, None, 1))
        self.assertEqual(result.tally.bad_documents, 1)

    def test_a_run_in_which_no_document_could_be_read_is_an_error(self) -> None:
        with self.assertRaises(InputError) as caught:
            self.extract("tables: {t: {fields: {a: $.a}}}", "{'a': 1}")
        self.assertIn("single quotes: JSON wants double", str(caught.exception))


class Memory(FolderCase):
    def test_nothing_keeps_a_batch_when_it_is_done_with(self) -> None:
        """The collector of cycles rests during a run: what stood in a cycle would pile up."""
        self.file("words.csv", REFERENCE)
        tables: list[weakref.ref[TableRows]] = []
        started = TableRows.__init__

        def noted(rows: TableRows, *arguments: Any, **named: Any) -> None:
            tables.append(weakref.ref(rows))
            started(rows, *arguments, **named)

        for number, feed in enumerate(seeded_feeds(80, 7)):
            run = Run(
                parse_rules(feed.rules_text, str(self.folder / "feed.rules.yaml")),
                find_sources([self.file("feed.jsonl", "\n".join(feed.lines))]),
                batch_bytes=80,
            )
            tables.clear()
            gc.collect()
            gc.disable()
            try:
                with (
                    mock.patch.object(TableRows, "__init__", noted),
                    suppress(MukretError),
                ):
                    for _ in run.batches():
                        pass
                self.assertEqual(
                    [table for table in tables if table() is not None],
                    [],
                    (number, feed.rules_text),
                )
            finally:
                gc.enable()
            self.assertTrue(tables)


class Noticing(FolderCase):
    def run_of(self, rules: str, *documents: str, **options: Any) -> Run:
        files = [
            self.file(f"{number}.json", text) for number, text in enumerate(documents)
        ]
        run = Run(parse_rules(rules_text(rules)), find_sources(files), **options)
        for _ in run.batches():
            pass
        return run

    def test_a_rule_that_found_nothing_in_all_of_the_input_is_named_with_what_is_there(
        self,
    ) -> None:
        run = self.run_of(
            """
            tables:
              t:
                rows: "$.ports[*]"
                fields: {a: $.Code, b: {at: $.gone, default: x}, c: $.here, d: [$.x], e: {at: [$.x, $.code]}}
              u: {rows: "$.port[*]", fields: {a: $.a}}
            """.replace("d: [$.x], ", ""),
            '{"ports": [{"code": 1}, {"code": 2, "here": null}]}',
            '{"ports": []}',
        )
        self.assertEqual(
            [(rule.table, rule.field, rule.hint) for rule in run.unmatched()],
            [
                ("t", "a", "$.Code differs in case; did you mean $.code?"),
                ("t", "b", "$ has no member gone; it has code, here"),
                ("u", None, "$.port is not there; did you mean $.ports?"),
            ],
        )

    def test_a_rule_is_matched_by_any_document_in_any_batch(self) -> None:
        documents = [json.dumps({"a": [{}] * 5}) for _ in range(4)] + [
            '{"a": [{"x": null}]}'
        ]
        run = self.run_of(
            'tables: {t: {rows: "$.a[*]", fields: {x: $.x}}}',
            *documents,
            batch_bytes=10,
        )
        self.assertEqual(run.unmatched(), [])

    def test_sampled_documents_show_what_no_rule_reads_and_which_members_came_twice(
        self,
    ) -> None:
        run = self.run_of(
            """
            response: {fields: {at: $.meta.at}}
            tables: {t: {rows: "$.ports[*]", fields: {code: $.code, all: {at: $.whole, type: list(text)}, x: "$.m[-1].k"}}}
            """,
            '{"meta": {"at": 1, "id": 2}, "ports": [{"code": 1, "note": 1, "whole": ["a"], "m": [1, {"k": 2}]},'
            ' {"code": 2, "code": 3, "note": {"x": 1}}]}',
        )
        record = run.sample.as_json()
        self.assertEqual(record["documents"], 1)
        self.assertEqual(
            record["unread"],
            {"$.meta.id": 1, "$.ports[*].note": 2, "$.ports[*].m[*]": 1},
        )
        self.assertEqual(
            [found["path"] for found in record["twice"]], ["$['ports'][1]['code']"]
        )

    def test_reasons_are_counted_with_their_first_case(self) -> None:
        run = self.run_of(
            'tables: {t: {rows: "$[*]", fields: {a: {at: $.a, type: integer}}}}',
            '[{"a": "x"}, {"a": "y"}]',
        )
        [reason] = run.tally.reasons.values()
        self.assertEqual(
            (reason.table, reason.field, reason.code, reason.count),
            ("t", "a", "not-a-number", 2),
        )
        self.assertEqual(reason.example.value, "x")

    def test_long_values_are_shortened_on_record(self) -> None:
        rules = 'tables: {t: {rows: "$[*]", fields: {a: {at: $.a, type: integer}}}}'
        result = self.extract(
            rules,
            json.dumps([{"a": "x" * 5000}, {"a": ["y" * 5000]}, {"a": "\x1b[31m"}]),
        )
        self.assertEqual(
            [reject.problems[0].value for reject in result.rejects],
            ["x" * 199 + "…", '["' + "y" * 197 + "…", "\x1b[31m"],
        )
        self.assertEqual(
            result.rejects[2].problems[0].message,
            'expected a number, such as 12, not "\\u001b[31m"',
        )


class Interface(FolderCase):
    def test_the_names_that_programs_use_are_there_and_documented(self) -> None:
        import mukret

        for name in mukret.__all__:
            with self.subTest(name):
                self.assertTrue(getattr(mukret, name).__doc__)
        with self.assertRaises(AttributeError):
            mukret.nothing  # noqa: B018

    def test_stream_gives_record_batches_in_bounded_pieces_and_extract_whole_tables(
        self,
    ) -> None:
        import mukret

        rules = mukret.load_rules(
            self.file(
                "t.rules.yaml",
                rules_text('tables: {t: {fields: {a: {at: "$.a", type: integer}}}}'),
            )
        )
        file = self.file(
            "feed.jsonl", "\n".join(json.dumps({"a": number}) for number in range(1000))
        )
        rows = [
            row["a"]
            for name, batch in mukret.stream(rules, [file])
            if name == "t"
            for row in batch.to_pylist()
        ]
        self.assertEqual(rows, list(range(1000)))
        self.assertEqual(mukret.extract(rules, file).tables["t"]["a"].to_pylist(), rows)
        self.assertEqual(mukret.parse_path("$.a[*]").values({"a": [1, 2]}), [1, 2])

    def test_a_frame_keeps_nulls_decimals_and_instants(self) -> None:
        rules = """
            tables:
              t:
                rows: "$[*]"
                fields:
                  no: {at: $.no, type: integer}
                  fare: {at: $.fare, type: "decimal(9,2)"}
                  at: {at: $.at, type: timestamp}
            """
        result = self.extract(
            rules,
            '[{"no": 9007199254740993, "fare": "0.10", "at": "2031-04-01T10:22:07Z"}, {}]',
        )
        frame = result.frame("t")
        self.assertEqual(
            [str(kind) for kind in frame.dtypes],
            [
                "int64[pyarrow]",
                "decimal128(9, 2)[pyarrow]",
                "timestamp[us, tz=UTC][pyarrow]",
            ],
        )
        self.assertEqual(
            (int(frame["no"][0]), frame["fare"][0]), (9007199254740993, Decimal("0.10"))
        )
        self.assertEqual(frame.isna().sum().tolist(), [1, 1, 1])
        with self.assertRaises(UsageError):
            result.frame("u")
        with (
            mock.patch.dict(sys.modules, {"pandas": None}),
            self.assertRaises(UsageError) as caught,
        ):
            result.frame("t")
        self.assertEqual(caught.exception.code, "missing-extra")


if __name__ == "__main__":
    unittest.main()
