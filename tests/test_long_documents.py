"""One document of any length, read in parts: the same rows, rejects and counts as if it were read
as a whole.
"""

from __future__ import annotations

import gzip
import json
import random
import unittest
from io import BytesIO
from typing import Any

from mukret.documents import NotJson, decode, find_sources
from mukret.documents.blocks import read_blocks
from mukret.documents.cutting import CanNotCut, Cutter, Names
from mukret.engine.run import Run
from mukret.plan.compiled import make_plan
from mukret.rules import parse_rules
from tests.helpers import FolderCase, rules_text

RULES = """
    response: {fields: {day: {at: $.day, type: date}, season: {at: $.season, required: true}}}
    tables:
      ports:
        rows: "$.result.ports[*]"
        inherit: [day]
        key: code
        fields:
          code: {at: $.code, required: true}
          number: {fact: position, type: integer}
          place: {fact: path}
          pier: {at: "$.piers[0].no", type: integer}
          owner: {at: $.owner}
          owner_name: {lookup: {in: owners, by: owner, give: name}}
          calls: {compute: COUNT(sailings)}
        where: pier IS NULL OR pier < 90
      sailings:
        within: ports
        rows: "$.sailings[*]"
        inherit: [code, day]
        fields: {no: {at: $.no, type: integer, required: true}, fare: {at: $.fare, type: "decimal(6,2)"}}
        key: [code, no]
        duplicates: first
      owners:
        rows: "$.owners[*]"
        inherit: [season]
        key: id
        fields: {id: $.id, name: {at: $.name, required: true}}
      notes:
        rows: "$.notes[*]"
        fields: {note: {at: $}}
    """


def port(draw: random.Random) -> Any:
    sailings = [
        {
            "no": draw.choice([1, 2, "3", "x", None]),
            "fare": draw.choice(["1.50", "7", 2.25, "ask"]),
        }
        for _ in range(draw.randrange(4))
    ]
    found = {
        "code": draw.choice(["OTV", "KIR", "SAN", "BRE", "}],{", None]),
        "piers": draw.choice([[], [{"no": 4}], [{"no": "99"}], [{"no": []}], 3]),
        "owner": draw.choice(["a", "b", "z"]),
        "sailings": draw.choice([sailings, None, "none"]),
    }
    return found if draw.random() < 0.9 else draw.choice([7, "x", None, [1]])


def response(draw: random.Random) -> Any:
    members = {
        "day": draw.choice(["2031-04-01", "soon"]),
        "season": draw.choice(["summer", None]),
        "result": {"took": 1, "ports": [port(draw) for _ in range(draw.randrange(12))]},
        "owners": [
            {"id": draw.choice("abc"), "name": draw.choice(["Ann", None])} for _ in range(draw.randrange(4))
        ],
        "notes": draw.choice([[], ["fog", 7, "a,b"], {"x": 1}, [["x"], {"note": "],["}]]),
    }  # fmt: skip
    order = list(members)
    draw.shuffle(order)
    return {name: members[name] for name in order if draw.random() < 0.95}


class InParts(FolderCase):
    def run_of(
        self, text: str, *, batch_bytes: int, name: str = "a.json"
    ) -> tuple[Run, dict[str, list[Any]], list[str]]:
        run = Run(
            parse_rules(rules_text(RULES)),
            find_sources([self.file(name, text)]),
            batch_bytes=batch_bytes,
        )
        rows: dict[str, list[Any]] = {name: [] for name in run.schemas}
        rejects = []
        for output in run.batches():
            rejects += [reject.line().decode() for reject in output.rejects]
            for name, batch in output.tables.items():
                rows[name] += batch.to_pylist()
        return run, rows, rejects

    def test_rows_rejects_and_counts_are_those_of_the_whole_document(self) -> None:
        """Response fields and looked-up tables may stand after the array; places and positions
        count through all parts.
        """
        draw = random.Random(8)
        parts = 0
        for number in range(100):
            text = json.dumps(response(draw), indent=draw.choice([None, 1]))
            with self.subTest(number=number):
                whole, expected, expected_rejects = self.run_of(
                    text, batch_bytes=1_000_000
                )
                run, found, rejects = self.run_of(text, batch_bytes=40)
                self.assertEqual(found, expected, text)
                self.assertEqual(sorted(rejects), sorted(expected_rejects), text)
                self.assertEqual(run.tally.as_json(), whole.tally.as_json())
                self.assertEqual(
                    (run.tally.documents, run.sources[0].documents), (1, 1)
                )
                self.assertEqual(
                    run.tally.response_values_nulled, whole.tally.response_values_nulled
                )
                told = [
                    [rule.path for rule in each.unmatched()] for each in (run, whole)
                ]
                self.assertEqual(*told)
                self.assertEqual(run.sources[0].sha256, whole.sources[0].sha256)
                arrays = [array.names for array in run.plan.long.arrays]
                blocks = list(
                    read_blocks(find_sources([self.folder / "a.json"]), 40, arrays)
                )
                parts += len(blocks)
        self.assertGreater(parts, 200)

    def test_where_a_document_can_be_cut_and_why_not_elsewhere(self) -> None:
        plan = make_plan(parse_rules(rules_text(RULES)))
        self.assertEqual(
            [array.path for array in plan.long.arrays], ["$.result.ports", "$.notes"]
        )
        self.assertEqual(
            plan.long.whole, {"$.owners[*]": "ports.owner_name looks up in owners"}
        )
        cases = {
            'tables: {t: {rows: "$[*]", fields: {a: $.a}}}': (["$"], None),
            'tables: {t: {fields: {n: $.n}}, u: {within: t, rows: "$.a.b[*]", fields: {c: $.c}}}': (
                ["$.a.b"],
                None,
            ),
            'tables: {t: {fields: {n: {compute: COUNT(u)}}}, u: {within: t, rows: "$.a[*]", fields: {c: $.c}}}': (
                [],
                "t.n counts or sums all its rows",
            ),
            'tables: {t: {rows: "$.a[*]", fields: {n: $.n}, outer: true}}': (
                [],
                "rows of t are found in all of it (outer)",
            ),
            'response: {fields: {n: {at: "$.a[*]", take: count}}}\ntables: {t: {rows: "$.a[*]", fields: {n: $.n}}}': (
                [],
                "response.fields.n reads it too",
            ),
            'tables: {t: {rows: "$.a[*].b[*]", fields: {n: {fact: position, type: integer}, m: $.m}}}': (
                [],
                "rows of t are numbered",
            ),
            'tables: {t: {rows: "$.a[*]", fields: {n: $.n}}, u: {rows: $.a, fields: {n: $.n}}}': (
                [],
                "u.n reads it too",
            ),
            'tables: {t: {rows: "$..a", fields: {n: $.n}}}': (
                [],
                "the rules may look anywhere in it",
            ),
            'response: {embedded: [$.x]}\ntables: {t: {rows: "$.a[*]", fields: {n: $.n}}}': (
                [],
                "texts that are embedded in it are read first (embedded)",
            ),
            'tables: {t: {rows: "$.a[*]", fields: {n: {lookup: {in: t, by: m, give: m}}, m: $.m}, key: m}}': (
                [],
                "t.n looks up in t",
            ),
        }
        for text, (paths, reason) in cases.items():
            with self.subTest(text):
                long = make_plan(parse_rules(rules_text(text))).long
                self.assertEqual([array.path for array in long.arrays], paths)
                self.assertEqual(list(long.whole.values()), [reason] if reason else [])

    def test_lines_that_are_long_documents_are_lines_all_the_same(self) -> None:
        lines = [
            json.dumps({"result": {"ports": [{"code": f"{n}-{m}"} for m in range(99)]}})
            for n in range(3)
        ]
        run, rows, _ = self.run_of("\n".join(lines), batch_bytes=50)
        self.assertEqual(
            [row["code"] for row in rows["ports"]],
            [f"{n}-{m}" for n in range(3) for m in range(99)],
        )
        self.assertEqual(run.sources[0].documents, 3)
        run, rows, _ = self.run_of(f'{lines[0]}\n"fog"\n', batch_bytes=50)
        self.assertEqual(
            (len(rows["ports"]), run.tally.documents, run.tally.bad_documents),
            (99, 1, 1),
        )
        run, rows, _ = self.run_of(
            f"{lines[0][:-3]}\n{lines[1]}\n", batch_bytes=50, name="a.jsonl"
        )
        self.assertEqual(
            (len(rows["ports"]), run.tally.documents, run.tally.bad_documents),
            (99, 1, 1),
        )

    def test_how_far_both_readings_have_come_can_be_told_all_the_time(self) -> None:
        text = json.dumps(
            {"result": {"ports": [port(random.Random(4)) for _ in range(9000)]}}
        )
        (source,) = find_sources([self.file("a.json", text)])
        done: list[float] = []

        def noted() -> None:
            if source.parts_size:
                done.append(
                    (source.size + source.parts_read) / (len(text) + source.parts_size)
                )

        source.reading = noted
        for _ in read_blocks([source], 9000, [("result", "ports")]):
            noted()
        noted()
        self.assertEqual(done, sorted(done))
        self.assertLess(done[0], 0.4)
        self.assertTrue(any(0.6 < share < 0.9 for share in done))
        self.assertGreaterEqual(done[-1], 1)

    def test_packed_and_piped_documents_are_cut_too(self) -> None:
        document = {
            "day": "2031-04-01",
            "result": {"ports": [port(random.Random(3)) for _ in range(200)]},
        }
        raw = json.dumps(document).encode("utf-16")
        for name, content in (
            ("a.json.gz", gzip.compress(json.dumps(document).encode())),
            ("b.json", raw),
        ):
            with self.subTest(name):
                source = find_sources([self.file(name, content)])
                blocks = list(read_blocks(source, 500, [("result", "ports")]))
                self.assertGreater(len(blocks), 20)
                elements = [
                    e
                    for b in blocks
                    for e in decode(b.pieces[0].raw)["result"]["ports"]
                ]
                self.assertEqual(
                    elements, decode(json.dumps(document).encode())["result"]["ports"]
                )


class Cuts(unittest.TestCase):
    def cut(
        self, raw: bytes, arrays: list[Names], size: int
    ) -> list[tuple[int | None, int, Any]]:
        file = BytesIO(raw)
        cuts = Cutter(file, file.read(size), arrays, size).cut()
        return [
            (part.array, part.first, decode(text))
            for part, text in cuts.parts(BytesIO(raw), size)
        ]

    def test_the_parts_of_any_document_make_the_document(self) -> None:
        draw = random.Random(5)

        def value(depth: int = 0) -> Any:
            kind = draw.random()
            if depth > 3 or kind < 0.4:
                return draw.choice(
                    [
                        1,
                        -2.5,
                        7.25,
                        "a,b",
                        "}]",
                        '\\"x{',
                        '},{"a":',
                        None,
                        True,
                        "",
                        "☺",
                        "-0,",
                        "9" * 4400,
                    ]
                )
            if kind < 0.7:
                return [value(depth + 1) for _ in range(draw.randrange(4))]
            return {
                draw.choice(["a", "b", "x y", "é"]): value(depth + 1)
                for _ in range(draw.randrange(4))
            }

        for number in range(1000):
            ports = [
                {"a": value(), "b": 1} if draw.random() < 0.7 else value()
                for _ in range(draw.randrange(20))
            ]
            document = {
                "m": value(),
                "r": {"n": value(), "items": ports, "o": value()},
                "ports": value(),
            }
            text = json.dumps(
                document,
                indent=draw.choice([None, 1]),
                ensure_ascii=draw.random() < 0.5,
            ).encode()
            text = text.replace(b"7.25", b"-0")
            arrays: list[Names] = draw.choice(
                [[("r", "items")], [("ports",), ("r", "items")]]
            )
            mistake = None
            if draw.random() < 0.4:
                at = draw.randrange(len(text))
                text = draw.choice(
                    [
                        text[:at],
                        text[:at] + text[at + 1 :],
                        text[:at] + b"]" + text[at:],
                    ]
                )
            try:
                whole = decode(text)
            except NotJson as error:
                mistake = error.finding
            with self.subTest(number=number, text=text):
                size = draw.choice([1, 9, 50, 300])
                if mistake is not None:
                    with self.assertRaises(NotJson) as caught:
                        self.cut(text, arrays, size)
                    found = caught.exception.finding
                    if (
                        "UTF-8" not in f"{found}{mistake}"
                    ):  # two mistakes: which comes first hangs on the reader
                        self.assertEqual(
                            (found.line, found.offset), (mistake.line, mistake.offset)
                        )
                    continue
                (_, _, rest), *parts = self.cut(text, arrays, size)
                for array, first, part in parts:
                    *way, last = arrays[array or 0]
                    holder = rest
                    for name in way:
                        holder, part = holder[name], part[name]
                    self.assertEqual(first, len(holder[last]))
                    holder[last] += part[last]
                self.assertEqual(rest, whole)

    def test_a_member_on_the_way_that_comes_twice_makes_it_a_document_to_read_as_a_whole(
        self,
    ) -> None:
        for raw in (
            b'{"a": [1, 2], "a": [3]}',
            b'{"a": [1, 2]}\n{"a": [3]}',
            b'{"a": [1, 2]}\r\n3',
        ):
            with self.subTest(raw), self.assertRaises(CanNotCut):
                self.cut(raw, [("a",)], 4)


if __name__ == "__main__":
    unittest.main()
