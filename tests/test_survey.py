"""The survey: what texts look like, what shapes are found, what surprises, in memory that does not
grow.
"""

from __future__ import annotations

import contextlib
import io
import json
import random
import tracemalloc
import unicodedata
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from mukret.cli.views.survey import print_survey
from mukret.documents import find_sources
from mukret.errors import InputError
from mukret.paths import parse_path
from mukret.survey import PlaceReport, SurveyReport, survey
from mukret.survey.forms import Form, NumberForm, _form_of, form_of
from mukret.survey.report import share
from mukret.values import json_text
from tests.helpers import FolderCase

FORMS: list[tuple[str, Form | NumberForm]] = [
    ("12", NumberForm()),
    ("-9999", NumberForm()),
    (" 12.50 ", NumberForm(point=".", decimals=2)),
    (".5", NumberForm(point=".", decimals=1)),
    ("1e5", NumberForm(exponent=True)),
    ("kr 1,204.50", NumberForm(before="kr", grouping=",", point=".", decimals=2)),
    ("€12", NumberForm(before="€")),
    ("12 km", NumberForm(after="km")),
    ("57%", NumberForm(percent=True)),
    ("(1,200)", NumberForm(grouping=",", either=True, accounting=True)),
    ("1.204,50", NumberForm(grouping=".", point=",", decimals=2)),
    ("12,50", NumberForm(point=",", decimals=2)),
    ("1,204", NumberForm(grouping=",", either=True)),
    ("1.204", NumberForm(point=".", either=True, decimals=3)),
    ("1,23,456", NumberForm(grouping=",")),
    ("NOK 1 200,50", NumberForm(before="NOK", grouping=" ", point=",", decimals=2)),
    ("007", NumberForm(leading_zeros=True)),
    ("0", NumberForm()),
    ("0.5", NumberForm(point=".", decimals=1)),
    ("2031-03-28", Form("date", ("iso",))),
    ("20310328", Form("date", ("%Y%m%d",))),
    ("20319928", NumberForm()),
    ("28/03/2031", Form("date", ("%d/%m/%Y",))),
    ("03/28/2031", Form("date", ("%m/%d/%Y",))),
    ("03/04/2031", Form("date", ("%?/%?/%Y",))),
    ("11 April 1952", Form("date", ("%d %B %Y",))),
    ("Mar 28, 2031", Form("date", ("%b %d, %Y",))),
    ("2031-02-30", Form("impossible-date")),
    ("2031-03-28T04:10:00Z", Form("timestamp", ("iso", "Z", ""))),
    ("2031-03-28 04:10", Form("timestamp", ("iso", "none", ""))),
    (
        "2031-03-28T04:10:00.1234567+01:00",
        Form("timestamp", ("iso", "offset", "fraction")),
    ),
    ("2031-03-28T25:10:00Z", Form("impossible-date")),
    ("Fri, 28 Mar 2031 04:10:00 +0000", Form("timestamp", ("rfc5322", "offset"))),
    ("2031-03-28 04:10:00.5 UTC", Form("timestamp", ("%Y-%m-%d %H:%M:%S.%f UTC", "Z"))),
    ("2031-02-30 04:10 GMT", Form("text")),
    (
        "Fri Mar 28 04:10:00 +0000 2031",
        Form("timestamp", ("%a %b %d %H:%M:%S %z %Y", "offset")),
    ),
    ("Fri Mar  7 04:10:00 2031", Form("timestamp", ("%a %b %d %H:%M:%S %Y", "none"))),
    ("28.03.2031 4:10 PM", Form("timestamp", ("%d.%m.%Y %I:%M %p", "none"))),
    ("04:10", Form("time", ("iso",))),
    ("27:30", Form("duration", ("clock",))),
    ("PT3H20M", Form("duration", ("iso",))),
    ("P", Form("code")),
    ("Yes", Form("boolean")),
    ("n/a", Form("placeholder")),
    ("  ", Form("empty")),
    ('{"a": 1}', Form("json")),
    ("[at sea]", Form("text")),
    ("https://isles.example/x?y", Form("address")),
    ("/v2/ports", Form("address")),
    ("quay@isles.example", Form("mail")),
    ("550e8400-e29b-41d4-a716-446655440000", Form("uuid")),
    ("B0050001", Form("code")),
    ("1.2.3", Form("code")),
    ("Otterwick Havn", Form("text")),
    ("12A", Form("code")),
    ("Quay 12", Form("text")),
    ("\u0661\u0662", Form("text")),
    ("\u0662031-03-28", Form("text")),
    ("1\u00b2", Form("text")),
]


class Forms(unittest.TestCase):
    def test_each_text_has_the_form_that_a_person_would_name(self) -> None:
        for text, form in FORMS:
            with self.subTest(text):
                self.assertEqual(form_of(text), form)

    def test_what_is_remembered_of_a_text_never_changes_the_form_of_another(
        self,
    ) -> None:
        """Texts that differ in their digits alone share an entry; the long way gives the same for
        each.
        """
        rng = random.Random(20310328)
        for _ in range(20_000):
            pattern, _ = rng.choice(FORMS)
            text = "".join(
                rng.choice("0123456789") if c.isdigit() else c for c in pattern
            )
            self.assertEqual(form_of(text), _form_of(text), text)

    def test_a_share_never_reads_as_all_or_nothing_unless_it_is(self) -> None:
        cases = [
            (5, 5, "all"),
            (3, 400, "3 of 400"),
            (99_999, 100_000, "99.9%"),
            (1, 10**6, "<0.1%"),
        ]
        for part, whole, text in cases:
            self.assertEqual(share(part, whole), text)


class SurveyCase(FolderCase):
    def survey(self, *documents: Any, path: str | None = None) -> SurveyReport:
        """The survey of a file of lines."""
        lines = [
            document if isinstance(document, str) else json.dumps(document)
            for document in documents
        ]
        file = self.file("feed.jsonl", "\n".join(lines) + "\n")
        return survey(find_sources([file]), parse_path(path) if path else None)

    def place(self, report: SurveyReport, path: str) -> PlaceReport:
        return next(place for place in report.places if place.path == path)

    def looks(self, *values: Any, name: str = "x") -> list[tuple[str, int, str]]:
        report = self.survey({"r": [{name: value} for value in values]})
        return [
            (look.name, look.count, look.detail)
            for look in self.place(report, f"$.r[*].{name}").looks
        ]


class Looks(SurveyCase):
    def test_the_values_of_a_place_have_one_look(self) -> None:
        cases: list[tuple[str, list[Any], list[tuple[str, int, str]]]] = [
            ("x", ["kr 1,204.50", "kr 12"], [("number in text", 2, '"kr" around it, "," in thousands, 2 digits after the point')]),
            ("x", ["1,204", "12,50"], [("number in text", 2, '"," for a point, 3 digits after the point')]),
            ("x", ["1.204", "1.204,50"], [("number in text", 2, '"." in thousands, "," for a point, 2 digits after the point')]),
            ("x", ["1,204", "55"], [("number in text", 2, '"," in thousands, whole')]),
            ("x", ["007", "12"], [("leading zeros", 2, "digits, some with zeros in front: keep them as text")]),
            ("x", ["12 Quay", "3 Pier", "4 Mole", "5 Slip"], [("text", 4, "")]),
            ("x", ["20310328", "20310329"], [("date", 2, "%Y%m%d")]),
            ("x", ["20310328", "20319999"], [("number in text", 2, "whole")]),
            ("x", ["28/03/2031", "03/04/2031"], [("date", 2, "%d/%m/%Y")]),
            ("x", ["03/04/2031"], [("date", 1, "…/…/%Y: day or month first, no value tells")]),
            ("x", ["04:10", "27:30"], [("duration", 2, "H:MM")]),
            ("x", ["2031-03-28T04:10Z", "2031-03-28T04:10"], [("timestamp", 2, "ISO 8601, 1 Z, 1 no offset: local time")]),
            ("x", ["yes", "N"], [("boolean word", 2, "")]),
            ("x", ['{"a": 1}'], [("JSON in text", 1, "")]),
            ("x", ["12", "n/a", ""], [("number in text", 1, "whole"), ("empty text", 1, ""), ("placeholder", 1, '"n/a"')]),
            ("sent", [1932964927, 1932964930], [("epoch", 2, "seconds since 1970: 2031-04-03T06:42Z … 2031-04-03T06:42Z")]),
            ("updated", [1932964927.25], [("epoch", 1, "seconds since 1970: 2031-04-03T06:42Z … 2031-04-03T06:42Z")]),
            ("x", ["12"] * 9 + ["\u00b2"], [("number in text", 9, "whole")]),
            ("x", ["12"] * 9 + ["9" * 5000], [("number in text", 9, "whole")]),
            ("sent", ["1932480172"] * 9 + ["\u00b2"], [("epoch", 9, "seconds since 1970 in text")]),
            ("updated", [10**400], [("whole number", 1, "beyond 64 bits")]),
            ("load", [1932964927.25, 1932964928.5], [("number", 2, "2 digits after the point")]),
            ("sent", ["1932964927123"], [("epoch", 1, "milliseconds since 1970 in text")]),
            ("sent_id", [1932964927, 1932964930], [("whole number", 2, "")]),
            ("x", [1.5, 2.25], [("number", 2, "2 digits after the point")]),
            ("x", [2**70, 1], [("whole number", 2, "beyond 64 bits")]),
            ("x", ["a", "12", "b"], [("text", 3, "")]),
        ]  # fmt: skip
        for name, values, expected in cases:
            with self.subTest(values):
                self.assertEqual(self.looks(*values, name=name), expected)

    def test_numbers_keep_their_digits_in_the_report(self) -> None:
        report = self.survey('{"x": 1.10}', '{"x": 123456789012345678901}')
        shown = self.place(report, "$.x").as_json()
        self.assertEqual((shown["low"], shown["high"]), ("1.10", 123456789012345678901))

    def test_words_ids_and_references(self) -> None:
        vessels = [{"id": f"MV-{n}", "name": f"Vessel {n}"} for n in range(12)]
        sailings = [
            {"no": n, "vessel": f"MV-{n % 11}", "state": "DEP" if n % 3 else "dep "}
            for n in range(40)
        ]
        sailings[7]["vessel"] = "MV-99"
        report = self.survey({"vessels": vessels, "sailings": sailings})
        state, vessel, number = (
            self.place(report, f"$.sailings[*].{name}")
            for name in ("state", "vessel", "no")
        )
        self.assertEqual(state.words, (("DEP", 26), ("dep ", 14)))
        self.assertEqual(
            (vessel.refers_to, vessel.unique, number.unique),
            ("$.vessels[*].id", None, "everywhere"),
        )
        self.assertEqual(
            [(one.code, one.path, one.message) for one in report.surprises],
            [
                (
                    "reference-missing",
                    "$.sailings[*].vessel",
                    "1 of 12 different values stand not in $.vessels[*].id",
                ),
                (
                    "words-alike",
                    "$.sailings[*].state",
                    'differ in case or white space only: "DEP", "dep "',
                ),
            ],
        )

    def test_an_id_may_be_unique_in_its_list_alone(self) -> None:
        report = self.survey(
            *({"ports": [{"code": "OTV"}, {"code": "SKR"}]} for _ in range(5))
        )
        self.assertEqual(self.place(report, "$.ports[*].code").unique, "in its list")


class Surprises(SurveyCase):
    def test_what_differs_now_and_then_is_named_with_its_place(self) -> None:
        records: list[dict[str, Any]] = [
            {"id": n, "fare": f"{n}.50", "to": "SKR", "deck": ["a"]} for n in range(40)
        ]
        records[3]["fare"] = "ask crew"
        records[4]["to"] = None
        del records[5]["to"]
        records[6]["id"] = 2
        records[7]["deck"] = {"a": 1}
        records[8]["extra"] = 1
        records[9]["when"] = ["2031-04-01", "1 April 2031"]
        report = self.survey({"r": records[:20]}, {"r": records[20:]})
        found = {
            (one.code, one.where.path if one.where else None, one.message)
            for one in report.surprises
        }
        self.assertEqual(
            found,
            {
                (
                    "odd-value",
                    "$['r'][3]['fare']",
                    '1 of 40 is not a number: "ask crew"',
                ),
                ("null-now-and-then", "$['r'][4]['to']", "null in 1 of 39"),
                ("missing-member", "$['r'][5]", "missing in 1 of 40"),
                ("id-repeats", "$['r'][6]['id']", "1 value came before, such as 2"),
                (
                    "list-or-object",
                    "$['r'][7]['deck']",
                    "a list, but an object now and then: array 39, object 1",
                ),
                ("rare-member", "$['r'][8]['extra']", "there in 1 of 40 only"),
                ("rare-member", "$['r'][9]['when']", "there in 1 of 40 only"),
                (
                    "ways-of-writing",
                    "$['r'][9]['when'][1]",
                    "written in 2 ways: ISO 8601 ×1, %d %B %Y ×1",
                ),
            },
        )
        self.assertEqual(
            {one.where.document for one in report.surprises if one.where}, {1}
        )

    def test_white_space_is_named_where_it_would_be_kept(self) -> None:
        report = self.survey(
            {
                "r": ["tern", "eider ", " loon"],
                "n": [" 1", "2 "],
                "w": ["a", "a ", "b"] * 9,
            }
        )
        found = [
            (one.code, one.path, one.message, one.where and one.where.path)
            for one in report.surprises
        ]
        self.assertEqual(
            found,
            [
                (
                    "white-space",
                    "$.r[*]",
                    '2 of 3 have white space around them, such as "eider "',
                    "$['r'][1]",
                ),
                (
                    "words-alike",
                    "$.w[*]",
                    'differ in case or white space only: "a", "a "',
                    None,
                ),
            ],
        )
        self.assertEqual(self.place(report, "$.r[*]").looks[0].reading, {"trim": True})

    def test_members_that_came_twice_and_numbers_beyond_64_bits(self) -> None:
        report = self.survey('{"a": {"b": 1, "b": 2}, "n": 36893488147419103232}')
        codes = {
            one.code: one.where.path if one.where else one.path
            for one in report.surprises
        }
        self.assertEqual(
            codes, {"beyond-64-bits": "$.n", "member-twice": "$['a']['b']"}
        )


class Shapes(SurveyCase):
    def shape(self, document: Any, path: str = "$") -> tuple[str, ...]:
        return self.place(self.survey(document), path).shape

    def test_names_that_are_data_make_one_place(self) -> None:
        """Dates, codes, many alike; on two levels too; and not the members of ordinary records."""
        level = {"high": 3.2, "low": 0.4}
        cases: list[tuple[Any, list[str]]] = [
            ({"2031-04-01": level, "2031-04-02": level}, ["$", "$[*]", "$[*].high", "$[*].low"]),
            ({"2031-04-01": {"OTV": 1, "SKR": 2, "BRA": 3, "LUN": 2, "TOL": 4}}, ["$", "$[*]", "$[*][*]"]),
            ({"NOK": 1.2, "EUR": 11.2, "DKK": 1.5, "SEK": 1.1, "GBP": 13.1}, ["$", "$[*]"]),
            ({f"quay {name}": level for name in "abcdef"}, ["$", "$[*]", "$[*].high", "$[*].low"]),
            ({"fo": {"lang": "fo"}, "da": {"lang": "da"}}, ["$", "$[*]", "$[*].lang"]),
            ({"fo": {"lang": "fo"}, "da": {"lang": "xx"}}, ["$", "$.fo", "$.fo.lang", "$.da", "$.da.lang"]),
            ({"lat": 1.5, "lon": 2.5}, ["$", "$.lat", "$.lon"]),
            ({"adult": "kr 1", "child": "kr 2", "car": "kr 3"}, ["$", "$.adult", "$.child", "$.car"]),
            ({"a": 1, "b": "x", "c": [1], "d": None, "e": {}, "f": 2}, ["$", "$.a", "$.b", "$.c", "$.c[*]", "$.d", "$.e", "$.f"]),
        ]  # fmt: skip
        for document, paths in cases:
            with self.subTest(document):
                self.assertEqual(
                    [place.path for place in self.survey(document).places], paths
                )

    def test_places_that_hold_themselves_are_one(self) -> None:
        """Lists of replies to replies, and folders in folders by name."""
        thread: dict[str, Any] = {"id": 0, "replies": []}
        for number in range(1, 60):
            thread = {"id": number, "replies": [thread]}
        report = self.survey([thread])
        paths = [
            "$",
            "$[*]",
            "$[*].id",
            "$[*].replies",
            "$[*].replies[*]",
            "$[*].replies[*].id",
        ]
        self.assertEqual([place.path for place in report.places], paths)
        self.assertIn("holds itself", self.place(report, "$[*].replies").shape)
        self.assertEqual(self.place(report, "$[*].replies[*].id").present, 59)
        deep = {
            "size": 1,
            "folders": {"y": {"size": 2, "folders": {"z": {"size": 3, "folders": {}}}}},
        }
        report = self.survey({"folders": {"x": deep}})
        self.assertEqual(
            [place.path for place in report.places],
            ["$", "$.folders", "$.folders[*]", "$.folders[*].size"],
        )
        self.assertEqual(self.place(report, "$.folders[*].size").present, 3)

    def test_tables_sent_as_rows(self) -> None:
        for stray in (
            None,
            [],
            7,
            [None, 3.5],
        ):  # below a header of names the list is a table, whatever stands in it
            strange = {"t": [["code", "depth"], ["A", 3.5], stray]}
            self.assertEqual(
                self.shape(strange, "$.t")[0],
                "the first row holds the names: code, depth",
                stray,
            )
        header = {"t": [["code", "depth"], ["A", 3.5], ["B", 4.5]]}
        self.assertEqual(
            self.shape(header, "$.t"), ("the first row holds the names: code, depth",)
        )
        depth = self.place(self.survey(header), "$.t[*][1]")
        self.assertEqual(
            (depth.present, [look.name for look in depth.looks]), (2, ["number"])
        )
        beside = {
            "columns": ["day", "boats"],
            "rows": [["2031-04-01", 3], ["2031-04-02", 5]],
        }
        self.assertEqual(
            self.shape(beside), ("columns holds the names of the columns of rows",)
        )
        points = {"line": [[[-8.1, 57.2], [-8.2, 57.3]], [[-8.1, 57.2]]]}
        self.assertEqual(
            [place.path for place in self.survey(points).places][-2:],
            ["$.line[*][*][0]", "$.line[*][*][1]"],
        )
        for uneven in ([[1], [1, 2], []], [[1, 2], []]):
            paths = [place.path for place in self.survey({"a": uneven}).places]
            self.assertEqual(paths, ["$", "$.a", "$.a[*]", "$.a[*][*]"])
        envelope = [{"page": 1}, [{"code": "OTV"}, {"code": "SKR"}]]
        paths = [place.path for place in self.survey(envelope).places]
        self.assertEqual(
            paths, ["$", "$[0]", "$[0].page", "$[1]", "$[1][*]", "$[1][*].code"]
        )

    def test_parallel_arrays_are_of_equal_length_always(self) -> None:
        tides = [
            {"times": ["04:10"] * n, "heights": ["1.2"] * n, "notes": ["x"] * 2}
            for n in (2, 3, 4)
        ]
        self.assertEqual(
            self.shape({"r": tides}, "$.r[*]"),
            ("times and heights are of equal length: parallel",),
        )

    def test_records_of_several_sorts_are_told_by_a_word(self) -> None:
        records = [
            {"id": n, "kind": "berth", "depth": 3, "lit": True}
            if n % 3
            else {"id": n, "kind": "buoy", "colour": "red"}
            for n in range(12)
        ]
        sorts = self.place(self.survey({"r": records}), "$.r[*]").sorts
        assert sorts is not None
        told = {one.word: (one.count, one.members) for one in sorts.sorts}
        self.assertEqual(
            (sorts.member, told),
            ("kind", {"buoy": (4, ("colour",)), "berth": (8, ("depth", "lit"))}),
        )
        for record in records:
            record.update(depth=3, lit=True, colour="red")
        self.assertIsNone(self.place(self.survey({"r": records}), "$.r[*]").sorts)


TRICKY = [text for text, _ in FORMS] + [
    "\x1b[2J",
    "\u202e",
    "9" * 5000,
    "1932480172",
    "\u0661",
    "\u00b2",
    "Departed ",
    "0\x1f",
]
TEXTS = st.one_of(
    st.sampled_from(TRICKY), st.text(st.characters(codec="utf-8"), max_size=12)
)
NUMBERS = st.one_of(st.integers(), st.sampled_from([10**400, -(10**30), 1_932_480_172_102]), st.floats(allow_nan=False, allow_infinity=False))  # fmt: skip
NAMES = st.one_of(
    st.sampled_from(["id", "updated", "items", "2031-04-01", "OTV"]), TEXTS
)
DOCUMENTS = st.recursive(
    st.one_of(TEXTS, NUMBERS, st.none(), st.booleans()),
    lambda below: st.one_of(
        st.lists(below, max_size=6), st.dictionaries(NAMES, below, max_size=6)
    ),
    max_leaves=40,
)


class AnyJson(SurveyCase):
    @settings(max_examples=150, deadline=None)
    @given(st.lists(DOCUMENTS, min_size=1, max_size=5))
    def test_every_node_is_counted_once_and_none_reaches_the_screen_as_it_is(
        self, documents: list[Any]
    ) -> None:
        report = self.survey(*map(json.dumps, documents))
        for one in report.places:
            self.assertEqual(
                sum(seen.count for seen in one.place.kinds.values()), one.present
            )
            self.assertTrue(one.present <= one.of or one.place.recursive)
        if not any(
            one.place.header for one in report.places
        ):  # a row of names is said, not counted
            self.assertEqual(
                sum(one.present for one in report.places), sum(map(nodes, documents))
            )
        json_text(report.as_json())
        with contextlib.redirect_stdout(io.StringIO()) as shown:
            print_survey(report, ["feed.jsonl"], quiet=True, details=True)
        unsafe = {
            c
            for c in shown.getvalue()
            if not c.isprintable() and unicodedata.category(c) != "Zs"
        }
        self.assertEqual(unsafe - {"\n"}, set())


def nodes(document: Any) -> int:
    below = (
        document.values()
        if isinstance(document, dict)
        else document
        if isinstance(document, list)
        else ()
    )
    return 1 + sum(map(nodes, below))


class Bounds(SurveyCase):
    def test_what_a_service_may_send_on_purpose_is_counted_within_bounds(self) -> None:
        """A hundred thousand names, places, levels, forms; one place for each of them would be too
        many.
        """
        names = {f"m{n}": n for n in range(100_000)}
        wide = {f"m{n}": [{}, "x", 1, None, [1]][n % 5] for n in range(100_000)}
        forms = [f"{'x' * (n % 50)} {n}{'y' * (n % 7)}" for n in range(100_000)]
        deep = "".join(f'{{"d{n}":[' for n in range(450)) + "1" + "]}" * 450
        report = self.survey(
            {"names": names}, {"wide": wide}, {"forms": forms}, f'{{"deep": {deep}}}'
        )
        self.assertLess(len(report.places), 3_000)
        self.assertIn("$.names[*]", [place.path for place in report.places])
        codes = {one.code: one.path for one in report.surprises}
        self.assertEqual(codes["not-followed"].partition(".")[0], "$")
        self.assertEqual(self.place(report, "$.names").place.names.count, 100_000)
        self.assertEqual(
            sum(1 for one in report.surprises if one.code == "not-followed"), 2
        )

    def test_two_screens_are_filled_and_the_rest_is_counted(self) -> None:
        def record(depth: int, name: str) -> Any:
            below = (
                {
                    f"{name}{step}": [record(depth - 1, f"{name}{step}")] * 2
                    for step in "abcd"
                }
                if depth
                else {}
            )
            return {"id": depth, f"{name}_label": "x", **below}

        report = self.survey({"root": [record(4, "r")]})
        shown = {}
        for whole in (False, True):
            with contextlib.redirect_stdout(io.StringIO()) as screen:
                print_survey(
                    report, ["feed.json"], quiet=True, details=False, whole=whole
                )
            shown[whole] = screen.getvalue().splitlines()
        places = sum(line.endswith("; 82 places below") for line in shown[False])
        self.assertEqual(
            (len(report.places), len(shown[True]), len(shown[False]), places),
            (1_365, 1_370, 64, 16),
        )
        self.assertEqual(
            (shown[True][-1].strip(), shown[False][-1]),
            (
                "└ rdddd_label  text; x ×16",
                "Deeper places are only counted: --path '$.root[*].ra[*].raa[*]'"
                " shows those below it, --whole all",
            ),
        )

    def test_a_path_narrows_the_survey_and_one_that_finds_nothing_says_what_is_near(
        self,
    ) -> None:
        document = {"ports": [{"code": "OTV", "berths": [{"no": 1}]}]}
        report = self.survey(document, document, path="$.ports[*].berths[*]")
        self.assertEqual(
            [(place.path, place.present) for place in report.places],
            [("$.ports[*].berths[*]", 2), ("$.ports[*].berths[*].no", 2)],
        )
        report = self.survey(document, path="$.port")
        self.assertEqual(
            (report.roots, report.hint),
            (0, "$.port is not there; did you mean $.ports?"),
        )

    def test_bad_documents_are_counted_and_nothing_but_them_is_an_error(self) -> None:
        report = self.survey({"a": 1}, "{'a': 1}", {"a": 2})
        self.assertEqual(
            (report.documents, report.bad_documents, report.bad[0].number), (2, 1, 2)
        )
        with self.assertRaises(InputError) as caught:
            self.survey("{'a': 1}")
        self.assertEqual(
            (caught.exception.code, caught.exception.pointer),
            ("nothing-read", ("{'a': 1}", 1)),
        )

    def test_batches_do_not_change_what_is_found(self) -> None:
        """The same lines in one file and in many, so that every batch holds other ones."""
        rng = random.Random(5)
        records = [
            {
                "id": n,
                "x": rng.choice(["1", "2.5", "a", None, ""]),
                "y": {"z": [rng.randrange(9)] * (n % 3)},
            }
            for n in range(300)
        ]
        whole = self.survey(*records).as_json()
        file = self.folder / "feed.jsonl"
        for size in (300, 5_000):
            self.assertEqual(
                survey(find_sources([file]), batch_bytes=size).as_json(), whole
            )

    def test_neither_do_the_parts_of_a_long_document(self) -> None:
        """Nodes, lengths, places, what is unique in a list and what is parallel are those of the
        whole.
        """
        paths = [
            None,
            "$.net",
            "$.net.ports[*]",
            "$.net.ports[30].berths[*]",
            "$.net.ports[?@.tide > 4]",
            "$..tide",
        ]
        for seed in range(12):
            document = long_document(random.Random(seed))
            with self.subTest(seed=seed):
                file = self.file(
                    "whole.json", json.dumps(document, indent=seed % 3 or None)
                )
                for text in paths:
                    path = parse_path(text) if text else None
                    whole, in_parts = (
                        survey(find_sources([file]), path, batch_bytes=size).as_json()
                        for size in (10_000_000, 1_000)
                    )
                    self.assertEqual(in_parts, whole)

    def test_a_long_document_takes_the_memory_of_its_parts(self) -> None:
        ports = ",".join(
            json.dumps({"code": f"P{n}", "notes": "x" * 400}) for n in range(40_000)
        )
        file = self.file("long.json", f'{{"net":{{"ports":[{ports}]}}}}')
        tracemalloc.start()
        report = survey(find_sources([file]), batch_bytes=200_000)
        _, peak = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        self.assertEqual(
            (report.documents, self.place(report, "$.net.ports[*]").place.nodes),
            (1, 40_000),
        )
        self.assertLess(peak, 8_000_000)


def long_document(rng: random.Random) -> dict[str, Any]:
    """With some arrays of hundreds of elements, and shorter ones beside them."""
    count = rng.choice([90, 150, 400])
    ports = [
        {
            "code": f"P{n if rng.random() < 0.999 else 0}",
            "tide": rng.choice([n, n + 1, None]),
            "berths": [
                {"no": k, "deep": rng.random() < 0.5} for k in range(rng.randrange(4))
            ],
            "place": [n / 7, n / 9],
        }
        for n in range(count)
    ]
    times = [f"2031-03-{n % 28 + 1:02}T10:00" for n in range(rng.choice([300, 310]))]
    rows = [
        ["code", "tide"],
        *([f"P{n}", str(n)] for n in range(rng.choice([20, 300]))),
    ]
    stray = [{"code": 1}, "stray", None, {"other": [1, 2]}]
    members = {
        "net": {"ports": ports + stray * rng.randrange(2), "name": "Merrow"},
        "hours": {"time": times, "tide": list(range(300))},
        "rows": rows,
        "unlike": [{"page": 1}, ports[:50]],
        "days": {f"2031-03-{n:02}": [{"n": k} for k in range(150)] for n in (1, 2)},
        "note": None,
    }
    names = [*members]
    rng.shuffle(names)
    return {name: members[name] for name in names[: rng.randrange(3, 7)]}


if __name__ == "__main__":
    unittest.main()
