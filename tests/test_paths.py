"""JSONPath (RFC 9535), as far as it is supported."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from mukret.paths import PathSyntaxError, nearest_existing, normalized, parse_path

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
    ("$.a[::-2]", ["$['a'][3]", "$['a'][1]"]),
    ("$.a[-2:]", ["$['a'][2]", "$['a'][3]"]),
    ("$.a[::0]", []),
    ("$.a[5:1]", []),
    ("$.b.*", ["$['b']['x']", "$['b']['y']"]),
    ("$.b[*][*].k", ["$['b']['y'][0]['k']", "$['b']['y'][1]['k']"]),
    ("$.a[0,0,-4]", ["$['a'][0]"] * 3),
    ("$['b','a'][0]", ["$['a'][0]"]),
    ("$['d e']['\\'']", ["$['d e']['\\'']"]),
    ('$["d e"]["\\n"]', ["$['d e']['\\n']"]),
    ("$['d e']['\\u263A']", ["$['d e']['☺']"]),
    ("$['d e'].☺", ["$['d e']['☺']"]),
    ("$['']", ["$['']"]),
]

REFUSED: list[tuple[str, int, str]] = [
    ("", 0, "path-syntax"),
    ("a.b", 0, "path-syntax"),
    (" $", 0, "path-syntax"),
    ("$ ", 1, "path-syntax"),
    ("$.", 2, "path-syntax"),
    ("$.a b", 4, "path-syntax"),
    ("$.a-b", 3, "path-syntax"),
    ("$.1a", 2, "path-syntax"),
    ("$.'a'", 2, "path-syntax"),
    ("$.a.[0]", 3, "path-syntax"),
    ("$[", 1, "path-syntax"),
    ("$[0", 1, "path-syntax"),
    ("$[]", 2, "path-syntax"),
    ("$[a]", 2, "path-syntax"),
    ("$[01]", 2, "path-syntax"),
    ("$[-0]", 2, "path-syntax"),
    ("$[+1]", 2, "path-syntax"),
    ("$[1.0]", 3, "path-syntax"),
    ("$[9007199254740992]", 2, "path-syntax"),
    ("$[1:2:3:4]", 7, "path-syntax"),
    ("$['a", 2, "path-syntax"),
    ("$['a\\x']", 5, "path-syntax"),
    ("$['\\uD800']", 3, "path-syntax"),
    ("$['\\uDC00']", 3, "path-syntax"),
    ("$['a\tb']", 4, "path-syntax"),
    ("$.a]", 3, "path-syntax"),
    ("$..a", 1, "not-supported"),
    ("$[?@.a]", 2, "not-supported"),
]


class Paths(unittest.TestCase):
    def test_a_query_finds_nodes_in_document_order_and_lists_one_found_twice_twice(self) -> None:
        for text, expected in FOUND:
            with self.subTest(text):
                path = parse_path(text)
                self.assertEqual(path.locations(DOCUMENT), expected)
                self.assertEqual(path.values(DOCUMENT), [value for _, value in path.nodes(DOCUMENT)])

    def test_what_the_grammar_forbids_is_refused_at_its_character(self) -> None:
        for text, position, code in REFUSED:
            with self.subTest(text), self.assertRaises(PathSyntaxError) as caught:
                parse_path(text)
            self.assertEqual((caught.exception.position, caught.exception.code), (position, code), text)

    def test_a_hint_shows_how_an_odd_name_is_written(self) -> None:
        with self.assertRaises(PathSyntaxError) as caught:
            parse_path("$.tariff-class.x")
        self.assertEqual(caught.exception.hint, "write ['tariff-class'] instead of .tariff-class")

    @given(st.lists(st.text() | st.integers(0, 5), max_size=4))
    def test_a_normalized_path_leads_back_to_its_node(self, location: list[Any]) -> None:
        document: Any = "the node"
        for step in reversed(location):
            document = {step: document} if isinstance(step, str) else [None] * step + [document]
        if any("\ud800" <= character <= "\udfff" for step in location if isinstance(step, str) for character in step):
            return
        path = normalized(tuple(location))
        self.assertEqual(parse_path(path).values(document), ["the node"])
        self.assertEqual(parse_path(path).locations(document), [path])

    def test_the_nearest_thing_that_exists_is_named(self) -> None:
        cases = [
            ("$.B.x", "$.B differs in case; did you mean $.b?"),
            ("$.b.xx", "$.b.xx did you mean $.b.x?"),
            ("$.a.k", "$.a is an array; did you mean $.a[*].k?"),
            ("$.b.x.k.z", "$.b.x.k is a number"),
            ("$.b.x.k", None),
        ]
        for text, expected in cases:
            with self.subTest(text):
                self.assertEqual(nearest_existing(parse_path(text), [DOCUMENT]), expected)
