"""Random rules and random documents: odd shapes, wrong types, missing members, all in small numbers
of names so that rules and documents meet often.
"""

from __future__ import annotations

import json
import random
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

from hypothesis import strategies as st

from mukret.paths.query import escaped_name
from mukret.rules import Rules, parse_rules
from mukret.values import JsonValue, Number, json_text
from tests.fitting import Grower

Draw = Callable[[int, int], int]
"""Chooses a whole number between two, both included: hypothesis does, or a seeded generator."""

NAMES = ["a", "b", "c", "d e"]
TEXTS = [
    "12", " 7 ", "+3", "1,204.50", "12,50", "kr 5", "5kr", "12.5%", "(3)", "0.005", "1e3", "-0", "007", ".5", "5.",
    "9223372036854775808", "1e400", "99999999999", "0x1F", "nan", "1_0", "١", "", " ", "n/a", "x", "yes", "OFF", "t",
    "2031-04-01", "2031-02-30", "0000-01-01", "2031-04-01T10:22:07.5+02:00", "2031-04-01 10:22Z", "2031-04-01t10:22:07z",
    "2031-03-30T01:30:00", "2031-10-26T01:30:00", "2031-07-01T12:00:00", "2031-04-01T24:00:00Z", "2031-04-01T10Z",
    "10:22", "10:22:07.1234567", "9:05 PM", "PT3H20M", "-P1DT0.5S", "P1M", "3:20", "01.04.2031", "01.04.2031 10:22",
    "Tue, 01 Apr 2031 10:22:07 +0200", "1 Apr 2031 10:22 GMT", "2031-04-01T10:22:07", "P300000000D",
    "2031-04-01T10:22:07.1234567Z", "0001-01-01T00:00:00+02:00", "1932964927", "1932964927000", "boarding", "BRD ",
    "adrift", "a;b", "line\nbreak", "ünï", 'say "so"',
]  # fmt: skip
NUMBERS: list[JsonValue] = [
    0, 1, -1, 7, 12, 2**53 + 1, 2**63, -(2**63), 1932964927000, 1932964927, 10**17,
    *(Number(text) for text in ("1.5", "12.0", "1e3", "0.005", "1e400", "0.1", "1932964927.25", "1e-7", "123456.789")),
]  # fmt: skip
SCALARS: list[JsonValue] = [*TEXTS, *NUMBERS, True, False, None, None]
TYPES = [
    "text", "integer", "decimal(12,2)", "decimal(38,6)", "decimal(5,5)", "float", "boolean", "date", "timestamp",
    "state", "lenient_state", "list(text)", "json", "time", "datetime", "duration", "list(integer)", "list(date)",
]  # fmt: skip
OPTIONS: dict[str, list[dict[str, Any]]] = {
    "text": [{}, {"trim": True}, {"capture": ".*(2|kr ?).*"}, {"strip": ["kr"], "trim": True}, {"blank": ["n/a", ""]}],
    "integer": [{}, {"capture": "[^0-9]*([0-9]+).*"}, {"grouping": ","}, {"round": "half-up"}, {"percent": True}, {"strip": "kr", "blank": "7"}],
    "decimal": [{}, {"grouping": ",", "strip": ["kr"]}, {"percent": True}, {"accounting": True}, {"round": "half-even"}],
    "float": [{}, {"percent": True}, {"grouping": ","}, {"blank": ["n/a", "12.0"]}, {"point": ",", "grouping": "."}],
    "boolean": [{}, {"blank": "n/a"}],
    "date": [{}, {"blank": ["-", "n/a"]}, {"format": ["%d.%m.%Y", "iso"]}, {"format": ["epoch-ms", "rfc5322"]}, {"capture": "([0-9-]+)T?.*"}],
    "time": [{}, {"round": "half-up"}, {"format": ["iso", "%I:%M %p"]}, {"capture": ".*T([0-9:]+).*"}],
    "datetime": [{}, {"round": "half-even"}, {"format": ["iso", "%d.%m.%Y %H:%M"]}],
    "duration": [{}, {"unit": "min"}, {"unit": "s", "round": "half-up"}, {"unit": "d", "strip": "kr"}],
    "timestamp": [
        {}, {"zone": "Atlantic/Faroe"}, {"zone": "Atlantic/Faroe"}, {"zone": "Atlantic/Faroe", "fold": "second", "round": "half-up"},
        {"format": ["iso", "epoch-ms"], "zone": "+02:00"}, {"format": "epoch-s"}, {"format": ["epoch-ns", "iso"]},
        {"format": ["rfc5322", "%d.%m.%Y %H:%M", "iso"], "zone": "+01:00"},
    ],
    "list": [{}, {"trim": True, "blank": ["n/a", ""]}, {"split": "-"}, {"split": ";", "capture": "a?(.*)"}, {"strip": "kr"}],
    "json": [{}, {"blank": ["n/a", "12.0"]}],
}  # fmt: skip
FLAVOURS: dict[str, tuple[list[JsonValue], list[str]]] = {
    "number": (
        ["12", " 7 ", "+3", "1,204.50", "kr 5", "12.5%", 0, 1, 7, 12, 2**62, 2**63 - 1, Number("1.5"), Number("12.0"), Number("1e308")],
        ["integer", "decimal(12,2)", "decimal(38,6)", "float"],
    ),
    "instant": (
        ["2031-04-01T10:22:07.5+02:00", "2031-04-01 10:22Z", "2031-07-01T12:00:00", "2031-03-30T01:30:00",
         "2031-10-26T01:30:00", "2031-04-01T10:22:07.1234567Z", 1932964927000, "1932964927"],
        ["timestamp", "timestamp", "date", "datetime"],
    ),
    "clock": (
        ["10:22", "10:22:07.5", "3:20", "PT3H20M", "-PT15M", "P1D", 90, "1.5", Number("0.25"), "2031-04-01T10:22:07"],
        ["time", "duration", "duration", "datetime"],
    ),
    "word": (["boarding", "BRD ", "departed", 1, True, "yes", "x"], ["state", "lenient_state", "text", "boolean"]),
    "text": (["12", "x", "say \"so\"", "2031-04-01", "", "true"], ["text", "list(text)", "date"]),
}  # fmt: skip
ENUMS = {
    "state": {
        "values": {
            "boarding": {"accept": ["BRD", 1], "rank": 1},
            "departed": {"rank": 2.5, "live": True},
        }
    },
    "lenient_state": {
        "values": {"boarding": {"accept": [True], "label": "Boarding"}, "x": {}},
        "otherwise": None,
    },
}


@dataclass
class Feed:
    """Rules as a mapping and documents as the lines of a file; some lines are no JSON."""

    rules: dict[str, Any]
    lines: list[str]

    @property
    def rules_text(self) -> str:
        return json.dumps(self.rules, ensure_ascii=False)


@dataclass
class _Names:
    """The fields that an expression can read, by family."""

    number: list[str] = field(
        default_factory=lambda: ["3", "0", "2.5", "1e1", "9223372036854775807"]
    )
    text: list[str] = field(default_factory=lambda: ["'x'", "'12'", "''"])
    flag: list[str] = field(default_factory=lambda: ["TRUE", "CAST(NULL AS boolean)"])
    instant: list[str] = field(
        default_factory=lambda: ["TIMESTAMP '2031-04-01T10:22:07Z'"]
    )
    day: list[str] = field(default_factory=lambda: ["DATE '2031-04-01'"])
    span: list[str] = field(
        default_factory=lambda: ["INTERVAL '90' MINUTE", "INTERVAL '-1' DAY"]
    )
    state: list[str] = field(default_factory=list)
    any: list[str] = field(default_factory=list)

    def add(self, name: str, kind: str) -> None:
        self.any.append(name)
        for family, types in {
            "number": ("integer", "decimal", "float"), "text": ("text",), "flag": ("boolean",), "instant": ("timestamp",),
            "day": ("date",), "state": ("state",), "span": ("duration",),
        }.items():  # fmt: skip
            if (
                kind.startswith(types)
                and kind != "datetime"
                and not (family == "state" and kind != "state")
            ):
                getattr(self, family).append(name)


def pick(draw: Draw, items: list[Any]) -> Any:
    return items[draw(0, len(items) - 1)]


def often(draw: Draw, chance: int) -> bool:
    """True in about one of `chance` cases."""
    return bool(draw(0, chance - 1) == 0)


# ---- rules

FIELD_PATHS = ["$.a", "$.b", "$.c", "$['d e']", "$.a.b", "$.a[0]", "$.b[-1]", "$.c.a.b"]
NODE_PATHS = [
    "$..b",
    "$.a[?@.b >= 1 || !@.a]",
    "$.a[*]",
    "$.*",
    "$.b[*].a",
    "$['a','b']",
    "$.b[0:2]",
    "$.a[::-1]",
    "$[*]",
    "$[?@.b == @.c]",
    "$[?count(@.*) == 2].a",
    "$[?length(@) > 1][0]",
    "$..a..b",
]
ROW_PATHS = ["$.a[*]", "$.a[*]", "$.a[*]", "$.a[*]", "$.b[*]", "$.b[*]", "$.b[*]", "$.b.*", "$", "$.a[0,0]", "$.b[1:]", "$['a','b'][*]", "$['a','b']", "$[*]",
             "$..a", "$..[?@.b]", "$.a[?@.b != null && @.c != $.c, 0]", "$.b[?match(@.a, '.*2')]", "$..*", "$[?@.a].b", "$[?count(@.*) == 2].c"]  # fmt: skip

ZIPPED = ["$.a[*]", "$.b[*]", "$.a[*].b", "$.c", "$['a','b'][*]", "$.b.*"]
HEADERS = ["first", "first", "$.a[0]", "$.b", "$.b[*]", "$.c"]
RECURSIONS = ["$.a[*]", "$.b[*]", "$.b.*", "$.a", "$['a','b'][?@.b]", "$.c"]
EMBEDDED = [
    ["$"],
    ["$.a"],
    ["$.a[*]"],
    ["$.b[*].a", "$.a"],
    ["$..c"],
    ["$.a", "$.a.b", "$.b"],
]
KINDS = {
    "k": {"when": "@.a"},
    "other": {"when": "!@.a || @.b == 1"},
    "file": {"files": "feed*.jsonl"},
    "call": {"call": "x"},
}
OWN_FIELD_PATHS = [
    "$[{0}]",
    "$[{0}]",
    "$[{0}].b",
    "$[{0}][0]",
    "$[{0}][-1]",
    "$[{0}].b.c",
]
OWN_NODE_PATHS = [
    "$[{0}][*]",
    "$[{0}][*].b",
    "$[{0}].*",
    "$..[{0}]",
    "$[{0}][0:2]",
    "$[{0}][?@ != 'none']",
    "$[{0},{1}]",
]
OWN_ROW_PATHS = [
    "$[{0}][*]", "$[{0}][*]", "$[{0}][*]", "$[{0}].*", "$[{0}].list[*]", "$[{0}][0:3]", "$[{0}][?@.a != 1]", "$..[{0}][*]"
]  # fmt: skip
ODD_ENDS = [
    "",
    "",
    "",
    "",
    " é☺",
    '"',
    "\\",
    "'",
    ".x",
    "\n",
    "\u00df\u1e9e",
    "__",
    " ",
]
"""Members may be called anything."""
REFERENCE = (
    'word,number,meaning\n12,1,twelve\nboarding,2,\nx,3,""\nx,4,again\nkr 5,,five\n'
)
"""A reference file, `words.csv`."""

CONDITIONS = [
    "@.a",
    "@ != null",
    "!@.b",
    "@.a != $.a && @.c",
    "@.a == 12 || @[0]",
    "match(@.b, '.*2')",
]


def expression(draw: Draw, names: _Names, kind: str, depth: int = 2) -> str:
    """A well-typed expression of a family."""

    def sub(family: str) -> str:
        return expression(draw, names, family, depth - 1)

    if depth == 0 or often(draw, 4):
        return str(pick(draw, getattr(names, kind)))
    word = pick(draw, names.state) if names.state else None
    choices: dict[str, list[Any]] = {
        "number": [
            lambda: f"({sub('number')} {pick(draw, ['+', '-', '*', '/'])} {sub('number')})",
            lambda: f"({sub('number')} / ({sub('number')} - 1))",
            lambda: f"({sub('number')} * 4611686018427387904)",
            lambda: f"CASE WHEN {sub('flag')} THEN {sub('number')} ELSE {sub('number')} END",
            lambda: f"COALESCE({sub('number')}, {sub('number')})",
            lambda: f"CAST({sub('text')} AS {pick(draw, ['integer', 'decimal(9,3)', 'float'])})",
            lambda: f"CAST({sub('number')} AS {pick(draw, ['integer', 'decimal(9,3)', 'float'])})",
            lambda: f"- {sub('number')}",
            lambda: f"{pick(draw, ['ABS', 'ROUND', 'FLOOR', 'CEILING', 'SQRT', 'EXP'])}({sub('number')})",
            lambda: f"{pick(draw, ['MOD', 'GREATEST', 'LEAST', 'POWER'])}({sub('number')}, {sub('number')})",
            lambda: f"ROUND({sub('number')}, {pick(draw, ['1', '-1'])})",
            lambda: f"EXTRACT({pick(draw, ['YEAR', 'WEEK', 'DOW', 'DOY', 'EPOCH'])} FROM {sub(pick(draw, ['day', 'instant']))})",
            lambda: f"EXTRACT({pick(draw, ['HOUR', 'SECOND', 'EPOCH'])} FROM {sub(pick(draw, ['span', 'instant']))})",
            lambda: f"{pick(draw, ['CHAR_LENGTH(', 'POSITION(' + repr('2') + ' IN '])}{sub('text')})",
            lambda: f"NULLIF({sub('number')}, {sub('number')})",
            lambda: f"{word}.rank" if word else "1",
        ],
        "text": [
            lambda: f"({sub('text')} || {sub('text')})",
            lambda: f"CAST({sub(pick(draw, ['number', 'flag', 'instant', 'day']))} AS text)",
            lambda: f"CASE {sub('number')} WHEN {sub('number')} THEN {sub('text')} END",
            lambda: f"({word} || '!')" if word else "'x'",
            lambda: f"{pick(draw, ['UPPER', 'LOWER', 'TRIM'])}({sub('text')})",
            lambda: f"SUBSTRING({sub('text')} FROM {pick(draw, ['0', '2', '-1'])} FOR {pick(draw, ['1', '3', '-1'])})",
            lambda: f"{pick(draw, ['LEFT', 'RIGHT', 'LPAD', 'RPAD'])}({sub('text')}, {pick(draw, ['2', '-1', '5'])})",
            lambda: f"{pick(draw, ['CONCAT(', 'CONCAT_WS(' + repr('-') + ', ', 'GREATEST('])}{sub('text')}, {sub('text')})",
            lambda: f"REPLACE({sub('text')}, '2', {sub('text')})",
            lambda: f"TRIM(BOTH '0' FROM {sub('text')})",
        ],
        "flag": [
            lambda: f"({sub('number')} {pick(draw, ['=', '<>', '<', '>='])} {sub('number')})",
            lambda: f"({sub('text')} {pick(draw, ['=', '<'])} {sub('text')})",
            lambda: f"({sub('instant')} <= {sub('instant')})",
            lambda: f"({sub('flag')} {pick(draw, ['AND', 'OR'])} {sub('flag')})",
            lambda: f"NOT {sub('flag')}",
            lambda: f"({sub(pick(draw, ['number', 'text', 'flag']))} IS {pick(draw, ['', 'NOT '])}NULL)",
            lambda: f"({sub('number')} IS DISTINCT FROM {sub('number')})",
            lambda: f"({sub('number')} BETWEEN {sub('number')} AND {sub('number')})",
            lambda: f"({sub('text')} NOT IN ({sub('text')}, {sub('text')}))",
            lambda: f"({word} = 'departed')" if word else "FALSE",
            lambda: f"CAST({sub('text')} AS boolean)",
            lambda: f"({sub('text')} {pick(draw, ['', 'NOT '])}LIKE {pick(draw, ['%2%', '_x', '1%', '%'])!r})",
            lambda: f"({sub('text')} LIKE {sub('text')} ESCAPE '!')",
            lambda: f"({sub('span')} < {sub('span')})",
        ],
        "instant": [lambda: f"COALESCE({sub('instant')}, {sub('instant')})", lambda: f"CAST({sub('text')} AS timestamp)",
            lambda: f"({sub('instant')} {pick(draw, ['+', '-'])} {sub('span')})", lambda: "CURRENT_TIMESTAMP",
            lambda: f"(({sub('instant')} AT TIME ZONE 'Atlantic/Faroe') AT TIME ZONE {pick(draw, ['Atlantic/Faroe', '-03:00'])!r})"],
        "span": [
            lambda: f"({sub('instant')} - {sub('instant')})", lambda: f"({sub('day')} - {sub('day')})",
            lambda: f"({sub('span')} {pick(draw, ['+', '-'])} {sub('span')})", lambda: f"(- {sub('span')})",
            lambda: f"({sub('span')} {pick(draw, ['*', '/'])} {sub('number')})",
            lambda: f"CAST({sub('text')} AS duration)",
        ],
        "day": [lambda: f"CAST({sub('instant')} AS date)", lambda: f"CAST({sub('text')} AS date)",
            lambda: f"({sub('day')} {pick(draw, ['+', '-'])} {pick(draw, ['1', '400', '5000000'])})",
            lambda: f"({sub('day')} + {sub('span')})"],
    }  # fmt: skip
    return str(pick(draw, choices[kind])())


@dataclass(frozen=True)
class Paths:
    """Where rules look: in members whose names all share, so that they meet what was not meant for
    them; or, where documents are to fit (`apart`), each in members of its own.
    """

    apart: bool = False

    def field(self, draw: Draw, name: str) -> str:
        return (
            self.path(draw, OWN_FIELD_PATHS, name)
            if self.apart
            else pick(draw, FIELD_PATHS)
        )

    def nodes(self, draw: Draw, name: str) -> str:
        return (
            self.path(draw, OWN_NODE_PATHS, name)
            if self.apart
            else pick(draw, NODE_PATHS)
        )

    def rows(self, draw: Draw, name: str) -> str:
        return (
            self.path(draw, OWN_ROW_PATHS, name)
            if self.apart
            else pick(draw, ROW_PATHS)
        )

    def zipped(self, draw: Draw, name: str) -> dict[str, str]:
        names = NAMES[: draw(1, 3)]
        own = {
            member: self.path(draw, ["$[{0}][*]"], f"{name}{number}")
            for number, member in enumerate(names)
        }
        return own if self.apart else {member: pick(draw, ZIPPED) for member in names}

    def recursion(self, draw: Draw, name: str) -> str:
        return (
            self.path(draw, ["$[{0}][*]"], f"{name}_below")
            if self.apart
            else pick(draw, RECURSIONS)
        )

    @staticmethod
    def path(draw: Draw, templates: list[str], name: str) -> str:
        odd = name + pick(draw, ODD_ENDS)
        return str(pick(draw, templates)).format(
            f"'{escaped_name(odd)}'", f"'{escaped_name(f'{odd}2')}'"
        )


def last_name(path: str) -> str | None:
    return next(
        (name for name in NAMES if path.endswith((f".{name}", f"['{name}']"))), None
    )


def read_field(
    draw: Draw, names: _Names, name: str, flavours: dict[str, str], paths: Paths
) -> dict[str, Any]:
    path = paths.field(draw, name)
    likely = FLAVOURS[flavours[last_name(path) or "a"]][1]
    kind = pick(draw, TYPES) if often(draw, 4) else pick(draw, likely)
    family = kind.partition("(")[0]
    body: dict[str, Any] = {"type": kind, **pick(draw, OPTIONS.get(family, [{}]))}
    takes = {
        "list": ["only", "all", "first"],
        "text": ["only", "first", "last", "join", "max"],
    }.get(family, ["only", "first"])
    if kind.startswith(("integer", "decimal", "float")):
        takes = ["only", "first", "last", "sum", "sum", "min", "max"]
    take = pick(draw, takes)
    source = draw(0, 9)
    if source < 6:
        several = take in ("all", "sum", "min", "max", "join") or often(draw, 4)
        body["at"] = paths.nodes(draw, name) if several else path
        if often(draw, 4):
            body["at"] = [paths.field(draw, f"{name}x"), body["at"]]
        if take != "only" or often(draw, 3):
            body["take"] = take
        if often(draw, 8):
            family = kind = "integer"
            body = {"at": body["at"], "take": "count", "type": kind}
    elif source == 6:
        family = kind = "text"
        body = {
            "fact": pick(
                draw,
                [
                    "name",
                    "position",
                    "path",
                    "depth",
                    "kind",
                    "document",
                    "page",
                    "request.a",
                ][: 6 if paths.apart else 8],
            ),
            "type": kind,
        }
    else:
        body["at"] = pick(draw, [path, path, path, path if paths.apart else "$"])
    default = {
        "text": "none",
        "integer": "5",
        "boolean": "no",
        "date": "2031-01-01",
    }.get(family)
    if default and "percent" not in body and often(draw, 6):
        body["default"] = default
    names.add(name, kind)
    return body


def computed_field(draw: Draw, names: _Names) -> tuple[dict[str, Any], str]:
    kind = pick(draw, ["number", "number", "text", "flag", "instant", "span"])
    body: dict[str, Any] = {"compute": expression(draw, names, kind)}
    if kind == "number" and often(draw, 2):
        body["type"] = pick(draw, ["integer", "decimal(12,2)", "text", "float"])
        if body["type"] in ("integer", "decimal(12,2)") and often(draw, 2):
            body["round"] = pick(draw, ["half-up", "half-even"])
        return body, body["type"]
    return body, {
        "number": "float",
        "flag": "boolean",
        "instant": "timestamp",
        "span": "duration",
    }.get(kind, kind)


def fields(
    draw: Draw,
    names: _Names,
    prefix: str,
    most: int,
    flavours: dict[str, str],
    paths: Paths,
) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for number in range(draw(1, most)):
        name = f"{prefix}{number}"
        if number and often(draw, 2):
            body, kind = computed_field(draw, names)
            if (
                kind != "float" or "type" in body
            ):  # the type of an untyped number is not known here
                names.add(name, kind)
        else:
            body = read_field(draw, names, name, flavours, paths)
        bad = pick(
            draw,
            ["reject", *["null"] * (6 if paths.apart and "compute" in body else 1)],
        )
        if bad != "reject":
            body["bad"] = bad
        if "default" not in body and often(
            draw, 90 if paths.apart and "at" not in body else 12
        ):
            body["required"] = True
        if often(draw, 8):
            body["keep"] = False
        found[name] = body
    return found


def typed_sources(found: dict[str, Any]) -> dict[str, str]:
    """The fields of a section whose type stands in the rules, for tables below to inherit and
    compute with.
    """
    return {name: body["type"] for name, body in found.items() if "type" in body}


def feed(draw: Draw) -> Feed:
    flavours = {name: pick(draw, list(FLAVOURS)) for name in NAMES}
    paths = Paths(apart=often(draw, 2))
    response = fields(draw, _Names(), "r", 2, flavours, paths) if often(draw, 2) else {}
    response = {name: body for name, body in response.items() if "at" in body}
    visible: dict[str | None, dict[str, str]] = {None: typed_sources(response)}
    kinds = KINDS if often(draw, 8) else {}
    tables: dict[str, Any] = {}
    for number in range(draw(1, 3)):
        within = None if number == 0 or often(draw, 5) else f"t{number - 1}"
        names = _Names()
        inherit = [name for name in visible[within] if often(draw, 2)]
        for name in inherit:
            names.add(name, visible[within][name])
        own = fields(draw, names, f"f{number}_", 4, flavours, paths)
        table: dict[str, Any] = {
            **rows_of(draw, f"rows{number}", paths),
            "inherit": inherit,
            "fields": own,
        }
        if "recurse" in table:
            own["above"] = {"parent": pick(draw, [*inherit, *own])}
        if within:
            table["within"] = within
        elif kinds and often(draw, 2):
            table["kind"] = pick(draw, list(kinds))
        if often(draw, 6 if paths.apart else 3) and names.any:
            table["key"] = [pick(draw, names.any)]
            table["duplicates"] = pick(draw, ["reject", "first", "last"])
        if often(draw, 4 if paths.apart else 2):
            table["where"] = expression(draw, names, "flag", 3)
            if paths.apart and names.any and not often(draw, 4):
                table["where"] = (
                    f"{pick(draw, names.any)} IS {pick(draw, ['', 'NOT '])}NULL OR {names.flag[0]}"
                )
        if often(draw, 8):
            table["rest"] = f"rest{number}"
        tables[f"t{number}"] = table
        visible[f"t{number}"] = {**visible[within], **typed_sources(own)}
    for name, table in tables.items():
        below = [child for child, body in tables.items() if body.get("within") == name]
        if below and often(draw, 2):
            aggregate(draw, table, pick(draw, below), visible)
        if often(draw, 3):
            look_up(draw, name, table, tables, visible, paths)
    rules: dict[str, Any] = {"mukret": 1, "enums": ENUMS, "tables": tables}
    rules["reference"] = {"words": {"file": "words.csv", "key": ["word"]}}
    rules["response"] = {"fields": response, "kinds": kinds}
    if often(draw, 8):
        rules["response"]["embedded"] = pick(draw, EMBEDDED)
    if often(draw, 12):
        rules["response"]["must_have"] = [
            pick(draw, ["$.a", "$.b[0]", "$..c", "$.rows0"])
        ]
    found = Feed(rules, [line(draw, flavours) for _ in range(draw(1, 4))])
    if paths.apart:
        found.lines = fitting_lines(draw, found)
    return found


_HOLDER = tempfile.TemporaryDirectory()
FOLDER = Path(_HOLDER.name)
"""Rules can be read as if they stood here: what they refer to is beside them."""
(FOLDER / "words.csv").write_text(REFERENCE, encoding="utf-8")


@lru_cache(maxsize=4)
def rules_of(text: str) -> Rules:
    """The rules of a feed; read once for all that look at them one after the other, since reading
    takes as long as running them.
    """
    return parse_rules(text, str(FOLDER / "feed.rules.yaml"))


def fitting_lines(draw: Draw, found: Feed) -> list[str]:
    """Documents that fit the rules, most of them."""
    grower = Grower(draw, rules_of(found.rules_text), SCALARS)
    lines = [json_text(grower.document()) for _ in range(draw(1, 4))]
    return [*lines, *found.lines[1:]] if often(draw, 4) else lines


def rows_of(draw: Draw, name: str, paths: Paths) -> dict[str, Any]:
    """Where the rows of a table are."""
    several = (
        [paths.rows(draw, f"{name}{letter}") for letter in "xyz"[: draw(2, 3)]]
        if often(draw, 5)
        else []
    )
    table: dict[str, Any] = {"rows": several or paths.rows(draw, name)}
    if often(draw, 8):
        table["rows"] = {
            "zip": paths.zipped(draw, name),
            "uneven": pick(draw, ["reject", "pad", "shortest"]),
        }
    elif often(draw, 30 if paths.apart else 8):
        table["header"] = pick(draw, HEADERS)
    elif often(draw, 6):
        table["recurse"] = paths.recursion(draw, name)
    if often(draw, 5):
        table["when"] = pick(draw, CONDITIONS)
    if often(draw, 4) and "zip" not in table["rows"]:
        table["spread"] = True
    if often(draw, 5):
        table["outer"] = True
    return table


FAMILIES = {
    "integer": "number",
    "decimal": "number",
    "float": "number",
    "state": "text",
    "lenient_state": "text",
}


def family_of(kind: str) -> str:
    plain = kind.partition("(")[0]
    return FAMILIES.get(plain, plain)


def aggregate(
    draw: Draw,
    table: dict[str, Any],
    child: str,
    visible: dict[str | None, dict[str, str]],
) -> None:
    """Adds fields over the rows of a table within."""
    for number in range(draw(1, 3)):
        known = [
            (name, family_of(kind))
            for name, kind in visible[child].items()
            if name not in visible[None]
        ]
        known = [
            (name, kind) for name, kind in known if name.startswith(f"f{child[1:]}_")
        ]
        choices = [f"COUNT({child})", *(f"COUNT({child}.{name})" for name, _ in known)]
        for name, kind in known:
            functions = {
                "number": ["SUM", "AVG", "MIN"],
                "text": ["LISTAGG"],
                "duration": ["SUM", "MAX"],
                "timestamp": ["MIN"],
            }
            rest = ", '+'" if kind == "text" else ""
            choices += [
                f"{function}({child}.{name}{rest})"
                for function in functions.get(kind, [])
            ] * 3
        table["fields"][f"g{child[1:]}_{number}"] = {"compute": pick(draw, choices)}
    if often(draw, 6):
        table["where"] = f"COUNT({child}) > 0"


def look_up(
    draw: Draw,
    name: str,
    table: dict[str, Any],
    tables: dict[str, Any],
    visible: dict[str | None, dict[str, str]],
    paths: Paths,
) -> None:
    """Adds a field that is looked up in any of the tables, or in the reference, and something that
    hangs on it.
    """
    number = name.removeprefix("t")
    mine = {
        field: kind
        for field, kind in visible[name].items()
        if field in table["inherit"] or field in table["fields"]
    }
    targets: list[dict[str, Any]] = [
        {"in": "words", "by": field, "give": pick(draw, ["number", "meaning"])}
        for field in mine
    ]
    for other, body in tables.items():
        theirs = {
            field: kind
            for field, kind in visible[other].items()
            if field in body["inherit"] or field in body["fields"]
        }
        key = body.get("key", ["-"])[0]
        if key in theirs:
            same = [
                field
                for field, kind in mine.items()
                if family_of(kind) == family_of(theirs[key])
            ]
            across = {"across": "run"} if often(draw, 2) else {}
            targets += [
                {"in": other, "by": field, "give": pick(draw, list(theirs)), **across}
                for field in same
            ] * 3
    targets = [
        look for look in targets if family_of(mine[look["by"]]) not in ("list", "json")
    ]
    if not targets:
        return
    table["fields"][f"l{number}"] = {"lookup": pick(draw, targets)}
    if often(draw, 60 if paths.apart else 3):
        table["fields"][f"l{number}"]["required"] = True
    if often(draw, 3):
        table["fields"][f"m{number}"] = {"compute": f"l{number} IS NULL"}
    if often(draw, 12 if paths.apart else 4):
        table["where"] = f"l{number} IS NOT NULL"


@st.composite
def feeds(draw: Any) -> Feed:
    """Feeds as a strategy, so that hypothesis looks for failures and makes them small."""
    return feed(lambda low, high: int(draw(st.integers(low, high))))


def seeded_feeds(count: int, seed: int) -> Iterator[Feed]:
    """Many feeds with evenly spread choices: hypothesis likes small ones, which meet the rarer
    codes seldom.
    """
    chosen = random.Random(seed)
    for _ in range(count):
        yield feed(chosen.randint)


# ---- documents


def line(draw: Draw, flavours: dict[str, str]) -> str:
    if often(draw, 15):
        return str(
            pick(draw, ["{'a': 1}", '{"a": [1, 2', "<html>", '{"a": NaN}', '{"a": 1,}'])
        )
    found = value(draw, 3, flavours, "a")
    if often(draw, 12) and type(found) is dict:
        found = {
            name: json_text(inner) if often(draw, 2) else inner
            for name, inner in found.items()
        }
    return json_text(json_text(found) if often(draw, 20) else found)


def value(draw: Draw, depth: int, flavours: dict[str, str], name: str) -> JsonValue:
    """A random value: above, objects with members of the names that rules look for, and arrays of
    such; below, scalars of the member's flavour, some null, some of any kind; anywhere, now and
    then, something else.
    """
    if depth == 0:
        return pick(
            draw, SCALARS if often(draw, 10) else [*FLAVOURS[flavours[name]][0], None]
        )
    if often(draw, 12):
        return value(draw, draw(0, depth - 1), flavours, name)
    members = NAMES[draw(0, 8) // 8 : draw(2, len(NAMES))]
    return {member: below(draw, depth, flavours, member) for member in members}


def below(draw: Draw, depth: int, flavours: dict[str, str], name: str) -> JsonValue:
    """A member's value: at the top mostly an array of objects, further down mostly a scalar."""
    shape = draw(0, 9)
    if shape < 2 * depth and depth > 1:
        if often(draw, 5):
            return grid(draw, flavours)
        return [value(draw, depth - 1, flavours, name) for _ in range(draw(0, 4))]
    return value(draw, depth - 1 if shape == 9 else 0, flavours, name)


def grid(draw: Draw, flavours: dict[str, str]) -> JsonValue:
    """Rows that are arrays, below a row of column names; now and then one that is odd."""
    names: list[JsonValue] = NAMES[: draw(1, len(NAMES))]
    rows = [
        [value(draw, 0, flavours, str(name)) for name in names]
        for _ in range(draw(0, 3))
    ]
    odd: list[JsonValue] = [
        [*names, "a"],
        None,
        {"a": 1},
        names[:1],
        [1, 2, 3, 4, 5, 6],
    ]
    return [names, *rows, *([pick(draw, odd)] if often(draw, 3) else [])]
