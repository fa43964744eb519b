"""Types: what is accepted, what is refused and why; by the plain reading and by columns alike."""

from __future__ import annotations

import datetime as dt
import os
import random
import unittest
from decimal import Decimal
from email.utils import format_datetime
from typing import Any
from zoneinfo import ZoneInfo, reset_tzpath

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from mukret.columns.cells import read_cells
from mukret.columns.lines import csv_lines
from mukret.columns.read import Column, read_column, read_lists
from mukret.columns.types import STORED, stored, written
from mukret.expressions.aggregating import aggregated
from mukret.expressions.families import is_numeric
from mukret.expressions.tree import Aggregate
from mukret.types import (
    Bad,
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Duration,
    Enum,
    EnumValue,
    Float,
    Integer,
    Json,
    ListOf,
    ReadingOptions,
    Text,
    Time,
    Timestamp,
    TypeSpec,
    ValueType,
    parse_type,
)
from mukret.types.base import Elsewhere
from mukret.types.instants import EPOCH
from mukret.types.names import TypeNameError
from mukret.types.numbers import float_text
from mukret.types.taken import gathered
from mukret.values import JsonValue, Number
from tests.helpers import cells_of
from tests.random_feeds import NUMBERS, SCALARS, TEXTS

STATE = Enum(
    "state",
    (
        EnumValue("boarding", ("BRD", "now boarding", "1")),
        EnumValue("departed", ("DEP", "true")),
    ),
)


def instant(text: str) -> dt.datetime:
    return dt.datetime.fromisoformat(text)


Case = tuple[ValueType, ReadingOptions, list[tuple[JsonValue, Any]]]

ACCEPTED: list[Case] = [
    (
        Text(),
        ReadingOptions(),
        [("", ""), (" x ", " x "), (Number("1.10"), "1.10"), (12, "12"), (10**30, "1" + "0" * 30), (True, "true"),
         (Number("1e3"), "1e3"), (None, None)],
    ),
    (Text(), ReadingOptions(trim=True), [(" x\u00a0", "x"), ("\u2003", "")]),
    (Text(), ReadingOptions(blank=frozenset({"", "n/a"})), [("", None), ("n/a", None), (" n/a", " n/a")]),
    (Text(), ReadingOptions(strip=("kr", "k")), [("krkx", "x"), ("xkr", "x"), ("kr", ""), ("a kr", "a ")]),
    (
        Integer(),
        ReadingOptions(),
        [(12, 12), ("12", 12), (" +12 ", 12), ("-0", 0), ("007", 7), ("12.0", 12), ("1e3", 1000), (Number("1E+2"), 100),
         (Number("12.000"), 12), (2**63 - 1, 2**63 - 1), ("-9223372036854775808", -(2**63)), ("", None), (" ", None),
         ("5.", 5)],
    ),
    (
        Integer(),
        ReadingOptions(grouping=","),
        [("1,204", 1204), ("12", 12), ("12,34,567", 1234567), ("1,204.0", 1204), ("-1,000,000", -1000000)],
    ),
    (Integer(), ReadingOptions(grouping="\u202f"), [("1\u202f204", 1204), ("7", 7)]),
    (Integer(), ReadingOptions(grouping="'"), [("1'204'000", 1204000)]),
    (DecimalType(9, 2), ReadingOptions(grouping="\u00a0", point="·"), [("1\u00a0204·5", Decimal("1204.50"))]),
    (DecimalType(9, 2), ReadingOptions(grouping=" ", point=","), [(" 1 204,5 ", Decimal("1204.50"))]),
    (Float(), ReadingOptions(grouping="\u00a0", percent=True), [("1\u00a0250%", 12.5)]),
    (Integer(), ReadingOptions(round="half-up"), [("2.5", 3), ("-2.5", -3), (Number("2.4"), 2)]),
    (Integer(), ReadingOptions(round="half-even"), [("2.5", 2), ("3.5", 4), (Number("-2.5"), -2)]),
    (Integer(), ReadingOptions(percent=True), [("500%", 5), (300, 3)]),
    (Integer(), ReadingOptions(blank=frozenset({"-9999"})), [(-9999, None), ("-9999", None), ("1", 1)]),
    (
        DecimalType(12, 2),
        ReadingOptions(),
        [("1204.5", Decimal("1204.50")), (Number("1204.50"), Decimal("1204.50")), (7, Decimal("7.00")),
         (".5", Decimal("0.50")), ("5.", Decimal("5.00")), ("1.500", Decimal("1.50")), ("1e3", Decimal("1000.00")),
         ("-0", Decimal("0.00")), ("9999999999.99", Decimal("9999999999.99")), ("0012", Decimal("12.00"))],
    ),
    (
        DecimalType(12, 2),
        ReadingOptions(grouping=",", strip=("kr",)),
        [("kr 1,204.50", Decimal("1204.50")), ("1204.50kr", Decimal("1204.50")), ("kr kr 5 kr", Decimal("5.00")),
         (Number("3.5"), Decimal("3.50"))],
    ),
    (DecimalType(12, 2), ReadingOptions(grouping=".", point=","), [("1.204,50", Decimal("1204.50")), (",5", Decimal("0.50"))]),
    (
        DecimalType(12, 2),
        ReadingOptions(accounting=True, grouping=","),
        [("(1,200)", Decimal("-1200.00")), ("( 3.5 )", Decimal("-3.50")), ("4", Decimal("4.00"))],
    ),
    (DecimalType(6, 4), ReadingOptions(percent=True), [("12.5%", Decimal("0.1250")), ("12.5 %", Decimal("0.1250")), (50, Decimal("0.5"))]),
    (DecimalType(5, 1), ReadingOptions(round="half-even"), [("0.25", Decimal("0.2")), ("0.35", Decimal("0.4"))]),
    (DecimalType(5, 1), ReadingOptions(round="half-up"), [("0.25", Decimal("0.3")), ("-0.25", Decimal("-0.3"))]),
    (
        DecimalType(38, 10),
        ReadingOptions(),
        [("1234567890123456789012345678.0123456789", Decimal("1234567890123456789012345678.0123456789")),
         ("0.0000000001", Decimal("0.0000000001"))],
    ),
    (
        Float(),
        ReadingOptions(),
        [("4092.70", 4092.7), (Number("0.1"), 0.1), (2**53 + 1, float(2**53)), ("1e3", 1000.0), ("-0", -0.0),
         ("1e-400", 0.0), (" .5 ", 0.5), ("1.7976931348623157e308", 1.7976931348623157e308)],
    ),
    (Float(), ReadingOptions(percent=True), [("57%", 0.57), ("12.3%", 0.123), (7, 0.07), ("7", 0.07)]),
    (
        Boolean(),
        ReadingOptions(),
        [(True, True), ("TRUE", True), ("Yes", True), ("y", True), ("t", True), ("on", True), ("1", True), (1, True),
         (False, False), ("no", False), ("N", False), ("F", False), ("off", False), ("0", False), (0, False),
         (Number("1.0"), True), ("", None)],
    ),
    (
        Date(),
        ReadingOptions(),
        [("2031-04-01", dt.date(2031, 4, 1)), (" 2032-02-29 ", dt.date(2032, 2, 29)), ("0001-01-01", dt.date.min),
         ("9999-12-31", dt.date.max)],
    ),
    (
        Timestamp(),
        ReadingOptions(),
        [("2031-04-01T10:22:07+02:00", instant("2031-04-01T08:22:07+00:00")),
         ("2031-04-01 10:22Z", instant("2031-04-01T10:22:00+00:00")),
         ("2031-04-01t10:22:07.5z", instant("2031-04-01T10:22:07.500000+00:00")),
         ("2031-04-01T10:22:07.123456+0530", instant("2031-04-01T04:52:07.123456+00:00")),
         ("2031-04-01T10:22:07-02", instant("2031-04-01T12:22:07+00:00")),
         ("2031-04-01T10:22:07.1234560000Z", instant("2031-04-01T10:22:07.123456+00:00")),
         ("2031-04-01T24:00Z", instant("2031-04-02T00:00:00+00:00")),
         ("2032-02-29T00:00:00Z", instant("2032-02-29T00:00:00+00:00")),
         ("0001-01-01T00:00:00Z", instant("0001-01-01T00:00:00+00:00"))],
    ),
    (
        Timestamp(),
        ReadingOptions(zone="Atlantic/Faroe"),
        [("2031-07-01T12:00:00", instant("2031-07-01T11:00:00+00:00")),
         ("2031-01-01T12:00:00", instant("2031-01-01T12:00:00+00:00")),
         ("2031-07-01T12:00:00+05:00", instant("2031-07-01T07:00:00+00:00")),
         ("2031-03-30T02:00:00", instant("2031-03-30T01:00:00+00:00"))],
    ),
    (Timestamp(), ReadingOptions(zone="Atlantic/Faroe", fold="first"), [("2031-10-26T01:30:00", instant("2031-10-26T00:30:00+00:00"))]),
    (Timestamp(), ReadingOptions(zone="Atlantic/Faroe", fold="second"), [("2031-10-26T01:30:00", instant("2031-10-26T01:30:00+00:00"))]),
    (Timestamp(), ReadingOptions(zone="-03:30"), [("2031-07-01T12:00:00", instant("2031-07-01T15:30:00+00:00"))]),
    (Timestamp(), ReadingOptions(round="half-up"), [("2031-04-01T10:22:07.1234565Z", instant("2031-04-01T10:22:07.123457+00:00"))]),
    (
        Timestamp(),
        ReadingOptions(format=("iso", "epoch-ms")),
        [(1932964927000, instant("2031-04-03T06:42:07+00:00")), ("1932964927000", instant("2031-04-03T06:42:07+00:00")),
         (Number("1932964927000.25"), instant("2031-04-03T06:42:07.000250+00:00")), (-1, instant("1969-12-31T23:59:59.999000+00:00")),
         ("2031-04-01T10:22:07Z", instant("2031-04-01T10:22:07+00:00"))],
    ),
    (Timestamp(), ReadingOptions(format=("epoch-s",)), [("1932964927.5", instant("2031-04-03T06:42:07.500000+00:00")), (0, instant("1970-01-01T00:00:00+00:00"))]),
    (Timestamp(), ReadingOptions(format=("epoch-ns",)), [(1932964927000001000, instant("2031-04-03T06:42:07.000001+00:00"))]),
    (
        STATE,
        ReadingOptions(),
        [("boarding", "boarding"), (" Now Boarding ", "boarding"), ("brd", "boarding"), (1, "boarding"), (True, "departed"),
         ("", None), ("DEP", "departed")],
    ),
    (
        ListOf(Text()),
        ReadingOptions(),
        [(["a", None, 1], ["a", "1"]), ("a", ["a"]), ([], []), (7, ["7"]), ("", None), ([""], [""])],
    ),
    (ListOf(Text()), ReadingOptions(trim=True, blank=frozenset({"-"})), [([" a ", "-"], ["a"]), ("-", None)]),
]  # fmt: skip

REFUSED: list[tuple[ValueType, ReadingOptions, str, list[JsonValue]]] = [
    (Text(), ReadingOptions(), "wrong-kind", [[], {}, ["a"]]),
    (Integer(), ReadingOptions(), "not-a-number", ["0x1F", "1_0", "١", "nan", "inf", "12 3", "--1", "1e", "1,204", "ask crew", "+"]),
    (Integer(), ReadingOptions(), "not-whole", ["1.5", Number("0.1"), "1e-1"]),
    (Integer(), ReadingOptions(), "out-of-range", [2**63, "-9223372036854775809", "1e30", "1e999999999", "9" * 2000]),
    (Integer(), ReadingOptions(), "wrong-kind", [True, [], {}]),
    (Integer(), ReadingOptions(grouping=","), "not-a-number", ["12,50", "1,2,3", ",123", "1,,000", "1.000,5"]),
    (DecimalType(12, 2), ReadingOptions(), "too-many-digits", ["0.005", Number("1.001"), "1e-3"]),
    (DecimalType(12, 2), ReadingOptions(), "out-of-range", ["10000000000", 10**10, "1e400", Number("1e99999")]),
    (DecimalType(12, 2), ReadingOptions(round="half-up"), "out-of-range", ["9999999999.995"]),
    (DecimalType(2, 2), ReadingOptions(), "out-of-range", ["1", "1.00"]),
    (DecimalType(6, 2), ReadingOptions(grouping="\u00a0", point="·"), "out-of-range", ["99\u00a0999·5", "123456"]),
    (DecimalType(12, 2), ReadingOptions(accounting=True), "not-a-number", ["(-3)", "(3", "3)", "()"]),
    (DecimalType(12, 2), ReadingOptions(percent=True), "not-a-number", ["5%%", "%", "%5"]),
    (Float(), ReadingOptions(), "not-a-number", ["nan", "NaN", "inf", "-Infinity", "0x1p3", "1d", "1_000.0"]),
    (Float(), ReadingOptions(), "out-of-range", ["1e400", Number("-1e400"), 10**400]),
    (Float(), ReadingOptions(percent=True), "not-a-number", ["5%%"]),
    (Boolean(), ReadingOptions(), "not-a-boolean", ["maybe", 2, "tru", Number("0.5"), -1]),
    (Boolean(), ReadingOptions(), "wrong-kind", [[], {}]),
    (Date(), ReadingOptions(), "not-a-date", ["2031-02-29", "2031-4-1", "20310401", "2031-04-01T00:00:00", "0000-01-01", "soon"]),
    (Date(), ReadingOptions(), "wrong-kind", [20310401, True]),
    (
        Timestamp(),
        ReadingOptions(),
        "not-a-timestamp",
        ["2031-04-01", "2031-04-01T10Z", "2031-04-01T10:22:60Z", "2031-04-01T24:01Z", "2031-02-30T00:00:00Z",
         "0000-01-01T00:00:00Z", "2031-04-01T10:22:07,5Z", "2031-04-01T10:22:07+25:00", "2031-04-01T10:22:07.Z", "soon",
         1932964927, "2031-04-01T10:22:07 Z", "10:22"],
    ),
    (Timestamp(), ReadingOptions(), "no-zone", ["2031-04-01T10:22:07"]),
    (Timestamp(), ReadingOptions(), "too-many-digits", ["2031-04-01T10:22:07.1234567Z"]),
    (Timestamp(), ReadingOptions(), "out-of-range", ["9999-12-31T23:59:59-01:00", "0001-01-01T00:00:00+01:00"]),
    (Timestamp(), ReadingOptions(zone="Atlantic/Faroe"), "local-time-missing", ["2031-03-30T01:30:00", "2031-03-30T01:00:00"]),
    (Timestamp(), ReadingOptions(zone="Atlantic/Faroe"), "local-time-twice", ["2031-10-26T01:30:00"]),
    (Timestamp(), ReadingOptions(format=("epoch-s",)), "out-of-range", [10**12, "999999999999", Number("1e30")]),
    (Timestamp(), ReadingOptions(format=("epoch-ns",)), "too-many-digits", [1, "1500"]),
    (Timestamp(), ReadingOptions(format=("epoch-ms",)), "not-a-timestamp", ["2031-04-01T10:22:07Z", "1e3", "0x10"]),
    (STATE, ReadingOptions(), "unknown-word", ["adrift", 2, "board ing"]),
    (STATE, ReadingOptions(), "wrong-kind", [[], {"a": 1}]),
    (ListOf(Text()), ReadingOptions(), "wrong-kind", [{"a": 1}, [["a"]]]),
]  # fmt: skip


WIDE_COLUMNS = int(os.environ.get("MUKRET_WIDE_COLUMNS", "1500"))
MOMENTS = [
    "%Y-%m-%dT%H:%M",
    "%Y-%m-%d %H:%M:%S",
    "%Y-%m-%dt%H:%M:%S",
    "%Y-%m-%d",
    "%Y%m%d",
    "%d.%m.%Y",
    "%H:%M:%S",
]
EXPONENTS = [
    0,
    1,
    -1,
    30,
    -38,
    45,
    308,
    -324,
    400,
    99_999,
    -99_999,
    10**18 - 1,
    10**22,
    -(10**22),
]


def _number_reading(chosen: random.Random) -> tuple[ValueType, ReadingOptions]:
    precision = chosen.randint(1, 38)
    kind = chosen.choice(
        [
            DecimalType(precision, chosen.randint(0, precision)),
            Float(),
            Integer(),
            Duration(),
        ]
    )
    marks: dict[str, Any] = chosen.choice(
        [{}, {"grouping": ","}, {"point": ",", "grouping": "."}, {"point": ","}]
    )
    if not isinstance(kind, Float) and chosen.random() < 0.3:
        marks["round"] = "half-even"
    if isinstance(kind, Duration):
        return kind, ReadingOptions(
            unit=chosen.choice(["s", "d", None]), round=marks.get("round")
        )
    return kind, ReadingOptions(
        percent=chosen.random() < 0.2, accounting=chosen.random() < 0.2, **marks
    )


def _moment_reading(chosen: random.Random) -> tuple[ValueType, ReadingOptions]:
    kind = chosen.choice([Timestamp(), Timestamp(), Date(), Datetime(), Time()])
    named = {
        Timestamp: ["iso", "epoch-s", "epoch-ns", "rfc5322"],
        Date: ["iso", "epoch-ms"],
    }.get(type(kind), ["iso"])
    patterns = (
        ["%H:%M:%S", "%H"]
        if isinstance(kind, Time)
        else ["%Y%m%d", "%d.%m.%Y", "%Y-%m-%dT%H:%M"]
    )
    forms = (
        chosen.sample([*named, *patterns], chosen.randint(1, 2))
        if chosen.random() < 0.6
        else ["iso"]
    )
    zone = chosen.choice(
        [None, "+02:00", "-23:59", "Atlantic/Faroe", "America/St_Johns"]
    )
    return kind, ReadingOptions(
        format=tuple(forms),
        zone=zone,
        fold=chosen.choice([None, "first"]),
        round=chosen.choice([None, "half-up"]),
    )


WIDE_READINGS = [_number_reading, _moment_reading]


def wide_value(chosen: random.Random, options: ReadingOptions) -> JsonValue:
    if chosen.random() < 0.1:
        return chosen.choice(SCALARS)
    return chosen.choice([_wide_number, _wide_moment])(chosen, options)


def _wide_number(chosen: random.Random, options: ReadingOptions) -> JsonValue:
    digits = "".join(
        chosen.choices(
            "0123456789",
            [6, 1, 1, 1, 1, 1, 1, 1, 1, 6],
            k=chosen.randint(1, chosen.choice([5, 20, 45])),
        )
    )
    before, after = digits[: (cut := chosen.randint(0, len(digits)))], digits[cut:]
    if chosen.random() < 0.3:
        text = (
            f"{int(before or 0)}"
            + (f".{after}" if after else "")
            + chosen.choice(["", f"e{chosen.choice(EXPONENTS)}"])
        )
        text = chosen.choice(["", "-"]) + text
        return int(text) if text.isdecimal() and len(text) < 30 else Number(text)
    if options.grouping and chosen.random() < 0.7:
        before = f"{int(before or 0):,}".replace(",", options.grouping)
    text = (
        chosen.choice(["", "-", "+"])
        + before
        + (options.point + after if after else "")
    )
    text += f"e{chosen.choice(EXPONENTS)}" if chosen.random() < 0.1 else ""
    return text + "%" * (options.percent and chosen.random() < 0.8)


def _wide_moment(chosen: random.Random, _: ReadingOptions) -> JsonValue:
    year = chosen.choice(
        [1, 2, 500, 1684, 1883, 1970, 2031, 2255, 2906, 9999, chosen.randint(1, 9999)]
    )
    text = dt.datetime(
        year, chosen.randint(1, 12), chosen.randint(1, 28), chosen.randint(0, 23), 22, 7
    ).strftime(chosen.choice(MOMENTS))
    text = text.replace(str(year), f"{year:04}", 1)
    if text.isdecimal() and chosen.random() < 0.5:
        return int(text)
    fraction = (
        "." + "".join(chosen.choices("0123459", k=chosen.randint(1, 8)))
        if chosen.random() < 0.3
        else ""
    )
    return (
        text
        + fraction
        + chosen.choice(
            ["", "", "Z", "z", "+02:00", "-0330", "+24:00", "+01:60", "+02"]
        )
    )


def setUpModule() -> None:
    """The expected instants come from the same time zone database, the package's and not the
    system's.
    """
    reset_tzpath(to=[])
    ZoneInfo.clear_cache()


def tearDownModule() -> None:
    reset_tzpath()
    ZoneInfo.clear_cache()


def shown(outcomes: list[tuple[str, Any]]) -> list[tuple[str, str]]:
    """Outcomes as texts that tell -0.0 from 0.0 and one kind from another, but not one UTC from
    another.
    """
    return [
        (what, str(value) if isinstance(value, dt.datetime) else repr(value))
        for what, value in outcomes
    ]


def outcome(reading: TypeSpec, value: JsonValue) -> tuple[str, Any]:
    """The typed value, or the code of what is wrong."""
    try:
        return "value", reading.read(value)
    except Bad as bad:
        return "bad", bad.code


def column_outcomes(
    reading: TypeSpec, values: list[JsonValue]
) -> list[tuple[str, Any]]:
    """Those of a column of values, which are those of a column of cells."""
    of_values = outcomes_in(read_column(reading, values))
    of_cells = outcomes_in(read_cells(reading, cells_of(values)))
    if shown(of_cells) != shown(of_values):
        raise AssertionError(f"{reading}: cells {of_cells}, values {of_values}")
    return of_values


def outcomes_in(column: Column) -> list[tuple[str, Any]]:
    return [
        ("bad", column.failures[row].code)
        if row in column.failures
        else ("value", value)
        for row, value in enumerate(column.array.to_pylist())
    ]


class Reading_(unittest.TestCase):
    def test_each_type_accepts_what_its_table_says(self) -> None:
        for kind, options, cases in ACCEPTED:
            for value, expected in cases:
                with self.subTest(type=kind.name, options=options, value=value):
                    found = outcome(TypeSpec(kind, options), value)
                    self.assertEqual(found, ("value", expected))
                    self.assertIs(type(found[1]), type(expected))

    def test_each_type_refuses_what_its_table_says_with_its_code(self) -> None:
        for kind, options, code, values in REFUSED:
            for value in values:
                with self.subTest(type=kind.name, options=options, value=value):
                    self.assertEqual(
                        outcome(TypeSpec(kind, options), value), ("bad", code)
                    )

    def test_columns_read_every_value_of_the_tables_alone_and_in_company_as_the_plain_reading_does(
        self,
    ) -> None:
        """Whatever stands beside a value in its column: all clean, one spoilt, many kinds."""
        readings: dict[TypeSpec, list[JsonValue]] = {}
        for kind, options, cases in ACCEPTED:
            readings.setdefault(TypeSpec(kind, options), []).extend(
                value for value, _ in cases
            )
        for kind, options, _, values in REFUSED:
            readings.setdefault(TypeSpec(kind, options), []).extend(values)
        for reading, values in readings.items():
            texts = [value for value in values if type(value) is str]
            for column in (
                [*values],
                texts,
                *([value] for value in values),
                [None, *texts, *texts],
                texts * 20,
                SCALARS,
            ):
                with self.subTest(
                    type=reading.type.name, options=reading.options, column=column
                ):
                    expected = [outcome(reading, value) for value in column]
                    self.assertEqual(
                        shown(column_outcomes(reading, column)), shown(expected)
                    )

    def test_all_nodes_of_a_path_are_read_as_a_list_and_the_bad_element_is_named(
        self,
    ) -> None:
        reading = TypeSpec(ListOf(Text()), ReadingOptions(trim=True))
        column = read_lists(reading, [["a ", 1], [], ["b", [], "c"]])
        self.assertEqual(column.array.to_pylist(), [["a", "1"], [], None])
        self.assertEqual(
            (column.failures[2].code, column.failures[2].index), ("wrong-kind", 1)
        )

    @settings(max_examples=300, deadline=None)
    @given(
        st.sampled_from([Integer(), DecimalType(12, 2), DecimalType(38, 9), Float()]),
        st.sampled_from(
            [
                ReadingOptions(),
                ReadingOptions(grouping=","),
                ReadingOptions(percent=True),
                ReadingOptions(grouping=".", point=","),
            ]
        ),
        st.lists(
            st.from_regex(r"\A[ +(-]?[0-9]{0,20}[.,]?[0-9]{0,9}(e-?[0-9])?[)% ]?\Z"),
            min_size=1,
            max_size=40,
        ),
    )
    def test_columns_of_nearly_numeric_texts_are_read_as_one_by_one(
        self, kind: ValueType, options: ReadingOptions, texts: list[JsonValue]
    ) -> None:
        reading = TypeSpec(kind, options)
        self.assertEqual(
            shown(column_outcomes(reading, texts)),
            shown([outcome(reading, text) for text in texts]),
        )

    def test_columns_of_wide_pools_are_read_as_one_by_one(self) -> None:
        """Many digits, many exponents, moments of all years, in all types, with all that can be
        said of them.
        """
        chosen = random.Random(20310401)
        for _ in range(WIDE_COLUMNS):
            kind, options = chosen.choice(WIDE_READINGS)(chosen)
            values = [
                wide_value(chosen, options)
                for _ in range(chosen.choice([1, 1, 3, 10, 60]))
            ]
            reading = TypeSpec(kind, options)
            expected = [outcome(reading, value) for value in values]
            self.assertEqual(
                shown(column_outcomes(reading, values)),
                shown(expected),
                (kind.name, options, values),
            )

    def test_a_sum_is_the_same_by_take_and_by_aggregate_and_what_the_type_can_t_hold_is_bad(
        self,
    ) -> None:
        cases: list[tuple[ValueType, list[Any], Any]] = [
            (Integer(), [2**63 - 1, 1, -5], 2**63 - 5),
            (Integer(), [2**63 - 1, 1], "overflow"),
            (DecimalType(3, 1), [Decimal("99.9"), Decimal("-99.8")], Decimal("0.1")),
            (DecimalType(3, 1), [Decimal("99.9"), Decimal("0.1")], "overflow"),
            (
                DecimalType(38, 0),
                [Decimal("9" * 38)] * 3 + [Decimal("-" + "9" * 38)] * 2,
                Decimal("9" * 38),
            ),
            (Float(), [-0.0], -0.0),
            (Float(), [1e308, 1e308], "overflow"),
            (
                Duration(),
                [dt.timedelta(days=1), dt.timedelta(hours=1)],
                dt.timedelta(hours=25),
            ),
            (Duration(), [dt.timedelta(microseconds=2**62)] * 2, "overflow"),
        ]
        for kind, values, expected in cases:
            nodes = [
                Number(kind.written(value)) if is_numeric(kind) else kind.written(value)
                for value in values
            ]
            for total in (
                lambda: gathered("sum", TypeSpec(kind), nodes, ""),  # noqa: B023
                lambda: aggregated(Aggregate(kind, "SUM", "t", "f"), values),  # noqa: B023
            ):
                with self.subTest(kind=kind.name, values=values):
                    try:
                        found = total()
                    except Bad as bad:
                        found = bad.code
                    self.assertEqual(repr(found), repr(expected))

    @settings(max_examples=200, deadline=None)
    @given(
        st.datetimes(dt.datetime(1800, 1, 1), dt.datetime(2200, 1, 1)),
        st.sampled_from(
            [
                "Atlantic/Faroe",
                "America/St_Johns",
                "Australia/Lord_Howe",
                "Asia/Kathmandu",
                "Africa/Casablanca",
            ]
        ),
    )
    def test_local_times_are_those_of_the_time_zone_database(
        self, moment: dt.datetime, name: str
    ) -> None:
        """Against zoneinfo: a time that exists once has one instant; the others are refused."""
        zone = ZoneInfo(name)
        both = {
            moment.replace(tzinfo=zone, fold=fold).astimezone(dt.UTC) for fold in (0, 1)
        }
        reading = TypeSpec(Timestamp(), ReadingOptions(zone=name))
        expected: tuple[str, Any] = ("value", both.pop())
        if both:
            exists = any(
                m.astimezone(zone).replace(tzinfo=None) == moment
                for m in (*both, expected[1])
            )
            expected = ("bad", "local-time-twice" if exists else "local-time-missing")
        self.assertEqual(outcome(reading, moment.isoformat()), expected)
        self.assertEqual(
            column_outcomes(reading, [moment.isoformat(), "2031-07-01T12:00:00"])[0],
            expected,
        )


class Writing(unittest.TestCase):
    def test_texts_of_columns_are_the_texts_of_values(self) -> None:
        """Every value of the tables, written by columns and one by one."""
        for kind, options, cases in ACCEPTED:
            with self.subTest(type=kind.name):
                column = read_column(
                    TypeSpec(kind, options), [value for value, _ in cases]
                )
                values = column.array.to_pylist()
                texts = written(stored(kind).finished(column.array), kind).to_pylist()
                self.assertEqual(
                    texts,
                    [
                        None if value is None else kind.written(value)
                        for value in values
                    ],
                )
                self.assertEqual(
                    stored(kind).finished(column.array).type, stored(kind).handed_over
                )
                self.assertEqual(self.lines(column.array, kind), self.as_csv(texts))

    @staticmethod
    def lines(array: Any, kind: ValueType) -> str:
        return csv_lines([stored(kind).finished(array)], [kind], len(array)).decode()

    @staticmethod
    def as_csv(texts: list[str | None]) -> str:
        """As the standard library reads it, and null apart from the empty text."""
        cells = []
        for text in texts:
            marked = (
                text == "" or any(mark in text or "" for mark in '",\r\n')
                if text is not None
                else False
            )
            cells.append(
                ""
                if text is None
                else f'"{text.replace(chr(34), 2 * chr(34))}"'
                if marked
                else text
            )
        return "".join(f"{cell}\n" for cell in cells)

    def test_lines_of_the_least_and_greatest_values_and_of_slices(self) -> None:
        whole = 10**38 - 1
        cases: list[tuple[ValueType, list[Any]]] = [
            (Integer(), [-(2**63), 2**63 - 1, 0, -1, 9, 10, 99, 100, None]),
            (DecimalType(38, 0), [Decimal(whole), Decimal(-whole), Decimal(0), None]),
            (DecimalType(38, 38), [Decimal(f"0.{'9' * 38}"), Decimal(f"-0.{'0' * 37}1"), None]),
            (DecimalType(20, 3), [Decimal("-0.001"), Decimal("18446744073709551.616"), Decimal("7.000")]),
            (Date(), [dt.date(1, 1, 1), dt.date(9999, 12, 31), dt.date(1970, 1, 1), dt.date(2000, 2, 29), None]),
            (Timestamp(), [instant(f"{text}+00:00") for text in ("0001-01-01T00:00:00", "9999-12-31T23:59:59.999999", "1969-12-31T23:59:59.5")]),
            (Float(), [0.0, 0.1, -0.25, 1e14, 123456789012345.0, 0.0001, 99.999999999, 4092.7, None, 5.0]),
            (Float(), [-0.0, 0.1 + 0.2, 1e15, 1e16, 1e-5, 1e300, -1.5]),
            (Boolean(), [True, None, False, True, True, False, None, True, False]),
            (Text(), ["", "a", None, ',', '"', "x\ny", "ü" * 99, 'say "so", he said']),
        ]  # fmt: skip
        for kind, values in cases:
            array = pa.array(values, stored(kind).handed_over)
            texts = [None if value is None else kind.written(value) for value in values]
            with self.subTest(kind.name):
                self.assertEqual(self.lines(array, kind), self.as_csv(texts))
                self.assertEqual(
                    self.lines(array.slice(1), kind), self.as_csv(texts[1:])
                )
                self.assertEqual(self.lines(array.slice(0, 0), kind), "")

    def test_the_forms_that_are_documented(self) -> None:
        cases: list[tuple[ValueType, object, str]] = [
            (DecimalType(12, 2), Decimal("7.00"), "7.00"),
            (DecimalType(20, 9), Decimal("0.000000001"), "0.000000001"),
            (Boolean(), False, "false"),
            (Timestamp(), instant("2031-04-01T10:22:07+00:00"), "2031-04-01T10:22:07Z"),
            (
                Timestamp(),
                instant("2031-04-01T10:22:07.120000+00:00"),
                "2031-04-01T10:22:07.12Z",
            ),
            (Timestamp(), instant("0001-01-01T00:00:00+00:00"), "0001-01-01T00:00:00Z"),
            (ListOf(Text()), ["a;b", "", "c\\d"], "a\\;b;\\e;c\\\\d"),
            (ListOf(Text()), [], ""),
            (Float(), 5.0, "5"),
            (Float(), 0.1, "0.1"),
            (Float(), 12345678901.5, "12345678901.5"),
            (Float(), 1e22, "1e+22"),
            (Float(), 1.5e-7, "1.5e-7"),
        ]
        for kind, value, text in cases:
            with self.subTest(text):
                self.assertEqual(kind.written(value), text)
                array = __import__("pyarrow").array([value], stored(kind).handed_over)
                self.assertEqual(written(array, kind).to_pylist(), [text])

    @given(st.integers(-(2**63) + 1, 2**63 - 1))
    def test_a_duration_reads_back_as_itself(self, micros: int) -> None:
        value = dt.timedelta(microseconds=micros)
        self.assertEqual(TypeSpec(Duration()).read(Duration().written(value)), value)

    @given(
        st.datetimes(dt.datetime(1000, 1, 2), dt.datetime(9999, 12, 30)),
        st.integers(-23 * 60, 23 * 60),
    )
    def test_moments_are_those_of_the_standard_library_in_every_form(
        self, moment: dt.datetime, offset: int
    ) -> None:
        zoned = moment.replace(tzinfo=dt.timezone(dt.timedelta(minutes=offset)))
        whole = zoned.replace(microsecond=0)
        for text, form, expected in (
            (zoned.isoformat(), "iso", zoned),
            (zoned.isoformat(" "), "iso", zoned),
            (format_datetime(whole), "rfc5322", whole),
            (whole.strftime("%d.%m.%Y %H:%M:%S %z"), "%d.%m.%Y %H:%M:%S %z", whole),
            (whole.strftime("%j %Y %I:%M:%S %p %z"), "%j %Y %I:%M:%S %p %z", whole),
            (str((whole - EPOCH) // dt.timedelta(seconds=1)), "epoch-s", whole),
        ):
            reading = TypeSpec(Timestamp(), ReadingOptions(format=(form,)))
            self.assertEqual(reading.read(text), expected, text)
            self.assertEqual(
                read_column(reading, [text]).array[0].as_py(), expected, text
            )
        self.assertEqual(TypeSpec(Datetime()).read(moment.isoformat()), moment)
        self.assertEqual(
            TypeSpec(Time()).read(moment.time().isoformat()), moment.time()
        )
        self.assertEqual(
            TypeSpec(Date(), ReadingOptions(format=("%d %B %Y",))).read(
                moment.strftime("%d %B %Y")
            ),
            moment.date(),
        )

    @given(st.floats(allow_nan=False, allow_infinity=False))
    def test_a_float_reads_back_as_itself(self, number: float) -> None:
        self.assertEqual(repr(float(float_text(number))), repr(number))


class Names(unittest.TestCase):
    def test_types_are_known_by_name(self) -> None:
        self.assertEqual(parse_type("decimal( 12 , 2 )"), DecimalType(12, 2))
        self.assertEqual(parse_type("list(text)"), ListOf(Text()))
        self.assertEqual(parse_type("list(decimal(9,2))"), ListOf(DecimalType(9, 2)))
        self.assertEqual(
            [parse_type("crowns"), parse_type("list(crowns)")], [None, None]
        )
        for name, code in [
            ("decimal", "unknown-type"),
            ("decimal(39,2)", "unknown-type"),
            ("decimal(2,3)", "unknown-type"),
            ("list", "unknown-type"),
            ("list(list(text))", "unknown-type"),
        ]:
            with self.subTest(name), self.assertRaises(TypeNameError) as caught:
                parse_type(name)
            self.assertEqual(caught.exception.code, code)

    def test_the_values_that_random_feeds_are_made_of_stand_for_every_kind(
        self,
    ) -> None:
        self.assertTrue(
            {type(value) for value in SCALARS} == {str, int, Number, bool, type(None)}
        )
        self.assertGreater(len(TEXTS), 30)
        self.assertGreater(len(NUMBERS), 10)


class Everywhere(unittest.TestCase):
    def test_every_type_is_known_wherever_rows_are_written(self) -> None:
        """A type that is added has a line here, or this fails."""
        word = Enum("state", (EnumValue("open"), EnumValue("shut")))
        whole = {"type": "integer", "minimum": -(2**63), "maximum": 2**63 - 1}
        clock = r"[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{1,6})?$"
        local = {
            "type": "string",
            "pattern": f"^[0-9]{{4}}-[0-9]{{2}}-[0-9]{{2}}T{clock}",
        }
        span = r"^-?P([0-9]+D)?(T([0-9]+H)?([0-9]+M)?([0-9]+(\.[0-9]{1,6})?S)?)?$"
        below = {
            digits: {
                "type": "number",
                "exclusiveMinimum": -(10**digits),
                "exclusiveMaximum": 10**digits,
            }
            for digits in (7, 9)
        }
        expected: list[tuple[ValueType, Any, str, str, dict[str, Any]]] = [
            (Text(), "string", "text", "TEXT", {"type": "string"}),
            (Integer(), "long", "bigint", "INTEGER", whole),
            (Float(), "double", "double precision", "REAL", {"type": "number"}),
            (
                Boolean(),
                {"base": "boolean", "format": "true|false"},
                "boolean",
                "INTEGER",
                {"type": "boolean"},
            ),
            (Date(), "date", "date", "TEXT", {"type": "string", "format": "date"}),
            (
                Time(),
                "time",
                "time without time zone",
                "TEXT",
                {"type": "string", "pattern": f"^{clock}"},
            ),
            (Datetime(), "dateTime", "timestamp without time zone", "TEXT", local),
            (
                Timestamp(),
                "dateTimeStamp",
                "timestamp with time zone",
                "TEXT",
                {"type": "string", "format": "date-time"},
            ),
            (
                Duration(),
                "dayTimeDuration",
                "interval",
                "TEXT",
                {"type": "string", "pattern": span},
            ),
            (Json(), "json", "json", "TEXT", {}),
            (
                DecimalType(9, 2),
                {"base": "decimal", "format": "0.00"},
                "numeric(9,2)",
                "TEXT",
                below[7],
            ),
            (
                DecimalType(9, 0),
                {"base": "decimal", "format": "0"},
                "numeric(9,0)",
                "TEXT",
                below[9],
            ),
            (
                ListOf(Integer()),
                "long",
                "bigint[]",
                "TEXT",
                {"type": "array", "items": whole},
            ),
            (
                word,
                {"base": "string", "dc:description": "one of open, shut"},
                "text",
                "TEXT",
                {"type": "string", "enum": ["open", "shut"]},
            ),
        ]
        self.assertEqual(
            {type(kind) for kind, *_ in expected}, set(ValueType.__subclasses__())
        )
        self.assertEqual({*STORED, ListOf}, set(ValueType.__subclasses__()))
        for kind, csvw, postgresql, sqlite, json_schema in expected:
            with self.subTest(kind.name):
                self.assertEqual(
                    kind.elsewhere, Elsewhere(csvw, postgresql, sqlite, json_schema)
                )
                self.assertEqual(kind.is_number, is_numeric(kind))
                empty = pa.array([None], stored(kind).handed_over)
                self.assertEqual(written(empty, kind).to_pylist(), [None])
