"""Generated row code finds what the plain paths find, in any document."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from mukret.paths import parse_condition, parse_path
from mukret.plan.codegen import Parents, existence_function, gather_function, nodes_function
from mukret.rules.rows import Rows

NAMES = st.sampled_from(["a", "b", "d e", "'", "\\", "\n", '"', "items", "☺", ""])
DOCUMENTS = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=3),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(NAMES, inner, max_size=4),
    max_leaves=25,
)


def quoted(name: str) -> str:
    escaped = name.replace("\\", "\\\\").replace("'", "\\'").replace("\n", "\\n")
    return f"'{escaped}'"


SIMPLE_STEPS = NAMES.map(lambda name: f"[{quoted(name)}]") | st.integers(-3, 3).map(lambda index: f"[{index}]")
BOUNDS = st.none() | st.integers(-4, 4)
SLICES = st.tuples(BOUNDS, BOUNDS, st.sampled_from([None, 1, 2, -1, -2, 0])).map(
    lambda parts: ":".join("" if part is None else str(part) for part in parts)
)
SELECTORS = NAMES.map(quoted) | st.integers(-3, 3).map(str) | SLICES | st.just("*")
STEPS = SIMPLE_STEPS | st.lists(SELECTORS, min_size=1, max_size=3).map(lambda parts: f"[{','.join(parts)}]")
PATHS = st.lists(STEPS, max_size=4).map(lambda steps: "$" + "".join(steps))
CONDITIONS = st.sampled_from(["@.a", "@ != null && @ != $.a", "!@[0] || @.b == 1"]).map(parse_condition)
ROWS = st.builds(
    Rows, st.lists(PATHS.map(parse_path), min_size=1, max_size=3).map(tuple), st.none() | CONDITIONS, st.booleans()
)
SIMPLE_PATHS = st.lists(SIMPLE_STEPS, max_size=3).map(lambda steps: "$" + "".join(steps))


class GeneratedCode(unittest.TestCase):
    @settings(max_examples=400, deadline=None)
    @given(ROWS, st.lists(SIMPLE_PATHS, max_size=5), st.lists(DOCUMENTS, max_size=4))
    def test_rows_values_positions_and_names_are_those_of_the_paths(
        self, rows: Rows, simple_texts: list[str], documents: list[Any]
    ) -> None:
        simple = [parse_path(text) for text in simple_texts]
        gather = gather_function(rows, simple, positions=True, names=True)
        found = gather(Parents(documents, ["top"] * len(documents), unreadable={1}))
        expected = [
            (owner, position, row)
            for owner, document in enumerate(documents)
            if owner != 1
            for position, row in enumerate(rows.find(document).rows)
        ]
        nodes = [row.node for *_, row in expected]
        self.assertEqual(found.rows, nodes)
        self.assertEqual(found.owners, [owner for owner, *_ in expected])
        self.assertEqual(found.positions, [position for _, position, _ in expected])
        self.assertEqual(found.met, {number for number, (*_, row) in enumerate(expected) if row.met})
        self.assertEqual(
            {number: bad.expected for number, bad in found.faulty.items()},
            {number: row.fault.expected for number, (*_, row) in enumerate(expected) if row.fault},
        )
        there = [number for number in range(len(nodes)) if number not in found.met]
        self.assertEqual([found.names[number] for number in there], [expected[n][2].name("top") for n in there])
        self.assertEqual(found.odd, [number for number in there if type(nodes[number]) is not dict])
        for column, path in enumerate(simple):
            values = [next(iter(path.values(node)), None) for node in nodes]
            self.assertEqual(list(found.columns[column]), values)
            met = {number for number, node in enumerate(nodes) if any(item.step for item in path.explored(node))}
            self.assertEqual({row for columns, rows in found.suspects if column in columns for row in rows}, met)

    @settings(max_examples=300, deadline=None)
    @given(st.lists(PATHS, min_size=1, max_size=3), st.lists(DOCUMENTS, max_size=4))
    def test_nodes_are_those_of_the_first_path_that_finds_a_value(self, texts: list[str], documents: list[Any]) -> None:
        paths = [parse_path(text) for text in texts]
        chosen = [
            next((path for path in paths if any(value is not None for value in path.values(node))), paths[0])
            for node in documents
        ]
        everything = [path.values(node) for path, node in zip(chosen, documents, strict=True)]
        tried = [paths[: paths.index(path) + 1] if any(v is not None for v in path.values(node)) else paths
                 for path, node in zip(chosen, documents, strict=True)]  # fmt: skip
        met = [
            number
            for number, node in enumerate(documents)
            if any(item.step for path in tried[number] for item in path.explored(node))
        ]
        self.assertEqual(nodes_function(paths, with_nulls=True)(documents), (everything, met))
        values = [[value for value in found if value is not None] for found in everything]
        self.assertEqual(nodes_function(paths, with_nulls=False)(documents), (values, met))

    @given(PATHS, st.lists(DOCUMENTS, max_size=4))
    def test_existence_is_that_of_nodes(self, text: str, documents: list[Any]) -> None:
        path = parse_path(text)
        self.assertEqual(existence_function(path)(documents), any(path.nodes(document) for document in documents))

    def test_queries_that_are_too_long_for_python_s_nesting_take_the_plain_way(self) -> None:
        """Sixty members deep, and twenty-five wildcards deep; rows, values, nodes and existence alike."""
        for step, deeper in ((".a", lambda inner: {"a": inner}), ("[*]", lambda inner: [inner])):
            document: Any = {"x": 1, "y": [2, None]}
            for _ in range(60):
                document = deeper(document)
            path = parse_path("$" + step * 60)
            gather = gather_function(Rows((path,)), [parse_path("$.x")], positions=True, names=True)
            found = gather(Parents([document], [None]))
            self.assertEqual(
                (found.rows, [list(column) for column in found.columns]), ([{"x": 1, "y": [2, None]}], [[1]])
            )
            self.assertEqual((found.positions, found.names), ([0], ["a" if step == ".a" else None]))
            longer = [parse_path("$.nothing"), parse_path("$" + step * 60 + ".y[*]")]
            self.assertEqual(nodes_function(longer, with_nulls=True)([document]), ([[2, None]], [0] * (step != ".a")))
            self.assertEqual(nodes_function(longer, with_nulls=False)([document, {}])[0], [[2], []])
            self.assertTrue(existence_function(longer[1])([document]))
            self.assertFalse(existence_function(longer[1])([{}]))


if __name__ == "__main__":
    unittest.main()
