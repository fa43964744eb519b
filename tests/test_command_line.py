"""The built program, on files in a folder: what it prints, what it leaves behind, how it ends."""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import os
import shlex
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path
from unittest import mock

from mukret.cli.commands.standin import DEFAULT_PORT
from mukret.sample.service import PASSWORD, USER, standing_in
from tests.helpers import FolderCase, demo_port, rules_text, run_mukret

RULES = rules_text("""
    tables:
      sailings:
        rows: "$.sailings[*]"
        key: no
        fields:
          no: {at: "$.id", type: integer, required: true}
          fare: {at: "$.fare", type: "decimal(9,2)"}
          note: $.note
    """)
CLEAN = '{"sailings": [{"id": 1, "fare": "2.50", "note": "a"}, {"id": 2, "fare": 3, "note": null}]}'
DIRTY = '{"sailings": [{"id": 1, "fare": "ask crew"}, {"fare": 1}, {"id": 3, "fare": 1, "note": "\\u001b[31mred"}]}'


class CommandLine(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.file("ferry.rules.yaml", RULES)
        self.file("clean.json", CLEAN)
        self.file("dirty.json", DIRTY)

    # ---- extract

    def test_a_clean_run_ends_with_0_and_says_what_it_did_on_standard_error(
        self,
    ) -> None:
        done = self.typed("extract", "ferry.rules.yaml", "clean.json", "--to", "out")
        self.assertEqual((done.returncode, done.stdout), (0, ""))
        self.assertEqual(
            done.stderr.splitlines(),
            [
                "1 document in 1 file → out/",
                "  table     seen  written  rejected",
                "  sailings     2        2         0",
            ],
        )
        self.assertEqual(
            (self.folder / "out/sailings.csv").read_text(),
            "no,fare,note\n1,2.50,a\n2,3.00,\n",
        )

    def test_rejects_end_with_1_and_are_explained(self) -> None:
        done = self.typed("extract", "ferry.rules.yaml", "dirty.json", "--to", "out")
        self.assertEqual(done.returncode, 1)
        self.assertIn(
            "2 rows rejected, every reason in out/rejects.jsonl:", done.stderr
        )
        self.assertIn(
            '  sailings.fare: 1 × not-a-number, e.g. "ask crew"\n', done.stderr
        )
        self.assertIn(
            "      at $.sailings[0].fare (dirty.json, document 1)\n", done.stderr
        )
        self.assertEqual(
            len((self.folder / "out/rejects.jsonl").read_text().splitlines()), 2
        )

    def test_a_limit_on_rejects_makes_them_clean_or_publishes_nothing(self) -> None:
        arguments = (
            "extract",
            "ferry.rules.yaml",
            "dirty.json",
            "--to",
            "out",
            "--max-rejects",
        )
        over = self.typed(*arguments, "1")
        self.assertEqual(over.returncode, 1)
        self.assertIn(
            "error: 2 rejects, more than the 1 allowed; nothing was published [too-many-rejects]",
            over.stderr,
        )
        self.assertFalse((self.folder / "out").exists())
        self.assertEqual(self.typed(*arguments, "70%").returncode, 0)
        self.assertEqual(self.typed(*arguments, "many").returncode, 2)

    def test_json_gives_the_record_on_standard_output(self) -> None:
        done = self.typed(
            "extract", "ferry.rules.yaml", "clean.json", "--to", "out", "--json"
        )
        self.assertEqual(
            json.loads(done.stdout),
            json.loads((self.folder / "out/run.json").read_text()),
        )
        self.assertEqual(done.stderr, "")

    def test_of_one_table_the_name_is_not_asked_for(self) -> None:
        done = self.typed(
            "extract", "ferry.rules.yaml", "clean.json", "--to", "-", "-q"
        )
        self.assertEqual(
            (done.returncode, done.stdout), (0, "no,fare,note\n1,2.50,a\n2,3.00,\n")
        )
        done = self.typed(
            "preview", "ferry.rules.yaml", "clean.json", "--columns", "fare", "--json"
        )
        self.assertEqual(
            json.loads(done.stdout)["tables"],
            {"sailings": [{"fare": 2.5}, {"fare": 3.0}]},
        )
        self.assertIn(
            "sailings, a row that is written",
            self.typed("trace", "ferry.rules.yaml", "clean.json").stdout,
        )
        self.file(
            "two.rules.yaml",
            RULES + '  ports: {rows: "$.ports[*]", fields: {code: $.code}}\n',
        )
        for arguments in (
            ("trace",),
            ("preview", "--where", "fare > 2"),
            ("extract", "--to", "-"),
        ):
            with self.subTest(arguments):
                command, *others = arguments
                done = self.typed(command, "two.rules.yaml", "clean.json", *others)
                self.assertEqual(done.returncode, 2)
                self.assertIn(
                    "error: of which table? There are sailings, ports [usage]",
                    done.stderr,
                )

    def test_titles_head_the_columns_where_that_is_wanted(self) -> None:
        titled = RULES.replace("fare: {", "fare: {title: 'Fare, \"adult\"', ")
        self.assertNotEqual(titled, RULES)
        self.file("titled.rules.yaml", titled)
        head = 'no,"Fare, ""adult""",note\n'
        done = self.typed(
            "extract", "titled.rules.yaml", "clean.json", "--to", "-", "--titles", "-q"
        )
        self.assertTrue(done.stdout.startswith(head), done.stdout)
        self.assertEqual(
            self.typed(
                "extract", "titled.rules.yaml", "clean.json", "--to", "out", "--titles"
            ).returncode,
            0,
        )
        self.assertTrue((self.folder / "out/sailings.csv").read_text().startswith(head))
        metadata = json.loads((self.folder / "out/csv-metadata.json").read_text())
        columns = metadata["tables"][0]["tableSchema"]["columns"]
        self.assertEqual(columns[1]["titles"], ['Fare, "adult"', "fare"])
        self.file("titled.rules.yaml", RULES.replace("fare: {", "fare: {title: no, "))
        done = self.typed(
            "extract", "titled.rules.yaml", "clean.json", "--to", "-", "--titles"
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn("sailings: no and fare would both be headed 'no'", done.stderr)

    def test_the_number_of_rows_that_meet_a_condition_is_said_always(self) -> None:
        for condition, rows, told in (("fare > 2", "0", "2 rows meet the condition"), ("fare > 2.6", "5", "one row meets the condition"),
                                      ("fare > 9", "0", "no row meets the condition")):  # fmt: skip
            with self.subTest(condition):
                done = self.typed(
                    "preview",
                    "ferry.rules.yaml",
                    "clean.json",
                    "--where",
                    condition,
                    "--rows",
                    rows,
                )
                self.assertIn(told, done.stdout)
        done = self.typed(
            "preview",
            "ferry.rules.yaml",
            "clean.json",
            "--where",
            "fare > 2",
            "--rows",
            "0",
            "--json",
        )
        self.assertEqual(json.loads(done.stdout)["meeting"], 2)

    def test_one_table_goes_to_standard_output_and_standard_input_is_read(self) -> None:
        done = self.mukret(
            "extract",
            "ferry.rules.yaml",
            "-",
            "--to",
            "-",
            "--table",
            "sailings",
            "-q",
            stdin=CLEAN,
        )
        self.assertEqual(
            (done.returncode, done.stdout), (0, "no,fare,note\n1,2.50,a\n2,3.00,\n")
        )
        self.assertEqual(done.stderr, "")

    def test_a_named_pipe_is_opened_once_and_read_to_its_end(self) -> None:
        os.mkfifo(self.folder / "pipe")
        with subprocess.Popen(["bash", "-c", "cat clean.json > pipe"], cwd=self.folder):
            done = self.typed(
                "extract",
                "ferry.rules.yaml",
                "pipe",
                "--to",
                "-",
                "--table",
                "sailings",
                "-q",
            )
        self.assertEqual(
            (done.returncode, done.stdout), (0, "no,fare,note\n1,2.50,a\n2,3.00,\n")
        )

    def test_a_stream_that_a_limit_ends_is_called_cut_short(self) -> None:
        stream = ("--to", "-", "--table", "sailings", "--max-rejects", "1")
        done = self.typed("extract", "ferry.rules.yaml", "dirty.json", *stream)
        self.assertEqual(
            (done.returncode, done.stdout, done.stderr),
            (
                1,
                "no,fare,note\n",
                "error: 2 rejects, more than the 1 allowed; the output is cut short [too-many-rejects]\n"
                "  hint: without --max-rejects all of it is written, with each reject and its reasons"
                " on record\n",
            ),
        )

    def test_warnings_are_findings_only_if_strict(self) -> None:
        self.file("typo.rules.yaml", RULES.replace("$.note", "$.Note"))
        arguments = ("extract", "typo.rules.yaml", "clean.json", "--to", "out")
        done = self.typed(*arguments)
        self.assertEqual(done.returncode, 0)
        self.assertEqual(
            done.stderr.splitlines()[-3:],
            [
                "warning: sailings.note: $.Note finds nothing in all of the input [unmatched]",
                "  at typo.rules.yaml:9:7",
                "  hint: $.Note differs in case; did you mean $.note?",
            ],
        )
        self.assertEqual(self.typed(*arguments, "--strict").returncode, 1)

    def test_a_log_keeps_what_happened_with_levels(self) -> None:
        self.typed(
            "extract",
            "ferry.rules.yaml",
            "dirty.json",
            "--to",
            "out",
            "-q",
            "--log",
            "run.log",
        )
        lines = (self.folder / "run.log").read_text().splitlines()
        moments, told = zip(*(line.split(",", 1) for line in lines), strict=True)
        for moment in moments:
            dt.datetime.strptime(moment, "%Y-%m-%d %H:%M:%S")
        self.assertEqual(
            [line.partition(" ")[2] for line in told],
            [
                "INFO    sailings: rows_seen=3 rows_written=1 rows_rejected=2 rows_filtered=0"
                " rows_deduplicated=0 values_nulled=0 rows_filtered_unknown=0",
                "WARNING 1 × sailings fare not-a-number:"
                ' expected a number, such as 1204.50, not "ask crew"',
                "WARNING 1 × sailings no required: nothing where a value is required",
            ],
        )

    # ---- errors

    def test_errors_have_one_line_a_place_and_a_hint_and_their_exit_code(self) -> None:
        self.file("bad.json", '{"sailings": [{"id": 1,}]}')
        self.file("empty.json", "")
        self.file("out/mine.txt", "x")
        cases: list[tuple[tuple[str, ...], int, str]] = [
            (("extract", "ferry.rules.yaml", "claen.json", "--to", "o"), 3, "error: claen.json: no such file or folder [not-opened]"),
            (("extract", "ferry.rules.yaml", "bad.json", "--to", "o"), 3, "error: no document of the run could be read: a trailing comma: a member should follow it [nothing-read]"),
            (("extract", "ferry.rules.yaml", "empty.json", "--to", "o"), 3, "error: empty.json: the file is empty [empty-input]"),
            (("extract", "no.yaml", "clean.json", "--to", "o"), 3, "error: no.yaml: No such file or directory [not-opened]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "out"), 4, "error: out holds what Mukret did not write: mine.txt [not-empty]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "clean.json/x"), 4, "is a file, not a folder [not-empty]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "o", "--table", "sailings"), 2, "error: --table goes with --to - [usage]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "tables.csv"), 2, "error: --to tables.csv: DEST is a folder, and that is the name of a file [usage]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "-", "--table", "x"), 2, "error: no table x in ferry.rules.yaml [unknown-table]"),
            (("extract", "clean.json", "ferry.rules.yaml", "--to", "o"), 2, "error: clean.json is data, and ferry.rules.yaml has the rules [usage]"),
            (("check", "clean.json"), 2, "error: clean.json is data, not a rules file [usage]"),
            (("draft", "clean.json", "--out", "ferry.rules.yaml"), 2, "error: ferry.rules.yaml is there already [usage]"),
            (("collect", "http://127.0.0.1:1/", "--to", "-"), 2, "error: --to - : answers are kept in a folder, with where they came from [usage]"),
            (("preview", "ferry.rules.yaml", "clean.json", "--table", "sailing"), 2, "error: no table sailing in ferry.rules.yaml [unknown-table]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "mysql://a/b"), 2, "error: --to mysql://… is not supported yet [not-supported]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "o", "--format", "parquett"), 2, "error: no format parquett [usage]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "-", "--table", "sailings", "--format", "xlsx"), 2, "error: xlsx is no stream [usage]"),
            (("extract", "ferry.rules.yaml", "clean.json", "--to", "o", "--format", "cvs"), 2, "error: no format cvs [usage]"),
            (("extract", "ferry.rules.yaml"), 2, "error: Missing argument 'FILE...'. [usage]"),
            (("extrct",), 2, "error: no command extrct: did you mean extract? [usage]"),
        ]  # fmt: skip
        for arguments, code, message in cases:
            with self.subTest(arguments):
                done = self.typed(*arguments)
                self.assertEqual(done.returncode, code)
                self.assertTrue(
                    done.stderr.splitlines()[0].endswith(message), done.stderr
                )
                self.assertNotIn("Traceback", done.stderr)
        self.assertEqual(
            [name for name in os.listdir(self.folder) if name.startswith((".", "o"))],
            ["out"],
        )

    def test_a_hint_names_what_to_type(self) -> None:
        done = self.typed("extract", "ferry.rules.yaml", "claen.json", "--to", "o")
        told = (
            "error: claen.json: no such file or folder [not-opened]\n"
            "  hint: did you mean clean.json?\n"
        )
        self.assertEqual((done.returncode, done.stdout, done.stderr), (3, "", told))
        more = self.typed(
            "extract", "ferry.rules.yaml", "claen.json", "--to", "o", "-vv"
        )
        lines = more.stderr.splitlines(keepends=True)
        self.assertEqual(lines[0], "Traceback (most recent call last):\n")
        self.assertEqual("".join(lines[-2:]), told)
        self.file("fery.json", "[]")
        for name, hint in (
            ("fery.rules.yaml", "did you mean ferry.rules.yaml?"),
            ("x", "the rules file comes first"),
        ):
            done = self.typed("preview", name, "clean.json")
            told = f"error: {name}: No such file or directory [not-opened]\n  hint: {hint}\n"
            self.assertEqual((done.returncode, done.stdout, done.stderr), (3, "", told))

    def test_a_reader_that_has_seen_enough_is_no_error(self) -> None:
        self.file(
            "many.jsonl",
            "\n".join(
                f'{{"sailings": [{{"id": {number}}}]}}' for number in range(50_000)
            ),
        )
        command = f"{sys.executable} -m mukret extract ferry.rules.yaml many.jsonl --to - --table sailings -q | head -n 1"
        done = subprocess.run(["bash", "-c", f"set -o pipefail; {command}"], cwd=self.folder, capture_output=True, text=True, check=False)  # fmt: skip
        self.assertEqual(
            (done.returncode, done.stdout, done.stderr), (0, "no,fare,note\n", "")
        )

    def test_an_interrupted_run_publishes_nothing_and_ends_with_130(self) -> None:
        """By Ctrl-C and by SIGTERM, while it waits for more of its input."""
        # a shell makes what it runs in the background deaf to Ctrl-C, and its children with it
        self.addCleanup(
            signal.signal,
            signal.SIGINT,
            signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        for sent in (signal.SIGINT, signal.SIGTERM):
            with self.subTest(sent):
                command = [
                    sys.executable,
                    "-m",
                    "mukret",
                    "extract",
                    "ferry.rules.yaml",
                    "-",
                    "--to",
                    "out",
                ]
                with subprocess.Popen(
                    command,
                    cwd=self.folder,
                    stdin=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                ) as process:
                    deadline = time.monotonic() + 60
                    while not any(
                        name.startswith(".out.") for name in os.listdir(self.folder)
                    ):
                        self.assertLess(time.monotonic(), deadline)
                        time.sleep(0.02)
                    process.send_signal(sent)
                    _, errors = process.communicate(timeout=60)
                self.assertEqual(
                    (process.returncode, errors.decode().strip()),
                    (130, "interrupted; nothing was published"),
                )
                self.assertEqual(
                    [name for name in os.listdir(self.folder) if "out" in name], []
                )

    # ---- check

    def test_check_reports_problems_with_place_caret_and_hint(self) -> None:
        self.file("typo.rules.yaml", RULES.replace("required", "requird"))
        done = self.typed("check", "typo.rules.yaml")
        self.assertEqual(done.returncode, 2)
        self.assertEqual(
            done.stderr.splitlines(),
            [
                "error: the field no has no key requird [unknown-key]",
                "  at typo.rules.yaml:7:39",
                '    7 │       no: {at: "$.id", type: integer, requird: true}',
                "      │                                       ^",
                "  hint: did you mean required?",
                "",
                "typo.rules.yaml: 1 problem; no input was opened",
            ],
        )
        report = json.loads(self.typed("check", "typo.rules.yaml", "--json").stdout)
        self.assertEqual(
            [(found["line"], found["code"]) for found in report["problems"]],
            [(7, "unknown-key")],
        )

    def test_check_runs_the_examples(self) -> None:
        examples = "examples:\n  - {shows: it counts, response: {sailings: [{id: 1}]}, gives: {sailings: %d}}\n"
        self.file("ok.rules.yaml", RULES + examples % 1)
        self.file("fails.rules.yaml", RULES + examples % 2)
        done = self.typed("check", "ok.rules.yaml")
        self.assertEqual(
            (done.returncode, done.stdout.splitlines()[0]), (0, "passes  it counts")
        )
        done = self.typed("check", "fails.rules.yaml")
        self.assertEqual(done.returncode, 1)
        self.assertIn(
            "fails   it counts [example-failed] at fails.rules.yaml:11:5", done.stdout
        )
        self.assertIn("sailings has 1 rows, not 2", done.stdout)

    # ---- preview

    def test_preview_shows_typed_rows_and_rejected_ones_with_reasons(self) -> None:
        done = self.typed("preview", "ferry.rules.yaml", "dirty.json")
        self.assertEqual(done.returncode, 1)
        lines = [line.rstrip() for line in done.stdout.splitlines()]
        self.assertEqual(lines[0], "sailings  1 row, 2 rejected")
        self.assertEqual(lines[1].split(), ["no", "fare", "note"])
        self.assertEqual(lines[2].split(), ["nth", "integer", "decimal(9,2)", "text"])
        self.assertEqual(
            [" ".join(line.split()) for line in lines[4:]],
            [
                '✗ 1 1 "ask crew" null',
                'fare: expected a number, such as 1204.50, not "ask crew" [not-a-number]',
                "$.sailings[0] in dirty.json",
                "✗ 2 null 1.00 null",
                "no: nothing where a value is required [required]",
                "$.sailings[1] in dirty.json",
                "1 3 1.00 \\u001b[31mred",
                "",
            ],
        )
        self.assertEqual(
            done.stderr.splitlines(),
            [
                "Next: why a row is rejected, field by field",
                "  mukret trace ferry.rules.yaml dirty.json --table sailings --reject 1",
            ],
        )

    def test_preview_names_columns_and_reasons_that_have_no_room(self) -> None:
        fields = "".join(
            f"      field_number_{number}: $.f{number}\n" for number in range(12)
        )
        self.file("many.rules.yaml", RULES + fields)
        record = {f"f{number}": "same" for number in range(11)} | {"fare": "none"}
        rows = [{"id": n, **record, "f11": f"other {n}"} for n in range(1, 4)]
        self.file(
            "many.json",
            json.dumps({"sailings": [*rows, {"fare": 1}, {"id": 5, "fare": "gone"}]}),
        )
        done = self.typed(
            "preview", "many.rules.yaml", "many.json", "--rows", "2", columns=72
        )
        lines = [" ".join(line.split()) for line in done.stdout.splitlines()]
        self.assertEqual(lines[1], "no fare note field_number_0 field_number_11")
        self.assertEqual(lines[4], '✗ 1 1 "none" null same other 1')
        self.assertEqual(
            lines[-5:],
            [
                "10 columns more: field_number_1, … (--columns, --wide)",
                "3 rejected rows not shown; the reasons of all:",
                'fare: 4 × not-a-number, e.g. "none"',
                "no: 1 × required",
                "",
            ],
        )
        drawn = [
            line.rstrip() for line in done.stdout.splitlines() if "expected" not in line
        ]
        self.assertLessEqual(max(map(len, drawn)), 72)

    def test_preview_shows_rows_as_records_if_asked_to_or_if_what_was_asked_for_has_no_room(
        self,
    ) -> None:
        self.file("wide.json", CLEAN.replace("]", ', {"id": 4, "fare": "gone"}]'))
        again = "no,fare,note,no,fare,note,no"
        asked = (
            (("--wide",), ["no", "fare", "note"]),
            (("--columns", again, "--table", "sailings"), again.split(",")),
        )
        for arguments, fields in asked:
            with self.subTest(arguments):
                done = self.typed(
                    "preview", "ferry.rules.yaml", "wide.json", *arguments, columns=68
                )
                rows = [" ".join(line.split()) for line in done.stdout.splitlines()]
                shown = [row for row in rows if row and "─" not in row]
                self.assertEqual(shown, records_of(fields))

    def test_preview_of_chosen_rows_and_columns(self) -> None:
        self.file(
            "many.json",
            json.dumps(
                {"sailings": [{"id": n, "fare": f"{n}.50"} for n in range(200)]}
            ),
        )
        command = (
            "preview",
            "ferry.rules.yaml",
            "many.json",
            "--table",
            "sailings",
            "--json",
        )

        def numbers(*arguments: str) -> list[int]:
            rows = json.loads(self.typed(*command, *arguments).stdout)["tables"][
                "sailings"
            ]
            self.assertEqual({tuple(row) for row in rows}, {("no",)})
            return [row["no"] for row in rows]

        self.assertEqual(
            numbers(
                "--columns", "no", "--where", "no >= 30 AND fare < 33", "--rows", "9"
            ),
            [30, 31, 32],
        )
        sample = numbers("--columns", "no", "--sample", "20", "--seed", "4")
        self.assertEqual(
            sample, numbers("--columns", "no", "--sample", "20", "--seed", "4")
        )
        self.assertNotEqual(
            sample, numbers("--columns", "no", "--sample", "20", "--seed", "5")
        )
        self.assertEqual(len(set(sample)), 20)
        self.assertTrue(
            any(number >= 100 for number in sample)
            and any(number < 100 for number in sample)
        )
        wide = self.typed(
            *command[:-1], "--columns", "fare,no", "--wide", "--rows", "1"
        ).stdout
        self.assertLess(wide.index("fare"), wide.index("no "))
        self.assertIn("row 1", wide)
        for arguments, told in (
            (("--columns", "nope"), "no column nope"),
            (("--where", "no"), "a condition is wanted, but this is integer"),
            (("--where", "no ="), "--where, character"),
        ):
            done = self.typed(*command, *arguments)
            self.assertEqual(done.returncode, 2)
            self.assertIn(told, done.stderr)

    def test_preview_shows_what_stood_in_the_response(self) -> None:
        self.file(
            "raw.json",
            '{"sailings": [{"id": "1", "fare": "2.50", "note": "x"}, {"id": 2, "fare": 3, "note": null}]}',
        )
        done = self.typed("preview", "ferry.rules.yaml", "raw.json", "--raw")
        lines = [line.split() for line in done.stdout.splitlines()]
        self.assertIn(["1", "1", "2.50", "x"], lines)
        self.assertIn(["2", "2", "3.00", "null"], lines)
        self.assertIn(["3"], lines)  # below 3.00; what is the same is not said again
        self.assertNotIn('"2.50"', done.stdout)
        sample = self.typed(
            "preview",
            "ferry.rules.yaml",
            "raw.json",
            "--raw",
            "--sample",
            "2",
            "--wide",
            "--table",
            "sailings",
            "--columns",
            "fare",
        )
        self.assertIn(["3"], [line.split() for line in sample.stdout.splitlines()])
        self.assertEqual(
            self.typed(
                "preview", "ferry.rules.yaml", "raw.json", "--raw", "--json"
            ).returncode,
            2,
        )

    def test_preview_again_at_every_save_with_what_it_changed(self) -> None:
        self.addCleanup(
            signal.signal,
            signal.SIGINT,
            signal.signal(signal.SIGINT, signal.default_int_handler),
        )
        command = [
            sys.executable,
            "-m",
            "mukret",
            "preview",
            "ferry.rules.yaml",
            "clean.json",
            "--watch",
        ]
        out = self.folder / "watched.txt"
        with (
            open(out, "wb") as file,
            subprocess.Popen(
                command, cwd=self.folder, stdout=file, stderr=file
            ) as process,
            contextlib.ExitStack() as at_the_end,
        ):
            at_the_end.callback(process.kill)
            seen = 0

            def next_text() -> str:
                nonlocal seen
                deadline = time.monotonic() + 60
                while not (text := out.read_text()[seen:]).endswith(
                    "Ctrl-C ends\n"
                ):  # nothing is read on any more
                    self.assertLess(time.monotonic(), deadline, text)
                    time.sleep(0.05)
                seen += len(text)
                return text

            self.assertIn("sailings  2 rows", next_text())
            self.file("ferry.rules.yaml", RULES.replace("decimal(9,2)", "text"))
            text = next_text()
            self.assertIn(
                "what the save changed\nsailings  2 rows written, now 2\n  column fare: decimal(9,2), now text\n",
                text,
            )
            self.file("ferry.rules.yaml", RULES.replace("required", "requird"))
            self.assertIn("the field no has no key requird", next_text())
            self.file("ferry.rules.yaml", RULES)
            self.assertIn("  column fare: text, now decimal(9,2)\n", next_text())
            process.send_signal(signal.SIGINT)
            self.assertEqual(process.wait(timeout=60), 0)
        self.assertEqual(
            self.typed("preview", "ferry.rules.yaml", "-", "--watch").returncode, 2
        )

    def test_preview_gives_json_with_numbers_as_they_are(self) -> None:
        done = self.typed(
            "preview", "ferry.rules.yaml", "clean.json", "--json", "--rows", "1"
        )
        self.assertEqual(
            done.stdout,
            '{"tables":{"sailings":[{"no":1,"fare":2.50,"note":"a"}]},"rejects":[]}\n',
        )

    # ---- the program as a whole

    def test_help_names_the_commands_and_each_has_two_examples(self) -> None:
        text = self.typed("--help").stdout
        for command in (
            "look",
            "survey",
            "draft",
            "trace",
            "compare",
            "collect",
            "standin",
            "check",
            "preview",
            "extract",
            "describe",
            "merge",
            "report",
            "demo",
        ):
            with self.subTest(command):
                self.assertIn(command, text)
                shown = self.typed(command, "--help").stdout
                self.assertEqual(shown.count("\n    mukret " + command), 2, shown)
        self.assertEqual(self.typed("--version").stdout, "mukret 0.1.0\n")

    def test_help_imports_nothing_heavy(self) -> None:
        code = "import sys; sys.argv = ['mukret', '--help']\nfrom mukret.cli.main import main\nmain.main(standalone_mode=False)\nprint(sorted(sys.modules), file=sys.stderr)"  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        )
        heavy = {
            "pyarrow",
            "numpy",
            "rich",
            "lark",
            "ruamel",
            "msgspec",
            "zoneinfo",
            "decimal",
            "json",
            "httpx",
            "http",
        }
        self.assertEqual(
            heavy
            & {name.strip("'[]") for name in done.stderr.replace(",", "").split()},
            set(),
        )

    def test_check_needs_no_arrow_and_no_grid(self) -> None:
        code = "import sys\nfrom mukret.cli.main import main\nmain.main(['check', 'ferry.rules.yaml'], standalone_mode=False)\nprint(sorted(sys.modules), file=sys.stderr)"  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-c", code],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(
            {"pyarrow", "rich"}
            & {name.strip("'[]") for name in done.stderr.replace(",", "").split()},
            set(),
        )

    def test_colours_are_left_out_where_nobody_looks(self) -> None:
        done = self.typed("check", "ferry.rules.yaml")
        self.assertEqual(
            (done.stdout, done.stderr),
            ("ferry.rules.yaml: no problems (1 table, 3 fields, 0 examples)\n", ""),
        )
        done = self.typed("preview", "ferry.rules.yaml", "dirty.json")
        self.assertEqual(
            [line.rstrip() for line in done.stdout.splitlines()],
            [
                "sailings  1 row, 2 rejected",
                "          no          fare  note",
                "nth  integer  decimal(9,2)  text",
                "─" * 41,
                '✗ 1        1    "ask crew"  null',
                '      fare: expected a number, such as 1204.50, not "ask crew" [not-a-number]',
                "      $.sailings[0] in dirty.json",
                "✗ 2     null          1.00  null",
                "      no: nothing where a value is required [required]",
                "      $.sailings[1] in dirty.json",
                "  1        3          1.00  \\u001b[31mred",
                "",
            ],
        )


def records_of(fields: list[str]) -> list[str]:
    """What a preview of records says of two rows and of one that is rejected, spaces aside."""
    written = {
        "no": "no integer 1 2",
        "fare": "fare decimal(9,2) 2.50 3.00",
        "note": "note text a null",
    }
    rejected = {
        "no": "no integer 4",
        "fare": 'fare decimal(9,2) "gone"',
        "note": "note text null",
    }
    return [
        "sailings 2 rows, 1 rejected",
        "field type row 1 row 2",
        *(written[field] for field in fields),
        "field type ✗ rejected row 1",
        *(rejected[field] for field in fields),
        '✗ 1 fare: expected a number, such as 1204.50, not "gone" [not-a-number]',
        "✗ 1 $.sailings[2] in wide.json",
    ]


class Demo(FolderCase):
    def test_demo_goes_the_whole_way_and_every_command_it_prints_works(self) -> None:
        done = self.typed("demo")
        self.assertEqual(done.returncode, 0)
        lines = done.stdout.splitlines()
        ran = [line.removeprefix("$ ") for line in lines if line.startswith("$ mukret")]
        self.assertEqual(
            [line.split()[1] for line in ran],
            ["look", "survey", "draft", "check", "preview", "extract", "collect"],
        )
        following = [
            line.strip()
            for line in lines[lines.index("Next:") :]
            if line.strip().startswith("mukret")
        ]
        self.assertEqual(
            following.pop(), "mukret standin"
        )  # which has tests of its own: it would not end
        self.assertEqual(len(following), 6)
        sign_in = {"FERRY_USER": USER, "FERRY_PASSWORD": PASSWORD}
        with (
            demo_port(),
            standing_in(DEFAULT_PORT),
            mock.patch.dict(os.environ, sign_in),
        ):
            for line in [*ran, *following]:
                with self.subTest(line):
                    self.assertIn(
                        run_mukret(
                            *shlex.split(line)[1:], folder=self.folder
                        ).returncode,
                        (0, 1),
                    )

    def test_demo_keeps_rules_that_were_changed(self) -> None:
        self.typed("demo", "--to", "d")
        rules = self.folder / "d/merrow.rules.yaml"
        rules.write_text(rules.read_text() + "# mine\n")
        done = self.typed("demo", "--to", "d")
        self.assertEqual(
            [line for line in done.stderr.splitlines() if line.startswith("kept")],
            ["kept: d/merrow.rules.yaml, which you have changed"],
        )
        self.assertTrue(rules.read_text().endswith("# mine\n"))

    def test_the_sample_is_what_its_script_makes(self) -> None:
        root = Path(__file__).parent.parent
        script = root / "scripts" / "make_sample.py"
        code = f"import runpy, pathlib; m = runpy.run_path({str(script)!r}); m['main'].__globals__['FEED'] = pathlib.Path('feed'); m['main']()"  # fmt: skip
        subprocess.run([sys.executable, "-c", code], cwd=self.folder, check=True)
        feed = root / "src" / "mukret" / "sample" / "feed"
        made = {
            path.name: path.read_bytes() for path in (self.folder / "feed").iterdir()
        }
        self.assertEqual(
            made, {path.name: path.read_bytes() for path in feed.iterdir()}
        )


if __name__ == "__main__":
    unittest.main()
