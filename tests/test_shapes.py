"""Where rows hide in responses, and what hangs on other rows: places, counts, and what the rules
read.
"""

from __future__ import annotations

import json
import unittest
from typing import Any, ClassVar

from mukret.documents import find_sources
from mukret.engine.interface import Result, extract
from mukret.engine.run import Run
from mukret.errors import InputError, RulesError
from mukret.inspect.picking import all_rows, pick
from mukret.rules import load_rules, parse_rules
from mukret.rules.reference import CsvError, read_csv
from mukret.semantics.examples import run_examples
from mukret.semantics.outcomes import RowOutcome
from tests.helpers import FolderCase, rules_text, table_rules


def rows(result: Result, table: str = "t") -> list[tuple[Any, ...]]:
    """The rows of a table as tuples."""
    return [tuple(row.values()) for row in result.tables[table].to_pylist()]


def counts(result: Result, table: str = "t") -> tuple[int, ...]:
    """Seen, written, rejected, filtered, deduplicated."""
    tally = result.tally.tables[table]
    return (
        tally.rows_seen,
        tally.rows_written,
        tally.rows_rejected,
        tally.rows_filtered,
        tally.rows_deduplicated,
    )


def problems(result: Result) -> list[tuple[Any, ...]]:
    """Table, path of the row, and field, code and path of its problem."""
    return [
        (reject.table, reject.path, problem.field, problem.code, problem.path)
        for reject in result.rejects
        for problem in reject.problems
    ]


class Places(FolderCase):
    def test_problems_and_rows_below_rows_that_were_put_together_name_where_things_really_stand(
        self,
    ) -> None:
        result = self.extract(
            """
            tables:
              pairs:
                rows: {zip: {time: "$.t[*]", calls: "$.c.*"}, uneven: pad}
                fields: {time: {at: $.time, type: date, required: true}, path: {fact: path}, name: {fact: name}}
              calls: {within: pairs, rows: "$.calls[*]", fields: {call: {at: $, type: integer}}}
              headed:
                rows: "$.rows[*]"
                header: "$.head"
                fields: {n: {at: "$['a b']", type: integer}, path: {fact: path}}
              inner: {within: headed, rows: "$.list[*]", fields: {x: {at: $.x, type: integer}}}
            """,
            json.dumps(
                {
                    "t": ["2031-04-01", "soon"],
                    "c": {"k": [1], "l": ["two"], "m": [3, "four"]},
                    "head": ["a b", "list"],
                    "rows": [[1, [{"x": 1}, {"x": "?"}]], ["?"]],
                }
            ),
        )
        self.assertEqual(
            [row[1:] for row in rows(result, "pairs")], [("$['t'][0]", None)]
        )
        self.assertEqual(rows(result, "headed"), [(1, "$['rows'][0]")])
        self.assertEqual(
            problems(result),
            [
                ("pairs", "$['t'][1]", "time", "not-a-date", "$['t'][1]"),
                ("pairs", "$['c']['m']", "time", "required", "$['t']"),
                ("headed", "$['rows'][1]", "n", "not-a-number", "$['rows'][1][0]"),
                ("calls", "$['c']['l'][0]", "call", "not-a-number", "$['c']['l'][0]"),
                ("calls", "$['c']['m'][0]", None, "parent-rejected", "$['c']['m'][0]"),
                ("calls", "$['c']['m'][1]", "call", "not-a-number", "$['c']['m'][1]"),
                (
                    "inner",
                    "$['rows'][0][1][1]",
                    "x",
                    "not-a-number",
                    "$['rows'][0][1][1]['x']",
                ),
            ],
        )

    def test_rows_that_can_t_be_told_apart_are_counted_all_and_have_one_line(
        self,
    ) -> None:
        rules = """
            tables:
              p: {rows: "$[*]", fields: {a: $.a}}
              t: {within: p, rows: {zip: {x: "$.x[*]", y: "$.y[*]"}}, outer: true, fields: {x: $.x}}
            """
        result = self.extract(
            rules,
            '[{"x": [1, 2], "y": [1, 2, 3]}, {"x": [], "y": []}, {"x": [4], "y": [4]}]',
        )
        self.assertEqual(
            (rows(result), counts(result)), ([(None,), ("4",)], (5, 2, 3, 0, 0))
        )
        [reject] = result.rejects
        self.assertEqual(
            (reject.rows, reject.path, reject.as_json()["rows"]), (3, "$[0]", 3)
        )
        [reason] = result.tally.reasons.values()
        self.assertEqual((reason.code, reason.count), ("uneven", 3))

    def test_headers_that_are_none(self) -> None:
        rules = 'tables: {t: {rows: "$.r[*]", header: "$.h", fields: {a: $.a}}}'
        cases: list[tuple[Any, str]] = [
            ({"h": ["a", 1]}, "column 2 of the header has no name but a number"),
            ({"h": ["a", "a"]}, "the column 'a' stands twice in the header"),
            (
                {"h": {"a": 1}},
                "the header is not an array of column names but an object",
            ),
            ({"h": None}, "there is no header"),
            ({}, "there is no header"),
        ]
        for document, message in cases:
            with self.subTest(document):
                result = self.extract(
                    rules, json.dumps({**document, "r": [["1"], ["2"]]})
                )
                self.assertEqual(
                    [
                        (reject.rows, reject.problems[0].message)
                        for reject in result.rejects
                    ],
                    [(2, message)],
                )
                self.assertEqual(counts(result), (2, 0, 2, 0, 0))
                self.assertEqual(
                    counts(self.extract(rules, json.dumps({**document, "r": []}))),
                    (0, 0, 0, 0, 0),
                )

    def test_a_header_in_the_first_row_that_passes_when_is_no_row_and_does_not_count_for_position(
        self,
    ) -> None:
        result = self.extract(
            """
            tables: {t: {rows: "$[*]", header: first, when: "@[0] != '#'", fields: {n: {fact: position}, b: $.b}}}
            """,
            '[["#", "made up"], ["a", "b"], [1, 2], ["#"], [3, 4]]',
        )
        self.assertEqual(
            (rows(result), counts(result)), ([(0, "2"), (1, "4")], (2, 2, 0, 0, 0))
        )


class Recursion(FolderCase):
    RULES = """
        tables:
          t:
            rows: "$.parts"
            recurse: "$.parts"
            spread: true
            when: "@.hidden != true"
            key: id
            duplicates: KEEP
            where: "ok"
            fields:
              id: {at: $.id, type: integer, required: true}
              up: {parent: id}
              depth: {fact: depth}
              n: {fact: position}
              ok: {at: $.ok, type: boolean, default: yes, keep: false}
        """

    def part(self, number: Any, *parts: Any, **more: Any) -> dict[str, Any]:
        return {"id": number, "parts": list(parts), **more}

    def test_what_is_below_a_row_shares_its_fate_and_hidden_rows_are_none(self) -> None:
        part = self.part
        document = part(
            0,
            part(1, part(2), part(3, part(4), ok=False), part("x", part(5), part("y"))),
            part(6, part(7), hidden=True),
            {"id": 8, "parts": {"id": 9, "parts": None}},
            part(1, part(10)),
        )
        result = self.extract(
            self.RULES.replace("KEEP", "reject"), json.dumps(document)
        )
        self.assertEqual(
            rows(result), [(1, None, 0, 0), (2, 1, 1, 0), (8, None, 0, 1), (9, 8, 1, 0)]
        )
        self.assertEqual(counts(result), (11, 4, 5, 2, 0))
        self.assertEqual(
            [(path, code) for _, path, _, code, _ in problems(result)],
            [
                ("$['parts'][0]['parts'][2]", "not-a-number"),
                ("$['parts'][0]['parts'][2]['parts'][0]", "parent-rejected"),
                ("$['parts'][0]['parts'][2]['parts'][1]", "not-a-number"),
                ("$['parts'][3]", "duplicate"),
                ("$['parts'][3]['parts'][0]", "parent-rejected"),
            ],
        )

    def test_rows_that_are_dropped_take_those_below_them_along(self) -> None:
        document = json.dumps(
            self.part(0, self.part(1, self.part(2)), self.part(1, self.part(3)))
        )
        for keep, left in (("first", [1, 2]), ("last", [1, 3])):
            result = self.extract(self.RULES.replace("KEEP", keep), document)
            self.assertEqual(
                ([row[0] for row in rows(result)], counts(result)),
                (left, (4, 2, 0, 0, 2)),
            )

    def test_names_of_rows_below_rows_some_of_which_stand_for_none(self) -> None:
        result = self.extract(
            """
            tables:
              ports: {rows: "$.ports[*]", outer: true, fields: {code: $.code}}
              zones: {within: ports, rows: "$.zones.*", recurse: "$.zones.*", fields: {zone: {fact: name}}}
            """,
            '{"ports": []}',
            '{"ports": [{"code": "OTV", "zones": {"north": {"zones": {"sound": {}}}}}]}',
        )
        self.assertEqual(rows(result, "zones"), [("north",), ("sound",)])

    def test_a_thousand_levels_are_followed(self) -> None:
        document: Any = self.part(400)
        for number in range(399, -1, -1):
            document = self.part(number, document)
        result = self.extract(
            self.RULES.replace("KEEP", "last"), json.dumps({"parts": document})
        )
        self.assertEqual(rows(result)[-1], (400, 399, 400, 0))


class Duplicates(FolderCase):
    RULES = """
        tables:
          ports: {rows: "$.ports[*]", key: code, duplicates: last, fields: {code: $.code, seen: $.seen}}
          calls:
            within: ports
            rows: "$.calls[*]"
            inherit: [code]
            key: no
            duplicates: last
            fields: {no: {at: $.no, type: integer}}
        """
    LINES: ClassVar[list[dict[str, Any]]] = [
        {
            "ports": [
                {"code": "OTV", "seen": 1, "calls": [{"no": 1}, {"no": 2}]},
                {"code": "SKR", "calls": [{"no": 3}]},
            ]
        },
        {
            "ports": [
                {"code": "OTV", "seen": 2, "calls": [{"no": 1}, {"no": 1}]},
                {"seen": 3},
            ]
        },
    ]

    def check(self, result: Result) -> None:
        """The second OTV is the one that counts, so calls below the first are gone, their keys with
        them.
        """
        self.assertEqual(rows(result, "ports"), [("SKR", None), ("OTV", "2")])
        self.assertEqual(rows(result, "calls"), [("SKR", 3), ("OTV", 1)])
        self.assertEqual(
            (counts(result, "ports"), counts(result, "calls")),
            ((4, 2, 1, 0, 1), (5, 2, 0, 0, 3)),
        )

    def test_the_last_of_each_level_is_kept_over_all_files(self) -> None:
        self.check(self.extract(self.RULES, *map(json.dumps, self.LINES)))

    EMBEDDED = """
        response: {embedded: ["$.notes[*].text"]}
        tables:
          ports: {rows: "$.ports[*]", key: code, duplicates: last, fields: {code: $.code, seen: $.seen}}
          notes: {rows: "$.notes[*]", fields: {n: $.text.n}}
        """

    def test_a_text_that_is_no_json_in_a_row_of_another_table_leaves_the_last_row_alone(
        self,
    ) -> None:
        """Which row is the last is found by the table alone, which can't tell that the text stands
        in a row.
        """
        lines = [
            {"ports": [{"code": "OTV", "seen": n}], "notes": [{"text": text}]}
            for n, text in ((1, "{}"), (2, "{"))
        ]
        result = self.extract(self.EMBEDDED, *map(json.dumps, lines))
        self.assertEqual(rows(result, "ports"), [("OTV", "2")])
        self.assertEqual(
            problems(result),
            [("notes", "$['notes'][0]", None, "not-json", "$['notes'][0]['text']")],
        )
        picked = pick(
            parse_rules(rules_text(self.EMBEDDED)),
            find_sources([str(self.folder)]),
            "ports",
            all_rows,
            RowOutcome.WRITTEN,
        )
        self.assertEqual(picked and picked.file, f"{self.folder}/1-feed.json")

    def test_what_comes_through_a_pipe_is_read_more_than_once(self) -> None:
        self.file("r.rules.yaml", rules_text(self.RULES))
        lines = "".join(json.dumps(line) + "\n" for line in self.LINES)
        done = self.mukret("extract", "r.rules.yaml", "-", "--to", "out", stdin=lines)
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertEqual(
            (self.folder / "out/calls.csv").read_text(), "code,no\nSKR,3\nOTV,1\n"
        )
        [read] = json.loads((self.folder / "out/run.json").read_text())["inputs"]
        self.assertEqual((read["bytes"], read["documents"]), (len(lines), 2))


class Lookups(FolderCase):
    def test_keys_of_several_fields_of_unlike_numbers_and_of_rows_that_come_later(
        self,
    ) -> None:
        result = self.extract(
            """
            tables:
              t:
                rows: "$.a[*]"
                fields:
                  n: {at: $.n, type: "decimal(9,2)"}
                  w: $.w
                  found: {lookup: {in: u, by: [n, w], give: what}}
              u:
                rows: "$.b[*]"
                key: [m, v]
                fields: {m: {at: $.m, type: float}, v: $.v, what: {compute: "v || '!'"}}
            """,
            '{"a": [{"n": 1, "w": "x"}, {"n": "1.00", "w": "y"}, {"n": 0.1, "w": "x"}, {"w": "x"}, {"n": 2, "w": "x"}],'
            ' "b": [{"m": 1, "v": "x"}, {"m": "1e0", "v": "y"}, {"m": 0.1, "v": "x"}, {"m": 2, "v": "x "}]}',
        )
        self.assertEqual(
            [row[2] for row in rows(result)], ["x!", "y!", "x!", None, None]
        )

    def test_only_rows_that_are_not_rejected_or_filtered_for_themselves_are_seen_before_duplicates(
        self,
    ) -> None:
        result = self.extract(
            """
            tables:
              t: {rows: "$.a[*]", fields: {id: {at: "$"}, x: {lookup: {in: u, by: id, give: x}}}}
              p: {rows: "$.p[*]", fields: {q: {at: $.q, required: true}}}
              u:
                within: p
                rows: "$.b[*]"
                key: id
                where: "x <> 'out'"
                fields: {id: $.id, x: $.x, n: {at: $.n, type: integer}}
            """,
            '{"a": ["ok", "bad", "out", "below", "twice", "none"], "p": [{"q": 1, "b": [{"id": "ok", "x": "1"},'
            ' {"id": "bad", "x": "2", "n": "?"}, {"id": "out", "x": "out"}, {"id": "twice", "x": "3"},'
            ' {"id": "twice", "x": "4"}, {"x": "5"}]}, {"b": [{"id": "below", "x": "6"}]}]}',
        )
        self.assertEqual(
            [row[1] for row in rows(result)], ["1", None, None, "6", "3", None]
        )

    def test_a_table_that_looks_into_itself_is_judged_without_what_hangs_on_that(
        self,
    ) -> None:
        """2 lacks its port and is rejected, but not before 3 has seen it; 4 has a bad value of its
        own.
        """
        result = self.extract(
            """
            tables:
              t:
                rows: "$[*]"
                key: id
                where: "before IS DISTINCT FROM 1"
                fields:
                  id: {at: $.id, type: integer}
                  after: {at: $.after, type: integer, keep: false}
                  n: {at: $.n, type: integer, keep: false}
                  before: {lookup: {in: t, by: after, give: id}}
                  named: {lookup: {in: t, by: after, give: id}, required: true}
            """,
            '[{"id": 1, "after": 3}, {"id": 2}, {"id": 3, "after": 2}, {"id": 4, "n": "?"}, {"id": 5, "after": 4},'
            ' {"id": 6, "after": 1}]',
        )
        self.assertEqual(rows(result), [(1, 3, 3), (3, 2, 2)])
        self.assertEqual(counts(result), (6, 2, 3, 1, 0))

    def test_a_lookup_that_never_finds_anything_is_a_warning_and_so_is_a_fact_that_is_nowhere_on_record(
        self,
    ) -> None:
        rules = self.file(
            "r.rules.yaml",
            table_rules(
                "id: $.id, x: {lookup: {in: r, by: id, give: b}}, u: {fact: url}",
                more="reference: {r: {file: r.csv, key: a}}",
            ),
        )
        self.file("r.csv", "a,b\nP,1\n")
        run = Run(
            load_rules(rules), find_sources([self.file("a.json", '[{"id": "p"}]')])
        )
        text = "response: {embedded: [$.a, $.b]}\ntables: {t: {rows: $.t, recurse: '$.below', fields: {i: $.i}}}"
        other = Run(
            parse_rules(rules_text(text)),
            find_sources([self.file("b.json", '{"a": "{}", "t": {"i": 1}}')]),
        )
        list(other.batches())
        found = [
            (notice.message.partition(":")[0], notice.place)
            for notice in other.notices()
        ]
        self.assertEqual(
            found, [("embedded", "rules.yaml:2:28"), ("rows of t", "rules.yaml:3:10")]
        )
        list(run.batches())
        self.assertEqual(
            [notice.message for notice in run.notices()],
            [
                "t.x: the lookup in r by id finds nothing in all of the input",
                "t.u: the fact url is on record for no document",
            ],
        )

    def test_cells_of_a_reference(self) -> None:
        cases: list[tuple[str, list[tuple[str | None, ...]]]] = [
            ("a,b\n1,2\n", [("a", "b"), ("1", "2")]),
            ('a\r\n"x, ""y"""\r\n\r\n', [("a",), ('x, "y"',)]),
            ('a,b\n,""\n"two\nlines",', [("a", "b"), (None, ""), ("two\nlines", None)]),
            ("", []),
        ]
        for text, records in cases:
            with self.subTest(text):
                self.assertEqual(list(read_csv(text)), records)
        with self.assertRaisesRegex(CsvError, "line 2: a quote"):
            list(read_csv('a,b\n1,x"y\n'))

    def test_a_reference_that_is_broken_is_said_at_its_place(self) -> None:
        cases = {
            "a,a\n": "two columns are named 'a'",
            "a,b\n1\n": "record 2 has 1 cells, the header 2",
            "": "nothing stands in it",
            'a\n"x': "line 2: a quote stands where none can be",
        }
        for content, message in cases.items():
            with self.subTest(content):
                self.file("r.csv", content)
                rules = self.file(
                    "r.rules.yaml",
                    table_rules("x: $.x", more="reference: {r: {file: r.csv, key: a}}"),
                )
                with self.assertRaises(RulesError) as caught:
                    load_rules(rules)
                [found] = caught.exception.diagnostics
                self.assertEqual(
                    (found.code, found.message, found.line, found.column),
                    ("reference-file", f"r.csv: {message}", 2, 23),
                )


class Documents(FolderCase):
    def test_facts_of_collected_responses_and_tables_of_some_calls_only(self) -> None:
        line = {"url": "http://127.0.0.1/ports?page=2", "call": "ports", "page": 2, "variables": {"code": "OTV"}, "fetched_at": "2031-04-01T10:22:07Z"}  # fmt: skip
        lines = [
            {**line, "file": "pages/000001.json"},
            {"url": "http://127.0.0.1/x", "call": "other", "file": "pages/000002.json"},
        ]
        self.file(
            "in/capture.jsonl", "".join(json.dumps(item) + "\n" for item in lines)
        )
        for number in (1, 2):
            self.file(f"in/pages/00000{number}.json", '[{"a": 1}]')
        rules = parse_rules(
            rules_text(
                """
                response: {kinds: {p: {call: ports}}}
                tables:
                  t:
                    rows: "$[*]"
                    kind: p
                    fields:
                      url: {fact: url}
                      page: {fact: page}
                      code: {fact: request.code}
                      at: {fact: fetched_at}
                      day: {compute: "CAST(at AS date)"}
                  u: {rows: "$[*]", fields: {file: {fact: file}, call: {fact: call}, n: {fact: document, type: text}}}
                """
            )
        )
        result = extract(rules, [self.folder / "in"])
        [row] = result.tables["t"].to_pylist()
        self.assertEqual(
            (row["url"], row["page"], row["code"], str(row["day"])),
            (line["url"], 2, "OTV", "2031-04-01"),
        )
        self.assertEqual(str(row["at"]), "2031-04-01 10:22:07+00:00")
        found = [
            (str(file).rpartition("/")[2], call, n)
            for file, call, n in rows(result, "u")
        ]
        self.assertEqual(
            found, [("000001.json", "ports", "1"), ("000002.json", "other", "1")]
        )

    def test_kinds_by_the_name_of_the_file_with_or_without_its_compression(
        self,
    ) -> None:
        rules = 'response: {kinds: {f: {files: "?-feed.json", when: "@[0]"}}}\ntables: {t: {kind: f, fields: {a: {at: "$[0]"}}}}'
        self.assertEqual(
            rows(self.extract(rules, "[1]", "[]", "[2]")), [("1",), ("2",)]
        )
        self.assertEqual(
            rows(self.extract(rules, "[1]", name="feed.json.gz")), [("1",)]
        )
        with self.assertRaises(InputError):
            self.extract(rules, "[1]", name="feed.jsonl")
        several = rules.replace('"?-feed.json"', '["1-*", "2-*"]')
        result = self.extract(several, "[1]", "[2]", "[3]")
        self.assertEqual(rows(result), [("2",), ("3",)])
        self.assertEqual(
            [(r.file[-11:], r.problems[0].code) for r in result.rejects],
            [("0-feed.json", "nothing-read")],
        )

    def test_examples_say_what_the_run_would_know(self) -> None:
        text = table_rules(
            "c: {fact: call}, q: {fact: request.q}, f: {fact: file}, d: {fact: document}, p: {fact: page}"
        )
        text += "examples:\n  - {shows: x, response: [{}], facts: {call: ports, request.q: a, file: f.json, document: 3, page: 2}, gives: {t: [ROW]}}\n"
        right = "{c: ports, q: a, f: f.json, d: 3, p: 2}"
        self.assertTrue(run_examples(parse_rules(text.replace("ROW", right)))[0].passed)
        [outcome] = run_examples(
            parse_rules(text.replace("ROW", right.replace("d: 3", "d: 4")))
        )
        self.assertEqual(outcome.differences, ("t, row 1: d is 3, not 4",))

    def test_examples_give_json_as_yaml_or_as_its_text(self) -> None:
        text = table_rules("j: {at: $.j, type: json, default: '[]'}")
        text += "examples:\n  - {shows: x, response: [{j: {a: 1.50}}, {j: x}, {j: 7}, {}], gives: {t: [{j: {a: 1.50}}, {j: x}, {j: '7'}, {j: []}]}}\n"
        self.assertEqual(run_examples(parse_rules(text))[0].differences, ())

    def test_a_text_that_is_no_json_belongs_to_the_innermost_rows_around_it(
        self,
    ) -> None:
        result = self.extract(
            """
            response: {embedded: ["$.a[*].b[*].c", "$.d", "$.e"]}
            tables:
              t: {rows: "$.a[*]", fields: {n: $.n}}
              u: {within: t, rows: "$.b[*]", fields: {n: $.n}}
              v: {rows: "$.a[*].b[*]", fields: {n: $.n, c: $.c.x}}
              w: {rows: {zip: {x: "$.d", y: "$.z"}, uneven: pad}, fields: {x: $.x}}
              doc: {fields: {n: $.n}}
            """,
            '{"a": [{"n": 1, "b": [{"n": 2, "c": "{}"}, {"n": 3, "c": "{,"}]}], "d": "<", "n": 4}',
            '{"e": "\\"just text\\"", "n": 5}',
        )
        self.assertEqual(
            problems(result),
            [
                ("v", "$['a'][0]['b'][1]", None, "not-json", "$['a'][0]['b'][1]['c']"),
                ("w", "$['d']", None, "not-json", "$['d']"),
                ("u", "$['a'][0]['b'][1]", None, "not-json", "$['a'][0]['b'][1]['c']"),
            ],
        )
        self.assertEqual(
            (rows(result, "doc"), rows(result, "u"), result.tally.bad_documents),
            ([("4",), ("5",)], [("2",)], 0),
        )


class Sample(FolderCase):
    def unread(self, rules: str, document: Any) -> dict[str, int]:
        run = Run(
            parse_rules(rules_text(rules)),
            find_sources([self.file("a.json", json.dumps(document))]),
        )
        list(run.batches())
        return dict(run.sample.unread)

    def test_what_no_rule_reads_is_told_through_every_shape(self) -> None:
        tree = {
            "a": 1,
            "x": 1,
            "in": [{"a": 2, "in": [{"y": 3, "kids": [{"z": 1, "k": 2}]}]}],
        }
        rules = """
            tables:
              t: {rows: "$.in", recurse: "$.in", spread: true, fields: {a: $.a}}
              u: {within: t, rows: "$.kids[*]", fields: {k: $.k}}
            """
        unread = {
            "$.a": 1,
            "$.x": 1,
            "$.in[*].in[*].y": 1,
            "$.in[*].in[*].kids[*].z": 1,
        }
        self.assertEqual(self.unread(rules, tree), unread)
        ignoring = (
            'response: {ignore: ["$.x", "$..kids"]}\n'
            + rules_text(rules).partition("\n")[2]
        )
        self.assertEqual(self.unread(ignoring, tree), {"$.a": 1, "$.in[*].in[*].y": 1})
        zipped = 'tables: {t: {rows: {zip: {a: "$.a[*]", b: "$.b[*]"}, uneven: pad}, fields: {x: $.a.x}}}'
        self.assertEqual(
            self.unread(zipped, {"a": [{"x": 1, "y": 2}], "b": [3], "c": 4}),
            {"$.a[*].y": 1, "$.b": 1, "$.c": 1},
        )
        headed = 'tables: {t: {rows: "$.r[*]", header: "$.h", fields: {a: $.a}}}'
        self.assertEqual(
            self.unread(headed, {"h": ["a", "b"], "r": [[1, {"c": 2}]], "i": 0}),
            {"$.i": 1},
        )
        self.assertEqual(
            self.unread(
                'tables: {t: {rows: "$[*]", rest: r, fields: {a: $.a}}}',
                [{"a": 1, "b": {"c": 1}}],
            ),
            {},
        )


class Includes(FolderCase):
    def load(self, text: str) -> Any:
        return load_rules(self.file("own/feed.rules.yaml", text))

    def refused(self, text: str) -> list[tuple[str, int, int, str]]:
        with self.assertRaises(RulesError) as caught:
            self.load(text)
        return [
            (found.file.rpartition("/")[2], found.line, found.column, found.code)
            for found in caught.exception.diagnostics
        ]

    def test_mappings_are_merged_and_fields_and_enum_values_replaced_whole(
        self,
    ) -> None:
        self.file(
            "base.yaml",
            "mukret: 1\ntitle: base\nenums: {e: {values: {x: {accept: [X], rank: 1}, y: {rank: 2}}, otherwise: y}}\n"
            "types: {k: {type: integer, grouping: ','}}\n"
            "tables: {t: {rows: $.a, key: [a], fields: {a: {at: $.a, type: k}, b: {at: $.b, required: true}, c: $.c}}}\n"
            "examples: [{shows: base, response: {}, gives: {t: 0}}]\n",
        )
        rules = self.load(
            "mukret: 1\ninclude: [../base.yaml]\nenums: {e: {values: {x: {rank: 7}}, case: exact}}\n"
            "types: {k: {blank: ['-']}}\n"
            "tables: {t: {rows: $.z, omit: [c], fields: {d: {at: $.d, type: e}, b: {at: $.bb}}}}\n"
        )
        table = rules.tables["t"]
        self.assertEqual(
            [(own.name, own.required) for own in table.fields],
            [("a", False), ("b", False), ("d", False)],
        )
        self.assertEqual(
            (table.rows.paths[0].text, table.key, rules.title), ("$.z", ("a",), "base")
        )
        self.assertEqual(
            (
                table.fields[0].reading.options.grouping,
                table.fields[0].reading.options.blank,
            ),
            (",", {"-"}),
        )
        values = {
            value.name: (value.accept, dict(value.attributes))
            for value in rules.enums["e"].values
        }
        self.assertEqual(
            (values, rules.enums["e"].otherwise),
            ({"x": ((), {"rank": 7}), "y": ((), {"rank": 2})}, "y"),
        )
        self.assertEqual([example.shows for example in rules.examples], ["base"])
        self.assertEqual(
            [name.rpartition("/")[2] for name in rules.included], ["base.yaml"]
        )

    def test_problems_stand_in_the_file_that_has_them_that_which_was_named_first(
        self,
    ) -> None:
        self.file(
            "own/base.yaml",
            "mukret: 1\ntables: {t: {fields: {a: {at: $.a b}, c: $.c}}}\n",
        )
        self.file("own/worse.yaml", "mukret: 1\ntables: [\n")
        self.assertEqual(
            self.refused(
                "mukret: 1\ninclude: [base.yaml, worse.yaml]\n"
                "tables: {t: {omit: [x], fields: {b: {compute: 'c + 1'}}}, u: {omit: [y], fields: {b: $.b}}}\n"
            ),
            [
                ("feed.rules.yaml", 3, 21, "unknown-field"),
                ("feed.rules.yaml", 3, 48, "expression-type"),
                ("feed.rules.yaml", 3, 63, "wrong-option"),
                ("base.yaml", 2, 35, "path-syntax"),
                ("worse.yaml", 3, 1, "yaml-syntax"),
            ],
        )

    def test_files_that_include_each_other_are_refused_and_one_that_comes_twice_is_not(
        self,
    ) -> None:
        self.file("own/a.yaml", "mukret: 1\ninclude: feed.rules.yaml\n")
        self.assertEqual(
            self.refused(
                "mukret: 1\ninclude: a.yaml\ntables: {t: {fields: {b: $.b}}}\n"
            ),
            [("a.yaml", 2, 10, "cycle")],
        )
        self.file("own/a.yaml", "mukret: 1\ninclude: c.yaml\n")
        self.file("own/b.yaml", "mukret: 1\ninclude: c.yaml\n")
        self.file("own/c.yaml", "mukret: 1\ntables: {t: {fields: {b: $.b}}}\n")
        self.assertEqual(
            list(self.load("mukret: 1\ninclude: [a.yaml, b.yaml]\n").tables), ["t"]
        )


if __name__ == "__main__":
    unittest.main()
