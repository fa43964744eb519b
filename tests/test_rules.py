"""Rules files: every problem at once, each at its place; nothing ignored, nothing executed."""

from __future__ import annotations

import unittest
from decimal import Decimal

from mukret.errors import InputError, RulesError
from mukret.rules import Rules, load_rules, parse_rules
from mukret.rules.model import RESPONSE, Derive
from mukret.rules.sources import At
from mukret.semantics.examples import run_examples
from mukret.types import DecimalType
from mukret.values import Number
from tests.helpers import FolderCase, rules_text, table_rules

HEAD = "mukret: 1\n"
TABLE = "tables: {t: {fields: {a: $.a}}}\n"

PROBLEMS: list[tuple[str, list[tuple[int, int, str]]]] = [
    # the file as a whole
    ("", [(1, 1, "yaml-syntax")]),
    ("- a\n", [(1, 1, "yaml-syntax")]),
    ("mukret: 1\ntables: [\n", [(3, 1, "yaml-syntax")]),
    ("tables: {t: {fields: {a: $.a}}}\n", [(1, 1, "missing-key")]),
    ("mukret: 2\n" + TABLE, [(1, 9, "wrong-value")]),
    (HEAD, [(1, 1, "missing-key")]),
    (HEAD + TABLE + "tabels: {}\n", [(3, 1, "unknown-key")]),
    (HEAD + TABLE + "title:\n", [(3, 1, "empty-key")]),
    (HEAD + TABLE + "title: a\ntitle: b\n", [(4, 1, "name-twice")]),
    (HEAD + TABLE + "include: [b.yaml]\n", [(3, 11, "include-file")]),
    (
        HEAD + TABLE + "reference: {r: {file: r.csv, key: a}, t: {key: a}}\n",
        [(2, 10, "name-clash"), (3, 23, "reference-file"), (3, 39, "missing-key")],
    ),
    (
        HEAD + TABLE + "response: {embedded: [$.a b], ignore: $.c d, kinds: {k: {}}}\n",
        [(3, 27, "path-syntax"), (3, 43, "path-syntax"), (3, 54, "missing-key")],
    ),
    (
        HEAD + TABLE + "response: {fields: {a: {fact: name}, b: {parent: a}}}\n",
        [(3, 21, "wrong-value"), (3, 38, "wrong-value")],
    ),
    (HEAD + TABLE + "x: !!python/object:os.system {}\n", [(3, 4, "yaml-refused")]),
    (HEAD + TABLE + "x: &a [*a]\n", [(3, 4, "yaml-refused")]),
    (HEAD + "tables:\n\tt: 1\n", [(3, 1, "yaml-syntax")]),
    # tables
    (HEAD + "tables: {t: {rows: $.a}}\n", [(2, 10, "missing-key")]),
    (
        HEAD + "tables: {t: {rows: {zip: {a: $.a b}, uneven: no}, fields: {a: $.a}}}\n",
        [(2, 34, "path-syntax"), (2, 46, "wrong-value")],
    ),
    (
        HEAD + "tables: {t: {rows: {zip: {}}, fields: {a: $.a}}}\n",
        [(2, 26, "wrong-value")],
    ),
    (
        HEAD + "tables: {t: {rows: {uneven: pad}, fields: {a: $.a}}}\n",
        [(2, 20, "missing-key")],
    ),
    (
        HEAD
        + "tables: {t: {rows: {zip: {a: $.a}}, header: first, spread: true, recurse: $.a, fields: {a: $.a}}}\n",
        [(2, 37, "wrong-option"), (2, 52, "wrong-option"), (2, 66, "wrong-option")],
    ),
    (
        HEAD + "tables: {t: {header: frist, recurse: $, fields: {a: $.a}}}\n",
        [(2, 22, "wrong-value"), (2, 29, "wrong-option"), (2, 38, "wrong-value")],
    ),
    (
        HEAD + "tables: {t: {recurse: $..a, fields: {a: $.a}}}\n",
        [(2, 23, "wrong-value")],
    ),
    (
        HEAD + "tables: {t: {fields: {a: $.a, b: {parent: a}}}}\n",
        [(2, 43, "wrong-option")],
    ),
    (
        HEAD
        + "tables: {t: {recurse: $.a, fields: {a: {parent: x}, b: {parent: c}, c: {parent: b}}}}\n",
        [(2, 49, "unknown-field"), (2, 65, "cycle")],
    ),
    (
        HEAD + "tables: {t: {rest: a, omit: [b], fields: {a: $.a}}}\n",
        [(2, 20, "name-clash"), (2, 23, "wrong-option")],
    ),
    (
        HEAD
        + "response: {fields: {r: $.r}}\ntables: {t: {inherit: r, rest: r, fields: {a: $.a}}}\n",
        [(3, 32, "name-clash")],
    ),
    (
        HEAD
        + "response: {kinds: {list: {call: c}}}\ntables: {t: {kind: lst, fields: {a: $.a}}}\n",
        [(3, 20, "wrong-value")],
    ),
    (
        HEAD
        + "response: {kinds: {k: {call: c}}}\ntables: {t: {fields: {a: $.a}}, u: {within: t, kind: k, fields: {b: $.b}}}\n",
        [(3, 54, "wrong-value")],
    ),
    (HEAD + "tables: {t: {rows: [], fields: {a: $.a}}}\n", [(2, 20, "wrong-value")]),
    (
        HEAD + "tables: {t: {rows: [$.a, $b], fields: {a: $.a}}}\n",
        [(2, 27, "path-syntax")],
    ),
    (
        HEAD + "tables: {t: {when: '@.a = 1', fields: {a: $.a}}}\n",
        [(2, 25, "path-syntax")],
    ),
    (
        HEAD + "tables: {t: {when: 'match(@.a, \"F\\\\d\")', fields: {a: $.a}}}\n",
        [(2, 32, "no-pattern")],
    ),
    (
        HEAD + "tables: {t: {when: a == 1, fields: {a: $.a}}}\n",
        [(2, 20, "path-syntax")],
    ),
    (
        HEAD + "tables: {t: {spread: perhaps, fields: {a: $.a}}}\n",
        [(2, 22, "wrong-value")],
    ),
    (HEAD + "tables: {t: {outer: yes, fields: {a: $.a}}}\n", [(2, 21, "wrong-value")]),
    (
        HEAD + "tables: {t: {duplicates: newest, key: a, fields: {a: $.a}}}\n",
        [(2, 26, "wrong-value")],
    ),
    (
        HEAD + "tables: {t: {duplicates: last, fields: {a: $.a}}}\n",
        [(2, 14, "missing-key")],
    ),
    (HEAD + "tables: {t: {within: u, fields: {a: $.a}}}\n", [(2, 22, "unknown-table")]),
    (
        HEAD
        + "tables: {t: {within: u, fields: {a: $.a}}, u: {within: t, fields: {b: $.b}}}\n",
        [(2, 10, "cycle")],
    ),
    (HEAD + "tables: {t: {fields: {a: $.a, A: $.b}}}\n", [(2, 31, "name-clash")]),
    (HEAD + "tables: {t: {fields: {1a: $.a}}}\n", [(2, 23, "name-invalid")]),
    (HEAD + "tables: {t: {key: b, fields: {a: $.a}}}\n", [(2, 19, "unknown-field")]),
    (
        HEAD + "tables: {t: {inherit: b, fields: {a: $.a}}}\n",
        [(2, 23, "unknown-field")],
    ),
    (
        HEAD + "tables: {t: {where: a, fields: {a: $.a}}}\n",
        [(2, 21, "expression-type")],
    ),
    (
        HEAD + "tables: {t: {fields: {u: $.a}}, u: {within: t, fields: {b: $.b}}}\n",
        [(2, 23, "name-clash")],
    ),
    (
        HEAD
        + "response: {fields: {a: $.x}}\ntables: {t: {inherit: a, fields: {a: $.a}}}\n",
        [(3, 35, "name-clash")],
    ),
    # fields
    (table_rules("a: $.a b"), [(6, 21, "path-syntax")]),
    (table_rules("a: {}"), [(6, 14, "missing-key")]),
    (table_rules("a: {at: $.a, constant: 1}"), [(6, 27, "wrong-value")]),
    (table_rules("a: {at: $..}"), [(6, 25, "path-syntax")]),
    (table_rules("a: {at: '$[?@.a = 1]'}"), [(6, 30, "path-syntax")]),
    (table_rules("a: {at: $.a, take: sum}"), [(6, 27, "wrong-value")]),
    (table_rules("a: {at: $.a, take: min, type: boolean}"), [(6, 27, "wrong-value")]),
    (
        table_rules("a: {at: $.a, take: join, type: integer, with: x}"),
        [(6, 27, "wrong-value")],
    ),
    (table_rules("a: {at: $.a, with: x}"), [(6, 27, "wrong-option")]),
    (table_rules("a: {at: $.a, take: fist}"), [(6, 33, "wrong-value")]),
    (
        table_rules("a: {lookup: {in: t}}"),
        [(6, 26, "missing-key"), (6, 26, "missing-key")],
    ),
    (
        table_rules("a: {lookup: {in: t, by: b, give: c}}"),
        [(6, 31, "missing-key"), (6, 38, "unknown-field"), (6, 47, "unknown-field")],
    ),
    (
        table_rules("a: {lookup: {in: tt, by: b, give: b}}, b: $.b"),
        [(6, 31, "unknown-table")],
    ),
    (
        table_rules(
            "a: {lookup: {in: t, by: b, give: b}, type: integer}, b: $.b",
            more="response: {}",
        ),
        [(6, 31, "missing-key"), (6, 51, "wrong-option")],
    ),
    (
        HEAD
        + "tables: {t: {key: [a, b], fields: {a: $.a, b: $.b, c: {lookup: {in: t, by: a, give: b}}}}}\n",
        [(2, 72, "wrong-value")],
    ),
    (
        HEAD
        + "tables: {t: {key: a, fields: {a: $.a, b: {at: $.b, type: integer}, c: {lookup: {in: t, by: b, give: b}}}}}\n",
        [(2, 92, "expression-type")],
    ),
    (
        HEAD
        + "tables: {t: {key: c, fields: {b: $.b, c: {lookup: {in: t, by: b, give: b}}}}}\n",
        [(2, 56, "cycle")],
    ),
    (table_rules("a: {fact: rank}"), [(6, 24, "wrong-value")]),
    (table_rules("a: {fact: request.}"), [(6, 24, "wrong-value")]),
    (table_rules("a: {at: $.a, type: json, trim: true}"), [(6, 39, "wrong-option")]),
    (table_rules("a: {at: $.a, type: text, take: all}"), [(6, 27, "wrong-value")]),
    (table_rules("a: {at: $.a, type: integr}"), [(6, 33, "unknown-type")]),
    (table_rules("a: {at: $.a, type: durations}"), [(6, 33, "unknown-type")]),
    (table_rules("a: {at: $.a, grouping: ','}"), [(6, 27, "wrong-option")]),
    (table_rules("a: {at: $.a, capture: x}"), [(6, 36, "no-pattern")]),
    (table_rules("a: {at: $.a, capture: 'a(b|(c)'}"), [(6, 38, "no-pattern")]),
    (table_rules("a: {at: $.a, type: list(crowns)}"), [(6, 33, "unknown-type")]),
    (table_rules("a: {at: $.a, type: list(list(text))}"), [(6, 33, "unknown-type")]),
    (
        table_rules("a: {at: $.a, split: ','}, b: {at: $.b, type: integer, unit: s}"),
        [(6, 27, "wrong-option"), (6, 68, "wrong-option")],
    ),
    (table_rules("a: {at: $.a, type: duration, unit: sec}"), [(6, 49, "wrong-value")]),
    (table_rules("a: {at: $.a, type: integer, default: x}"), [(6, 51, "wrong-value")]),
    (
        table_rules("a: {at: $.a, required: true, default: x}"),
        [(6, 43, "wrong-option")],
    ),
    (table_rules("a: {at: $.a, bad: maybe}"), [(6, 32, "wrong-value")]),
    (
        table_rules("a: {at: $.a, type: timestamp, zone: Atlantic/Faro}"),
        [(6, 50, "unknown-zone")],
    ),
    *(
        (
            table_rules(f"a: {{at: $.a, type: {kind}, format: '{pattern}'}}"),
            [(6, 44 + len(kind) - 1, "wrong-value")],
        )
        for kind, pattern in [
            ("timestamp", "%d.%m."),
            ("date", "%m-%Y %H:%M"),
            ("date", "%d.%Y"),
            ("date", "%Y-%U"),
            ("date", "%G-W%V"),
            ("datetime", "%Y-%m-%d %M"),
            ("datetime", "%Y-%m-%d %H:%S"),
            ("datetime", "%d.%m.%Y %H:%M %p"),
            ("datetime", "%d.%m.%Y %I:%M"),
            ("time", "%M:%S"),
            ("time", "%Y"),
            ("date", "%Y%m%d%Y"),
            ("date", "%Y %"),
        ]
    ),
    (
        table_rules(
            "a: {at: $.a, type: timestamp, format: ['%d.%m.%Y %H:%M %Z', isoo]}"
        ),
        [(6, 53, "wrong-value"), (6, 74, "wrong-value")],
    ),
    (
        table_rules(
            "a: {at: $.a, type: datetime, format: ['%Y-%m-%d %H:%M%z', epoch-s]}"
        ),
        [(6, 52, "wrong-value"), (6, 72, "wrong-value")],
    ),
    (
        table_rules(
            "a: {at: $.a, type: time, format: '%I:%M'}, b: {at: $.b, type: date, format: '%Y %m %q'}"
        ),
        [(6, 47, "wrong-value"), (6, 90, "wrong-value")],
    ),
    (
        table_rules("a: {at: $.a, type: integer, grouping: '.'}"),
        [(6, 17, "wrong-value")],
    ),
    (table_rules("a: {at: $.a, type: }"), [(6, 27, "empty-key")]),
    (table_rules("a: {constant: x, type: integer}"), [(6, 28, "wrong-value")]),
    # expressions: every problem of every field, each at its character
    (table_rules("a: {compute: 'b + 1'}, b: {compute: 'a'}"), [(6, 27, "cycle")]),
    (
        table_rules("a: {compute: 'x + y'}"),
        [(6, 28, "unknown-field"), (6, 32, "unknown-field")],
    ),
    (table_rules("a: {compute: \"'it''s' + 1\"}"), [(6, 28, "expression-type")]),
    (table_rules("a: {compute: '''x'' + ''y'' * 2'}"), [(6, 28, "expression-type")]),
    (table_rules("a: {at: $.a-b}, b: {compute: a}"), [(6, 25, "path-syntax")]),
    (
        table_rules("a: {compute: \"DATE '2031-04-01'\", type: integer}"),
        [(6, 27, "expression-type")],
    ),
    # enums and types
    (table_rules("a: $.a", more="enums: {e: {values: {}}}"), [(2, 12, "missing-key")]),
    (table_rules("a: $.a", more="enums: {e: {values: {x: }}}"), [(2, 22, "empty-key")]),
    (
        table_rules("a: $.a", more="enums: {e: {values: {bad: {}}}}"),
        [(2, 22, "name-invalid")],
    ),
    (
        table_rules("a: $.a", more="enums: {e: {values: {x: {}}, otherwise: y}}"),
        [(2, 41, "wrong-value")],
    ),
    (
        table_rules("a: $.a", more="enums: {e: {values: {x: {accept: [Y]}, y: {}}}}"),
        [(2, 40, "name-clash")],
    ),
    (
        table_rules("a: $.a", more="enums: {e: {values: {x: {r: 1}, y: {r: b}}}}"),
        [(2, 21, "wrong-value")],
    ),
    (
        table_rules("a: $.a", more="enums: {text: {values: {x: {}}}}"),
        [(2, 9, "name-clash")],
    ),
    (
        table_rules("a: $.a", more="types: {k: {type: l}, l: {type: k}}"),
        [(2, 9, "cycle")],
    ),
    (table_rules("a: $.a", more="types: {k: {strip: x}}"), [(2, 12, "missing-key")]),
    # examples
    (table_rules("a: $.a") + "examples:\n  - shows: x\n", [(8, 5, "missing-key")]),
    (
        table_rules("a: $.a")
        + "examples:\n  - {shows: x, response: {}, gives: {u: 1}}\n",
        [(8, 38, "unknown-table")],
    ),
    (
        table_rules("a: $.a")
        + "examples:\n  - {shows: x, response: {}, gives: {t: [{b: 1}]}}\n",
        [(8, 43, "unknown-field")],
    ),
    (
        table_rules("a: $.a") + "examples:\n  - {shows: x, file: no.json}\n",
        [(8, 22, "example-file")],
    ),
    (
        table_rules("a: $.a")
        + "examples:\n  - {shows: x, response: {}, facts: {pages: 1, page: x}}\n",
        [(8, 38, "unknown-key"), (8, 54, "wrong-value")],
    ),
]

TRAPS: list[tuple[str, str, str]] = [
    ('a: {at: $.a[0], type: integer}', "yaml-syntax", 'write a: {at: "$.a[0]", type: integer}'),
    ("a: {at: '$.a', type: decimal(12,2)}", "yaml-trap", 'write a: {at: \'$.a\', type: "decimal(12,2)"}'),
    ('a: {at: "$[\'a\\d\']"}', "yaml-syntax", "single quotes keep it: a: {at: '$[''a\\d'']'}"),
    ("a: {at: $.d[?@.x > 1].y, take: first}", "yaml-syntax", 'write a: {at: "$.d[?@.x > 1].y", take: first}'),
    ("a: {at: $['x y'], type: text}", "yaml-syntax", "write a: {at: \"$['x y']\", type: text}"),
    ("a: {constant: @home}", "yaml-syntax", 'quote it: a: {constant: "@home"}'),
    ("a: {compute: 'x' || b}", "yaml-syntax", "quote the whole: a: {compute: \"'x' || b\"}"),
]  # fmt: skip


class Problems(unittest.TestCase):
    maxDiff = None

    def problems(self, text: str) -> RulesError:
        with self.assertRaises(RulesError, msg=text) as caught:
            parse_rules(text)
        return caught.exception

    def test_each_problem_is_reported_at_its_line_and_column_with_its_code(
        self,
    ) -> None:
        for text, expected in PROBLEMS:
            with self.subTest(text):
                found = [
                    (found.line, found.column, found.code)
                    for found in self.problems(text).diagnostics
                ]
                self.assertEqual(found, sorted(expected))

    def test_all_problems_of_a_file_are_reported_together_in_order_of_place(
        self,
    ) -> None:
        text = """\
        enums:
          state: {values: {a: {}}, otherwise: b}
        tables:
          ports:
            rows: "$.ports[*"
            kee: code
            fields:
              code: {at: "$.code", type: txt}
              total: {compute: "cod || 'x'"}
          sailings:
            within: port
            fields: {no: {at: "$.id", requird: true}}
        """
        error = self.problems(rules_text(text))
        codes = [found.code for found in error.diagnostics]
        self.assertEqual(
            codes,
            [
                "wrong-value",
                "path-syntax",
                "unknown-key",
                "unknown-type",
                "unknown-field",
                "unknown-table",
                "unknown-key",
            ],
        )
        self.assertEqual(
            [found.hint for found in error.diagnostics],
            [
                "it is bad, null, or the name of a value",
                "add ]",
                "did you mean key?",
                "did you mean text?",
                "did you mean code?",
                "did you mean ports?",
                "did you mean required?",
            ],
        )

    def test_where_yaml_trips_people_the_line_is_printed_as_it_should_be(self) -> None:
        for fields, code, fixed in TRAPS:
            with self.subTest(fields):
                text = f"mukret: 1\ntables:\n  t:\n    fields:\n      {fields}\n"
                self.assertEqual(
                    [
                        (found.line, found.code, found.hint)
                        for found in self.problems(text).diagnostics
                    ],
                    [(5, code, fixed)],
                )

    def test_a_cycle_of_tables_names_its_tables_alone_and_examples_add_nothing(
        self,
    ) -> None:
        text = """\
        tables:
          a: {within: b, fields: {x: $.x}}
          b: {within: c, fields: {x: $.x}}
          c: {within: b, fields: {x: $.x}}
        examples:
          - {shows: rows, response: {}, gives: {a: 1, b: [{x: 1}]}}
        """
        [found] = self.problems(rules_text(text)).diagnostics
        self.assertEqual(
            (found.code, found.message),
            ("cycle", "tables within each other: b → c → b"),
        )

    def test_quotes_that_yaml_took_from_a_sql_text_are_named(self) -> None:
        [found] = self.problems(table_rules("a: {compute: 'departed'}")).diagnostics
        self.assertEqual(
            found.hint,
            "if a text was meant, YAML took its quotes: write \"'departed'\"",
        )

    def test_an_error_points_into_folded_and_block_texts(self) -> None:
        text = """\
        tables:
          t:
            rows: "$[*]"
            where: >
              a = 'x'
              AND bb = 'y'
            fields:
              a: $.a
              c:
                compute: a ||
                  'x' || dd
        """
        found = [
            (found.line, found.column, found.code)
            for found in self.problems(rules_text(text)).diagnostics
        ]
        self.assertEqual(found, [(7, 11, "unknown-field"), (12, 18, "unknown-field")])

    def test_anchors_that_multiply_are_refused_in_bounded_time(self) -> None:
        bomb = "a0: &a0 [x, x, x, x, x, x, x, x, x]\n"
        for level in range(1, 12):
            bomb += f"a{level}: &a{level} [{', '.join([f'*a{level - 1}'] * 9)}]\n"
        self.assertEqual(
            [
                (found.code, found.message)
                for found in self.problems(HEAD + bomb).diagnostics
            ],
            [("yaml-refused", "more than 200,000 values (aliases included)")],
        )

    def test_a_file_that_is_not_utf8_or_nested_too_deeply_is_refused(self) -> None:
        with self.assertRaises(RulesError):
            parse_rules(b"mukret: 1\ntitle: \xff\n")
        self.assertEqual(
            self.problems(HEAD + "x: " + "[" * 5000).diagnostics[0].code, "yaml-refused"
        )


class Loading(FolderCase):
    def load(self, text: str) -> Rules:
        return parse_rules(rules_text(text))

    def test_scalars_are_taken_as_they_are_written(self) -> None:
        rules = self.load("""
            enums: {e: {values: {"007": {accept: [1.10, yes, 0x1F], rank: 1}, x: {rank: 2.50}}}}
            tables:
              t:
                fields:
                  a: {constant: 1.10}
                  b: {constant: 2031-04-01, type: date}
                  c: {at: $.c, default: 007}
                  d: {constant: 1.10, type: "decimal(4,2)"}
            """)
        enum = rules.enums["e"]
        self.assertEqual(enum.values[0].accept, ("1.10", "yes", "0x1F"))
        self.assertEqual(dict(enum.attributes_by_name["007"]), {"rank": Decimal(1)})
        self.assertEqual(enum.attribute_types["rank"], DecimalType(3, 2))
        a, b, c, d = rules.tables["t"].fields
        self.assertEqual(
            [getattr(field.source, "value", None) for field in (a, d)],
            ["1.10", Decimal("1.10")],
        )
        self.assertEqual(str(getattr(b.source, "value", None)), "2031-04-01")
        self.assertEqual(c.default, "007")

    def test_a_type_may_stand_on_another_and_a_field_adds_to_it(self) -> None:
        rules = self.load("""
            types:
              crowns: {type: money, strip: [kr]}
              money: {type: "decimal(12,2)", grouping: ","}
            tables: {t: {fields: {a: {at: $.a, type: crowns, round: half-up, strip: [DKK]}}}}
            """)
        options = rules.tables["t"].fields[0].reading.options
        self.assertEqual(
            (options.grouping, options.strip, options.round), (",", ("DKK",), "half-up")
        )

    def test_the_null_of_yaml_and_the_word_are_the_same_where_a_policy_is_wanted(
        self,
    ) -> None:
        rules = self.load("""
            enums: {e: {values: {x: {}}, otherwise: "null"}, f: {values: {x: {}}, otherwise: ~}}
            tables: {t: {bad: null, fields: {a: $.a, b: {at: $.b, bad: "null"}, c: {at: $.c, bad: stop}}}}
            """)
        self.assertEqual(
            [field.bad for field in rules.tables["t"].fields], ["null", "null", "stop"]
        )
        self.assertEqual(
            [enum.otherwise for enum in rules.enums.values()], [None, None]
        )

    def test_fields_are_inherited_from_any_ancestor_and_the_response_nearest_first(
        self,
    ) -> None:
        rules = self.load("""
            response: {fields: {at: $.meta.at, x: $.x}}
            tables:
              berths: {within: ports, inherit: [at, code, x], fields: {no: $.no}}
              ports: {within: islands, fields: {code: $.code, x: {at: $.x, type: integer}}}
              islands: {fields: {name: $.name}}
            """)
        self.assertEqual(
            [
                (item.name, item.origin, item.type.name)
                for item in rules.tables["berths"].inherit
            ],
            [
                ("at", RESPONSE, "text"),
                ("code", "ports", "text"),
                ("x", "ports", "integer"),
            ],
        )
        self.assertEqual(
            [table.name for table in rules.parents_first()],
            ["islands", "ports", "berths"],
        )

    def test_expressions_find_their_operands_in_any_order_of_the_file(self) -> None:
        rules = self.load(
            "tables: {t: {fields: {c: {compute: b + 1}, b: {compute: a * 2}, a: {constant: 1, type: integer}}}}"
        )
        steps = [step.field.name for step in rules.schedule if isinstance(step, Derive)]
        self.assertEqual(steps, ["a", "b", "c"])
        self.assertEqual(
            [name for name, _ in rules.tables["t"].columns], ["c", "b", "a"]
        )

    def test_paths_may_be_tried_in_turn(self) -> None:
        rules = self.load("tables: {t: {fields: {a: {at: [$.a.b, $.a], take: first}}}}")
        source = rules.tables["t"].fields[0].source
        assert isinstance(source, At)
        self.assertEqual([path.text for path in source.paths], ["$.a.b", "$.a"])

    def test_a_missing_file_is_an_input_that_can_not_be_opened(self) -> None:
        with self.assertRaises(InputError):
            load_rules(self.folder / "no.rules.yaml")


class Examples(FolderCase):
    RULES = """
        mukret: 1
        enums: {state: {values: {departed: {accept: [DEP]}}}}
        tables:
          t:
            rows: "$[*]"
            fields:
              no: {at: "$.no", type: integer, required: true}
              fare: {at: "$.fare", type: "decimal(9,2)", grouping: ","}
              state: {at: "$.state", type: state}
              load: {at: "$.load", type: float, percent: true}
        examples:
        """

    def outcomes(self, examples: str) -> list[tuple[str, ...]]:
        text = rules_text(self.RULES) + examples
        file = self.file("t.rules.yaml", text)
        return [outcome.differences for outcome in run_examples(load_rules(file))]

    def test_an_example_that_gives_what_it_says_passes(self) -> None:
        self.file("one.json", '[{"no": 1}]')
        self.assertEqual(
            self.outcomes("""
  - shows: values are compared in their types, on the fields that are named
    response: [{no: "7", fare: "1,204.5", state: dep, load: 50}, {no: 2.0, fare: null}]
    gives: {t: [{no: 7, fare: 1204.50, state: departed, load: 0.5}, {no: 2, fare: null}]}
  - {shows: a number of rows, file: one.json, gives: {t: 1}}
  - {shows: rejects are counted, response: [{}, {no: x}], gives: {t: []}, rejected: 2}
"""),
            [(), (), ()],
        )

    def test_an_example_that_gives_something_else_says_what(self) -> None:
        [rows, value, rejected] = self.outcomes("""
  - {shows: rows, response: [{no: 1}], gives: {t: 2}}
  - {shows: value, response: [{no: 1, fare: "3"}], gives: {t: [{no: 1, fare: 4}]}}
  - {shows: rejects, response: [{}], gives: {t: 0}}
""")
        self.assertEqual(rows, ("t has 1 rows, not 2",))
        self.assertEqual(value, ("t, row 1: fare is 3.00, not 4.00",))
        self.assertEqual(rejected[0], "1 rows were rejected, not 0")
        self.assertIn("required at $[0]['no']", rejected[1])

    def test_plain_scalars_of_a_response_are_those_of_yamls_core_schema(self) -> None:
        text = (
            rules_text(self.RULES)
            + "  - {shows: x, response: [1, 1.10, .5, +2, 0x1F, true, ~, 'true', 1e3, no]}\n"
        )
        [example] = parse_rules(text).examples
        self.assertEqual(
            example.response,
            [
                1,
                Number("1.10"),
                Number("0.5"),
                2,
                31,
                True,
                None,
                "true",
                Number("1e3"),
                "no",
            ],
        )
