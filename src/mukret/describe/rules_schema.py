"""JSON Schema (draft 2020-12) of rules files, with which an editor completes and checks them while
they are written.

It has the shape of a file: keys, kinds of values, words to choose from, what goes together. What
hangs on the meaning (paths, expressions, names that must exist) is left to the reader. A file that
includes others may lack what these have. YAML's null and a key that is left empty are one thing to
an editor: where the reader takes the word null, so does the schema.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from mukret.describe.json_schema import DIALECT, Schema
from mukret.rules.fields import SOURCES, TAKES
from mukret.rules.sources import DOCUMENT_FACTS, ROW_FACTS
from mukret.rules.typing import CHOICES
from mukret.types.names import SIMPLE
from mukret.values import JsonValue

NAME = "^[A-Za-z_][A-Za-z0-9_]{0,62}$"


def rules_schema() -> Schema:
    """The schema of a rules file."""
    whole = {
        "required": ["tables"],
        "properties": {
            "tables": _every(
                {
                    "required": ["fields"],
                    "dependentRequired": {"duplicates": ["key"]},
                    **_without("omit"),
                    "if": {"properties": {"rows": {"type": "object"}}, **_has("rows")},
                    "then": _without("spread", "header", "recurse"),
                }
            ),
            "enums": _every({"required": ["values"]}),
            "types": _every({"required": ["type"]}),
        },
    }
    return {
        "$schema": DIALECT,
        "title": "Mukret rules, version 1",
        **_object(_TOP, required=["mukret"]),
        # With `include` what is required may stand in another file.
        "if": _has("include"),
        "else": whole,
        "$defs": _DEFINITIONS,
    }


# ---- parts


def _ref(name: str) -> Schema:
    return {"$ref": f"#/$defs/{name}"}


def _has(*names: str) -> Schema:
    return {"required": list(names)}


def _every(schema: Schema) -> Schema:
    """A mapping each value of which meets a schema."""
    return {"additionalProperties": schema}


def _object(members: Mapping[str, Schema], required: Iterable[str] = ()) -> Schema:
    """A mapping with these keys alone."""
    return {
        "type": "object",
        "properties": dict(members),
        "additionalProperties": False,
        **({"required": list(required)} if required else {}),
    }


def _named(value: Schema, **more: JsonValue) -> Schema:
    """A mapping from names that a person gives."""
    return {
        "type": "object",
        "propertyNames": {"pattern": NAME},
        "additionalProperties": value,
        **more,
    }


def _without(*names: str) -> Schema:
    return {"properties": dict.fromkeys(names, False)}


def _told(description: str, schema: Schema) -> Schema:
    return {"description": description, **schema}


def _words(*words: str | None) -> Schema:
    return {"enum": list(words)}


_TEXT: Schema = _ref("text")
_TEXTS: Schema = _ref("texts")
_FLAG: Schema = _ref("flag")
_PATH: Schema = _ref("path")
_PATHS: Schema = _ref("paths")
_TRUE: Schema = {"enum": [True, "true", "True", "TRUE"]}
_TEXT_OR_NULL: Schema = {"type": ["string", "number", "boolean", "null"]}
_COUNT: Schema = {
    "anyOf": [
        {"type": "integer", "minimum": 0},
        {"type": "string", "pattern": "^[0-9]+$"},
    ]
}
_BAD: Schema = _words("reject", "null", "stop", None)

_OPTIONS: dict[str, Schema] = {
    "trim": _told(
        "Take white space off both ends (all types but text always do).", _FLAG
    ),
    "blank": _told(
        "Texts that mean null; numbers are compared as they are written.", _TEXTS
    ),
    "capture": _told(
        "A pattern for the whole text; its first group is read on (I-Regexp).", _TEXT
    ),
    "strip": _told("Texts taken off either end, units and currencies mostly.", _TEXTS),
    "split": _told("What separates the elements of a list in a text.", _TEXT),
    "grouping": _told("The mark between thousands.", _ref("mark")),
    "point": _told("The mark before the fraction.", _ref("mark")),
    "percent": _told("The number is divided by 100, with or without the sign.", _FLAG),
    "accounting": _told("(1,200) is negative.", _FLAG),
    "round": _told(
        "Round what has more digits than the type holds.", _words(*CHOICES["round"])
    ),
    "format": _told(
        "iso, rfc5322, epoch-s, epoch-ms, epoch-us, epoch-ns, or a pattern such as %d.%m.%Y.",
        _TEXTS,
    ),
    "zone": _told(
        "The time zone of times without an offset: an IANA name, or +02:00.", _TEXT
    ),
    "fold": _told(
        "Which of two instants a local time means that comes twice.",
        _words(*CHOICES["fold"]),
    ),
    "unit": _told("What a number is as a duration.", _words(*CHOICES["unit"])),
}
_TYPE: Schema = _told(
    "The type: a built-in one, or the name of an enum or a type.",
    {"anyOf": [_words(*SIMPLE, "decimal(12,2)", "list(text)"), {"type": "string"}]},
)

_TOP: dict[str, Schema] = {
    "mukret": _told("The version of the format.", {"enum": [1, "1"]}),
    "title": _told("What the feed is called.", _TEXT),
    "note": _told("What a reader should know.", _TEXT),
    "include": _told("Other rules files, which this one goes on from.", _TEXTS),
    "enums": _told("Fixed sets of words.", _named(_ref("enum"))),
    "types": _told(
        "Types with reading options, by names of their own.", _named(_ref("type"))
    ),
    "defaults": _told(
        "Reading options for all fields whose type takes them.", _ref("defaults")
    ),
    "response": _told("What is true of a whole response.", _ref("response")),
    "reference": _told(
        "Small tables in CSV files, for lookups.", _named(_ref("reference"))
    ),
    "tables": _told("What becomes rows.", _named(_ref("table"), minProperties=1)),
    "examples": _told(
        "Responses with the rows that they must give.",
        {"type": "array", "items": _ref("example")},
    ),
}
_TABLE: dict[str, Schema] = {
    "rows": _told(
        "The path to the nodes that become rows, a list of paths, or a zip.",
        {"anyOf": [_PATHS, _ref("zip")]},
    ),
    "when": _told("A condition on the raw node: \"@.kind == 'berth'\".", _TEXT),
    "spread": _told("An array that the path finds stands for its elements.", _FLAG),
    "outer": _told("A row of the table around it without any gives one row.", _FLAG),
    "header": _told(
        "Rows are arrays: the path to their column names, or first.",
        {"anyOf": [{"const": "first"}, _PATH]},
    ),
    "recurse": _told("From a row to those of the same table below it.", _PATH),
    "within": _told("The table whose rows these stand in.", _TEXT),
    "inherit": _told(
        "Fields of the tables around it, or of the response, copied into each row.",
        _TEXTS,
    ),
    "kind": _told("The kind of response that has these rows.", _TEXT),
    "key": _told("The fields that identify a row.", _TEXTS),
    "duplicates": _told(
        "What becomes of rows with a key that came before.",
        _words("reject", "first", "last"),
    ),
    "where": _told("An SQL condition on the fields; other rows are left out.", _TEXT),
    "bad": _told("What a value does that can't be read.", _BAD),
    "rest": _told(
        "The name of a column for members that nothing else reads.",
        {"type": "string", "pattern": NAME},
    ),
    "fields": _told("The fields, in the order of the columns.", _named(_ref("field"))),
    "omit": _told("Fields of an included file that are taken away.", _TEXTS),
    "note": _told("What a row is.", _TEXT),
}
_SOURCES: dict[str, Schema] = {
    "at": _told(
        "The path to the value, from the row; of several the first that finds one.",
        _PATHS,
    ),
    "compute": _told("An SQL expression over the fields of the row.", _TEXT),
    "constant": _told("The same in each row.", _TEXT_OR_NULL),
    "fact": _told(
        "What the run knows of the row or of its response.",
        {
            "anyOf": [
                _words(*ROW_FACTS, *DOCUMENT_FACTS),
                {"type": "string", "pattern": r"^request\..+"},
            ]
        },
    ),
    "lookup": _told(
        "A field of another table's row, found by its key.", _ref("lookup")
    ),
    "parent": _told("A field of the row above, in a table that recurses.", _TEXT),
}
_FIELD: dict[str, Schema] = {
    **_SOURCES,
    "type": _TYPE,
    "take": _told("What to do with the nodes that the path finds.", _words(*TAKES)),
    "with": _told("What stands between texts that are joined.", _TEXT),
    "required": _told("A row without it is rejected.", _FLAG),
    "default": _told(
        "The value where there is none.", {"anyOf": [_TEXTS, {"type": "null"}]}
    ),
    "bad": _told("What a value does that can't be read.", _BAD),
    "keep": _told("false: not written, only used.", _FLAG),
    "note": _told("What it means.", _TEXT),
    "measured_in": _told("Its unit.", _TEXT),
    "title": _told("How its column is headed, with --titles.", _TEXT),
    **_OPTIONS,
}
_DEFAULTED = ("blank", "trim", "zone", "fold", "grouping", "point", "round")

# By the names of what they are.
_DEFINITIONS: dict[str, Schema] = {
    "text": {"type": ["string", "number", "boolean"]},
    "texts": {"anyOf": [_TEXT, {"type": "array", "items": _TEXT}]},
    "flag": {"enum": [True, False, "true", "false", "True", "False", "TRUE", "FALSE"]},
    "path": _told("A JSONPath (RFC 9535).", {"type": "string", "pattern": r"^\$"}),
    "paths": {"anyOf": [_PATH, {"type": "array", "items": _PATH, "minItems": 1}]},
    "some_paths": {"anyOf": [_PATH, {"type": "array", "items": _PATH}]},
    "mark": {"type": "string", "pattern": "^[^0-9A-Za-z+-]$"},
    "zip": _object(
        {
            "zip": _told(
                "Parallel arrays, by the names of the members that they become.",
                {"type": "object", "minProperties": 1, "additionalProperties": _PATH},
            ),
            "uneven": _told(
                "What becomes of arrays of unequal length.",
                _words("reject", "pad", "shortest"),
            ),
        },
        required=["zip"],
    ),
    "enum": _object(
        {
            "values": _told(
                "The words, each with other spellings and with facts of your own.",
                {
                    "type": "object",
                    "minProperties": 1,
                    "propertyNames": {"not": _words("bad", "null")},
                    "additionalProperties": _ref("word"),
                },
            ),
            "otherwise": _told(
                "What an unknown word becomes: bad, null, or one of the values.",
                _TEXT_OR_NULL,
            ),
            "case": _told("exact: capitals count.", _words("exact")),
            "note": _told("What the words are of.", _TEXT),
        }
    ),
    "word": {
        "type": "object",
        "properties": {"accept": _told("Other spellings.", _TEXTS)},
        "propertyNames": {"pattern": NAME},
        "additionalProperties": _TEXT_OR_NULL,
    },
    "type": _object(
        {"type": _TYPE, "note": _told("What it is for.", _TEXT), **_OPTIONS}
    ),
    "defaults": _object({**{name: _OPTIONS[name] for name in _DEFAULTED}, "bad": _BAD}),
    "response": _object(
        {
            "embedded": _told("Where texts hold JSON.", _ref("some_paths")),
            "ignore": _told("What is left out on purpose.", _ref("some_paths")),
            "must_have": _told(
                "Paths without which a response is bad.", _ref("some_paths")
            ),
            "fields": _told(
                "Facts of the whole response, to be inherited.", _named(_ref("field"))
            ),
            "kinds": _told(
                "Several kinds of response in one feed.", _named(_ref("kind"))
            ),
        }
    ),
    "kind": {
        **_object(
            {
                "files": _told("Patterns for the name of the file.", _TEXTS),
                "call": _told("The call that is answered.", _TEXT),
                "when": _told("A condition on the response.", _TEXT),
                "must_have": _told(
                    "Paths without which a response of this kind is bad.",
                    _ref("some_paths"),
                ),
                "note": _told("What it is.", _TEXT),
            }
        ),
        "anyOf": [_has("files"), _has("call"), _has("when")],
    },
    "reference": _object(
        {
            "file": _told("A CSV file, relative to this one.", _TEXT),
            "key": _told("The columns that identify a row.", _TEXTS),
            "note": _told("What it holds.", _TEXT),
        },
        required=["file", "key"],
    ),
    "table": _object(_TABLE),
    "field": {
        "anyOf": [
            _PATH,
            {
                **_object(_FIELD),
                "oneOf": [_has(source) for source in SOURCES],
                "dependentRequired": {"take": ["at"], "with": ["take"]},
                "allOf": [
                    {
                        "if": _has("with"),
                        "then": {"properties": {"take": {"const": "join"}}},
                    },
                    {
                        "if": {"anyOf": [_has("lookup"), _has("parent")]},
                        "then": _without("type", *_OPTIONS),
                    },
                    {
                        "if": {"properties": {"required": _TRUE}, **_has("required")},
                        "then": _without("default"),
                    },
                ],
            },
        ]
    },
    "lookup": _object(
        {
            "in": _told("A table or a reference.", _TEXT),
            "by": _told("Fields of this row, that equal the key there.", _TEXTS),
            "give": _told("The field that is taken.", _TEXT),
            "across": _told("run: also of other responses.", _words("run")),
        },
        required=["in", "by", "give"],
    ),
    "example": {
        **_object(
            {
                "shows": _told("What it is an example of.", _TEXT),
                "response": _told("The response.", {}),
                "file": _told("A file with the response, relative to this one.", _TEXT),
                "gives": _told(
                    "The rows of each table, or how many there are.",
                    _every(
                        {
                            "anyOf": [
                                _COUNT,
                                {"type": "array", "items": {"type": "object"}},
                            ]
                        }
                    )
                    | {"type": "object"},
                ),
                "rejected": _told("How many rows are rejected.", _COUNT),
                "facts": _told("What the run would know.", _ref("facts")),
                "now": _told("The time of the run.", _TEXT),
            },
            required=["shows"],
        ),
        "oneOf": [_has("response"), _has("file")],
    },
    "facts": {
        "type": "object",
        "properties": {
            **dict.fromkeys(DOCUMENT_FACTS, _TEXT),
            **dict.fromkeys(("document", "page"), _COUNT),
        },
        "patternProperties": {r"^request\.": _TEXT},
        "additionalProperties": False,
    },
}
