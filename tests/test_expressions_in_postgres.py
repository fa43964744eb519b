"""Where SQL is the same, a real PostgreSQL gives the same: generated expressions over generated
rows.
"""

from __future__ import annotations

import datetime as dt
import math
import os
import random
from collections import Counter
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from mukret.columns.expressions import evaluate_column
from mukret.columns.types import value_type
from mukret.expressions import compile_expression, evaluate
from mukret.rules.reader import Reader
from mukret.rules.source import Problems
from mukret.rules.typing import TypeNames
from mukret.types import (
    Bad,
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Float,
    Integer,
    Text,
    Timestamp,
    ValueType,
)
from tests.postgres import PostgresCase

EXPRESSIONS = int(os.environ.get("MUKRET_POSTGRES_EXPRESSIONS", "900"))
FIELDS: dict[str, tuple[ValueType, str]] = {
    "i": (Integer(), "bigint"),
    "j": (Integer(), "bigint"),
    "d": (DecimalType(12, 2), "numeric(12,2)"),
    "e": (DecimalType(9, 4), "numeric(9,4)"),
    "x": (Float(), "double precision"),
    "t": (Text(), "text"),
    "u": (Text(), "text"),
    "b": (Boolean(), "boolean"),
    "day": (Date(), "date"),
    "at": (Timestamp(), "timestamptz"),
    "til": (Timestamp(), "timestamptz"),
    "local": (Datetime(), "timestamp"),
}
Draw = random.Random


def rows(draw: Draw, count: int) -> list[dict[str, Any]]:
    def some(*values: Any) -> Any:
        return draw.choice([*values, None])

    def instant() -> Any:
        moment = dt.datetime(
            2031,
            draw.randint(1, 12),
            draw.randint(1, 28),
            draw.randint(0, 23),
            draw.randint(0, 59),
            draw.randint(0, 59),
        )
        return moment.replace(microsecond=draw.choice([0, 0, 250_000, 999_999]))

    return [
        {
            "i": some(0, 1, -7, 12, 2**62, draw.randint(-99, 99)),
            "j": some(0, 2, 3, -1, draw.randint(1, 9)),
            "d": some(
                Decimal("0.00"),
                Decimal("3.50"),
                Decimal("-1204.55"),
                Decimal(draw.randint(-9999, 9999)).scaleb(-2),
            ),
            "e": some(
                Decimal("0.0050"),
                Decimal("2.5000"),
                Decimal("-0.1250"),
                Decimal(draw.randint(-9999, 9999)).scaleb(-4),
            ),
            "x": some(0.0, 0.5, -2.25, 1e10, draw.uniform(-100, 100)),
            "t": some("", "Otterwick", " x ", "a%b_c", "ünï☂", "007", "ababa"),
            "u": some("", "t", "b", "0", "Otterwick", "%"),
            "b": some(True, False),
            "day": some(
                dt.date(2031, 4, 1),
                dt.date(2028, 2, 29),
                dt.date(2027, 1, 1),
                instant().date(),
            ),
            "at": some(
                instant().replace(tzinfo=dt.UTC), instant().replace(tzinfo=dt.UTC)
            ),
            "til": some(instant().replace(tzinfo=dt.UTC)),
            "local": some(instant()),
        }
        for _ in range(count)
    ]


class Maker:
    """Makes expressions in the part of SQL that means the same there and here: no division (its
    digits differ), no backslashes in patterns, nothing that fails below AND, OR or CASE (which side
    is evaluated first is left open).
    """

    def __init__(self, draw: Draw) -> None:
        self.draw = draw

    def pick(self, *items: Any) -> Any:
        return self.draw.choice(items)

    def make(self, kind: str, depth: int = 3) -> str:
        def sub(family: str) -> str:
            return self.make(family, depth - 1)

        if depth == 0 or self.draw.random() < 0.2:
            return str(self.leaf(kind))
        choices: dict[str, list[Callable[[], str]]] = {
            "integer": [
                lambda: f"({sub('integer')} {self.pick('+', '-', '*')} {sub('integer')})",
                lambda: f"MOD({sub('integer')}, {sub('integer')})",
                lambda: f"{self.pick('ABS(', '(- ')}{sub('integer')})",
                lambda: f"{self.pick('CHAR_LENGTH(', 'POSITION(t IN ', 'POSITION(u IN ')}{sub('text')})",
                lambda: f"CAST(EXTRACT({self.pick('YEAR', 'QUARTER', 'MONTH', 'WEEK', 'DAY', 'DOW', 'DOY')} FROM {sub(self.pick('day', 'at', 'local'))}) AS {{integer}})",
                lambda: f"CAST(EXTRACT({self.pick('HOUR', 'MINUTE')} FROM {sub(self.pick('at', 'local'))}) AS {{integer}})",
                lambda: f"COALESCE({sub('integer')}, {self.pick('i', '0')})",
            ],
            "decimal": [
                lambda: f"({sub('decimal')} {self.pick('+', '-', '*')} {sub(self.pick('decimal', 'integer'))})" if depth < 3 else f"({sub('decimal')} + {sub('decimal')})",
                lambda: f"ROUND({sub('decimal')}, {self.pick('0', '1', '2', '-1')})",
                lambda: f"{self.pick('ROUND', 'FLOOR', 'CEILING', 'ABS')}({sub('decimal')})",
                lambda: f"MOD({self.pick('d', 'e')}, {self.pick('d', 'e', '0.7')})",
                lambda: f"EXTRACT({self.pick('SECOND', 'EPOCH')} FROM {self.pick('at', 'til', 'local')})",
                lambda: f"EXTRACT(EPOCH FROM {sub('at')} - {sub('at')})",
                lambda: f"NULLIF({sub('decimal')}, {self.pick('d', '0')})",
            ],
            "float": [
                lambda: f"({sub('float')} {self.pick('+', '-', '*')} {sub('float')})",
                lambda: f"{self.pick('SQRT', 'LN', 'EXP', 'ABS', 'FLOOR', 'CEILING')}({sub('float')})",
                lambda: f"POWER({sub('float')}, {self.pick('2', '0.5', '-1', 'x')} + CAST(0 AS {{float}}))",
                lambda: f"CAST({self.pick('i', 'd', 'e')} AS {{float}})",
            ],
            "text": [
                lambda: f"({sub('text')} || {sub('text')})",
                lambda: f"CAST({self.pick('i', 'd', 'e', 'b', 'day')} AS text)",
                lambda: f"{self.pick('UPPER', 'LOWER', 'TRIM')}({self.pick('t', 'u')})",
                lambda: f"TRIM({self.pick('LEADING', 'TRAILING', 'BOTH')} {self.pick(repr('0'), repr('ab'), repr(' x'), 'u')} FROM {sub('text')})",
                lambda: f"SUBSTRING({sub('text')} FROM {self.pick(-1, 0, 1, 3, 'CAST(j AS {small})')} FOR {self.pick(0, 2, 9, -1)})",
                lambda: f"SUBSTRING({sub('text')} FROM {self.pick(-1, 0, 2)})",
                lambda: f"REPLACE({sub('text')}, {self.pick('u', repr('a'))}, {self.pick('u', repr('--'))})",
                lambda: f"{self.pick('LEFT', 'RIGHT')}({sub('text')}, {self.pick(-3, -1, 0, 2, 20)})",
                lambda: f"{self.pick('LPAD', 'RPAD')}({sub('text')}, {self.pick(-1, 0, 3, 12)}{self.pick('', ', u', ', ' + repr('xy'))})",
                lambda: f"{self.pick('CONCAT(', 'CONCAT_WS(' + repr('-') + ', ', 'CONCAT_WS(u, ')}{sub('text')}, {sub('text')})",
                lambda: f"CASE WHEN {sub('flag')} THEN {self.pick('t', 'u')} ELSE {self.leaf('text')} END",
            ],
            "flag": [
                lambda: f"({self.safe()} {self.pick('=', '<>', '<', '<=', '>', '>=')} {self.safe()})",
                lambda: f"({self.leaf('text')} {self.pick('=', '<', '>=')} {self.leaf('text')})",
                lambda: f"({self.pick('at', 'til')} {self.pick('<', '>=')} {self.pick('at', 'til')})",
                lambda: f"({sub('flag')} {self.pick('AND', 'OR')} {sub('flag')})",
                lambda: f"(NOT {sub('flag')})",
                lambda: f"({self.leaf(self.pick('integer', 'text', 'flag', 'day'))} IS {self.pick('', 'NOT ')}NULL)",
                lambda: f"({self.safe()} IS {self.pick('', 'NOT ')}DISTINCT FROM {self.safe()})",
                lambda: f"({self.safe()} {self.pick('', 'NOT ')}BETWEEN {self.safe()} AND {self.safe()})",
                lambda: f"({self.leaf('integer')} {self.pick('', 'NOT ')}IN ({self.leaf('integer')}, 1, {self.leaf('integer')}))",
                lambda: f"({self.pick('t', 'u')} {self.pick('', 'NOT ')}LIKE {self.pick(*map(repr, ['%t%', '_', '%', 'a%_c', 'Otter%', '']), 'u')})",
                lambda: f"({self.pick('t', 'u')} LIKE {self.pick(repr('a!%b%'), repr('!!%'))} ESCAPE '!')",
            ],
            "day": [
                lambda: f"({sub('day')} {self.pick('+', '-')} {self.pick(1, 30, 400)})",
                lambda: f"CAST({sub(self.pick('at', 'local'))} AS date)",
                lambda: f"COALESCE({sub('day')}, DATE '2031-04-01')",
            ],
            "at": [
                lambda: f"({sub('at')} {self.pick('+', '-')} {sub('span')})",
                lambda: f"({sub('local')} AT TIME ZONE 'UTC')",
            ],
            "local": [
                lambda: f"({sub('local')} {self.pick('+', '-')} {sub('span')})",
                lambda: f"({sub('at')} AT TIME ZONE {self.pick(*map(repr, ['Atlantic/Faroe', 'UTC', 'America/St_Johns']))})",
            ],
            "span": [
                lambda: f"({sub('at')} - {sub('at')})",
                lambda: f"({sub('span')} {self.pick('+', '-')} {sub('span')})",
                lambda: f"({self.pick(2, 3, -1)} * {sub('span')})",
            ],
        }  # fmt: skip
        return self.draw.choice(choices[kind])()

    def safe(self) -> str:
        """A number that can't fail."""
        return str(
            self.pick("j", "d", "e", "(j + 1)", "(d * e)", "(d - 3.5)", "0", "2.5")
        )

    def leaf(self, kind: str) -> Any:
        leaves: dict[str, list[str]] = {
            "integer": ["i", "j", "2", "7"],
            "decimal": ["d", "e", "1.5", "0.005"],
            "float": ["x", "1.5e0"],
            "text": ["t", "u", "'x'", "''"],
            "flag": ["b", "TRUE", "(j = 1)"],
            "day": ["day", "DATE '2031-03-30'"],
            "at": ["at", "til", "TIMESTAMP '2031-03-30T00:59:59Z'"],
            "local": ["local", "TIMESTAMP '2031-10-26 01:15:00'"],
            "span": [
                "INTERVAL '90' MINUTE",
                "INTERVAL '1' DAY",
                "INTERVAL '1.5' SECOND",
            ],
        }
        return self.draw.choice(leaves[kind])


THERE = {"integer": "bigint", "float": "double precision", "small": "integer"}
HERE = {"integer": "integer", "float": "float", "small": "integer"}


def there(text: str) -> str:
    """The expression as PostgreSQL wants it: an instant is a TIMESTAMPTZ there, text orders by code
    point in C.
    """
    found = text.format(**THERE)
    return found.replace("TIMESTAMP '2031-03-30T", "TIMESTAMPTZ '2031-03-30T")


class ExpressionsInPostgres(PostgresCase):
    def test_generated_expressions_give_the_same_or_are_refused_alike(self) -> None:
        import psycopg

        draw = random.Random(20310401)
        table = rows(draw, 12)
        types = TypeNames(Reader(Problems()))
        kinds = {name: kind for name, (kind, _) in FIELDS.items()}
        import pyarrow as pa

        columns = {
            name: pa.array([row[name] for row in table], value_type(kind))
            for name, kind in kinds.items()
        }
        outcomes: Counter[str] = Counter()
        with psycopg.connect(self.dsn, autocommit=True) as connection:
            listing = ", ".join(f"{name} {sql}" for name, (_, sql) in FIELDS.items())
            connection.execute(f"CREATE TABLE ferries (n integer, {listing})")
            for number, row in enumerate(table):
                marks = ", ".join(["%s"] * (len(row) + 1))
                connection.execute(
                    f"INSERT INTO ferries VALUES ({marks})", [number, *row.values()]
                )
            for _ in range(EXPRESSIONS):
                family = draw.choice(
                    [
                        "integer",
                        "decimal",
                        "float",
                        "text",
                        "text",
                        "flag",
                        "day",
                        "at",
                        "local",
                        "span",
                    ]
                )
                text = Maker(draw).make(family)
                expression = compile_expression(
                    text.format(**HERE), kinds, types.reading
                )
                column = evaluate_column(expression, columns, len(table))
                for number, row in enumerate(table):
                    with self.subTest(text.format(**HERE), row=number):
                        mine: Any
                        try:
                            mine = evaluate(expression, row)
                        except Bad as bad:
                            mine = bad.code
                            self.assertEqual(column.failures[number].code, bad.code)
                        else:
                            self.assertEqual(column.array[number].as_py(), mine)
                        try:
                            found = connection.execute(
                                self.query(text), [number]
                            ).fetchone()
                        except psycopg.Error as error:
                            if "underflow" in str(
                                error
                            ):  # here it becomes 0, as the type float says
                                outcomes["underflow there"] += 1
                                continue
                            outcomes["refused by both"] += 1
                            self.assertIsInstance(mine, str, error)
                            self.assertIn(mine, REFUSED, error)
                            continue
                        assert found is not None
                        theirs = found[0]
                        outcomes["null" if theirs is None else "a value"] += 1
                        self.same(mine, theirs)
        print(f"\nexpressions in PostgreSQL: {dict(outcomes)}", flush=True)
        self.assertGreater(outcomes["refused by both"], EXPRESSIONS // 20)

    @staticmethod
    def query(text: str) -> str:
        return f"SELECT {there(text).replace('%', '%%')} FROM ferries WHERE n = %s"

    def same(self, mine: Any, theirs: Any) -> None:
        if isinstance(mine, float) and theirs is not None:
            self.assertTrue(
                math.isclose(mine, float(theirs), rel_tol=1e-12, abs_tol=1e-300),
                (mine, theirs),
            )
        else:
            self.assertEqual(mine, theirs)


REFUSED = {"overflow", "division-by-zero", "no-result"}
"""Codes with which a value may be refused here where it is an error there."""
