"""JSONPath (RFC 9535): selectors, filters, functions, normalized paths, and what the grammar and
its types forbid.
"""

from __future__ import annotations

import json
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from mukret.documents import decode
from mukret.paths import (
    PathSyntaxError,
    nearest_existing,
    normalized,
    parse_condition,
    parse_path,
)
from mukret.paths.parse import MOST_STEPS
from mukret.paths.regexps import PatternError, check_pattern, found_in, matches
from mukret.values import Number
from tests.random_feeds import SCALARS

DOCUMENT: dict[str, Any] = {
    "a": [0, 1, 2, 3],
    "b": {"x": {"k": 1}, "y": [{"k": 2}, {"k": None}]},
    "d e": {"'": 7, "\n": 8, "☺": 9},
    "": "empty",
}

FOUND: list[tuple[str, list[str]]] = [
    ("$", ["$"]),
    ("$.a[0]", ["$['a'][0]"]),
    ("$ .a\n[ -1 ]", ["$['a'][3]"]),
    ("$.a[9]", []),
    ("$.a.b", []),
    ("$.a[1:3]", ["$['a'][1]", "$['a'][2]"]),
    ("$.a[ 1 : 3 : 1 ]", ["$['a'][1]", "$['a'][2]"]),
    ("$.a[::-2]", ["$['a'][3]", "$['a'][1]"]),
    ("$.a[-2:]", ["$['a'][2]", "$['a'][3]"]),
    ("$.a[::0]", []),
    ("$.a[5:1]", []),
    ("$.a[-9007199254740991:9007199254740991:9007199254740991]", ["$['a'][0]"]),
    ("$.b.*", ["$['b']['x']", "$['b']['y']"]),
    ("$.b[*][*].k", ["$['b']['y'][0]['k']", "$['b']['y'][1]['k']"]),
    ("$.a[0,0,-4]", ["$['a'][0]"] * 3),
    ("$['b','a'][0]", ["$['a'][0]"]),
    ("$['d e']['\\'']", ["$['d e']['\\'']"]),
    ('$["d e"]["\\n"]', ["$['d e']['\\n']"]),
    ("$['d e']['\\u263A']", ["$['d e']['☺']"]),
    ("$['d e'].☺", ["$['d e']['☺']"]),
    ("$['']", ["$['']"]),
    ("$..k", ["$['b']['x']['k']", "$['b']['y'][0]['k']", "$['b']['y'][1]['k']"]),
    ("$.b..[0]", ["$['b']['y'][0]"]),
    ("$.a..*", ["$['a'][0]", "$['a'][1]", "$['a'][2]", "$['a'][3]"]),
    ("$.b..*", ["$['b']['x']", "$['b']['y']", "$['b']['x']['k']", "$['b']['y'][0]", "$['b']['y'][1]", "$['b']['y'][0]['k']", "$['b']['y'][1]['k']"]),
    ("$.b..['k','k']", [f"$['b']{where}['k']" for where in ("['x']", "['y'][0]", "['y'][1]") for _ in (1, 2)]),
    ("$.b..y[*]..k", ["$['b']['y'][0]['k']", "$['b']['y'][1]['k']"]),
    ("$[?@.x]", ["$['b']"]),
    ("$.a[?@>1, ?@<1, 0]", ["$['a'][2]", "$['a'][3]", "$['a'][0]", "$['a'][0]"]),
    ("$..[?@.k]", ["$['b']['x']", "$['b']['y'][0]", "$['b']['y'][1]"]),
    ("$..[?@.k==null]", ["$['b']['y'][1]"]),
    ("$.b[?@[?@.k]]", ["$['b']['y']"]),
    ("$.b.y[?@.k == $.a[2]]", ["$['b']['y'][0]"]),
    ("$[?(@.x || @ == 'empty') && !@.z]", ["$['b']", "$['']"]),
    ("$[? ! @.x ]", ["$['a']", "$['d e']", "$['']"]),
]  # fmt: skip

BERTHS: list[Any] = [
    {"no": 1, "depth": 3, "lit": True, "at": "Otterwick", "marks": []},
    {
        "no": 2,
        "depth": 3.0,
        "lit": None,
        "at": "Skerry Roads",
        "marks": [1, {"n": "x"}],
    },
    {"no": 3, "depth": "3", "at": "☺", "marks": {"n": 1}},
]

KEPT: list[tuple[str, list[int]]] = [
    # comparisons: numbers by value, kinds apart, what is not there equal to what is not there alone
    ("@.depth == 3", [1, 2]),
    ("@.depth == 3.0e0", [1, 2]),
    ("@.depth == '3'", [3]),
    ("@.depth != 3", [3]),
    ("@.depth < 3.5", [1, 2]),
    ("@.depth <= '3'", [3]),
    ("@.depth > -1E+2", [1, 2]),
    ("'2' < @.depth", [3]),
    ("@.lit == null", [2]),
    ("@.lit == @.nowhere", [3]),
    ("@.lit != @.nowhere", [1, 2]),
    ("@.nowhere == @.other", [1, 2, 3]),
    ("@.nowhere <= @.other", [1, 2, 3]),
    ("@.nowhere < @.other", []),
    ("@.lit == true", [1]),
    ("@.lit >= true", [1]),
    ("@.lit > false", []),
    ("@.no == 1 || @.no == 2 && @.depth == '3'", [1]),
    ("(@.no == 1 || @.no == 2) && !(@.depth == '3')", [1, 2]),
    ("@.marks == $[1].marks", [2]),
    ("@.marks != $[1].marks", [1, 3]),
    ("@.at < 'P'", [1]),
    ('@["at"] == "\\u263a"', [3]),
    # existence: null is there
    ("@.lit", [1, 2]),
    ("!@.lit", [3]),
    ("@.marks[*]", [2, 3]),
    ("@.*", [1, 2, 3]),
    ("@['lit','nowhere']", [1, 2]),
    ("@..n", [2, 3]),
    # functions
    ("length(@.at) == 1", [3]),
    ("length(@.marks) == 2", [2]),
    ("length(@.marks) == 1", [3]),
    ("length(@.no) == @.nowhere", [1, 2, 3]),
    ("length('ab') == 2", [1, 2, 3]),
    ("count(@.marks[*]) == 2", [2]),
    ("count(@..*) > 7", [2]),
    ("value(@..n) == 'x'", [2]),
    ("value(@.*) == 1", []),
    ("length(value(@..n)) == 1", [2]),
    ("match(@.at, 'O.*')", [1]),
    ("match(@.at, 'tt')", []),
    ("match(@.at, 'Otterwick|.')", [1, 3]),
    ("search(@.at, 'R|tt')", [1, 2]),
    ("search(@.at, @.marks.n)", []),
    ("!search(@.at, 'e[rR]')", [3]),
    ("match(@.no, '1')", []),
    ("match(@.at, '(')", []),
    ("search(@.at, '\\\\d')", []),
]

REFUSED: list[tuple[str, int]] = [
    ("", 0), ("a.b", 0), (" $", 0), ("$ ", 1), ("@.a", 0), ("$.", 2), ("$.a b", 4), ("$.a-b", 3), ("$.1a", 2), ("$.'a'", 2),
    ("$.a.[0]", 3), ("$. a", 2), ("$.. a", 3), ("$..", 3), ("$...a", 3), ("$..'a'", 3), ("$[", 1), ("$[0", 1), ("$[]", 2),
    ("$[a]", 2), ("$[01]", 2), ("$[-0]", 2), ("$[+1]", 2), ("$[1.0]", 3), ("$[9007199254740992]", 2), ("$[0:01]", 4),
    ("$[1:2:-9007199254740992]", 6), ("$[1:2:3:4]", 7), ("$[0,]", 4), ("$[,0]", 2), ("$['a", 2), ("$['a\\x']", 5),
    ("$['\\u12']", 4), ("$['\\uD800']", 3), ("$['\\uD800\\u0041']", 9), ("$['\\uDC00']", 3), ("$['a\tb']", 4),
    ("$['a\\\"b']", 5), ('$["a\\\'b"]', 5), ("$.a]", 3), ("$\u00a0.a", 1), ("$.a\ud800", 3),
]  # fmt: skip

REFUSED_FILTERS: list[tuple[str, int]] = [
    ("", 0), ("1", 0), ("'a'", 0), ("true", 0), ("@.a = 1", 4), ("@.a === 1", 4), ("@.a <> 1", 5), ("@.a == ", 7), ("== 1", 0),
    ("@.a == 01", 7), ("@.a == 1.", 7), ("@.a == .5", 7), ("@.a == +1", 7), ("@.a == 1e", 7), ("@.a == --1", 7),
    ("@.a == True", 7), ("@.a == nil", 7), ("@.a == [1]", 7), ("@.a == {}", 7), ("@.a == 'x", 7), ("a == 1", 0),
    ("@.a and @.b", 4), ("not @.a", 0), ("@.a & @.b", 4), ("@.a | @.b", 4), ("@.a || ", 7), ("!!@.a", 1), ("!@.a == 1", 0),
    ("(@.a", 0), ("@.a)", 3), ("(@.a) == 1", 0), ("((@.a) && @.b", 0), ("@.a == 1 == 2", 9),
    # a comparison takes singular paths and values alone
    ("@.* == 1", 0), ("1 == @..a", 5), ("@[0:1] == 1", 0), ("@[0,1] < 1", 0), ("@[?@.a] == 1", 0),
    # functions: known, with the right number of arguments, each well-typed
    ("lenght(@.a) == 1", 0), ("Length(@.a) == 1", 0), ("length (@.a) == 1", 0), ("length(@.a)", 0), ("count(@.*)", 0),
    ("length() == 1", 0), ("length(@.a, @.b) == 1", 0), ("length(@.a == 1", 7), ("length(@.*) == 1", 7), ("count(1) == 1", 6),
    ("count(length(@)) == 1", 6), ("count(@.a && @.b) == 1", 6), ("value('x') == 1", 6), ("match(@.a)", 0),
    ("match(@.a, 'x') == true", 0), ("match(@.*, 'x')", 6), ("match(@.a, match(@.b, 'x'))", 11), ("search(@.a, 'x', 'y')", 0),
    ("length(@.a @.b) == 1", 11), ("length(match(@.a, 'x')) == 1", 7), ("length(!@.a) == 1", 7),
]  # fmt: skip

PATTERNS: list[tuple[str, list[str], list[str]]] = [
    ("a.c", ["abc", "a\u2028c", "a☺c"], ["a\nc", "a\rc", "ac", "xabc"]),
    ("a|bc", ["a", "bc"], ["ac", "abc"]),
    ("(ab)*c?", ["", "ababc"], ["aba"]),
    ("a{2}b{1,}c{0,2}", ["aab", "aabbcc"], ["ab", "aabccc"]),
    ("[a-c-]+", ["a-b"], ["d"]),
    ("[-a]", ["-", "a"], ["b"]),
    ("[^a-c]", ["d", "☺", "\n"], ["a"]),
    ("[\\]\\^\\-&~|]+", ["]^-&~|"], ["\\"]),
    ("\\.\\n\\t\\{", [".\n\t{"], ["xn"]),
    ("\\p{Lu}\\P{L}", ["A1", "É☺"], ["a1", "AB"]),
    ("[\\p{L}\\p{Nd}]+", ["aÉ١"], ["_"]),
    ("^ab$", ["ab"], ["^ab$"]),
    ("", [""], ["a"]),
    ("a||b", ["", "a", "b"], ["ab"]),
    ("#/é", ["#/é"], ["#/e"]),
]

NO_PATTERNS: list[tuple[str, int]] = [
    ("(", 0), (")", 0), ("a)", 1), ("(?:a)", 0), ("[", 0), ("[]", 1), ("[a", 0), ("[b-a]", 1), ("[a-c-e]", 4), ("[a[b]]", 2), ("]", 0),
    ("*a", 0), ("a**", 2), ("a+?", 2), ("a{,2}", 1), ("a{2,1}", 1), ("a{1001}", 1), ("a{x}", 1), ("a}", 1), ("\\", 0), ("\\d", 0),
    ("\\w", 0), ("a\\b", 1), ("\\1", 0), ("\\p{Xx}", 0), ("\\pL", 0), ("\\u0041", 0), ("(" * 60 + ")" * 60, 51), ("(" * 5000, 51),
]  # fmt: skip


class Paths(unittest.TestCase):
    def test_a_query_finds_nodes_in_document_order_and_lists_one_found_twice_twice(
        self,
    ) -> None:
        for text, expected in FOUND:
            with self.subTest(text):
                path = parse_path(text)
                self.assertEqual(path.locations(DOCUMENT), expected)
                self.assertEqual(
                    path.values(DOCUMENT), [value for _, value in path.nodes(DOCUMENT)]
                )

    def test_what_the_grammar_forbids_is_refused_at_its_character(self) -> None:
        for text, position in [
            *REFUSED,
            *((f"$[?{text}]", position + 3) for text, position in REFUSED_FILTERS),
        ]:
            with self.subTest(text), self.assertRaises(PathSyntaxError) as caught:
                parse_path(text)
            self.assertEqual(
                caught.exception.position, position, (text, caught.exception.cause)
            )
            self.assertTrue(caught.exception.cause)

    def test_a_condition_that_stands_alone_is_what_a_filter_holds(self) -> None:
        for text, position in REFUSED_FILTERS:
            with self.subTest(text), self.assertRaises(PathSyntaxError) as caught:
                parse_condition(text)
            self.assertEqual(
                caught.exception.position, position, (text, caught.exception.cause)
            )
        for text, kept in KEPT:
            condition = parse_condition(f" {text}\n")
            self.assertEqual(
                [berth["no"] for berth in BERTHS if condition.holds(berth, BERTHS)],
                kept,
                text,
            )
        with self.assertRaisesRegex(PathSyntaxError, "stands alone"):
            parse_condition("?@.a")

    def test_every_forbidden_end_and_every_cut_of_a_long_query_is_an_error_or_a_query(
        self,
    ) -> None:
        """No text leads to any other exception: cut and mangled texts of all constructs."""
        whole = "$ ['a', \"b\\u00e9\" , 1 , -1:2:3 ,* ,?(@.a[0] >= -1.5e3&&!match(@.b ,'x\\\\.')||count($.*)!=null)] ..c ..[?@['d']]"
        parse_path(whole)
        for at in range(len(whole)):
            for text in (
                whole[:at],
                whole[:at] + whole[at + 1 :],
                whole[:at] + "?" + whole[at:],
                whole[at:],
            ):
                try:
                    parse_path(text)
                except PathSyntaxError as error:
                    self.assertLessEqual(error.position, len(text))

    def test_deep_and_long_queries_are_read_or_refused(self) -> None:
        for text in (
            "$" + "[0" * 5000,
            "$" + "[?@" * 5000,
            "$[?" + "(" * 5000,
            "$[?" + "!(" * 5000,
            "$[?" + "length(" * 5000,
            "$" + ".a" * 20_000,
        ):
            with self.assertRaises(PathSyntaxError):
                parse_path(text)
        self.assertEqual(len(parse_path("$" + ".a" * MOST_STEPS).segments), MOST_STEPS)
        self.assertEqual(
            parse_path(f"$[?@ == {'9' * 5000}]").values(
                [int("9" * 4000) * 10**1000, 1]
            ),
            [],
        )

    def test_hints_show_what_to_write(self) -> None:
        cases = {
            "$.tariff-class.x": "write ['tariff-class'] instead of .tariff-class",
            "$..tariff-class": "write ..['tariff-class'] instead of ..tariff-class",
            "$[?@.a = 1]": "write ==",
            "$[?@.a or @.b]": "write ||",
            "$[?status == 'x']": "write @.status for a member, 'status' for a text",
            "$[?@..code == 'OTV']": "write value(@..code)",
            "$[?!@.a == 1]": "write !(@.a …)",
            "$[?lenght(@.a) == 1]": "did you mean length?",
            "$[(@.length-1)]": "a filter begins with ?",
        }
        for text, hint in cases.items():
            with self.subTest(text), self.assertRaises(PathSyntaxError) as caught:
                parse_path(text)
            self.assertEqual(caught.exception.hint, hint)

    @given(st.lists(st.text() | st.integers(0, 5), max_size=4))
    def test_a_normalized_path_leads_back_to_its_node(
        self, location: list[Any]
    ) -> None:
        document: Any = "the node"
        for step in reversed(location):
            document = (
                {step: document}
                if isinstance(step, str)
                else [None] * step + [document]
            )
        if any(
            "\ud800" <= character <= "\udfff"
            for step in location
            if isinstance(step, str)
            for character in step
        ):
            return
        path = normalized(tuple(location))
        self.assertEqual(parse_path(path).values(document), ["the node"])
        self.assertEqual(parse_path(path).locations(document), [path])

    def test_normalized_paths_are_those_of_the_standard(self) -> None:
        names = [
            "a",
            "a b",
            "'",
            '"',
            "\\",
            "\b\t\n\f\r",
            "\x00\x0b\x1f",
            "\x7fé☺",
            "$.a[0]",
        ]
        shown = [
            "a",
            "a b",
            "\\'",
            '"',
            "\\\\",
            "\\b\\t\\n\\f\\r",
            "\\u0000\\u000b\\u001f",
            "\x7fé☺",
            "$.a[0]",
        ]
        self.assertEqual(
            parse_path("$.*").locations(dict.fromkeys(names)),
            [f"$['{name}']" for name in shown],
        )

    def test_the_nearest_thing_that_exists_is_named(self) -> None:
        cases = [
            ("$.B.x", "$.B differs in case; did you mean $.b?"),
            ("$.b.xx", "$.b.xx is not there; did you mean $.b.x?"),
            ("$.a.k", "$.a is an array; did you mean $.a[*].k?"),
            ("$.b.x.k.z", "$.b.x.k is a number"),
            ("$.b.x.k", None),
            ("$.b..q", "nothing below $.b is found by ..q"),
            ("$.a[?@ > 9]", "nothing in $.a meets the condition @ > 9"),
        ]
        for text, expected in cases:
            with self.subTest(text):
                near = nearest_existing(parse_path(text), [DOCUMENT])
                self.assertEqual(near and near.text, expected)


class Filters(unittest.TestCase):
    def test_a_filter_keeps_the_elements_for_which_it_holds(self) -> None:
        """Over documents as the program holds them (numbers as text) and as Python's own json reads
        them.
        """
        text = json.dumps(BERTHS)
        for document in (BERTHS, json.loads(text), decode(text.encode())):
            for condition, kept in KEPT:
                with self.subTest(condition):
                    path = parse_path(f"$[?{condition}]")
                    self.assertEqual(
                        [berth["no"] for berth in path.values(document)], kept
                    )
                    self.assertEqual(
                        path.locations(document), [f"$[{no - 1}]" for no in kept]
                    )

    def test_a_pattern_that_can_never_match_is_a_doubt_not_an_error(self) -> None:
        path = parse_path(
            "$[?match(@.a, 'F[0-9]+') || search(@.b, '\\\\d') || match(@.c, 7)]"
        )
        self.assertEqual([doubt.position for doubt in path.doubts], [40, 61])
        self.assertEqual(path.doubts[0].hint, "write [0-9]")
        never = parse_path("$[?match(@, '(a')]")
        near = nearest_existing(never, [["a"]])
        self.assertEqual(near and near.text, never.doubts[0].cause)
        self.assertIn("will never match: this ( is never closed", never.doubts[0].cause)

    def test_members_of_an_object_are_filtered_by_their_values(self) -> None:
        self.assertEqual(
            parse_path("$[?@ >= 2]").locations({"a": 1, "b": 2, "c": [3]}), ["$['b']"]
        )
        self.assertEqual(
            parse_path("$[?@ == $.a]").locations(
                {"a": 1, "b": Number("1.0"), "c": "1"}
            ),
            ["$['a']", "$['b']"],
        )

    def test_numbers_compare_exactly_whatever_their_length(self) -> None:
        ordered = [Number("-1.1e400"), -(10**400), -1, Number("-1e-400"), 0, Number("1e-400"), Number("0.1"), Number("0.1000000000000000055"), 2**53, 2**53 + 1,
                   Number("9007199254740993.5"), 10**400, Number("1.1e400")]  # fmt: skip
        for rank, one in enumerate(ordered):
            for other_rank, other in enumerate(ordered):
                document = [{"a": one, "b": other}]
                self.assertEqual(
                    len(parse_path("$[?@.a < @.b]").values(document)),
                    rank < other_rank,
                    (one, other),
                )
        self.assertEqual(
            parse_path("$[?@ == 1e400]").values([10**400, Number("10e399"), 10**399]),
            [10**400, Number("10e399")],
        )
        self.assertEqual(
            parse_path("$[?@ == -0]").values([0, Number("0.0"), Number("-0"), -0.0]),
            [0, "0.0", "-0", 0.0],
        )
        self.assertEqual(
            parse_path("$[?@ == 8.95]").values([8.95, Number("8.950"), 8.950001]),
            [8.95, "8.950"],
        )
        parse_path("$[?@ < 1e99999999999999999999]").values(
            [1, Number("1e99999999999999999999")]
        )

    @given(
        st.lists(st.sampled_from(SCALARS), min_size=2, max_size=2),
        st.sampled_from(["[{}]", '{{"k": {}}}', "[[1], {}]"]),
    )
    def test_exactly_one_of_equal_and_unequal_holds_and_order_implies_it(
        self, pair: list[Any], shape: str
    ) -> None:
        found = {
            operator: bool(
                parse_path(f"$[?@.a {operator} @.b]").values(
                    [{"a": pair[0], "b": pair[1]}]
                )
            )
            for operator in ("==", "!=", "<", "<=", ">", ">=")
        }
        self.assertNotEqual(found["=="], found["!="])
        self.assertEqual(found["<="], found["<"] or found["=="])
        self.assertEqual(found[">="], found[">"] or found["=="])
        self.assertLessEqual(found["<"] + found[">"] + found["=="], 1)
        wrapped = [json.loads(json.dumps({"x": [value]})) for value in pair]
        self.assertEqual(
            bool(
                parse_path("$[?@.a == @.b]").values(
                    [dict(zip("ab", wrapped, strict=True))]
                )
            ),
            found["=="],
        )

    def test_deep_values_are_compared_and_descended_into_without_recursion(
        self,
    ) -> None:
        deep: list[Any] = []
        other: list[Any] = []
        for _ in range(100_000):
            deep, other = [deep], [other]
        self.assertEqual(
            len(parse_path("$[?@.a == @.b]").values([{"a": deep, "b": other}])), 1
        )
        self.assertEqual(len(parse_path("$..[0]").values(deep)), 100_000)
        self.assertEqual(parse_path("$..[?@ == 1]").values(deep), [])


class Patterns(unittest.TestCase):
    def test_patterns_match_the_whole_text_or_search_in_it(self) -> None:
        for pattern, whole, others in PATTERNS:
            with self.subTest(pattern):
                texts = [*whole, *others]
                self.assertEqual(
                    [text for text in texts if matches(pattern, text)], [*whole]
                )
                self.assertEqual(
                    [text for text in whole if found_in(pattern, text)], [*whole]
                )
        searched = [found_in("b+", "abbc"), found_in("^b", "ab")]
        self.assertEqual(searched, [True, False])

    def test_what_is_no_i_regexp_is_refused_at_its_character(self) -> None:
        for pattern, position in NO_PATTERNS:
            with self.subTest(pattern), self.assertRaises(PatternError) as caught:
                check_pattern(pattern)
            self.assertEqual(
                caught.exception.position, position, (pattern, caught.exception.cause)
            )

    def test_a_pattern_takes_time_in_proportion_to_the_text(self) -> None:
        """One that backtracks would not come to an end here."""
        self.assertFalse(matches("(a*)*b", "a" * 100_000))
        self.assertFalse(found_in("(a|aa)+c", "a" * 100_000))

    @given(
        st.text(alphabet="ab(|)[]*+?{}1,\\^-.$pdnL☺\ud800", max_size=12),
        st.text(alphabet="ab☺\n\ud800", max_size=5),
    )
    def test_any_text_is_a_pattern_or_a_refusal(self, pattern: str, text: str) -> None:
        try:
            whole, part = matches(pattern, text), found_in(pattern, text)
        except PatternError as error:
            self.assertLessEqual(error.position, len(pattern))
        else:
            self.assertLessEqual(whole, part)
