"""Documents: what is in a file is recognised, and what is no JSON is said in words and at its
place.
"""

from __future__ import annotations

import bz2
import gzip
import json
import lzma
import sys
from importlib import import_module
from itertools import accumulate
from pathlib import Path
from unittest import mock

from mukret.documents import Batch, NotJson, decode, find_sources, read_batches
from mukret.documents.recognise import looks_like_lines
from mukret.errors import InputError
from mukret.values import JsonValue, Number, json_text
from tests.helpers import FolderCase

zstd_compress = import_module(
    "compression.zstd" if sys.version_info >= (3, 14) else "backports.zstd"
).compress
PACKERS = {
    "gzip": gzip.compress,
    "bzip2": bz2.compress,
    "xz": lzma.compress,
    "zstd": zstd_compress,
}
MISTAKES: list[tuple[bytes, str, int, int, int]] = [
    (b"", "there is nothing in it", 1, 1, 0),
    (b"{'a': 1}", "single quotes: JSON wants double", 1, 2, 1),
    (b'{"a": \'x\'}', "single quotes: JSON wants double", 1, 7, 6),
    (b'{"a": 1,}', "a trailing comma: a member should follow it", 1, 9, 8),
    (b'{"a": }', "a value is missing before }", 1, 7, 6),
    (b'[}', "a value is missing before }", 1, 2, 1),
    (b'[1,\n 2,\n]', "a trailing comma: a value should follow it", 3, 1, 8),
    (b'{"a": 1 // one\n}', "a comment: JSON has none", 1, 9, 8),
    (b'[{"a": 1,},\n {\'b\': NaN},\n {"c" 1 "d": [],},\n {"e": 1}\n', "a trailing comma: a member should follow it, and 2 more lines with mistakes", 1, 10, 9),
    (b'{"a": 1,}\n{"a": 2}\n{a: 3}\n', "a trailing comma: a member should follow it, and 1 more line with mistakes", 1, 9, 8),
    (b'[// one\n1]', "a comment: JSON has none", 1, 2, 1),
    (b'{"a": NaN}', "NaN is no JSON number", 1, 7, 6),
    (b'{"a": -Infinity}', "Infinity is no JSON number", 1, 7, 6),
    (b'{"a": None}', "None: JSON writes null", 1, 7, 6),
    (b'{"a": yes}', "yes: a text wants double quotes", 1, 7, 6),
    (b'{a: 1}', "a member name wants double quotes", 1, 2, 1),
    (b'{"a" 1}', "a colon should follow the member name", 1, 6, 5),
    (b'[1 2]', "a comma is missing", 1, 4, 3),
    (b'[01]', "01 is no JSON number", 1, 2, 1),
    (b'[1.]', "1. is no JSON number", 1, 2, 1),
    (b'[+1]', "+1 is no JSON number", 1, 2, 1),
    (b'{"a": [1, 2}', "} does not close the [ of line 1", 1, 12, 11),
    (b'{"a": 1} {', "text after the end of the document, where another begins: several go one to a line (JSON Lines)", 1, 10, 9),
    (b'{"a":\n [1,\n  {"b": 2', "cut off inside an object that began at line 3", 3, 10, 20),
    (b'["abc', "cut off inside a text that began at line 1", 1, 6, 5),
    (b'["a\nb"]', "a line break inside a text", 1, 4, 3),
    (b'["a\x00b"]', "the control character U+0000 inside a text", 1, 4, 3),
    (b'["a\\x"]', "\\x is no escape of JSON", 1, 4, 3),
    (b'["\\ud800"]', "half of a surrogate pair stands alone in this text", 1, 2, 1),
    ('["é'.encode() + b'\xff"]', "invalid UTF-8 (byte 0xff)", 1, 4, 4),
    (b"\xff\xfe[\x001\x00", "this is UTF-16 or UTF-32, not UTF-8", 1, 1, 0),
    (b"<!DOCTYPE html><html>", "this is an HTML page, not JSON", 1, 1, 0),
    (b"\n <?xml version='1.0'?>", "this is XML or HTML, not JSON", 2, 2, 2),
    (b"]", "a ] that closes nothing", 1, 1, 0),
]  # fmt: skip


class Decoding(FolderCase):
    def test_every_mistake_is_named_with_line_column_and_byte(self) -> None:
        for raw, message, line, column, offset in MISTAKES:
            with self.subTest(raw), self.assertRaises(NotJson) as caught:
                decode(raw)
            found = caught.exception.finding
            self.assertEqual(
                (found.message, found.line, found.column, found.offset),
                (message, line, column, offset),
            )

    def test_an_excerpt_shows_the_place_with_control_characters_escaped(self) -> None:
        with self.assertRaises(NotJson) as caught:
            decode(b'{"first": 1, "second": "a\x1bb", "third": 3}')
        found = caught.exception.finding
        self.assertEqual(found.excerpt[found.caret :][:9], '\\u001bb",')

    def test_numbers_keep_their_digits(self) -> None:
        self.assertEqual(decode(b"[1.10, 1e400, 12, 123456789012345678901234567890]"),
                         [Number("1.10"), Number("1e400"), 12, 123456789012345678901234567890])  # fmt: skip

    def test_a_zero_keeps_its_sign_however_its_document_is_decoded(self) -> None:
        self.assertEqual(decode(b'[-0, 0, -0.0, "-0,", {"a": -0}]'),
                         [Number("-0"), 0, Number("-0.0"), "-0,", {"a": Number("-0")}])  # fmt: skip
        self.assertEqual([type(found) for found in decode(b"[-0, 0]")], [Number, int])
        fields = "f: {at: $.f, type: float}, t: $.f, n: {at: $.f, type: integer}"
        documents = {
            "$.a[*]": '{"a": [{"f": -0}, {"f": 1}]}',
            "$": '{"f": -0}\n{"f": 1}\n{"f": "-0 "}',
        }
        for more in ("", ", all: {at: $, type: json}"):  # in part, and in full
            for rows, document in documents.items():
                with self.subTest(more=more, rows=rows):
                    rules = (
                        f"tables: {{t: {{rows: '{rows}', fields: {{{fields}{more}}}}}}}"
                    )
                    table = self.extract(rules, document).tables["t"].to_pylist()
                    found = [(str(row["f"]), row["t"], row["n"]) for row in table[:2]]
                    self.assertEqual(found, [("-0.0", "-0", 0), ("1.0", "1", 1)])

    def test_hostile_documents_are_refused_as_documents(self) -> None:
        cases = [
            (b"[" * 100_000 + b"]" * 100_000, "nested too deeply"),
            (b"[" * 100_000, "cut off"),
            (b"9" * 10_000, "an integer with more digits"),
        ]
        for raw, message in cases:
            with self.subTest(raw[:2]), self.assertRaises(NotJson) as caught:
                decode(raw)
            self.assertIn(message, caught.exception.finding.message)

    def test_a_line_that_is_too_long_is_passed_over_and_told_with_its_place(
        self,
    ) -> None:
        """Wherever blocks end, at the beginning of a file and at its end, with every separator."""
        long = b"[" + b"1," * 60 + b"1]"
        with mock.patch("mukret.documents.blocks.LONGEST_LINE", 100):
            for separator, texts in (
                (b"\n", [b"{}", long, b"[3]", long, long, b"[6]", long]),
                (b"\x1e", [b"{}\n", long + b"\n", b"[3]\n"]),
            ):
                for begin in (0, 1):
                    file = self.file(
                        "feed.jsonl",
                        separator * (separator == b"\x1e")
                        + separator.join(texts[begin:]),
                    )
                    for size in (1, 3, 17, 50, 99, 1000):
                        with self.subTest(separator=separator, begin=begin, size=size):
                            batches = list(
                                read_batches(find_sources([file]), size=size)
                            )
                            found = [
                                document
                                for batch in batches
                                for document in batch.documents
                            ]
                            numbers = [
                                number for batch in batches for number in batch.numbers
                            ]
                            bad = [one for batch in batches for one in batch.bad]
                            expected = [
                                number
                                for number, text in enumerate(texts[begin:], 1)
                                if long in text
                            ]
                            self.assertEqual([one.number for one in bad], expected)
                            self.assertEqual({one.code for one in bad}, {"too-long"})
                            self.assertEqual(
                                found,
                                [
                                    decode(text)
                                    for text in texts[begin:]
                                    if long not in text
                                ],
                            )
                            self.assertEqual(
                                sorted(numbers + expected),
                                list(range(1, len(texts) - begin + 1)),
                            )
                            content = Path(file).read_bytes()
                            for one in bad:
                                self.assertEqual(
                                    content[one.finding.offset :][: len(long)], long
                                )
                                self.assertEqual(
                                    one.finding.line,
                                    content[: one.finding.offset].count(b"\n") + 1,
                                )

    def test_a_document_has_some_1000_levels_however_deep_the_stack_of_whoever_reads_it(
        self,
    ) -> None:
        def far_down(frames: int, text: str) -> JsonValue:
            return far_down(frames - 1, text) if frames else decode(text.encode())

        for frames in (0, 300):
            for begin, end in (("[", "]"), ('{"a":', "}"), ("[-0,", "]")):
                far_down(frames, f"{begin * 990}1{end * 990}")
                with self.assertRaisesRegex(NotJson, "more than about 1,000 levels"):
                    far_down(frames, f"{begin * 1010}1{end * 1010}")

    def test_json_text_is_compact_exact_and_knows_no_depth(self) -> None:
        text = '{"a":[1.10,{"b":null,"c\\"":true},[],{}],"é":"x\\ny"}'
        self.assertEqual(json_text(decode(text.encode())), text)
        deep = "[" * 900 + "]" * 900
        self.assertEqual(json_text(decode(deep.encode())), deep)
        self.assertLess(len(json_text(["x" * 10] * 1000, limit=60)), 90)


class Files(FolderCase):
    def read(self, *inputs: Path, size: int = 4_000_000) -> list[Batch]:
        return list(read_batches(find_sources(inputs), size=size))

    def documents(self, *inputs: Path, size: int = 4_000_000) -> list[object]:
        return [
            document
            for batch in self.read(*inputs, size=size)
            for document in batch.documents
        ]

    def test_what_is_in_a_file_is_recognised_by_its_content(self) -> None:
        cases = [
            (b'{"a":1}\n{"a":2}\n', "x.json", True),
            (b'{"a":1}\n', "x.jsonl", False),
            (b"1\n2\n", "x.json", True),
            (b'[\n1,\n2]\n', "x.json", False),
            (b'{"a":\n1}\n', "x.json", False),
            (b'{"a": }\n{"a":2}\n', "x.json", True),
            (b'{"a":\n{"a":2}\n', "x.jsonl", True),
            (b'\n\n{"a":1}\n\n{"a":2}', "x.json", True),
            (b'\xef\xbb\xbf{"a":1}\n{"a":2}\n', "x.json", True),
            (b"<html>\n<body>\n", "x.json", False),
        ]  # fmt: skip
        for head, name, lines in cases:
            with self.subTest(head):
                self.assertEqual(looks_like_lines(head, name), lines)

    def test_lines_keep_their_numbers_whatever_the_size_of_a_batch(self) -> None:
        """Also with a line that is no JSON, blank lines, CRLF, no line end at the end, and a byte
        order mark.
        """
        content = b'\xef\xbb\xbf{"n":1}\r\n\r\n{"n":2\r\n{"n":3}\n   \n{"n":4}'
        file = self.file("feed.jsonl", content)
        for size in (1, 5, 9, 20, 1000):
            with self.subTest(size=size):
                batches = self.read(file, size=size)
                found = [
                    (n, d["n"])
                    for b in batches
                    for n, d in zip(b.numbers, b.documents, strict=True)
                ]
                self.assertEqual(found, [(1, 1), (3, 3), (4, 4)])
                [bad] = [bad for batch in batches for bad in batch.bad]
                self.assertEqual(
                    (bad.number, bad.finding.line, bad.finding.offset), (2, 3, 21)
                )
                self.assertEqual(
                    bad.finding.message, "cut off inside an object that began at line 3"
                )

    def test_a_file_of_nothing_but_bad_lines_is_read_to_its_end(self) -> None:
        """Each place is counted on from that of the bad line before it."""
        lines = [f"{{'a': {number}}}" for number in range(30_000)]
        batches = self.read(self.file("feed.jsonl", "\n".join(lines)), size=100_000)
        found = [
            (bad.number, bad.finding.line, bad.finding.offset)
            for batch in batches
            for bad in batch.bad
        ]
        offsets = accumulate((len(line) + 1 for line in lines), initial=1)
        self.assertEqual(
            found,
            [(n, n, at) for n, at in zip(range(1, 30_001), offsets, strict=False)],
        )

    def test_one_document_may_stand_over_many_lines_or_on_one_long_line(self) -> None:
        pretty = self.file("a.json", '{\n "a": 1\n}\n')
        long = self.file("b.json", "[" + ",".join("1" for _ in range(1000)) + "]")
        self.assertEqual(self.documents(pretty, long, size=10), [{"a": 1}, [1] * 1000])

    def test_compressed_files_are_read_and_recorded_as_they_are_stored(self) -> None:
        """Also those of several parts, one after the other."""
        content = b'{"a":1}\n{"a":2}\n'
        for name, pack in PACKERS.items():
            with self.subTest(name):
                file = self.file(f"{name}.parts", pack(content[:8]) + pack(content[8:]))
                self.assertEqual(self.documents(file), [{"a": 1}, {"a": 2}])
                file = self.file(f"{name}.bin", pack(content))
                [source] = find_sources([file])
                documents = [
                    d for batch in read_batches([source]) for d in batch.documents
                ]
                self.assertEqual(documents, [{"a": 1}, {"a": 2}])
                self.assertEqual(
                    (source.compression, source.size, source.documents),
                    (name, file.stat().st_size, 2),
                )

    def test_a_broken_archive_is_an_input_that_can_not_be_read(self) -> None:
        for name, pack in PACKERS.items():
            packed = pack(bytes(range(256)) * 40)
            for what, content in (
                ("cut off", packed[: len(packed) // 2]),
                ("damaged", packed[:20] + b"\0" * len(packed)),
            ):
                with (
                    self.subTest(name, what=what),
                    self.assertRaises(InputError) as caught,
                ):
                    self.read(self.file("a.json", content))
                self.assertIn("can't be read to its end", caught.exception.message)

    def test_utf_16_with_a_mark_is_read_and_half_a_surrogate_pair_is_a_bad_document(
        self,
    ) -> None:
        text = '{"port":"Ótterwick 🚢"}\n{"n":2}\n'
        for name in ("utf-16-le", "utf-16-be"):
            with self.subTest(name):
                raw = f"\ufeff{text}".encode(name)
                self.assertEqual(
                    self.documents(self.file("a.json", raw)),
                    [{"port": "Ótterwick 🚢"}, {"n": 2}],
                )
                half = (
                    raw
                    + '{"n":"'.encode(name)
                    + "\ud83d".encode(name, "surrogatepass")
                    + '"}\n{"n":4}'.encode(name)
                )
                [batch] = self.read(self.file("b.json", half))
                self.assertEqual(batch.numbers, [1, 2, 4])
                [bad] = batch.bad
                self.assertEqual(
                    (bad.finding.message, bad.finding.line),
                    ("half of a surrogate pair stands alone", 3),
                )
                with self.assertRaises(InputError):
                    self.read(self.file("c.json", raw[:-1] + b"\0\0"[: len(raw) % 2]))

    def test_a_text_sequence_is_read_and_one_that_may_be_cut_off_is_set_aside(
        self,
    ) -> None:
        """RFC 7464: a separator before each text; a number wants a line end after it, or may have
        lost digits.
        """
        content = b'\x1e{"n":\n1}\n\x1e[2]\x1e\x1e3\n\x1e4\x1e{"n":\n\x1etrue\n'
        file = self.file("feed.json-seq", content)
        for size in (1, 7, 1000):
            with self.subTest(size=size):
                batches = self.read(file, size=size)
                self.assertEqual(
                    [d for b in batches for d in b.documents], [{"n": 1}, [2], 3, True]
                )
                found = [
                    (b.number, b.finding.line, b.finding.offset)
                    for batch in batches
                    for b in batch.bad
                ]
                self.assertEqual(found, [(4, 4, 20), (5, 5, 27)])

    def test_an_http_archive_gives_its_json_answers(self) -> None:
        def entry(
            url: str, status: int, media_type: str, **content: str
        ) -> dict[str, object]:
            answer = {"status": status, "content": {"mimeType": media_type, **content}}
            return {
                "startedDateTime": "2031-04-01T08:00:00Z",
                "request": {"url": url},
                "response": answer,
            }

        entries = [
            entry(
                "http://isles.example/ports?key=k",
                200,
                "application/json; charset=utf-8",
                text='{"n": 1}',
            ),
            entry(
                "http://isles.example/logo",
                200,
                "image/png",
                text="AAAA",
                encoding="base64",
            ),
            entry(
                "http://isles.example/b",
                200,
                "application/geo+json",
                text="eyJuIjogMn0=",
                encoding="base64",
            ),
            entry(
                "http://isles.example/c?key=k", 200, "application/json", text="{'n': 3}"
            ),
            entry("http://isles.example/d?key=k", 502, "text/html", text="<html>"),
            entry("http://isles.example/e", 304, "application/json"),
        ]
        archive = {
            "log": {
                "version": "1.2",
                "creator": {"name": "x", "version": "1"},
                "entries": entries,
            }
        }
        [source] = find_sources([self.file("day.har", json.dumps(archive, indent=1))])
        [batch] = read_batches([source])
        self.assertEqual(batch.documents, [{"n": 1}, {"n": 2}])
        self.assertEqual(
            [origin and origin.address for origin in batch.origins],
            ["http://isles.example/ports", "http://isles.example/b"],
        )
        self.assertEqual(dict(source.passed_over), {"image/png": 1, "status 304": 1})
        told = [(bad.number, bad.code, bad.finding.message) for bad in batch.bad]
        self.assertEqual(told, [
            (3, "not-json", "single quotes: JSON wants double, in the answer of http://isles.example/c"),
            (4, "no-data", "the service answered 502 (http://isles.example/d)"),
        ])  # fmt: skip

    def test_a_collected_folder_gives_what_was_kept_in_its_order(self) -> None:
        """Its record says what is data; a last line that a crash cut off is none, a changed one is
        an error.
        """
        lines = [
            {
                "url": "http://isles.example/b",
                "file": "pages/000002.json",
                "status": 200,
                "fetched_at": "2031-04-01T08:00:00Z",
            },
            {
                "url": "http://isles.example/x",
                "file": "apart/000003.html",
                "problem": "not JSON",
            },
            {
                "url": "http://isles.example/a",
                "file": "pages/000001.json",
                "status": 200,
            },
        ]
        for number in (1, 2, 3):
            self.file(f"in/pages/00000{number}.json", json.dumps({"n": number}))
        record = self.file(
            "in/capture.jsonl",
            "".join(json.dumps(line) + "\n" for line in lines) + '{"url": "http',
        )
        self.file("in/other/x.json", "{}")
        [batch] = self.read(self.folder / "in")
        self.assertEqual(batch.documents, [{"n": 2}, {"n": 1}])
        self.assertEqual(
            batch.origins[0] and batch.origins[0].fetched_at, "2031-04-01T08:00:00Z"
        )
        for broken in ('{"file": "../x.json"}', '{"file": "/x.json"}', "{}", "[]", "{"):
            record.write_text(broken + "\n")
            with self.subTest(broken), self.assertRaises(InputError) as caught:
                self.read(self.folder / "in")
            self.assertEqual(caught.exception.code, "capture-broken")

    def test_all_forms_are_mixed_in_one_run(self) -> None:
        self.file("in/a.json", '{"n": 1}')
        self.file("in/b.jsonl.zst", PACKERS["zstd"](b'{"n": 2}\n{"n": 3}\n'))
        self.file("in/c.json", '{"n": 4}'.encode("utf-16"))
        self.file("in/d.json-seq", '\x1e{"n": 5}\n')
        self.file(
            "in/e/capture.jsonl",
            '{"file": "pages/1.json", "url": "http://isles.example"}\n',
        )
        self.file("in/e/pages/1.json", '{"n": 6}')
        self.file("in/f.json", "{'n': 7}")
        self.assertEqual(
            self.documents(self.folder / "in"),
            [{"n": number} for number in range(1, 7)],
        )

    def test_folders_and_globs_are_followed_by_name(self) -> None:
        for name in ("b.json", "a.jsonl", "deep/c.json.gz", "note.txt"):
            self.file(
                f"in/{name}", gzip.compress(b"{}") if name.endswith("gz") else b"{}"
            )
        names = [source.name for source in find_sources([self.folder / "in"])]
        self.assertEqual(
            [Path(name).name for name in names], ["a.jsonl", "b.json", "c.json.gz"]
        )
        names = [source.name for source in find_sources([f"{self.folder}/in/*.json"])]
        self.assertEqual([Path(name).name for name in names], ["b.json"])

    def test_a_folder_is_read_without_the_tables_that_a_run_left_in_it(self) -> None:
        for name in (
            "in/a.json",
            "in/tables/run.json",
            "in/tables/rejects.jsonl",
            "in/.hidden/b.json",
            "in/deep/run.json",
        ):
            self.file(name, "{}")
        names = [
            source.name.rpartition("/in/")[2]
            for source in find_sources([self.folder / "in"])
        ]
        self.assertEqual(names, ["a.json", "deep/run.json"])

    def test_what_is_not_there_is_an_error_that_helps(self) -> None:
        self.file("timetable.json", "{}")
        (self.folder / "empty").mkdir()
        cases = [
            ("timetabel.json", "not-opened", "did you mean"),
            ("empty", "no-input", "responses end in"),
            ("*.jsonl", "no-input", "check the pattern"),
        ]
        for name, code, hint in cases:
            with self.subTest(name), self.assertRaises(InputError) as caught:
                find_sources([f"{self.folder}/{name}"])
            self.assertEqual(caught.exception.code, code)
            self.assertIn(hint, caught.exception.hint or "")

    def test_an_empty_file_is_an_error_where_it_was_named_and_a_bad_document_in_a_folder(
        self,
    ) -> None:
        file = self.file("in/a.json", "")
        self.file("in/b.json", "{}")
        with self.assertRaises(InputError):
            self.read(file)
        [batch] = self.read(file.parent)
        self.assertEqual(
            [bad.finding.message for bad in batch.bad], ["the file is empty"]
        )
