"""SQL scalar expressions: typed before the run, null-correct, an error that of its row alone."""

from __future__ import annotations

import datetime as dt
import json
import unittest
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any
from unittest import mock

import lark
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from mukret.columns.expressions import evaluate_column
from mukret.columns.types import value_type
from mukret.expressions import (
    ExpressionError,
    compile_expression,
    evaluate,
    names_in,
    parser_tables,
)
from mukret.expressions.families import arithmetic_type
from mukret.types import (
    Bad,
    Boolean,
    Date,
    DecimalType,
    Float,
    Integer,
    ReadingOptions,
    Text,
    Timestamp,
    TypeSpec,
    ValueType,
)
from mukret.types import parse_type as built_in
from tests.test_types import STATE

FIELDS: dict[str, ValueType] = {
    "seats": Integer(),
    "fare": DecimalType(12, 2),
    "load": Float(),
    "name": Text(),
    "live": Boolean(),
    "day": Date(),
    "departs": Timestamp(),
    "state": STATE,
    "end": Text(),
}
ROW: dict[str, Any] = {
    "seats": 7,
    "fare": Decimal("3.50"),
    "load": 0.5,
    "name": "Otter",
    "live": None,
    "day": dt.date(2031, 4, 1),
    "departs": dt.datetime(2031, 4, 1, 23, 30, tzinfo=dt.UTC),
    "state": "boarding",
    "end": None,
}


def types(name: str) -> TypeSpec:
    kind = built_in(name)
    if kind is None:
        if name == "state":
            return TypeSpec(STATE)
        raise KeyError(name)
    return TypeSpec(kind)


VALUES: list[tuple[str, str, Any]] = [
    ("1 + 2 * 3", "integer", 7),
    ("(1 + 2) * 3", "integer", 9),
    ("seats - -1", "integer", 8),
    ("- seats", "integer", -7),
    ("+ fare", "decimal(12,2)", Decimal("3.50")),
    ("fare * 2", "decimal(31,2)", Decimal("7.00")),
    ("fare * 0.1", "decimal(13,3)", Decimal("0.350")),
    ("seats / 2", "decimal(38,6)", Decimal("3.500000")),
    ("1 / 3", "decimal(38,6)", Decimal("0.333333")),
    ("2 / 3", "decimal(38,6)", Decimal("0.666667")),
    ("0.0000005 / 1", "decimal(38,7)", Decimal("0.0000005")),
    ("fare + load", "float", 4.0),
    ("1e2 + 1", "float", 101.0),
    ("load / 2", "float", 0.25),
    ("12345678901234567890 + 1", "decimal(21,0)", Decimal("12345678901234567891")),
    ("'it''s ' || name", "text", "it's Otter"),
    ("state || '!'", "text", "boarding!"),
    ("name || NULL", "text", None),
    ("seats + NULL", "integer", None),
    ("NULL + NULL", "integer", None),
    ("seats = 7.0", "boolean", True),
    ("fare < 4e0", "boolean", True),
    ("name >= 'Otter'", "boolean", True),
    ("'Z' < 'a'", "boolean", True),
    ("live = TRUE", "boolean", None),
    ("NULL = NULL", "boolean", None),
    ("live OR TRUE", "boolean", True),
    ("live AND FALSE", "boolean", False),
    ("live AND TRUE", "boolean", None),
    ("NOT live", "boolean", None),
    ("live IS NULL AND name IS NOT NULL", "boolean", True),
    ("live IS DISTINCT FROM NULL", "boolean", False),
    ("seats IS NOT DISTINCT FROM 7", "boolean", True),
    ("seats BETWEEN 1 AND 7", "boolean", True),
    ("seats NOT BETWEEN NULL AND 5", "boolean", True),
    ("seats IN (1, 7)", "boolean", True),
    ("seats IN (1, NULL)", "boolean", None),
    ("seats NOT IN (1, 2)", "boolean", True),
    ("state = 'boarding'", "boolean", True),
    ("day = DATE '2031-04-01'", "boolean", True),
    ("departs > TIMESTAMP '2031-04-01T23:30:00+02:00'", "boolean", True),
    ("CASE WHEN live THEN 1 WHEN seats > 5 THEN 2 ELSE 3 END", "integer", 2),
    ("CASE WHEN FALSE THEN 1 END", "integer", None),
    ("CASE seats WHEN 1 THEN 'a' WHEN 7 THEN 'b' END", "text", "b"),
    ("CASE WHEN TRUE THEN 1 ELSE 2.5 END", "decimal(20,1)", Decimal("1.0")),
    ("CASE WHEN seats = 7 THEN 1 ELSE 1 / 0 END", "decimal(38,6)", Decimal("1.000000")),
    ("COALESCE(live, FALSE)", "boolean", False),
    ("COALESCE(NULL, seats, 1 / 0)", "decimal(38,6)", Decimal("7.000000")),
    ("NULLIF(seats, 7)", "integer", None),
    ("NULLIF(name, 'x')", "text", "Otter"),
    ("CAST(' 12 ' AS integer)", "integer", 12),
    ("CAST(fare AS text)", "text", "3.50"),
    ("CAST(load AS text) || '|' || CAST(TRUE AS text)", "text", "0.5|true"),
    ("CAST(departs AS text)", "text", "2031-04-01T23:30:00Z"),
    ("CAST(departs AS date)", "date", dt.date(2031, 4, 1)),
    ("CAST(fare AS float)", "float", 3.5),
    ("CAST(4092.70 AS float)", "float", 4092.7),
    ("CAST(0.1e0 AS decimal(3,1))", "decimal(3,1)", Decimal("0.1")),
    ("CAST(12.0 AS integer)", "integer", 12),
    ("CAST('brd' AS state)", "state", "boarding"),
    ("CAST(NULL AS date)", "date", None),
    ('"end" IS NULL', "boolean", True),
    ("case when true then 1 end", "integer", 1),
]

ROW_ERRORS: list[tuple[str, str]] = [
    ("1 / 0", "division-by-zero"),
    ("fare / (fare - 3.5)", "division-by-zero"),
    ("load / 0", "division-by-zero"),
    ("9223372036854775807 + seats", "overflow"),
    ("9223372036854775807 * seats", "overflow"),
    ("- (- 9223372036854775807 - 1)", "overflow"),
    ("99999999999999999999999999999999999999 * seats", "overflow"),
    ("1e308 * 10", "overflow"),
    ("CAST(name AS integer)", "not-a-number"),
    ("CAST('' AS integer)", "not-a-number"),
    ("CAST(fare AS integer)", "not-whole"),
    ("CAST(fare AS decimal(3,1)) + CAST(0.25 AS decimal(3,1))", "too-many-digits"),
    ("CAST(1234.5 AS decimal(3,1))", "out-of-range"),
    ("CAST(name AS timestamp)", "not-a-timestamp"),
    ("CAST('2031-04-01T00:00:00' AS timestamp)", "no-zone"),
    ("CAST(name AS boolean)", "not-a-boolean"),
    ("CAST(name AS state)", "unknown-word"),
    ("FALSE AND 1 / 0 = 1", "division-by-zero"),
    ("(1 / 0) IS NULL", "division-by-zero"),
]

STATIC_ERRORS: list[tuple[str, int, str, str | None]] = [
    ("", 0, "expression-syntax", None),
    ("seats +", 7, "expression-syntax", None),
    ("seats == 1", 7, "expression-syntax", "equality is a single ="),
    ("seats != 1", 6, "expression-syntax", "unequal is <>"),
    ("name = 'x", 7, "expression-syntax", "a text that begins here is never closed"),
    ("seats 1", 6, "expression-syntax", None),
    ("seats = end", 8, "expression-syntax", 'a field of this name is written "end"'),
    ("1; 2", 1, "expression-syntax", "leave it out: one expression, no statement"),
    ("fair * 2", 0, "unknown-field", "did you mean fare?"),
    ("SEATS + 1", 0, "unknown-field", "did you mean seats?"),
    ("name + 1", 0, "expression-type", "texts are joined by ||"),
    ("name * 2", 0, "expression-type", "cast it first: CAST(… AS decimal(12,2))"),
    ("seats || 'x'", 0, "expression-type", "write CAST(… AS text)"),
    ("seats = '7'", 8, "expression-type", "leave out the quotes around a number"),
    ("day > '2031-01-01'", 6, "expression-type", "write DATE '2031-01-01'"),
    ("day = departs", 6, "expression-type", None),
    (
        "state < 'boarding'",
        8,
        "expression-type",
        "give the values a rank and compare that",
    ),
    ("state = 'bording'", 8, "unknown-enum-value", "did you mean boarding?"),
    ("'adrift' = state", 0, "unknown-enum-value", "known here: boarding, departed"),
    ("seats AND live", 0, "expression-type", "compare it with something"),
    ("NOT name", 4, "expression-type", "compare it with something"),
    ("CASE WHEN live THEN 1 ELSE 'x' END", 27, "expression-type", "cast one of them"),
    ("state.rank", 6, "unknown-attribute", None),
    ("name.rank", 5, "expression-type", None),
    ("COALESC(1)", 0, "unknown-function", "did you mean COALESCE?"),
    ("COALESCE()", 0, "expression-syntax", None),
    ("DATE '2031-02-30'", 0, "expression-type", None),
    ("CAST(day AS integer)", 5, "expression-type", None),
    ("CAST(1 AS int)", 10, "unknown-type", None),
    ("CAST(1 AS duration)", 5, "expression-type", None),
    ("DATE '2031-04-01' AT TIME ZONE 'UTC'", 0, "expression-type", None),
    (
        "INTERVAL '1' YEAR",
        0,
        "expression-type",
        "INTERVAL '90' MINUTE; known: DAY, HOUR, MINUTE, SECOND",
    ),
    ("NOW()", 0, "unknown-function", "it is CURRENT_TIMESTAMP here"),
    (
        "substr(name, 1)",
        0,
        "unknown-function",
        "it is SUBSTRING(text, start, length) here",
    ),
    ("name::integer", 4, "expression-syntax", "a cast is written CAST(x AS type)"),
    (
        "INTERVAL '1 hour'",
        9,
        "expression-syntax",
        "the unit stands after the text: INTERVAL '90' MINUTE",
    ),
    (
        "departs - departs > '01:00'",
        20,
        "expression-type",
        "write INTERVAL '90' MINUTE",
    ),
    ("SUBSTRNG(name, 1)", 0, "unknown-function", "did you mean SUBSTRING?"),
    (
        "COUNT(seats)",
        6,
        "unknown-table",
        "aggregates are over tables that are directly within this one",
    ),
    (
        "SUM(seats + 1)",
        4,
        "expression-type",
        "SUM(sailings.fare): a field with compute in the table below can hold an expression",
    ),
    (
        "fare * 0.00000000000000000000000000000000000001",
        0,
        "expression-type",
        "cast one of them to fewer first",
    ),
]


def expression_outcome(text: str, row: dict[str, Any]) -> tuple[str, Any]:
    try:
        return "value", evaluate(compile_expression(text, FIELDS, types), row)
    except Bad as bad:
        return "bad", bad.code


class Expressions(unittest.TestCase):
    def test_an_expression_has_a_type_before_the_run_and_a_value_in_it(self) -> None:
        for text, kind, value in VALUES:
            with self.subTest(text):
                expression = compile_expression(text, FIELDS, types)
                found = evaluate(expression, ROW)
                self.assertEqual(expression.type and expression.type.name, kind)
                self.assertEqual((found, type(found)), (value, type(value)))

    def test_an_error_in_a_row_has_a_code(self) -> None:
        for text, code in ROW_ERRORS:
            with self.subTest(text):
                self.assertEqual(expression_outcome(text, ROW), ("bad", code))

    def test_columns_give_the_same_beside_rows_that_fail_or_are_null(self) -> None:
        """Each expression over the row, a row of nulls and the row again."""
        nothing = dict.fromkeys(FIELDS)
        rows = [ROW, nothing, ROW]
        columns = {
            name: pa.array([row[name] for row in rows], value_type(kind))
            for name, kind in FIELDS.items()
        }
        for text in [case[0] for case in VALUES] + [case[0] for case in ROW_ERRORS]:
            with self.subTest(text):
                column = evaluate_column(
                    compile_expression(text, FIELDS, types), columns, len(rows)
                )
                values = column.array.to_pylist()
                found = [
                    ("bad", column.failures[row].code)
                    if row in column.failures
                    else ("value", values[row])
                    for row in range(len(rows))
                ]
                self.assertEqual(found, [expression_outcome(text, row) for row in rows])
                self.assertTrue(all(values[row] is None for row in column.failures))

    def test_what_can_be_known_before_the_run_is_an_error_at_its_character(
        self,
    ) -> None:
        for text, position, code, hint in STATIC_ERRORS:
            with self.subTest(text), self.assertRaises(ExpressionError) as caught:
                compile_expression(text, FIELDS, types)
            error = caught.exception
            self.assertEqual(
                (error.position, error.code, error.hint), (position, code, hint), text
            )

    def test_the_names_that_an_expression_reads_are_known_with_their_places(
        self,
    ) -> None:
        self.assertEqual(
            sorted(names_in('a + "b c" * x.rank')), [("a", 0), ("b c", 4), ("x", 12)]
        )

    @settings(max_examples=300, deadline=None)
    @given(
        st.sampled_from("+-*/"),
        st.decimals(-(10**9), 10**9, places=3),
        st.decimals(-(10**6), 10**6, places=5),
    )
    def test_decimals_are_exact_and_quotients_rounded_half_even(
        self, sign: str, a: Decimal, b: Decimal
    ) -> None:
        """Against fractions, by the plain evaluator and by columns."""
        fields: dict[str, ValueType] = {
            "a": DecimalType(15, 3),
            "b": DecimalType(15, 5),
        }
        expression = compile_expression(f"a {sign} b", fields, types)
        columns = {
            name: pa.array([value], value_type(fields[name]))
            for name, value in (("a", a), ("b", b))
        }
        column = evaluate_column(expression, columns, 1)
        if sign == "/" and b == 0:
            self.assertEqual(column.failures[0].code, "division-by-zero")
            return
        exact = {
            "+": Fraction.__add__,
            "-": Fraction.__sub__,
            "*": Fraction.__mul__,
            "/": Fraction.__truediv__,
        }[sign](Fraction(a), Fraction(b))
        kind = arithmetic_type(sign, fields["a"], fields["b"])
        assert isinstance(kind, DecimalType)
        expected = Decimal(round(exact * 10**kind.scale)).scaleb(-kind.scale)
        self.assertEqual(evaluate(expression, {"a": a, "b": b}), expected)
        self.assertEqual(column.array.to_pylist(), [expected])

    def test_the_parsers_tables_belong_to_the_grammar_and_without_them_it_is_the_same(
        self,
    ) -> None:
        home = Path(__file__).parent.parent / "src/mukret/expressions"
        grammar, shipped = (
            (home / parser_tables.GRAMMAR).read_text(),
            json.loads((home / parser_tables.TABLES).read_text()),
        )
        if shipped["of"].startswith(
            f"lark {lark.__version__},"
        ):  # of another version the tables are not used
            self.assertEqual(
                shipped["of"],
                parser_tables.version_of(grammar),
                "run scripts/make_parser_tables.py",
            )
            with mock.patch.object(
                parser_tables, "made_anew", side_effect=AssertionError
            ):
                parser_tables.parser()
        with mock.patch.object(lark, "__version__", "0"):
            anew = parser_tables.parser()
        for text, *_ in VALUES:
            self.assertEqual(parser_tables.parser().parse(text), anew.parse(text))

    def test_long_lists_are_evaluated_and_endless_nesting_is_refused(self) -> None:
        listed = ", ".join(map(str, range(3000)))
        self.assertEqual(
            expression_outcome(f"seats IN ({listed})", ROW), ("value", True)
        )
        self.assertEqual(
            expression_outcome(f"seats NOT IN ({listed})", {**ROW, "seats": 5000}),
            ("value", True),
        )
        for text in ("(" * 5000 + "1" + ")" * 5000, " + ".join(["1"] * 5000)):
            with self.assertRaises(ExpressionError) as caught:
                compile_expression(text, FIELDS, types)
            self.assertEqual(caught.exception.message, "nested too deeply")

    def test_a_fields_type_converts_with_its_reading_options_and_a_cast_without(
        self,
    ) -> None:
        self.assertEqual(
            TypeSpec(Integer(), ReadingOptions(blank=frozenset({"-"}))).read("-"), None
        )
        self.assertEqual(
            expression_outcome("CAST('-' AS integer)", ROW), ("bad", "not-a-number")
        )
