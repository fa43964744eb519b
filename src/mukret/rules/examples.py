"""The section `examples`: documents with the rows that they must give."""

from __future__ import annotations

import re
from collections.abc import Callable
from collections.abc import Mapping as MappingType
from datetime import datetime
from pathlib import Path

from mukret.codes import Code
from mukret.documents.origin import Origin
from mukret.rules.fields import typed_scalar
from mukret.rules.model import Example, Table
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Scalar, Sequence
from mukret.rules.sources import DOCUMENT_FACTS, REQUEST_FACT
from mukret.text import did_you_mean
from mukret.types import Json, Timestamp, TypeSpec
from mukret.values import NEGATIVE_ZERO, JsonValue, Number, json_text

EXAMPLE_KEYS = keys("shows response file gives rejected facts now")
_INTEGER = re.compile(r"[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+")
_FLOAT = re.compile(r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?")
Decoder = Callable[[bytes], JsonValue]


class ExamplesReader:
    """`declared`: the names of all tables and fields of the file, where it has problems, so that
    what is broken is not reported as unknown too. `decode` turns the bytes of a file into a
    document; it raises ValueError for what is no JSON.
    """

    def __init__(
        self,
        reader: Reader,
        tables: MappingType[str, Table],
        declared: frozenset[str],
        decode: Decoder,
    ) -> None:
        self.reader = reader
        self.tables = tables
        self.declared = declared
        self.decode = decode

    def read(self, node: Node | None) -> tuple[Example, ...]:
        if node is None:
            return ()
        # One example without a dash is a mapping, and most likely meant as a list of one.
        if not isinstance(node, Sequence):
            self.reader.add(
                Code.WRONG_VALUE,
                "examples is a list",
                node,
                "begin each with - shows: …",
            )
            return ()
        examples = [self.example(item) for item in node.items]
        return tuple(example for example in examples if example is not None)

    def example(self, node: Node) -> Example | None:
        body = self.reader.mapping(node, "an example", EXAMPLE_KEYS)
        if body is None:
            return None
        shows = self.reader.text(body.get("shows"), "shows")
        if shows is None:
            self.reader.add(
                Code.MISSING_KEY,
                "the example does not say what it shows",
                body,
                "shows: a fare keeps its digits",
            )
        if ("response" in body.entries) == ("file" in body.entries):
            self.reader.add(
                Code.MISSING_KEY,
                "an example has a response or a file, one of them",
                body,
            )
            return None
        # Each problem is noted, and reading goes on: one look at the file names them all.
        gives_node = self.reader.mapping(body.get("gives"), "gives")
        gives = {}
        for name, (key, value) in gives_node.entries.items() if gives_node else ():
            rows = self.expected(name, key, value)
            if rows is not None:
                gives[name] = rows
        response = self.response(body)
        if response is _NOTHING:
            return None
        facts = self.facts(body.get("facts"))
        number = str(facts.get("document", 1))
        return Example(
            shows or "",
            response,
            gives,
            self.rejected(body),
            self.origin(facts),
            self.now(body.get("now")),
            int(number) if number.isdecimal() else 1,
            str(facts.get("file", "example")),
            body.source.name,
            body.line,
            body.column,
        )

    def now(self, node: Node | None) -> datetime | None:
        """What CURRENT_TIMESTAMP is."""
        scalar = self.reader.scalar(node, "now")
        instant = (
            typed_scalar(self.reader, scalar, TypeSpec(Timestamp()), "now")
            if scalar
            else None
        )
        return instant if isinstance(instant, datetime) else None

    def facts(self, node: Node | None) -> dict[str, str]:
        """What the example says that the run would know, as it is written."""
        body = self.reader.mapping(node, "facts")
        facts = {}
        for name, (key, value) in body.entries.items() if body else ():
            scalar = self.reader.scalar(value, f"{name} of facts")
            # Facts of rows follow from the response of the example itself.
            if name not in DOCUMENT_FACTS and not name.startswith(REQUEST_FACT):
                known = (*DOCUMENT_FACTS, f"{REQUEST_FACT}NAME")
                self.reader.add(
                    Code.UNKNOWN_KEY,
                    f"facts have no {name}",
                    key,
                    did_you_mean(name, known),
                )
            elif (
                name in ("document", "page")
                and scalar is not None
                and not scalar.text.isdecimal()
            ):
                self.reader.add(Code.WRONG_VALUE, f"{name} is a number", scalar)
            elif scalar is not None:
                facts[name] = scalar.text
        return facts

    @staticmethod
    def origin(facts: MappingType[str, str]) -> Origin | None:
        if not facts:
            return None
        # What a request was made of, as `collect` keeps it: `request.day`, by its name alone.
        variables = {
            name.removeprefix(REQUEST_FACT): text
            for name, text in facts.items()
            if name.startswith(REQUEST_FACT)
        }
        page = facts.get("page")
        return Origin(
            facts.get("url"),
            fetched_at=facts.get("fetched_at"),
            call=facts.get("call"),
            page=int(page) if page is not None else None,
            variables=variables,
        )

    def rejected(self, body: Mapping) -> int:
        scalar = self.reader.scalar(body.get("rejected"), "rejected")
        if scalar is not None and not scalar.text.isdecimal():
            self.reader.add(Code.WRONG_VALUE, "rejected is a number of rows", scalar)
            return 0
        return int(scalar.text) if scalar else 0

    def response(self, body: Mapping) -> JsonValue:
        if "file" not in body.entries:
            # In the file itself a response is YAML, which reads as JSON does but for numbers.
            return self.document(body.entries["response"][1])
        scalar = self.reader.scalar(body.get("file"), "file")
        if scalar is None:
            return _NOTHING
        try:
            return self.decode(
                (Path(scalar.source.name).parent / scalar.text).read_bytes()
            )
        except OSError as error:
            self.reader.add(
                Code.EXAMPLE_FILE,
                f"{scalar.text}: {error.strerror}",
                scalar,
                "the path is relative to the rules file",
            )
        except ValueError as error:
            self.reader.add(
                Code.EXAMPLE_FILE, f"{scalar.text} is not JSON: {error}", scalar
            )
        return _NOTHING

    def document(self, node: Node) -> JsonValue:
        """A response written in YAML; plain scalars are those of YAML 1.2's core schema."""
        if isinstance(node, Mapping):
            return {
                name: self.document(value) for name, (_, value) in node.entries.items()
            }
        if isinstance(node, Sequence):
            return [self.document(item) for item in node.items]
        return _plain_value(node) if node.plain else node.text

    def expected(
        self, name: str, key: Scalar, node: Node
    ) -> int | tuple[dict[str, object], ...] | None:
        table = self.tables.get(name)
        if table is None and name in self.declared:
            return None  # a table that is broken has its own line in the report
        if table is None:
            self.reader.add(
                Code.UNKNOWN_TABLE,
                f"no table {name}",
                key,
                did_you_mean(name, self.tables),
            )
            return None
        if isinstance(node, Scalar) and node.text.isdecimal():
            return int(node.text)
        if not isinstance(node, Sequence):
            self.reader.add(
                Code.WRONG_VALUE,
                f"gives: {name} is a list of rows, or a number of rows",
                node,
            )
            return None
        rows = []
        for item in node.items:
            body = self.reader.mapping(item, f"a row of {name}")
            if body is not None:
                rows.append(self.row(table, body))
        return tuple(rows)

    def row(self, table: Table, body: Mapping) -> dict[str, object]:
        types = table.types
        row: dict[str, object] = {}
        for name, (key, node) in body.entries.items():
            if name not in types:
                if name in self.declared:
                    continue  # a field that is broken has its own line in the report
                self.reader.add(
                    Code.UNKNOWN_FIELD,
                    f"{table.name} has no field {name}",
                    key,
                    did_you_mean(name, types),
                )
            elif isinstance(node, Scalar) and (node.means_null or node.text == "null"):
                row[name] = None
            elif isinstance(types[name], Json) and not isinstance(node, Scalar):
                row[name] = json_text(self.document(node))
            elif isinstance(node, Scalar | Sequence):
                row[name] = typed_scalar(
                    self.reader, node, TypeSpec(types[name]), f"{name} of {table.name}"
                )
            else:
                self.reader.add(
                    Code.WRONG_VALUE, f"{name} is a text or a list of texts", node
                )
        return row


_NOTHING = object()


def json_number(text: str) -> str:
    """A YAML number as JSON would write it: no plus sign, a digit on both sides of the point."""
    text = text.removeprefix("+")
    sign, text = ("-", text[1:]) if text.startswith("-") else ("", text)
    mantissa, e, exponent = text.replace("E", "e").partition("e")
    whole, point, fraction = mantissa.partition(".")
    whole = whole.lstrip("0") or "0"
    return f"{sign}{whole}{point and '.' + (fraction or '0')}{e}{exponent}"


def _plain_value(scalar: Scalar) -> JsonValue:
    """What a scalar without quotes stands for; a text if for nothing else."""
    text = scalar.text
    if text == "" or scalar.means_null:
        return None
    if text in ("true", "True", "TRUE", "false", "False", "FALSE"):
        return text.lower() == "true"
    # Digit by digit as it stands, as it would come in a response: no float is made of it.
    if _INTEGER.fullmatch(text):
        return _integer(text)
    return Number(json_number(text)) if _FLOAT.fullmatch(text) else text


def _integer(text: str) -> JsonValue:
    if text == NEGATIVE_ZERO:
        return NEGATIVE_ZERO
    # Octal and hexadecimal have a sign of their own; a nought before digits has no meaning.
    marked = text.startswith("0") and text[1:2] in ("o", "x")
    return int(text, 0) if marked else int(text)
