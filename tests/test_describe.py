"""What is handed over with the tables does what it is for: schemas validate, SQL loads, Python is
typed and reads.
"""

from __future__ import annotations

import copy
import datetime as dt
import importlib.util
import json
import re
import sqlite3
import subprocess
import sys
import unittest
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import ModuleType
from typing import Any

import jsonschema
import psycopg
from ruamel.yaml import YAML

from mukret.describe.dictionary import dictionary
from mukret.describe.json_schema import json_schema
from mukret.describe.nesting import nested_tables
from mukret.describe.python_records import python_records
from mukret.describe.rules_schema import rules_schema
from mukret.destinations.contract import WriteOptions
from mukret.destinations.csv_metadata import csv_metadata
from mukret.destinations.database import Mode
from mukret.destinations.ddl import DIALECTS, POSTGRESQL, SQLITE, schema
from mukret.destinations.deliver import deliver
from mukret.destinations.folder import Folder
from mukret.destinations.postgresql import Postgresql
from mukret.destinations.sqlite import Sqlite
from mukret.documents import find_sources
from mukret.engine.run import Run
from mukret.errors import RulesError
from mukret.rules import Rules, load_rules, parse_rules
from mukret.rules.enums import ENUM_KEYS
from mukret.rules.examples import EXAMPLE_KEYS
from mukret.rules.fields import FIELD_KEYS, LOOKUP_KEYS
from mukret.rules.load import TOP_KEYS
from mukret.rules.reference import REFERENCE_KEYS
from mukret.rules.response import KIND_KEYS, RESPONSE_KEYS
from mukret.rules.row_rules import ZIP_KEYS
from mukret.rules.tables import TABLE_KEYS
from mukret.rules.typing import DEFAULT_KEYS, TYPE_KEYS
from tests.helpers import FolderCase, rules_text
from tests.postgres import PostgresCase
from tests.test_documentation import ROOT, blocks, commands_of
from tests.test_formats import ROWS, RULES
from tests.test_rules import PROBLEMS

AWKWARD = '''
    enums: {state: {values: {"in, port": {}, "None": {}, "7": {}, "in port": {}}}, "class": {values: {a: {}}}}
    tables:
      list:
        note: 'A "quote", a \\ and """three""" | a bar'
        rows: "$[*]"
        key: class
        fields:
          class: {at: $.class, required: true, type: class, title: "№ | of"}
          str: $.str
          int: {at: $.int, type: integer}
          dt: {at: $.dt, type: datetime}
          from_json: {at: $.from_json, note: 'ends with a "quote"', measured_in: '"'}
          __init__: {at: $.init, type: json}
          state: {at: $.state, type: list(state)}
          Any: {at: $.any, type: time}
          classmethod: {constant: 7, type: integer}
          bytes: {at: $.bytes, default: none}
          record: {at: $.none, take: count}
          Decimal: {at: $.decimal, type: "decimal(38,9)"}
          took: {at: $.took, type: duration}
          load: {at: $.load, type: float}
          spans: {at: $.spans, type: list(duration)}
          pattern: {at: $.pattern, capture: "(a|`b`)", keep: false}
      Enum: {within: list, rows: "$.none[*]", inherit: [class], fields: {match: $.a, self: {fact: position}}}
      of: {within: Enum, rows: "$.of[*]", inherit: [class, self], fields: {import: $.a}}
    '''
AWKWARD_ROWS = [
    {"class": "a", "str": "é\x01\"", "int": -(2**63), "dt": "2031-04-01T00:00", "from_json": "x", "init": {"a": [1.10, 1e2, None]},
     "state": ["in, port", "7"], "any": "10:00:00.5", "decimal": "0.000000001", "took": "-P1DT0.5S", "load": -0.0, "spans": ["PT1H", "PT0S"],
     "none": [{"a": 1, "of": [{"a": "x"}, {}]}, {}]},
]  # fmt: skip


class Described(FolderCase):
    def sample(self) -> tuple[Rules, Path]:
        """The rules of the sample and its feed."""
        self.demo()
        return load_rules(
            self.folder / "merrow-demo/merrow.rules.yaml"
        ), self.folder / "merrow-demo/feed"

    def feed(self, rows: list[Any]) -> Path:
        return self.file(
            "feed.jsonl", "".join(json.dumps([row]) + "\n" for row in rows)
        )

    def cases(self) -> Iterator[tuple[str, Rules, Path]]:
        """Rules with what they are for: the sample, all types, and names that mean something
        elsewhere.
        """
        yield "sample", *self.sample()
        for name, text, rows in (
            ("types", RULES, ROWS),
            ("awkward", AWKWARD, AWKWARD_ROWS),
        ):
            yield name, parse_rules(rules_text(text)), self.feed(rows)

    def written(self, rules: Rules, feed: Path, form: str, **options: Any) -> Path:
        folder = self.folder / f"{form}-{len(list(self.folder.iterdir()))}"
        deliver(
            Run(rules, find_sources([feed])),
            Folder(str(folder), form),
            options=WriteOptions(**options),
        )
        return folder


class OfRecords(Described):
    def validator(self, rules: Rules, table: str | None = None) -> Any:
        made = json_schema(rules, table)
        kind = jsonschema.Draft202012Validator
        kind.check_schema(made)
        return kind(made, format_checker=kind.FORMAT_CHECKER)

    def test_all_that_is_written_as_json_validates(self) -> None:
        for name, rules, feed in self.cases():
            whole = self.validator(rules)
            for nested in (False, True):
                tables = [
                    one
                    for one in nested_tables(rules)
                    if not nested or one.above is None
                ]
                arrays = self.written(rules, feed, "json", nested=nested)
                lines = self.written(rules, feed, "jsonl", nested=nested)
                payload = {}
                for one in tables:
                    with self.subTest(name, table=one.name, nested=nested):
                        own = self.validator(rules, one.name)
                        payload[one.name] = array = json.loads(
                            (arrays / f"{one.name}.json").read_text()
                        )
                        records = [
                            json.loads(line)
                            for line in (lines / f"{one.name}.jsonl")
                            .read_text()
                            .split("\n")
                            if line
                        ]
                        for document in (array, *records):
                            for validator in (own, whole):
                                self.assertEqual(
                                    [
                                        error.message
                                        for error in validator.iter_errors(document)
                                    ],
                                    [],
                                )
                with self.subTest(name, nested=nested):
                    self.assertEqual(
                        [error.message for error in whole.iter_errors(payload)], []
                    )

    def test_what_is_no_record_does_not(self) -> None:
        rules, feed = self.sample()
        [record] = json.loads(
            (self.written(rules, feed, "json") / "bookings.json").read_text()
        )[:1]
        own, whole = self.validator(rules, "bookings"), self.validator(rules)
        changes: list[dict[str, object]] = [
            {"sailing_no": "1001"}, {"sailing_no": None}, {"sailing_no": 2**63}, {"amount": 10**10}, {"made_at": 7},
            {"booking_ref": None}, {"paid": "true"}, {"other": 1},
        ]  # fmt: skip
        less = [{key: record[key] for key in record if key != gone} for gone in record]
        wrong = [{**record, **change} for change in changes] + less
        documents = [*wrong, *([record] for record in wrong)]
        self.assertEqual([one for one in documents if own.is_valid(one)], [])
        self.assertEqual([one for one in documents if whole.is_valid(one)], [])
        self.assertEqual([own.is_valid(record), own.is_valid([record])], [True, True])
        sailing = json.loads(
            (self.written(rules, feed, "json") / "sailings.json").read_text()
        )[0]
        self.assertFalse(
            self.validator(rules, "sailings").is_valid({**sailing, "status": "sunk"})
        )

    def test_csvw_is_what_stands_beside_csv(self) -> None:
        for name, rules, feed in self.cases():
            with self.subTest(name):
                beside = json.loads(
                    (self.written(rules, feed, "csv") / "csv-metadata.json").read_text()
                )
                self.assertEqual(json.loads(json.dumps(csv_metadata(rules))), beside)


class InSql(Described):
    def test_sqlite_takes_its_own_and_what_both_take_and_rows_fit_into_its_own(
        self,
    ) -> None:
        for name, rules, feed in self.cases():
            for dialect in ("either", "sqlite"):
                with self.subTest(name, dialect=dialect):
                    connection = sqlite3.connect(":memory:")
                    connection.executescript(schema(rules, DIALECTS[dialect]))
                    for one in nested_tables(rules):
                        columns = [
                            row[1]
                            for row in connection.execute(
                                f'PRAGMA table_info("{one.name}")'
                            )
                        ]
                        self.assertEqual(columns, list(one.fields))
                    connection.close()
            path = self.folder / f"{name}.db"
            with sqlite3.connect(path) as made:
                made.executescript(schema(rules, SQLITE))
            deliver(
                Run(rules, find_sources([feed])),
                Sqlite(f"sqlite:///{path}", Mode.APPEND),
            )


class InPostgres(PostgresCase, Described):
    def test_it_takes_its_own_and_what_both_take_and_rows_fit_into_either(self) -> None:
        address = f"postgresql:///postgres?{self.dsn.replace(' dbname=postgres', '').replace(' ', '&')}"
        for name, rules, feed in self.cases():
            if name == "types":
                feed = self.feed([{**row, "text": "plain"} for row in ROWS])
            for dialect in (DIALECTS["either"], POSTGRESQL):
                with (
                    self.subTest(name, dialect=dialect.name),
                    psycopg.connect(self.dsn, autocommit=True) as connection,
                ):
                    for one in nested_tables(rules):
                        connection.execute(f'DROP TABLE IF EXISTS "{one.name}" CASCADE')
                    connection.execute(schema(rules, dialect).encode())
                    deliver(
                        Run(rules, find_sources([feed])),
                        Postgresql(address, Mode.APPEND),
                    )
                    for one in nested_tables(rules):
                        count = connection.execute(
                            f'SELECT count(*) FROM "{one.name}"'.encode()
                        ).fetchone()
                        self.assertEqual(
                            count,
                            (
                                connection.execute(
                                    f'SELECT count(*) FROM "{one.name}"'.encode()
                                ).fetchone()
                            ),
                        )
                    query = "SELECT count(*) FROM pg_description WHERE description LIKE 'timestamp%'"
                    told = connection.execute(query).fetchone()
                    self.assertTrue(dialect.name == "either" or told is not None)


class InPython(Described):
    def module(self, name: str, text: str) -> ModuleType:
        path = self.file(f"{name}_records.py", text)
        spec = importlib.util.spec_from_file_location(path.stem, path)
        assert spec is not None and spec.loader is not None
        made = importlib.util.module_from_spec(spec)
        sys.modules[path.stem] = (
            made  # where dataclasses look for what annotations mean
        )
        self.addCleanup(sys.modules.pop, path.stem)
        spec.loader.exec_module(made)
        return made

    def test_records_are_read_and_given_back_to_the_byte(self) -> None:
        rows = 0
        for name, rules, feed in self.cases():
            module = self.module(name, python_records(rules))
            folder = self.written(rules, feed, "jsonl", nested=True)
            for one in nested_tables(rules):
                if one.above is None:
                    kind = next(
                        found
                        for found in vars(module).values()
                        if getattr(found, "__name__", "").lower().removesuffix("row")
                        == one.name.replace("_", "")
                    )
                    for line in (
                        (folder / f"{one.name}.jsonl")
                        .read_text(encoding="utf-8")
                        .split("\n")[:-1]
                    ):
                        with self.subTest(name, line=line):
                            rows += 1
                            self.assertEqual(kind.from_json(line).to_json(), line)
                            self.assertEqual(
                                kind.from_json(line.encode()),
                                kind.from_json(
                                    json.loads(line, parse_float=module._Number)
                                    if hasattr(module, "_Number")
                                    else line
                                ),
                            )
        self.assertGreater(rows, 40)

    def test_the_values_are_those_of_the_types(self) -> None:
        rules, feed = self.sample()
        module = self.module("sample", python_records(rules))
        line = (
            (self.written(rules, feed, "jsonl", nested=True) / "ports.jsonl")
            .read_text()
            .splitlines()[0]
        )
        port = module.PortsRow.from_json(line)
        sailing = port.sailings[0]
        self.assertIs(sailing.status, module.SailingStatus(sailing.status.value))
        self.assertEqual(
            (type(sailing.departs_at), sailing.departs_at.tzinfo), (dt.datetime, dt.UTC)
        )
        self.assertEqual(
            str(sailing.adult_fare),
            str(json.loads(line, parse_float=str)["sailings"][0]["adult_fare"]),
        )
        self.assertEqual(
            module.PortsRow.from_json(json.loads(line)).to_json(), line
        )  # by a reader that makes floats
        flat = (
            (self.written(rules, feed, "jsonl") / "ports.jsonl")
            .read_text()
            .splitlines()[0]
        )
        for text, told in ((flat, "there is no member berths"), ("[]", "an object is wanted"), (line.replace('"port_code"', '"prt"', 1), "prt"),
                           (line.replace('"sailing_no":', '"sailing_no":"7","x":', 1), "sailings: ")):  # fmt: skip
            with self.subTest(text[:40]), self.assertRaisesRegex(ValueError, told):
                module.PortsRow.from_json(text)

    def test_the_modules_pass_mypy_in_its_strict_mode(self) -> None:
        files = [
            self.file(f"{name}_records.py", python_records(rules))
            for name, rules, _ in self.cases()
        ]
        done = subprocess.run(
            [sys.executable, "-m", "mypy", "--strict", "--cache-dir", str(self.folder / "cache"), *map(str, files)],
            capture_output=True, text=True, check=False, cwd=self.folder,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout)


class InMarkdown(Described):
    def test_every_table_column_and_word_stands_there_and_every_row_has_all_its_cells(
        self,
    ) -> None:
        for name, rules, _ in self.cases():
            with self.subTest(name):
                text = re.sub(
                    " +", " ", dictionary(rules)
                )  # columns are filled up with blanks
                for one in nested_tables(rules):
                    section = text.partition(f"\n### {one.name}\n")[2].partition(
                        "\n### "
                    )[0]
                    named = re.findall(r"^\| `([^`]+)` \|", section, re.MULTILINE)
                    self.assertEqual(named[: len(one.fields)], list(one.fields))
                for enum in rules.enums.values():
                    for word in enum.names:
                        self.assertIn(f"| `{word}` |", text)
                for block in re.findall(r"(?:^\|.*\n)+", text, re.MULTILINE):
                    self.assertEqual(
                        len(
                            {
                                len(re.findall(r"(?<!\\)\|", line))
                                for line in block.splitlines()
                            }
                        ),
                        1,
                        block,
                    )

    def test_where_values_come_from_is_said(self) -> None:
        rules, _ = self.sample()
        text = re.sub(" +", " ", dictionary(rules))
        for said in (
            'ports ||--o{ berths : "generated_at, port_code"',
            'ports ||--o{ sailings : "port_code (not the whole key)"',
            "| `opened_on` | `date` | if missing or unreadable | | `$.opened`; null for `n/a` | |",
            "| `family_fare` | `decimal(32,2)` | yes | crowns | = `2 * adult_fare + 2 * child_fare` | |",
            "| `vessel` | `text` | yes | | `name` of `vessels` where `vessel_id` is `vessel_id` | |",
            "- Only rows for which `status <> 'cancelled'`",
            "| `departed` | `DEP` | Departed | true | 3 |",
        ):
            with self.subTest(said):
                self.assertIn(said, text)


SHAPES = frozenset({"unknown-key", "missing-key"})
"""Problems that a schema must see, whatever else is wrong with a file; what it says of others hangs
on the value.
"""


EVERY_KEY = """
    title: Ferries
    note: Every key of the format stands here, but for include and omit, which excuse what is missing
    enums:
      state: {values: {in: {accept: [I, 1], live: true}, out: {}}, otherwise: "null", case: exact, note: where it is}
    types:
      crowns: {type: "decimal(9,2)", note: money, grouping: ",", point: ".", accounting: true, percent: false}
    defaults: {blank: [n/a], trim: true, zone: +01:00, fold: first, grouping: " ", point: ",", round: half-up, bad: reject}
    response:
      embedded: ["$.text"]
      ignore: $.meta
      must_have: ["$.ports"]
      kinds: {ports: {files: "*.json", call: ports, when: "@.ports", must_have: ["$.ports"], note: the ports}}
      fields: {made: {fact: url}, at: {at: $.at, type: timestamp}}
    reference: {classes: {file: fare_classes.csv, key: fare_class, note: of fares}}
    tables:
      ports:
        rows: ["$.ports[*]", "$.quays[*]"]
        when: "@.code"
        kind: ports
        spread: true
        inherit: [made, at]
        key: code
        duplicates: first
        where: "seats > 1"
        bad: "null"
        rest: more
        note: quays
        recurse: $.inner
        fields:
          code: {at: [$.code, $.id], required: true, title: Code, note: painted, strip: [x], capture: "(.*)"}
          plain: $.plain
          seats: {at: "$.seats[*]", take: sum, type: integer, measured_in: seats, bad: "null", keep: false}
          words: {at: "$.words[*]", take: join, with: "; ", default: none}
          parts: {at: $.parts, type: list(text), split: ","}
          took: {at: $.took, type: duration, unit: min}
          moment: {at: $.moment, type: timestamp, format: [iso, "%Y"], zone: UTC, fold: second, round: half-even, blank: [x]}
          part: {compute: "seats * 2"}
          same: {constant: 7, type: integer}
          above: {parent: code}
          label: {lookup: {in: classes, by: plain, give: label}}
          other: {lookup: {in: classes, by: [plain], give: label, across: run}}
      tides: {within: ports, outer: true, rows: {zip: {time: "$.t[*]"}, uneven: pad}, fields: {time: {at: $.time, trim: true}}}
      log: {rows: "$.log[*]", header: first, fields: {entry: $.entry}}
    examples:
      - shows: an empty one
        response: {ports: []}
        gives: {ports: 0}
        rejected: 0
        facts: {url: x, page: 1, request.day: y}
        now: 2031-04-01T00:00:00Z
      - {shows: a file, file: none.json}
    """
"""It has problems, but none that a schema could see."""


def keys_of(schema: Any, ways: Sequence[Any]) -> Iterator[str]:
    """All keys that an object of a schema may have, with those below it; `ways` are the schemas
    around it.
    """
    if isinstance(schema, dict):
        for name, below in schema.get("properties", {}).items():
            if below is not False:
                yield name
        for below in schema.values():
            yield from keys_of(below, ways)
    elif isinstance(schema, list):
        for below in schema:
            yield from keys_of(below, ways)


class OfRules(unittest.TestCase):
    validator = jsonschema.Draft202012Validator(rules_schema())

    def as_editors_see_it(self, text: str) -> Any:
        """YAML 1.2's core schema has no dates."""
        return json.loads(
            json.dumps(YAML(typ="safe", pure=True).load(text), default=str)
        )

    def verdicts(self, document: Any) -> tuple[bool, set[str]]:
        """Whether the schema takes it, and the codes of what the reader has against it."""
        try:
            parse_rules(
                json.dumps(document), str(ROOT / "src/mukret/sample/merrow.rules.yaml")
            )
        except RulesError as error:
            return self.validator.is_valid(document), {
                found.code for found in error.diagnostics
            }
        return self.validator.is_valid(document), set()

    def test_what_the_reader_takes_the_schema_takes(self) -> None:
        texts = [
            path.read_text()
            for path in (ROOT / "src/mukret/sample").glob("*.rules.yaml")
        ]
        texts += [rules_text(text) for text in (RULES, AWKWARD)]
        texts += [
            rules_text(content)
            for language, label, content in blocks("docs/rules-reference.md")
            if (language, label) == ("yaml", "rules")
        ]
        self.assertGreater(len(texts), 25)
        for text in texts:
            with self.subTest(text):
                self.assertEqual(
                    [
                        error.message
                        for error in self.validator.iter_errors(
                            self.as_editors_see_it(text)
                        )
                    ],
                    [],
                )

    def test_known_mistakes_of_shape_are_refused(self) -> None:
        seen = 0
        for text, problems in PROBLEMS:
            codes = {code for _, _, code in problems}
            if codes <= SHAPES:
                with self.subTest(text):
                    seen += 1
                    self.assertFalse(
                        self.validator.is_valid(self.as_editors_see_it(text))
                    )
        self.assertGreater(seen, 10)

    def test_each_object_has_the_keys_that_the_reader_knows(self) -> None:
        definitions, top = rules_schema()["$defs"], rules_schema()
        field = definitions["field"]["anyOf"][1]
        for part, known in (
            (top, TOP_KEYS), (definitions["table"], TABLE_KEYS), (field, FIELD_KEYS), (definitions["lookup"], LOOKUP_KEYS),
            (definitions["response"], RESPONSE_KEYS), (definitions["kind"], KIND_KEYS), (definitions["zip"], ZIP_KEYS),
            (definitions["reference"], REFERENCE_KEYS), (definitions["type"], TYPE_KEYS), (definitions["enum"], ENUM_KEYS),
            (definitions["defaults"], DEFAULT_KEYS), (definitions["example"], EXAMPLE_KEYS),
        ):  # fmt: skip
            self.assertEqual(set(part["properties"]), known.known)

    def test_a_file_with_every_key_changed_at_every_place_is_taken_and_refused_by_both(
        self,
    ) -> None:
        """A key too many, one too few, and a value of another kind, wherever there is one."""
        whole = self.as_editors_see_it(rules_text(EVERY_KEY))
        self.assertEqual(
            [error.message for error in self.validator.iter_errors(whole)], []
        )
        missing = set(keys_of(rules_schema(), ())) - {
            str(step) for where in places(whole) for step in where
        }
        self.assertEqual(missing, {"document", "fetched_at", "include", "omit"})
        self.assertFalse(self.verdicts(whole)[1] & SHAPES)
        refused = 0
        for where in places(whole):
            for changed in changes(whole, where):
                taken, codes = self.verdicts(changed)
                with self.subTest(where, codes=codes):
                    if not codes:
                        self.assertTrue(taken)
                    elif codes & SHAPES:
                        refused += 1
                        self.assertFalse(taken)
        self.assertGreater(refused, 80)


def places(
    document: Any, above: tuple[str | int, ...] = ()
) -> Iterator[tuple[str | int, ...]]:
    """Where in a document something stands, but for the documents and rows of examples."""
    yield above
    if above[:1] == ("examples",) and above[2:3] in (("response",), ("gives",)):
        return
    items = (
        document.items()
        if isinstance(document, dict)
        else enumerate(document)
        if isinstance(document, list)
        else ()
    )
    for key, value in items:
        yield from places(value, (*above, key))


def changes(document: Any, where: tuple[str | int, ...]) -> Iterator[Any]:
    """A document changed at one place in several ways."""
    ways: tuple[Any, ...] = ("key", "gone", [], {}, "word", [["word"]], {"odd": {}})
    for change in ways:
        changed = copy.deepcopy(document)
        holder: Any = changed
        for step in where[:-1]:
            holder = holder[step]
        if change == "key":
            here = holder[where[-1]] if where else holder
            if isinstance(here, dict):
                here["odd_one"] = "x"
                yield changed
        elif where:
            if change == "gone":
                del holder[where[-1]]
            else:
                holder[where[-1]] = change
            yield changed


class OnTheCommandLine(Described):
    def test_every_form_is_printed_and_loads(self) -> None:
        self.demo()
        rules = "merrow-demo/merrow.rules.yaml"
        for form, wanted in (
            ("markdown", "# Merrow Isles ferry timetable"), ("json-schema", '"$schema"'), ("csvw", '"@context"'),
            ("sql", "CREATE TABLE"), ("python", "class SailingStatus(Enum):"),
        ):  # fmt: skip
            with self.subTest(form):
                done = self.typed("describe", rules, "--as", form)
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertIn(wanted, done.stdout)
        self.assertEqual(
            self.typed("describe", rules).stdout,
            self.typed("describe", rules, "--as", "markdown").stdout,
        )
        self.assertEqual(
            json.loads(self.typed("describe", "--rules-schema").stdout), rules_schema()
        )

    def test_what_makes_no_sense_is_told(self) -> None:
        self.file("a.rules.yaml", rules_text("tables: {ports: {fields: {a: $.a}}}"))
        for arguments, told in (
            ((), "which rules file?"), (("a.rules.yaml", "--table", "ports"), "--table goes with --as json-schema"),
            (("a.rules.yaml", "--as", "json-schema", "--table", "port"), "did you mean ports?"),
            (("a.rules.yaml", "--as", "csvw", "--dialect", "sqlite"), "--dialect goes with --as sql"),
            (("a.rules.yaml", "--rules-schema"), "--rules-schema goes alone"),
        ):  # fmt: skip
            with self.subTest(arguments):
                done = self.typed("describe", *arguments)
                self.assertEqual(
                    (done.returncode, told in done.stderr), (2, True), done.stderr
                )


class Page(Described):
    def test_its_commands_work_and_its_python_runs(self) -> None:
        self.demo()
        for arguments in commands_of("docs/describe.md"):
            with self.subTest(arguments):
                done = self.typed(*arguments)
                self.assertIn(done.returncode, (0, 1), done.stderr)
        self.assertRegex(done.stdout, r"the same: |told apart by")
        for language, _, content in blocks("docs/describe.md"):
            for line in content.splitlines() if language == "text" else ():
                typed, _, target = line.removeprefix("mukret ").partition(" > ")
                done = self.typed(*typed.split())
                self.assertIn(done.returncode, (0, 1), done.stderr)
                if target:
                    self.file(target, done.stdout)
            if language == "python":
                self.file("page.py", content)
        done = subprocess.run(
            [sys.executable, "page.py"],
            cwd=self.folder,
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertRegex(
            done.stdout, r"^\d+ 2031-\d\d-\d\d \d\d:\d\d:00\+00:00 [\d.]+\n\{"
        )


if __name__ == "__main__":
    unittest.main()
