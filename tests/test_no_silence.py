"""A value is exactly what the response said, or it is on record: each way in which it was not, as a
promise.

What concerns values goes through both evaluators; what concerns words goes through the program.
"""

from __future__ import annotations

import json
import unittest
from decimal import Decimal
from functools import partial
from typing import Any, ClassVar
from unittest import mock

from mukret.documents import decode, find_sources
from mukret.engine.interface import extract as extract_files
from mukret.engine.run import Run
from mukret.errors import InputError
from mukret.paths import parse_path
from mukret.paths.locate import path_text
from mukret.rules import load_rules, parse_rules
from mukret.semantics.answers import Answers
from tests.evaluators import EvaluatorsCase
from tests.helpers import FolderCase, rules_text, table_rules

Problem = tuple[str | None, str, str | None, Any]
"""Field, code, where and what was met."""


def _shown(path: str | None) -> str | None:
    return None if path is None else path_text(parse_path(path).segments)


class ValuesCase(EvaluatorsCase):
    def outcome(
        self, rules: str, *documents: str
    ) -> tuple[dict[str, list[dict[str, Any]]], list[Problem]]:
        rows, rejects = self.compare(rules_text(rules), list(documents))
        problems = [
            (
                problem.get("field"),
                problem["code"],
                _shown(problem.get("path")),
                problem.get("value"),
            )
            for reject in rejects
            for problem in reject["problems"]
        ]
        return rows, problems

    def values(self, rules: str, *documents: str) -> tuple[list[Any], list[Problem]]:
        """The values of the only column of the table `t`, and what is on record."""
        rows, problems = self.outcome(rules, *documents)
        return [value for row in rows["t"] for value in row.values()], problems


class ShapesThatChange(ValuesCase):
    def test_an_object_that_came_as_something_else_is_bad_and_one_that_is_not_there_is_null(
        self,
    ) -> None:
        nothing = ["null", '""', "[]", "{}", '{"name": null}']
        documents = [
            f'[{{"club": {text}}}]'
            for text in [*nothing, '{"name": "Moss"}', '"Moss Club"', "7", "[1]"]
        ]
        values, problems = self.values(
            table_rules('club: "$.club.name"'), *documents, "[{}]"
        )
        self.assertEqual(values, [*[None] * len(nothing), "Moss", None])
        self.assertEqual(
            problems,
            [("club", "other-kind", "$[0].club", met) for met in ("Moss Club", 7, [1])],
        )

    def test_every_sort_of_step_says_so_and_descendants_and_filters_never_do(
        self,
    ) -> None:
        steps: dict[str, tuple[str, bool]] = {
            # what stands at $.x, and whether it is on record
            "$.x[0]": ('{"a": 1}', True),
            "$.x[0:2]": ('"sea"', True),
            "$.x[*]": ('"sea"', True),
            "$.x[?@.a]": ("true", True),
            "$.x[0].a": ('["sea"]', True),
            "$.x..a": ('"sea"', False),
            "$.x[?@.a.b]": ('[{"a": "sea"}]', False),
            "$..x.a": ('"sea"', False),
        }
        for path, (text, told) in steps.items():
            for take in ("first", "all", "count"):
                with self.subTest(path, take=take):
                    kind = (
                        "list(json)"
                        if take == "all"
                        else "integer"
                        if take == "count"
                        else "json"
                    )
                    rules = table_rules(
                        f'v: {{at: "{path}", take: {take}, type: {kind}}}'
                    )
                    values, problems = self.values(
                        rules, f'[{{"x": {text}}}, {{"x": null}}]'
                    )
                    self.assertEqual(
                        [code for _, code, *_ in problems], ["other-kind"] * told
                    )
                    self.assertEqual(len(values), 2 - told)

    def test_of_several_paths_one_that_meets_another_kind_is_nothing_if_another_finds_something(
        self,
    ) -> None:
        rules = table_rules('by: {at: ["$.by.name", "$.by[0].name", "$.author"]}')
        documents = {
            '[{"by": {"name": "Oda"}}]': ["Oda"],
            '[{"by": [{"name": "Oda"}]}]': ["Oda"],
            '[{"by": [{"name": null}]}]': [None],
            '[{"by": "Oda", "author": "Oda Hale"}]': ["Oda Hale"],
            '[{"by": null}]': [None],
            '[{"by": "Oda"}]': [],
        }
        for document, expected in documents.items():
            with self.subTest(document):
                values, problems = self.values(rules, document)
                self.assertEqual(values, expected)
                self.assertEqual(
                    problems,
                    [] if expected else [("by", "other-kind", "$[0].by", "Oda")],
                )

    def test_rows_that_came_as_something_else_are_one_rejected_row_at_its_place(
        self,
    ) -> None:
        rules = """
            tables:
              ports: {rows: "$.ports[*]", key: [id], fields: {id: {at: $.id, type: integer}}}
              berths: {within: ports, inherit: [id], rows: "$.berths[*]", fields: {n: $.n}}
            """
        rows, problems = self.outcome(
            rules,
            '{"ports": [{"id": 1, "berths": "closed"}, {"id": 2, "berths": [{"n": "A"}]}, {"id": 3, "berths": null}]}',
            '{"ports": "busy"}',
            '{"ports": []}',
        )
        self.assertEqual([row["id"] for row in rows["ports"]], [1, 2, 3])
        self.assertEqual(rows["berths"], [{"id": 2, "n": "A"}])
        self.assertEqual(
            sorted(problems, key=repr),
            [
                (None, "row-shape", "$.ports", "busy"),
                (None, "row-shape", "$.ports[0].berths", "closed"),
            ],
        )

    def test_a_document_in_which_no_rule_reads_anything_is_bad_and_one_that_holds_nothing_is_not(
        self,
    ) -> None:
        rules = table_rules("a: $.a", rows="$.rows[*]")
        good = ['{"rows": [{"a": "1"}]}', '{"rows": []}', "{}", "null", "[]"]
        rows, problems = self.outcome(
            rules, *good, '{"error": "busy"}', '"busy"', '["rows"]'
        )
        self.assertEqual(rows["t"], [{"a": "1"}])
        self.assertEqual([code for _, code, *_ in problems], ["nothing-read"] * 3)

    def test_what_every_document_of_a_feed_has_is_asked_of_each_and_of_each_kind(
        self,
    ) -> None:
        rules = table_rules(
            "a: $.a",
            rows="$.rows[*]",
            more='response: {must_have: ["$.rows", "$.day"]}',
        )
        _, problems = self.outcome(
            rules,
            '{"rows": [], "day": "1"}',
            '{"rows": []}',
            '{"rows": [], "day": null}',
        )
        self.assertEqual([code for _, code, *_ in problems], ["document-shape"] * 2)
        rules = """
            response:
              kinds:
                list: {when: "@.type == 'list'", must_have: ["$.items"]}
                one: {when: "@.type == 'one'"}
            tables:
              items: {kind: list, rows: "$.items[*]", fields: {a: $.a}}
              ones: {kind: one, rows: "$.item", fields: {a: $.a}}
            """
        rows, problems = self.outcome(
            rules,
            '{"type": "list", "items": [{"a": "1"}]}',
            '{"type": "list"}',
            '{"type": "one", "item": {"a": "2"}}',
        )
        self.assertEqual((rows["items"], rows["ones"]), ([{"a": "1"}], [{"a": "2"}]))
        self.assertEqual([code for _, code, *_ in problems], ["document-shape"])

    def test_filters_see_every_member_of_a_row_that_a_zip_puts_together(self) -> None:
        document = '{"c": [1, 2, null], "i": [1, 3, null], "p": [{"x": 1, "y": 2}, {"x": 1}, {}]}'
        zipped = 'zip: {class: "$.c[*]", import: "$.i[*]", both: "$.p[*]"}'
        for condition, expected in {
            "$.both[?@ == 1]": [[1], [1], []],
            "$[?@.x == 1]": [[{"x": 1, "y": 2}], [{"x": 1}], []],
            "$[?count(@.*) == 2]": [[{"x": 1, "y": 2}], [], []],
            "$[?@['x'] != @['y']]": [[{"x": 1, "y": 2}], [{"x": 1}], []],
        }.items():
            with self.subTest(condition):
                rules = f"""
                    tables:
                      t:
                        rows: {{{zipped}}}
                        fields: {{v: {{at: "{condition}", take: all, type: list(json)}}}}
                    """
                values, problems = self.values(rules, document)
                self.assertEqual(
                    [[decode(one.encode()) for one in value] for value in values],
                    expected,
                )
                self.assertEqual(problems, [])
        for condition, count in {
            "@['class'] == @['import']": 2,
            "count(@.*) == 3": 3,
            "@.class == null": 1,
        }.items():
            with self.subTest(when=condition):
                rules = f"""
                    tables:
                      t: {{rows: {{{zipped}}}, when: "{condition}", fields: {{v: {{at: $.class, type: integer}}}}}}
                    """
                self.assertEqual(len(self.values(rules, document)[0]), count)

    def test_names_beyond_ascii_are_found_however_an_object_is_decoded(self) -> None:
        document = '{"Liegeplätze": [{"größe": 3}], "ö": [{"ä": 1}], "ü": [{"ä": 2}], "é": "{\\"ß\\": [{\\"ä\\": 5}]}"}'
        for rows, field, expected in (
            ('rows: "$.Liegeplätze", spread: true', "$.größe", [3]),
            ('rows: {zip: {é: "$.ö[*]", ü: "$.ü[*]"}}', "$.ü.ä", [2]),
            ('rows: ["$.ö[*]", "$.ü[*]"]', "$.ä", [1, 2]),
            ('rows: "$.é.ß[*]"', "$.ä", [5]),
            ('rows: "$..ä"', "$", [1, 2, 5]),
        ):
            with self.subTest(rows):
                rules = f"""
                    response: {{embedded: ["$.é"]}}
                    tables:
                      t: {{{rows}, fields: {{v: {{at: "{field}", type: integer}}}}}}
                      beside: {{rows: "$.ö[*]", fields: {{v: {{at: "$.ä", type: integer}}}}}}
                    """
                rows_found, problems = self.outcome(rules, document)
                self.assertEqual([row["v"] for row in rows_found["t"]], expected)
                self.assertEqual((rows_found["beside"], problems), ([{"v": 1}], []))


class Exactness(ValuesCase):
    CASES: ClassVar[list[tuple[str, str, Any]]] = [
        # the field, the value in the response, and what is written: a code where it is bad
        (
            "type: 'decimal(38,0)'",
            '"99999999999999999999999999999999999999999"',
            "out-of-range",
        ),
        (
            "type: 'decimal(38,0)'",
            '"99999999999999999999999999999999999999"',
            Decimal("9" * 38),
        ),
        (
            "type: 'decimal(38,18)', grouping: ','",
            '"103,123,447,612,661,715,844,513,882,209.69"',
            "out-of-range",
        ),
        (
            "type: 'decimal(12,2)'",
            '"0.00000000000000000000000000000000000000001"',
            "too-many-digits",
        ),
        (
            "type: 'decimal(12,2)', round: half-up",
            '"0.00000000000000000000000000000000000000001"',
            Decimal("0.00"),
        ),
        ("type: float", "-0", "-0.0"),
        ("type: float", '"-0"', "-0.0"),
        ("type: float, point: ','", '"-0,0"', "-0.0"),
        ("type: float, grouping: ','", '"-0"', "-0.0"),
        ("type: json", "-0", "-0"),
        ("", "-0", "-0"),
        ("type: integer", "-0", 0),
        ("type: date, format: '%Y%m%d'", "20310401", "2031-04-01"),
        ("type: date, format: '%Y'", '"2031"', "2031-01-01"),
        ("type: date, format: '%Y-%m'", '"2031-04"', "2031-04-01"),
        (
            "type: timestamp, format: '%d.%m.%Y', zone: UTC",
            '"01.04.2031"',
            "2031-04-01 00:00:00+00:00",
        ),
        ("type: datetime, format: '%d.%m.%Y'", '"01.04.2031"', "2031-04-01 00:00:00"),
        (
            "type: timestamp, zone: '+02:00'",
            '"2906-03-20T17:41"',
            "2906-03-20 15:41:00+00:00",
        ),
        (
            "type: timestamp, zone: '+02:00'",
            '"1583-03-20T17:41"',
            "1583-03-20 15:41:00+00:00",
        ),
        (
            "type: timestamp, zone: Atlantic/Faroe",
            '"2906-03-20T17:41"',
            "2906-03-20 17:41:00+00:00",
        ),
        ("type: timestamp", '"2031-04-01t10:22:00z"', "2031-04-01 10:22:00+00:00"),
        ("type: timestamp", '"2031-04-01T10:22:00.1234567Z"', "too-many-digits"),
        (
            "type: timestamp, round: half-up",
            '"2031-04-01T10:22:00.1234567Z"',
            "2031-04-01 10:22:00.123457+00:00",
        ),
        ("type: timestamp", '"2031-04-01T10:22:00.1234567+24:00"', "not-a-timestamp"),
        ("type: timestamp", '"2031-04-01T10:22:00.1234567+01:60"', "not-a-timestamp"),
        ("type: timestamp, format: epoch-s", "1e99999999999999999999", "out-of-range"),
        ("type: duration, unit: s", "1e99999999999999999999", "out-of-range"),
        ("type: duration", '"PT99999999999999999999999999999999999S"', "out-of-range"),
        ("type: integer, required: true", '"sea"', "not-a-number"),
        ("type: date, required: true", "[1]", "wrong-kind"),
        ("type: text", '"' + "9" * 5000 + '"', "9" * 5000),
    ]

    def test_a_value_is_what_the_response_said_or_on_record_as_bad(self) -> None:
        for options, text, expected in self.CASES:
            with self.subTest(options, text=text[:60]):
                field = f"v: {{at: $.v, {options}}}" if options else "v: $.v"
                values, problems = self.values(table_rules(field), f'[{{"v": {text}}}]')
                if problems:
                    self.assertEqual([code for _, code, *_ in problems], [expected])
                else:
                    found = values[0]
                    self.assertEqual(
                        found if isinstance(found, type(expected)) else str(found),
                        expected,
                    )

    def test_sums_are_the_same_by_path_and_by_expression_and_bad_where_the_type_can_not_hold_them(
        self,
    ) -> None:
        rules = """
            tables:
              fares:
                rows: "$[*]"
                fields:
                  by_path: {at: "$.parts[*].sum", take: sum, type: "decimal(6,2)"}
                  by_rows: {compute: "SUM(parts.sum)", type: "decimal(6,2)"}
              parts: {within: fares, rows: "$.parts[*]", fields: {sum: {at: $.sum, type: "decimal(6,2)"}}}
            """
        rows, problems = self.outcome(
            rules,
            '[{"parts": [{"sum": 9999.99}, {"sum": "-0.01"}, {"sum": null}]}, {}]',
        )
        self.assertEqual(
            list(map(str, rows["fares"][0].values())), ["9999.98", "9999.98"]
        )
        self.assertEqual(
            (list(rows["fares"][1].values()), problems), ([None, None], [])
        )
        _, problems = self.outcome(
            rules, '[{"parts": [{"sum": 9999.99}, {"sum": 9999.99}]}]'
        )
        self.assertEqual(
            [field for field, *_ in problems], ["by_path", "by_rows", None, None]
        )  # and the rows below
        whole = table_rules('v: {at: "$.n[*]", take: sum, type: integer}')
        top = 2**63 - 1
        self.assertEqual(self.values(whole, f'[{{"n": [{top}, -1]}}]')[0], [top - 1])
        self.assertEqual(self.values(whole, f'[{{"n": [{top}, 1, -2]}}]')[0], [top - 1])
        self.assertEqual(
            self.values(whole, f'[{{"n": [{top}, 1]}}]')[1][0][:2], ("v", "overflow")
        )

    def test_taking_off_what_surrounds_a_text_takes_time_by_its_length_and_gives_the_same(
        self,
    ) -> None:
        """A square of these lengths would take minutes."""
        long = 100_000
        rules = table_rules('v: {at: $.v, strip: ["-", "- ", "ab"], trim: true}')
        documents = [
            f'[{{"v": "{"-" * long}x{"- " * long}"}}]',
            f'[{{"v": "{"ab" * long}"}}, {{"v": "abxab"}}]',
            '[{"v": "--x"}, {"v": null}]',
        ]
        self.assertEqual(self.values(rules, *documents)[0], ["x", "", "x", "x", None])


class AcrossTheRun(ValuesCase):
    RULES = """
        tables:
          ports: {rows: "$.ports[*]", key: [code], fields: {code: $.code, name: $.name}}
          sailings:
            rows: "$.sailings[*]"
            fields:
              from: $.from
              port: {lookup: {in: ports, by: [from], give: name, across: run}}
        """
    DOCUMENTS = (
        '{"sailings": [{"from": "OTV"}, {"from": "SUL"}, {"from": "none"}, {"from": null}]}',
        '{"ports": [{"code": "OTV", "name": "Otter Vale"}, {"code": null, "name": "nowhere"}]}',
        '{"ports": [{"code": "SUL", "name": "Sula"}, {"code": "OTV", "name": "a second one"}]}',
    )

    def test_a_lookup_finds_rows_of_all_documents_and_of_several_the_first(
        self,
    ) -> None:
        for most in (1000, 0):  # in memory, and all of it on the disk
            answers = partial(Answers, most_in_memory=most)
            with (
                mock.patch("mukret.engine.passes.Answers", answers),
                mock.patch("mukret.semantics.reference.Answers", answers),
            ):
                rows, problems = self.outcome(self.RULES, *self.DOCUMENTS)
            self.assertEqual(
                [row["port"] for row in rows["sailings"]],
                ["Otter Vale", "Sula", None, None],
            )
            self.assertEqual(
                [code for _, code, *_ in problems], ["key-missing", "duplicate"]
            )

    def test_many_keys_go_to_the_disk_and_the_first_value_of_each_stays(self) -> None:
        answers = Answers(most_in_memory=10)
        for first in (0, 50):
            answers.add((("integer", number), first + number) for number in range(100))
        self.assertIsNotNone(answers.many)
        answers.add([(("integer", 3), "late"), (("integer", 1000), "new")])
        keys = [
            ("integer", 3),
            None,
            ("integer", 99),
            ("integer", 1000),
            ("integer", -1),
        ]
        self.assertEqual(answers.get_all(keys), [3, None, 99, "new", None])


class Words(FolderCase):
    """What the program says, and how it ends."""

    def lines(self, *arguments: str, code: int) -> str:
        done = self.typed(*arguments)
        said = done.stdout + done.stderr
        self.assertEqual(done.returncode, code, said)
        return said

    def test_a_change_of_shape_is_told_by_extract_check_and_preview_with_what_was_expected(
        self,
    ) -> None:
        self.file("t.rules.yaml", table_rules('club: "$.club.name"'))
        self.file("a.json", '[{"club": {"name": "Moss"}}, {"club": "Moss Club"}]')
        files = ("t.rules.yaml", "a.json")
        self.assertEqual(
            self.lines("extract", *files, "--to", "out", code=1).splitlines()[3:],
            [
                "1 row rejected, every reason in out/rejects.jsonl:",
                '  t.club: 1 × other-kind, e.g. "Moss Club"',
                "      at $[1].club (a.json, document 1)",
            ],
        )
        self.assertEqual(
            self.lines("check", *files, code=1).splitlines()[2:5],
            [
                "Does not fit",
                '  t.club  1 of 2  other-kind  e.g. "Moss Club"',
                "      $[1].club in a.json, document 1",
            ],
        )
        expected = 'expected an object with the member name, not "Moss Club"'
        self.assertEqual(
            self.lines("preview", *files, code=1).splitlines()[5:8],
            [
                '✗ 1  "Moss Club"',
                f"      club: {expected} [other-kind]",
                "      $[1] in a.json",
            ],
        )
        [reject] = (self.folder / "out/rejects.jsonl").read_text().splitlines()
        self.assertEqual(json.loads(reject)["problems"][0]["message"], expected)

    def test_records_that_came_as_lists_and_lists_as_records_are_one_warning_with_the_path_to_write(
        self,
    ) -> None:
        for path, document, write in (
            ("$.ports", '{"ports": [{"a": "1", "b": "2", "c": "3"}]}', "$.ports[*]"),
            ("$.ports[*]", '{"ports": {"a": "1", "b": "2", "c": "3"}}', "$.ports"),
        ):
            with self.subTest(path):
                self.file(
                    "t.rules.yaml", table_rules("a: $.a, b: $.b, c: $.c", rows=path)
                )
                self.file("a.json", document)
                said = self.lines(
                    "extract", "t.rules.yaml", "a.json", "--to", "out", code=1
                )
                self.assertEqual(said.count("warning:"), 1, said)
                self.assertIn("[list-or-record]", said)
                self.assertIn(f'write rows: "{write}"', said)

    def test_a_lookup_whose_keys_stand_in_other_documents_only_says_so(self) -> None:
        rules = rules_text(AcrossTheRun.RULES).replace(", across: run", "")
        self.file("t.rules.yaml", rules)
        self.file("feed.jsonl", "\n".join(AcrossTheRun.DOCUMENTS[:2]))
        said = self.lines(
            "extract", "t.rules.yaml", "feed.jsonl", "--to", "out", code=1
        )
        self.assertEqual(
            said.splitlines()[-3:],
            [
                "warning: sailings.port: the lookup in ports by from finds nothing in all of the"
                " input [unmatched]",
                "  at t.rules.yaml:8:7",
                "  hint: no value of from is a key of ports in the same document, but in others:"
                " across: run",
            ],
        )

    def test_advice_without_data_of_what_is_written_nowhere_and_of_rows_that_can_not_be_led_back(
        self,
    ) -> None:
        rules = """
            response: {fields: {day: $.day, page: $.page}}
            tables:
              ports: {rows: "$.ports[*]", inherit: [day], key: [id], fields: {id: $.id}}
              berths: {within: ports, rows: "$.berths[*]", fields: {n: $.n}}
            """
        self.file("t.rules.yaml", rules_text(rules))
        said = self.lines("check", "t.rules.yaml", code=0)
        self.assertEqual(
            said.splitlines()[1:],
            [
                "warning: response.fields: no table inherits page, so it is written nowhere"
                " [not-inherited]",
                "  at t.rules.yaml:2:33",
                "  hint: inherit: [page] in a table, or take the field away",
                "warning: berths inherits nothing that tells the rows of ports apart [not-joined]",
                "  at t.rules.yaml:5:3",
                "  hint: inherit: [id]",
            ],
        )

    def test_answers_of_an_archive_that_no_rule_reads_are_counted_as_passed_over(
        self,
    ) -> None:
        def entry(path: str, text: str) -> dict[str, object]:
            content = {"mimeType": "application/json", "text": text}
            request = {"method": "GET", "url": f"http://isles.example/{path}"}
            return {
                "request": request,
                "response": {"status": 200, "content": content},
                "startedDateTime": "2031-04-01T10:00:00Z",
            }

        entries = [
            entry("ports", '{"ports": [{"id": "1"}]}'),
            entry("menu", '{"menu": true}'),
        ]
        self.file(
            "visit.har", json.dumps({"log": {"version": "1.2", "entries": entries}})
        )
        self.file("t.rules.yaml", table_rules("id: $.id", rows="$.ports[*]"))
        self.lines("extract", "t.rules.yaml", "visit.har", "--to", "out", code=0)
        [read] = json.loads((self.folder / "out/run.json").read_text())["inputs"]
        self.assertEqual(read["documents"], 1)
        self.assertEqual(sum(read["passed_over"].values()), 1)

    def test_a_long_document_that_says_nothing_is_one_bad_document_in_parts_and_shared_by_processes_too(
        self,
    ) -> None:
        self.file(
            "t.rules.yaml",
            table_rules(
                "id: {at: $.id, type: integer}",
                rows="$.ports[*]",
                more='response: {must_have: ["$.day"]}',
            ),
        )
        ports = ",\n".join(f'{{"id": {number}}}' for number in range(2000))
        for number in range(3):
            day = "" if number == 1 else ', "day": "1"'
            self.file(f"in/{number}.json", f'{{"ports": [{ports}]{day}}}')
        rules = parse_rules((self.folder / "t.rules.yaml").read_text())
        run = Run(rules, find_sources([self.folder / "in"]), batch_bytes=500)
        outputs = list(run.batches())
        self.assertGreater(len(outputs), 20)  # they were cut
        self.assertEqual(sum(output.tables["t"].num_rows for output in outputs), 4000)
        [reject] = [reject for output in outputs for reject in output.rejects]
        self.assertEqual(reject.problems[0].code, "document-shape")
        for workers in ("1", "2"):
            self.lines(
                "extract",
                "t.rules.yaml",
                "in",
                "--to",
                "out",
                "--workers",
                workers,
                code=1,
            )
            record = json.loads((self.folder / "out/run.json").read_text())
            self.assertEqual(
                (record["tables"]["t"]["rows_written"], record["bad_documents"]),
                (4000, 1),
            )

    def test_what_was_null_on_the_day_of_the_draft_is_told_and_added_when_it_is_not(
        self,
    ) -> None:
        self.file("a.json", '[{"id": 1, "pilot": null}, {"id": 2, "pilot": null}]')
        self.lines("draft", "a.json", "--out", "t.rules.yaml", code=0)
        place = self.folder / "t.rules.yaml"
        self.assertEqual(load_rules(place).ignore, ())
        self.lines("check", "t.rules.yaml", "a.json", code=0)
        self.file("b.json", '[{"id": 3, "pilot": {"name": "Oda"}}]')
        self.assertEqual(
            self.lines("check", "t.rules.yaml", "b.json", code=1).splitlines()[2:4],
            ["Read by no rule", '  $[*].pilot  1  e.g. {"name":"Oda"}'],
        )
        before = place.read_text()
        self.assertEqual(
            self.lines("draft", "--add", "t.rules.yaml", "b.json", code=0),
            "t.rules.yaml: 1 field, 0 tables and 0 paths to ignore added\n"
            "  a.pilot_name\n",
        )
        self.assertEqual(
            place.read_text(),
            before + '      pilot_name: {at: "$.pilot.name", note: "e.g. Oda"}\n',
        )
        self.lines("check", "t.rules.yaml", "b.json", code=0)

    def test_nothing_left_to_read_publishes_nothing_and_says_what_is_near(self) -> None:
        self.file("t.rules.yaml", table_rules("id: $.id", rows="$.ports[*]"))
        self.file("a.json", '{"port": [{"id": "1"}]}')
        with self.assertRaises(InputError):
            extract_files(
                parse_rules((self.folder / "t.rules.yaml").read_text()),
                self.folder / "a.json",
            )
        said = self.lines("extract", "t.rules.yaml", "a.json", "--to", "out", code=3)
        self.assertEqual(
            said,
            "error: no document of the run could be read: no rule reads anything in it:"
            " an object with the member port [nothing-read]\n"
            "  at a.json, document 1\n"
            "  hint: $.ports is not there; did you mean $.port?\n",
        )
        self.assertFalse((self.folder / "out").exists())

    def test_where_very_many_rules_find_nothing_the_first_are_told_and_all_are_counted(
        self,
    ) -> None:
        fields = ", ".join(f"f{number}: $.f{number}" for number in range(60))
        self.file("t.rules.yaml", table_rules(fields))
        self.file("a.json", '[{"f0": 1}]')
        said = self.lines("extract", "t.rules.yaml", "a.json", "--to", "out", code=0)
        self.assertEqual(said.count("[unmatched]"), 20)
        self.assertIn("… and 39 more warnings: 39 × unmatched", said)
        self.assertEqual(
            len(json.loads((self.folder / "out/run.json").read_text())["unmatched"]), 59
        )


if __name__ == "__main__":
    unittest.main()
