"""`look` and `survey` as the built program: what they print, on a screen of 80 columns, and how
they end.
"""

from __future__ import annotations

import contextlib
import json
import os
import pty
import random
import subprocess
import sys
import time
import unittest
from typing import Any
from unittest import mock

from mukret.cli.views.screen import cell_width
from mukret.documents import find_sources, glance
from mukret.paths import parse_path
from mukret.survey import nodes
from mukret.survey.excerpts import excerpt, in_short
from mukret.survey.nodes import find_nodes
from tests.helpers import FolderCase

PORTS = {
    "ports": [
        {
            "code": "OTV",
            "depth_m": "8.60",
            "berths": [{"no": 1}, {"no": 2}],
            "lit": True,
        },
        {
            "code": "SKR",
            "depth_m": "7.80",
            "berths": {"no": 1},
            "lit": None,
            "notes": [],
        },
    ],
    "next": None,
}
TOLMAR = {
    "ports": [{"code": "TOL", "depth_m": "n/a", "berths": [], "lit": False}],
    "next": "\u001b[2Jtwo",
}

SCREEN = """\
2 documents in 1 file, 291 bytes

Lists of records
  $.ports[*]            3  in 2 lists of 1 to 2
  $.ports[*].berths[*]  2  in 2 lists of 0 to 2

What stands where
$              2 documents
├ ports[*]     3 records in 2 lists of 1 to 2
│ ├ code       text; unique; e.g. "OTV", "SKR"
│ ├ depth_m    number in text in 2 (2 digits after the point); placeholder in 1
│ │            ("n/a"); e.g. "8.60", "7.80"
│ ├ berths[*]  array 2 or object 1; 2 records in 2 lists of 0 to 2, 1 of them
│ │ │          empty; a list, and an object now and then
│ │ └ no       whole number; unique; 1 … 2
│ ├ lit        null in 1 of 3; boolean: true ×1, false ×1
│ └ notes      1 of 3; always an empty list
└ next         null in 1 of 2; text; e.g. "\\u001b[2Jtwo"

1 surprise
  $.ports[*].berths: a list, but an object now and then: array 2, object 1
    at $.ports[1].berths in feed.jsonl
"""


class FeedCase(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.feed(PORTS, TOLMAR)

    def feed(self, *documents: Any) -> None:
        self.file(
            "feed.jsonl", "".join(f"{json.dumps(document)}\n" for document in documents)
        )

    def shown(
        self,
        *arguments: str,
        code: int = 0,
        columns: int = 80,
        stdin: str | None = None,
    ) -> str:
        """What a command prints on standard output, if it ends as it should."""
        if stdin is None:
            done = self.typed(*arguments, columns=columns)
        else:
            done = self.mukret(*arguments, columns=columns, stdin=stdin)
        self.assertEqual(done.returncode, code, done.stderr)
        self.assertNotIn("Traceback", done.stderr)
        self.assertNotIn("\x1b", done.stdout + done.stderr)
        return done.stdout

    def check_errors(self, cases: list[tuple[tuple[str, ...], int, list[str]]]) -> None:
        """Arguments, exit code, lines of standard error."""
        for arguments, code, lines in cases:
            with self.subTest(arguments):
                done = self.typed(*arguments)
                self.assertEqual(
                    (done.returncode, done.stderr.splitlines()[: len(lines)]),
                    (code, lines),
                )
                self.assertNotIn("Traceback", done.stderr)


class Survey(FeedCase):
    def test_the_screen_of_80_columns(self) -> None:
        self.assertEqual(self.shown("survey", "feed.jsonl"), SCREEN)
        whole = (self.folder / "feed.jsonl").read_text()
        self.assertEqual(
            self.shown("survey", "-", stdin=whole), SCREEN.replace("feed.jsonl", "-")
        )

    def test_what_to_type_next_is_said_and_works(self) -> None:
        done = self.typed("survey", "feed.jsonl")
        lines = [line.strip() for line in done.stderr.splitlines()]
        self.assertEqual(lines[-3:], ["mukret look feed.jsonl '$.ports[*]' --nth 1", "mukret survey feed.jsonl --path '$.ports[*]'", "mukret draft feed.jsonl"])  # fmt: skip
        self.assertEqual(self.typed("survey", "feed.jsonl", "--quiet").stderr, "")
        part = self.shown("survey", "feed.jsonl", "--path", "$.ports[*]")
        self.assertTrue(
            part.startswith(
                "2 documents in 1 file, 291 bytes; $.ports[*] finds 3 nodes\n"
            )
        )
        self.assertIn("\n$.ports[*]   3 nodes\n├ code       text; unique;", part)
        more = self.shown("survey", "feed.jsonl", "--path", "$.ports[*]", "-v")
        self.assertIn(
            'e.g. "OTV", "SKR", "TOL"; up to 3 characters',
            more.replace("\n│            ", " "),
        )

    def test_no_line_of_the_tree_is_wider_than_the_screen(self) -> None:
        """Names of every length and script, deep below each other; words and texts without end."""
        nested: Any = {"x": ["word " * 40, "w" * 300], "港口": "北港码头" * 30}
        for number in range(12):
            nested = {f"a_member_with_a_name_of_its_own_{number}": nested}
        self.feed(
            *[
                nested | {"state": f"state-{n % 25}", "note\n\t": "\u202e" * n}
                for n in range(100)
            ]
        )
        for columns in (60, 80, 132):
            with self.subTest(columns):
                tree = self.shown("survey", "feed.jsonl", columns=columns).partition(
                    "What stands where\n"
                )[2]
                lines = tree.partition("\n\n")[0].splitlines()
                self.assertGreater(len(lines), 15)
                wide = [line for line in lines if cell_width(line) > columns]
                self.assertEqual(wide, [])

    def test_rows_names_that_are_data_and_sorts_are_said(self) -> None:
        level = {"times": ["04:10", "16:30"], "heights": ["1.0", "2.0"]}
        self.feed(
            {
                "tides": {"2031-03-28": level, "2031-03-29": level},
                "names": {
                    "fo": {"lang": "fo", "text": "Otravík"},
                    "da": {"lang": "da", "text": "Ottervig"},
                },
                "fares": [["class", "crowns"], ["adult", "12.00"], ["child", "6.00"]],
                "marks": [
                    {"is": "buoy", "colour": "red"},
                    {"is": "light", "range_nm": 7},
                ]
                * 4,
                "quay": {"position": [-8.1203, 57.2041]},
            },
            {"quay": {"position": [-8.4417, 57.331]}},
            {"quay": {"position": [-8.1, 57.2]}},
        )
        shown = self.shown("survey", "feed.jsonl", columns=120)
        for line in (
            "  $.tides[*]  2  in one object, under names that are data",
            "  $.names[*]  2  in one object, under names that are data",
            '├ tides[*]      1 of 3; names are data: 2 different, "2031-03-28", "2031-03-29"; times and heights are of ',
            '├ names[*]      1 of 3; names are data: 2 different, "fo", "da"',
            "├ fares[*]      1 of 3; 2 rows of 2 in one list; the first row holds the names: class, crowns",
            '│ └ [1] crowns  number in text (2 digits after the point); e.g. "12.00", "6.00"',
            "├ marks[*]      1 of 3; 8 records in one list; several sorts, told by is: buoy ×4: colour; light ×4: range_nm",
            "  └ position    always 2 elements, told apart by position",
            "    ├ [0]       number (4 digits after the point); -8.4417 … -8.1",
        ):
            with self.subTest(line):
                self.assertIn(f"\n{line}", shown)
        records = json.loads(self.shown("survey", "feed.jsonl", "--json"))["records"]
        self.assertEqual(
            records[0],
            {
                "path": "$.tides[*]",
                "records": 2,
                "lists": 1,
                "shortest": None,
                "longest": None,
                "by_name": True,
            },
        )

    def test_names_of_the_data_can_not_reach_the_terminal_as_they_are(self) -> None:
        """Wherever a survey says them: parallel arrays, a header, sorts of records, names that are
        data, references.
        """
        red, blink = "red\u001b[31m", "blink\u001b[5m"
        self.feed(
            {
                red: [1, 2],
                blink: [3, 4],
                "table": [[red, blink], ["1", "2"]],
                "marks": [{"is": "buoy", red: 1}, {"is": "light", blink: 2}] * 4,
                "days": {"2031-03-28\u001b[2J": 1, "2031-03-29\u001b[2J": 2},
                "quays": [{"id": f"Q{n}{red}"} for n in range(3)],
                "calls": [{"quay": f"Q{n}{red}"} for n in (0, 1, 1)],
                "blank": "n/a\u001b ",
            }
        )
        # Which looks for escapes itself.
        shown = self.shown("survey", "feed.jsonl", "-v", columns=400)
        self.assertEqual(
            shown.partition("What stands where\n")[2],
            r"""$                            1 document; red\u001b[31m and blink\u001b[5m are of equal length: parallel
├ ['red\u001b[31m'][*]       2 elements in one list; whole number; 1 … 2
├ ['blink\u001b[5m'][*]      2 elements in one list; whole number; 3 … 4
├ table[*]                   1 row of 2 in one list; the first row holds the names: red\u001b[31m, blink\u001b[5m
│ ├ [0] red\u001b[31m        number in text (whole); e.g. "1"; up to 1 character
│ └ [1] blink\u001b[5m       number in text (whole); e.g. "2"; up to 1 character
├ marks[*]                   8 records in one list; several sorts, told by is: buoy ×4: red\u001b[31m; light ×4: blink\u001b[5m
│ ├ is                       text; buoy ×4, light ×4
│ ├ ['red\u001b[31m']        4 of 8; whole number; 1
│ └ ['blink\u001b[5m']       4 of 8; whole number; 2
├ days
│ ├ ['2031-03-28\u001b[2J']  whole number; 1
│ └ ['2031-03-29\u001b[2J']  whole number; 2
├ quays[*]                   3 records in one list
│ └ id                       text; unique; e.g. "Q0red\u001b[31m", "Q1red\u001b[31m", "Q2red\u001b[31m"; up to 10 characters
├ calls[*]                   3 records in one list
│ └ quay                     text; found in $.quays[*].id; e.g. "Q0red\u001b[31m", "Q1red\u001b[31m"; up to 10 characters
└ blank                      text; e.g. "n/a\u001b "; up to 5 characters

1 surprise
  $.blank: 1 of 1 have white space around them, such as "n/a\u001b "
    at $.blank in feed.jsonl
""",
        )

    def test_json_is_for_scripts_and_keeps_digits(self) -> None:
        self.file(
            "fine.json",
            '{"load": 0.10000000000000000000001, "far": 123456789012345678901234567890}',
        )
        text = self.shown("survey", "fine.json", "--json")
        self.assertIn('"examples":[0.10000000000000000000001]', text)
        self.assertIn('"low":123456789012345678901234567890', text)
        self.assertEqual(
            [one["code"] for one in json.loads(text)["surprises"]], ["beyond-64-bits"]
        )
        report = json.loads(self.shown("survey", "feed.jsonl", "--json"))
        self.assertEqual(
            (report["documents"], report["found"], report["bad_documents"]), (2, 2, 0)
        )
        places = {place["path"]: place for place in report["places"]}
        self.assertEqual(
            (places["$.ports[*].notes"]["present"], places["$.ports[*].notes"]["of"]),
            (1, 3),
        )
        self.assertEqual(
            places["$.ports[*].berths"]["kinds"], {"array": 2, "object": 1}
        )
        reading = places["$.ports[*].depth_m"]["looks"][0]
        self.assertEqual(
            (reading["look"], reading["reading"]),
            ("number in text", {"type": "decimal(18,2)"}),
        )

    def test_bad_documents_are_named_and_the_others_surveyed(self) -> None:
        self.file("mixed.jsonl", '{"a": 1}\n{"a": tru}\n{"a": 2}\n')
        done = self.typed("survey", "mixed.jsonl", "--quiet")
        self.assertEqual(done.returncode, 1)
        self.assertIn("└ a  whole number; 1 … 2\n", done.stdout)
        self.assertEqual(
            done.stderr.splitlines(),
            [
                "1 document could not be read:",
                "  mixed.jsonl, document 2: tru: a text wants double quotes (line 2, column 7, byte 15)",
                '    {"a": tru}',
                "          ^",
            ],
        )

    def test_errors_say_what_to_do(self) -> None:
        self.file("page.html", "<!DOCTYPE html>\n<p>Closed for the winter</p>\n")
        self.file("empty.json", "")
        self.file("berths/one.json", "{}")
        (self.folder / "bare").mkdir()
        unmatched = "warning: $.port finds nothing in all of the input [unmatched]"
        self.check_errors(
            [
                (
                    ("survey", "feed.jsonl", "--path", "$.port"),
                    1,
                    [unmatched, "  hint: $.port is not there; did you mean $.ports?"],
                ),
                (
                    ("survey", "feed.jsonl", "--path", "$.port["),
                    2,
                    ["error: this [ is never closed [path-syntax]"],
                ),
                (
                    ("survey", "empty.json"),
                    3,
                    ["error: empty.json: the file is empty [empty-input]"],
                ),
                (
                    ("survey", "bare"),
                    3,
                    ["error: bare: a folder with no response in it [no-input]"],
                ),
                (
                    ("survey", "berth/one.json"),
                    3,
                    [
                        "error: berth/one.json: no such file or folder [not-opened]",
                        "  hint: did you mean berths/one.json?",
                    ],
                ),
                (
                    ("survey", "page.html"),
                    3,
                    [
                        "error: no document of the run could be read: this is an HTML page, not JSON [nothing-read]",
                        "  at page.html:1:1 (byte 0)",
                        "    <!DOCTYPE html>",
                        "    ^",
                    ],
                ),
                (("survey",), 2, ["error: Missing argument 'FILE...'. [usage]"]),
            ]
        )

    def test_what_an_archive_holds_beside_data_is_counted(self) -> None:
        def entry(media_type: str, text: str) -> dict[str, Any]:
            return {
                "request": {"method": "GET", "url": "https://ferries.example/v2/ports"},
                "response": {
                    "status": 200,
                    "content": {"mimeType": media_type, "text": text},
                },
            }

        entries = [
            entry("text/html", "<p>"),
            entry("application/json", '{"a": 1}'),
            entry("image/png", ""),
        ]
        self.file(
            "visit.har", json.dumps({"log": {"version": "1.2", "entries": entries}})
        )
        lines = self.shown("survey", "visit.har").splitlines()
        self.assertEqual(lines[0].partition(",")[0], "1 document in 1 file")
        self.assertIn("passed over, since they hold no data: ", lines[1])
        self.assertEqual(lines[-1], "└ a  whole number; 1")

    def test_a_reader_that_has_seen_enough_is_no_error(self) -> None:
        """Neither where rich draws nor where lines are printed."""
        self.feed(*[{"ports": [{"code": "OTV"}] * 50}] * 200)
        for arguments in (
            "survey feed.jsonl",
            "look feed.jsonl '$.ports[*]' --whole",
            "look feed.jsonl --every",
        ):
            with self.subTest(arguments):
                command = f"set -o pipefail; {sys.executable} -m mukret {arguments} -q | head -n 1"
                done = subprocess.run(["bash", "-c", command], cwd=self.folder, capture_output=True, text=True, check=False)  # fmt: skip
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertEqual(done.stdout.count("\n"), 1)

    def test_memory_does_not_grow_with_the_input(self) -> None:
        """Three times the input, every value a new one: the peak is within 30 MB."""
        peaks = []
        for count in (100_000, 300_000):
            self.feed(
                *[{"id": f"B{n:07}", "made": 1_932_480_172 + n} for n in range(count)]
            )
            code = (
                "import sys; sys.argv = ['mukret', 'survey', 'feed.jsonl', '--json', '-q']\n"
                "from mukret.cli.main import run\n"
                "try: run()\nexcept SystemExit as end: code = end.code\n"
                "peak = [line.split()[1] for line in open('/proc/self/status') if line.startswith('VmHWM')]\n"
                "print(code, *peak, file=sys.stderr)"
            )
            done = subprocess.run([sys.executable, "-c", code], cwd=self.folder, capture_output=True, text=True, check=True)  # fmt: skip
            status, peak = done.stderr.split()
            self.assertEqual(
                (status, json.loads(done.stdout)["documents"]), ("0", count)
            )
            peaks.append(int(peak) / 1000)
        self.assertLess(peaks[1], peaks[0] + 30)

    def test_a_long_run_shows_how_far_it_is_on_a_terminal_alone(self) -> None:
        """A bar on standard error, which is gone at the end; the report on standard output has
        nothing of it.
        """
        chunk = b"".join(b'{"n": %d}\n' % number for number in range(200_000))
        for quiet in ((), ("--quiet",)):
            with self.subTest(quiet):
                ours, theirs = pty.openpty()
                command = [
                    sys.executable,
                    "-m",
                    "mukret",
                    "survey",
                    "-",
                    "--json",
                    *quiet,
                ]
                process = subprocess.Popen(command, cwd=self.folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=theirs)  # fmt: skip
                os.close(theirs)
                assert process.stdin
                process.stdin.write(chunk)
                process.stdin.flush()
                time.sleep(2.5)  # the bar has a second's patience
                out, _ = process.communicate(chunk, timeout=60)
                shown = read_all(ours)
                self.assertEqual(json.loads(out)["documents"], 400_000)
                self.assertEqual("MB" in shown, not quiet, shown)
                self.assertTrue(
                    not shown or shown.endswith(("\x1b[2K", "\x1b[?25h")),
                    repr(shown[-40:]),
                )


def read_all(terminal: int) -> str:
    """What was written to a terminal that nobody holds open any more."""
    found = b""
    with contextlib.suppress(OSError), open(terminal, "rb", buffering=0) as file:
        while piece := file.read(4096):
            found += piece
    return found.decode()


class NodesOfLongDocuments(FolderCase):
    def nodes(
        self, name: str, path: str, most: int | None = None
    ) -> list[tuple[int, str, Any]]:
        _, found = find_nodes(
            find_sources([str(self.folder / name)]), parse_path(path), most
        )
        return [(node.document, node.path, node.value) for node in found]

    def test_they_are_those_of_the_whole_document(self) -> None:
        """Whatever the path, whether the document comes in pieces or not, and with lines after a
        long first one.
        """
        draw = random.Random(9)
        ports = [
            {"n": n, "berths": [{"no": b} for b in range(draw.randrange(4))]}
            for n in range(200)
        ]
        for wrong in (5, 77):
            ports[wrong] = draw.choice([None, "closed", [1, 2]])  # type: ignore[call-overload]
        long = {
            "name": "x",
            "feed": {"ports": ports, "n": 7},
            "by_code": {"OTV": {"n": 1}, "SKR": {"n": 2}},
        }
        self.file("one.json", json.dumps(long))
        self.file(
            "lines.jsonl",
            "\n".join(
                json.dumps(one)
                for one in (long, {"feed": {"ports": [{"n": -1}]}}, long)
            ),
        )
        self.file("list.json", json.dumps(ports))
        paths = ["$.feed.ports[*]", "$.feed.ports[*].n", "$.feed.ports[150].n", "$.feed.ports[?@.n > 190]", "$.feed.ports[-3].n",
                 "$.by_code[*].n", "$.feed[*].n", "$.feed.ports[*].berths[*].no", "$.feed.ports[?@.n == $.feed.n]", "$..no",
                 "$[*].n", "$[199]", "$.feed.ports[5:9].n", "$.nothing[*]", "$.name[*]"]  # fmt: skip
        found = 0
        for name in ("one.json", "lines.jsonl", "list.json"):
            for path in paths:
                with self.subTest(name=name, path=path):
                    whole = self.nodes(name, path)
                    found += len(whole)
                    with mock.patch.object(nodes, "SMALL_BATCH", 700):
                        self.assertEqual(self.nodes(name, path), whole)
        self.assertGreater(found, 3000)

    def test_a_glance_has_the_sizes_and_the_beginnings(self) -> None:
        ports = [
            {"n": n, "name": {"en": "Otterwick", "zero": -0.0}} for n in range(500)
        ]
        self.file("a.json", json.dumps({"b": 1, "feed": {"ports": ports}, "c": "d"}))
        with mock.patch.object(glance, "LONG_BYTES", 100):
            for path in (
                "$",
                "$.feed",
                "$.feed.ports",
                "$.feed.ports[499].name.en",
                "$.feed.ports[-1]",
                "$.c",
                "$.c.d",
            ):
                with self.subTest(path):
                    [cut, whole] = [
                        self.nodes("a.json", path, most) for most in (20, None)
                    ]
                    self.assertEqual(
                        [(n, p, in_short(v, 80)) for n, p, v in cut],
                        [(n, p, in_short(v, 80)) for n, p, v in whole],
                    )
                    for (*_, some), (*_, every) in zip(cut, whole, strict=True):
                        self.assertEqual(excerpt(some, 80, 20), excerpt(every, 80, 20))
                        self.assertFalse(path == "$.feed.ports" and some == every)


class Look(FeedCase):
    def test_nodes_stand_below_their_paths_as_they_are(self) -> None:
        self.assertEqual(
            self.shown("look", "feed.jsonl", "$.ports[*].berths"),
            "feed.jsonl, document 1\n"
            "$['ports'][0]['berths']  array, 2 elements\n"
            '[{"no": 1}, {"no": 2}]\n'
            "$['ports'][1]['berths']  object, 1 member\n"
            '{"no": 1}\n'
            "feed.jsonl, document 2\n"
            "$['ports'][0]['berths']  empty array\n",
        )
        self.assertEqual(
            self.shown("look", "feed.jsonl", "$.next"),
            "feed.jsonl, document 1\n$['next']  null\nfeed.jsonl, document 2\n$['next']  \"\\u001b[2Jtwo\"\n",
        )

    def test_each_path_that_is_shown_finds_its_node_again(self) -> None:
        for line in self.shown(
            "look", "feed.jsonl", "--every", columns=200
        ).splitlines():
            if line.startswith("$"):
                path, kind = line.split()[:2]
                with self.subTest(path):
                    again = json.loads(self.shown("look", "feed.jsonl", path, "--json"))
                    self.assertEqual({node["path"] for node in again}, {path})
                    self.assertIn(kind, {node["kind"] for node in again})

    def test_one_of_many_is_counted_over_all_documents(self) -> None:
        third = "feed.jsonl, document 2\n$['ports'][0]['code']  \"TOL\"\n"
        self.assertEqual(
            self.shown("look", "feed.jsonl", "$.ports[*].code", "--nth", "3"), third
        )
        done = self.typed("look", "feed.jsonl", "$.ports[*].code", "--nth", "4")
        self.assertEqual(
            (done.returncode, done.stderr),
            (2, "error: $.ports[*].code finds 3 nodes; there is no number 4 [usage]\n"),
        )

    def test_every_node_below_as_a_table(self) -> None:
        self.assertEqual(
            self.shown("look", "feed.jsonl", "$.ports[1]", "--every"),
            "feed.jsonl, document 1\n"
            "$['ports'][1]                  object   5 members\n"
            "$['ports'][1]['code']          string   \"SKR\"\n"
            "$['ports'][1]['depth_m']       string   \"7.80\"\n"
            "$['ports'][1]['berths']        object   1 member\n"
            "$['ports'][1]['berths']['no']  number   1\n"
            "$['ports'][1]['lit']           null     null\n"
            "$['ports'][1]['notes']         array    empty array\n",
        )

    def test_what_is_long_is_cut_to_the_screen_and_says_how_much(self) -> None:
        self.feed(
            {
                "text": "x" * 1000,
                "list": list(range(1000)),
                "rows": [{"n": n, "t": "y" * 30} for n in range(90)],
            }
        )
        shown = self.shown("look", "feed.jsonl")
        self.assertLessEqual(len(shown.splitlines()), 40)
        self.assertLessEqual(max(map(len, shown.splitlines())), 80)
        self.assertIn("… 1,000 characters", shown)
        self.assertRegex(shown, r"… \d+ more elements")
        whole = self.shown("look", "feed.jsonl", "--whole")
        self.assertEqual(json.loads(whole.partition("\n")[2].partition("\n")[2]), json.loads((self.folder / "feed.jsonl").read_text()))  # fmt: skip

    def test_the_rest_is_counted_and_the_next_step_named(self) -> None:
        self.feed(*[{"n": number} for number in range(100)])
        done = self.typed("look", "feed.jsonl")
        shown = done.stdout.count("$  object")
        self.assertEqual(
            done.stderr.splitlines(),
            ["", f"100 nodes in 100 documents; the first {shown} shown", f"  mukret look feed.jsonl '$' --nth {shown + 1}"],
        )  # fmt: skip
        self.assertIn(
            f'{{"n": {shown}}}',
            self.shown("look", "feed.jsonl", "$", "--nth", str(shown + 1)),
        )

    def test_no_more_is_read_than_has_to_be(self) -> None:
        """What stands behind is broken; nobody gets that far."""
        lines = [json.dumps({"n": number, "pad": "x" * 1000}) for number in range(3000)]
        self.file("long.jsonl", "\n".join([*lines, "{'broken'"]))
        self.assertIn('"n": 6,', self.shown("look", "long.jsonl", "$", "--nth", "7"))
        self.assertIn(
            "so far: reading stopped there", self.typed("look", "long.jsonl").stderr
        )
        self.shown("look", "long.jsonl", "--json", code=1)
        text = json.dumps(
            {"name": "Merrow", "feed": {"rows": [json.loads(line) for line in lines]}}
        )
        self.file("long.json", text.replace('"n": 2900,', '"n": 2900 2901,'))
        for path, *nth in (("$.feed.rows[*]", "--nth", "7"), ("$.feed.rows[6]",), ("$.feed.rows[?@.n > 5].n", "--nth", "1")):  # fmt: skip
            with self.subTest(path):
                self.assertIn(
                    "$['feed']['rows'][6]", self.shown("look", "long.json", path, *nth)
                )
        done = self.typed("look", "long.json", "$.feed.rows[*]", "--nth", "2999")
        self.assertEqual(done.returncode, 2, done.stderr)
        self.assertRegex(
            done.stderr,
            r"(?s)could not be read:.*finds 2,\d+ nodes; there is no number 2,999",
        )
        self.file("long.json", text)
        for path in ("$.feed.row", "$.feed.rows[*].m"):
            with self.subTest(path):
                self.assertIn(
                    "did you mean" if path[-1] != "m" else "",
                    self.typed("look", "long.json", path).stderr,
                )

    def test_the_first_record_of_a_list_is_unfolded(self) -> None:
        rows = [
            {"code": f"P{n}", "name": "Otterwick", "depths": [8.6] * 30}
            for n in range(500)
        ]
        first = [
            "{",
            '  "code": "P0",',
            '  "name": "Otterwick",',
            '  "depths": [… 30 elements]',
            "},",
            "{… 3 members},",
        ]
        for document, path, depth in (
            (rows, "$", 1),
            ({"data": rows}, "$.data", 1),
            ({"data": rows, "next": None}, "$", 2),
        ):
            with self.subTest(path):
                self.feed(document)
                lines = self.shown("look", "feed.jsonl", path).splitlines()
                begin = 2 + depth
                self.assertEqual(
                    lines[begin : begin + len(first)],
                    [f"{'  ' * depth}{line}" for line in first],
                )

    def test_bare_values_a_line_each_for_scripts(self) -> None:
        self.assertEqual(
            self.shown("look", "feed.jsonl", "$.ports[*].code", "--values"),
            "OTV\nSKR\nTOL\n",
        )
        self.feed({"all": ["two\nlines", 1.50, None, True, {"a": [1]}, ""]})
        self.assertEqual(
            self.shown("look", "feed.jsonl", "$.all[*]", "--values"),
            'two\\nlines\n1.5\nnull\ntrue\n{"a":[1]}\n\n',
        )
        self.check_errors([(("look", "feed.jsonl", "--values", "--every"), 2, ["error: --values, --every and --json are ways to show the same nodes [usage]"])])  # fmt: skip

    def test_members_are_found_by_name_wherever_they_stand(self) -> None:
        every = self.shown("look", "feed.jsonl", "--named", "no")
        self.assertEqual(every.count("['no']"), 3)
        self.assertEqual(
            self.shown("look", "feed.jsonl", "$.ports[1]", "--named", "no", "--values"),
            "1\n",
        )
        self.assertEqual(
            self.shown(
                "look", "feed.jsonl", "--named", "code", "--nth", "3", "--values"
            ),
            "TOL\n",
        )
        done = self.typed("look", "feed.jsonl", "--named", "depth")
        self.assertEqual(done.returncode, 1)
        self.assertIn("no member depth below $; did you mean depth_m?", done.stderr)

    def test_an_address_and_a_path_of_another_kind_lead_to_what_to_type(self) -> None:
        self.check_errors(
            [
                (
                    ("look", "http://127.0.0.1:8431/v2/ports?size=2"),
                    3,
                    [
                        "error: http://127.0.0.1:8431/v2/ports?size=2: this is an address, and files are read here [not-opened]",
                        "  hint: keep the answer first: mukret collect 'http://127.0.0.1:8431/v2/ports?size=2' --to kept, and read the folder kept",
                    ],
                )
            ]
        )  # fmt: skip
        for typed, meant in (
            (".[0].n", "$[0].n"),
            ("ports[].code", "$.ports[*].code"),
            (".", "$"),
            ("code", "$.code"),
        ):
            with self.subTest(typed):
                self.assertIn(
                    f"hint: write {meant}\n",
                    self.typed("look", "feed.jsonl", typed).stderr,
                )

    def test_json_has_every_node_with_its_place(self) -> None:
        self.file("fine.json", '{"load": 1.10, "far": 1e400, "rows": [{}, []]}')
        nodes = self.shown("look", "fine.json", "$.*", "--json")
        self.assertIn('"path":"$[\'load\']","kind":"number","value":1.10}', nodes)
        self.assertIn('"value":1e400}', nodes)
        every = json.loads(
            self.shown("look", "fine.json", "$.rows", "--every", "--json")
        )
        self.assertEqual(
            [(node["path"], node["kind"], node["size"]) for node in every],
            [
                ("$['rows']", "array", 2),
                ("$['rows'][0]", "object", 0),
                ("$['rows'][1]", "array", 0),
            ],
        )

    def test_errors_say_what_to_do(self) -> None:
        self.file("cut.json", '{"ports": [\n  {"code": "OTV"')
        self.file("wide.json", '{"港口": tru}')
        self.file("quotes.jsonl", "{'a': 1}\n{\"a\": 1}\n")
        self.check_errors(
            [
                (
                    ("look", "feed.jsonl", "$.Ports"),
                    1,
                    [
                        "warning: $.Ports finds nothing in all of the input [unmatched]",
                        "  hint: $.Ports differs in case; did you mean $.ports?",
                    ],
                ),
                (
                    ("look", "cut.json"),
                    3,
                    [
                        "error: no document of the run could be read: cut off inside an object that began at line 2 "
                        "[nothing-read]",
                        "  at cut.json:2:17 (byte 28)",
                        '      {"code": "OTV"',
                        "                    ^",
                    ],
                ),
                (
                    ("look", "quotes.jsonl", "--quiet"),
                    1,
                    [
                        "1 document could not be read:",
                        "  quotes.jsonl, document 1: single quotes: JSON wants double (line 1, column 2, byte 1)",
                        "    {'a': 1}",
                        "     ^",
                    ],
                ),
                (
                    ("look", "wide.json"),
                    3,
                    [
                        "error: no document of the run could be read: tru: a text wants double quotes [nothing-read]",
                        "  at wide.json:1:8 (byte 11)",
                        '    {"港口": tru}',
                        "             ^",
                    ],
                ),
                (("look", "feed.json"), 3, ["error: feed.json: no such file or folder [not-opened]", "  hint: did you mean feed.jsonl?"]),
                (("look", "feed.jsonl", "ports"), 2, ["error: a path begins with $ [path-syntax]"]),
                (("look", "feed.jsonl", "--nth", "0"), 2, ["error: Invalid value for '--nth': 0 is not in the range x>=1. [usage]"]),
            ]
        )  # fmt: skip


if __name__ == "__main__":
    unittest.main()
