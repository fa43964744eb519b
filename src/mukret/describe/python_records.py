"""Python dataclasses of the records, with enums, and with the way from and to the nested JSON
output.

The module that is made stands alone: it needs Python 3.11 and its standard library, and passes
`mypy --strict`. What its classes use of `record_support.py` is copied into it.
"""

from __future__ import annotations

import ast
import json
import textwrap
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from mukret.describe import record_support
from mukret.describe.nesting import Nested, nested_tables
from mukret.describe.python_names import class_names, field_names, member_names
from mukret.destinations.joins import never_null
from mukret.rules.model import Field, Rules
from mukret.types import (
    Boolean,
    Date,
    Datetime,
    DecimalType,
    Duration,
    Enum,
    Float,
    Integer,
    Json,
    ListOf,
    Text,
    Time,
    Timestamp,
    ValueType,
)
from mukret.version import __version__

# Ends the name of the class of a table.
ROW = "Row"
# Names that mean something within a class of records, beside those of the types.
_OF_A_CLASS = frozenset(
    {"cls", "self", "members", "from_json", "to_json", "classmethod", "bytes"}
)
# What a type is in Python, and what reads it.
_TYPES: dict[type[ValueType], tuple[str, str]] = {
    Text: ("str", "_text"),
    Integer: ("int", "_integer"),
    Float: ("float", "_float"),
    Boolean: ("bool", "_boolean"),
    Date: ("dt.date", "dt.date.fromisoformat"),
    Time: ("dt.time", "dt.time.fromisoformat"),
    Datetime: ("dt.datetime", "dt.datetime.fromisoformat"),
    Timestamp: ("dt.datetime", "dt.datetime.fromisoformat"),
    Duration: ("dt.timedelta", "_duration"),
    Json: ("Any", "_anything"),
}
_NAMES_OF_TYPES = frozenset(
    {
        "str",
        "int",
        "float",
        "bool",
        "list",
        "set",
        "dt",
        "Any",
        "Decimal",
        "Enum",
        "Mapping",
    }
)


def python_records(rules: Rules) -> str:
    """The text of a module with a class for each enum and each table that is written."""
    return _Module(rules).text()


class _Module:
    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self.tables = nested_tables(rules)
        used = {
            kind.enum_name: kind
            for table in self.tables
            for _, kind in _enums_of(table)
        }
        self.enums = list(used.values())
        helpers = set(_definitions())
        self.enum_classes = class_names(used, "", {*_NAMES_OF_TYPES, *helpers})
        # Classes share a module with their helpers, and must not hide one.
        taken = {*_NAMES_OF_TYPES, *helpers, *self.enum_classes.values()}
        self.row_classes = class_names(
            (table.name for table in self.tables), ROW, taken
        )
        self.reserved = {*_OF_A_CLASS, *taken, *self.row_classes.values()}

    def text(self) -> str:
        classes = [line for enum in self.enums for line in self.enum(enum)]
        for table in self.tables:
            classes += self.record(table)
        body = "\n".join(classes)
        # Only what these classes need: the module stands alone and is read by people.
        helpers = _used_helpers(body)
        head = [
            *self.docstring(),
            "from __future__ import annotations",
            "",
            *_imports(f"{helpers}\n{body}"),
        ]
        return "\n".join([*head, body, "", "", helpers])

    def docstring(self) -> Iterator[str]:
        # A title may hold quotes, which would end the docstring.
        title = self.rules.title or "Records"
        yield f'"""{_quotable(title)}: the records that `mukret extract --nested` writes as JSON.'
        yield ""
        yield (
            f"Made of the rules by `mukret describe --as python` of Mukret {__version__}: when "
            "they change,"
        )
        yield "make it anew."
        yield '"""'
        yield ""

    # ---- classes

    def enum(self, enum: Enum) -> Iterator[str]:
        yield from ("", "", f"class {self.enum_classes[enum.enum_name]}(Enum):")
        for word, member in member_names(enum.names).items():
            yield f"    {member} = {_literal(word)}"

    def record(self, table: Nested) -> Iterator[str]:
        attributes = field_names(
            [*(name for name, _ in table.table.columns), *table.inside], self.reserved
        )
        class_name = self.row_classes[table.name]
        yield from ("", "", "@dataclass(kw_only=True)", f"class {class_name}:")
        yield from _doc(table.table.note or f"A record of {table.name}.")
        yield ""
        yield from self.annotations(table, attributes)
        yield from ("", "    @classmethod")
        yield f"    def from_json(cls, record: str | bytes | Mapping[str, Any]) -> {class_name}:"
        yield (
            '        """A record out of JSON text, or parsed already. Raises ValueError for '
            'what is none."""'
        )
        yield "        members = _members("
        yield "            record,"
        # The members that are known: others are refused, and not dropped.
        yield from _wrapped(map(_literal, attributes))
        yield "        )"
        yield "        return cls("
        for name, reader in self.readers(table).items():
            yield f"            {attributes[name]}={reader},"
        yield "        )"
        yield ""
        yield "    def to_json(self) -> str:"
        yield '        """The record as JSON text, in the form in which it is delivered."""'
        yield "        return _object({"
        for name, attribute in attributes.items():
            yield f"            {_literal(name)}: self.{attribute},"
        yield "        })"

    def annotations(
        self, table: Nested, attributes: Mapping[str, str]
    ) -> Iterator[str]:
        sure = never_null(self.rules, table.table)
        for name, kind in table.table.columns:
            python, _ = self.of_type(kind)
            or_none = "" if name in sure or python == "Any" else " | None"
            yield f"    {attributes[name]}: {python}{or_none}"
            yield from _doc(_about(table.fields[name]))
        for name in table.inside:
            yield f"    {attributes[name]}: list[{self.row_classes[name]}]"

    def readers(self, table: Nested) -> dict[str, str]:
        """The expression that reads each member."""
        sure = never_null(self.rules, table.table)
        readers = {}
        for name, kind in table.table.columns:
            _, reader = self.of_type(kind)
            # Where null can't come it is refused: a delivery by other rules is noticed.
            read = "_read" if name in sure else "_read_or_null"
            readers[name] = f"{read}(members, {_literal(name)}, {reader})"
        for name in table.inside:
            readers[name] = (
                f"_read(members, {_literal(name)}, _list_of({self.row_classes[name]}.from_json))"
            )
        return readers

    def of_type(self, kind: ValueType) -> tuple[str, str]:
        match kind:
            case Enum():
                name = self.enum_classes[kind.enum_name]
                return name, name
            case ListOf(item):
                python, reader = self.of_type(item)
                return f"list[{python}]", f"_list_of({reader})"
            case DecimalType():
                return "Decimal", f"_decimal_of({kind.scale})"
        # What has no row there stands as a text in JSON, and stays one.
        return _TYPES.get(type(kind), _TYPES[Text])


def _enums_of(table: Nested) -> Iterator[tuple[str, Enum]]:
    for name, kind in table.table.columns:
        inner = kind.item if isinstance(kind, ListOf) else kind
        if isinstance(inner, Enum):
            yield name, inner


def _about(field: Field) -> str | None:
    told = [
        part
        for part in (field.note, field.measured_in and f"({field.measured_in})")
        if part
    ]
    return " ".join(told) or None


def _doc(text: str | None) -> Iterator[str]:
    if text:
        yield f'    """{_quotable(text)}"""'


def _quotable(text: str) -> str:
    """A text that can stand in a docstring."""
    plain = " ".join(text.split()).replace("\\", "\\\\").replace('"""', "'''")
    return f"{plain} " if plain.endswith('"') else plain


def _wrapped(names: Iterable[str]) -> list[str]:
    """A set of names as an argument, over as many lines as it takes."""
    return textwrap.wrap(
        "{" + ", ".join(names) + "},",
        100,
        initial_indent=" " * 12,
        subsequent_indent=" " * 13,
    )


def _literal(text: str) -> str:
    return json.dumps(text)


# ---- what the classes use


def _definitions() -> dict[str, str]:
    """The source of each function, class and constant of the module that is copied from, by its
    name, in order.
    """
    source = Path(record_support.__file__).read_text(encoding="utf-8")
    definitions = {}
    for node in ast.parse(source).body:
        if isinstance(node, ast.FunctionDef | ast.ClassDef):
            definitions[node.name] = ast.get_source_segment(source, node) or ""
        elif isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name):
            definitions[node.targets[0].id] = ast.get_source_segment(source, node) or ""
    return definitions


def _names_in(source: str) -> set[str]:
    return {
        node.id for node in ast.walk(ast.parse(source)) if isinstance(node, ast.Name)
    }


def _used_helpers(classes: str) -> str:
    """The definitions that the classes use, and those that these use."""
    definitions = _definitions()
    used: set[str] = set()
    waiting = _names_in(classes) & definitions.keys()
    # Helpers use others: gone on with until none is new.
    while waiting:
        used |= waiting
        waiting = {
            name
            for definition in waiting
            for name in _names_in(definitions[definition])
        } & definitions.keys() - used
    texts = [definitions[name] for name in definitions if name in used]
    return "\n\n\n".join(text for text in texts if text) + "\n"


def _imports(source: str) -> Iterator[str]:
    """The lines that import what a module uses."""
    used = _names_in(source)
    for name, line in _IMPORTS.items():
        if name in used:
            yield line
    for module, names in _IMPORTED_FROM.items():
        wanted = [name for name in names if name in used]
        if wanted:
            yield f"from {module} import {', '.join(wanted)}"


_IMPORTED_FROM = {
    "collections.abc": ("Callable", "Mapping"),
    "dataclasses": ("dataclass",),
    "decimal": ("Context", "Decimal", "Inexact", "InvalidOperation"),
    "enum": ("Enum",),
    "typing": ("Any", "TypeVar"),
}
_IMPORTS = {"dt": "import datetime as dt", "json": "import json", "re": "import re"}
