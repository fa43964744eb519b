"""A rules file → checked rules, or every problem that it has."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from types import MappingProxyType

from mukret.codes import Code
from mukret.documents.decode import decode
from mukret.documents.inputs import neighbour
from mukret.errors import InputError, RulesError
from mukret.rules.examples import ExamplesReader
from mukret.rules.include import Includer
from mukret.rules.model import Rules
from mukret.rules.reader import Reader, keys
from mukret.rules.reference import ReferencesReader
from mukret.rules.source import Problems, SourceText
from mukret.rules.tables import TablesReader
from mukret.rules.typing import TypeNames

TOP_KEYS = keys(
    "mukret title note include enums types defaults response reference tables examples"
)


def load_rules(path: str | os.PathLike[str]) -> Rules:
    """Load and check a rules file.

    Raises RulesError with every problem and its position; InputError if the file can't be read.
    """
    try:
        data = Path(path).read_bytes()
    except OSError as error:
        message = f"{os.fspath(path)}: {error.strerror}"
        hint = "the rules file comes first"
        if isinstance(error, FileNotFoundError):
            near = neighbour(os.fspath(path), (".yaml", ".yml"))
            hint = f"did you mean {near}?" if near else hint
        raise InputError(Code.NOT_OPENED, message, hint=hint) from None
    return parse_rules(data, os.fspath(path))


def parse_rules(data: bytes | str, file: str = "rules.yaml") -> Rules:
    """Check the text of a rules file; `file` is the name for messages, and where relative paths
    start.

    Raises RulesError with every problem and its position.
    """
    raw = data.encode("utf-8") if isinstance(data, str) else data
    problems = Problems()
    rules = _read(
        problems, SourceText(file, _decoded(raw, file)), hashlib.sha256(raw).hexdigest()
    )
    if problems.found or rules is None:
        raise RulesError(file, problems.in_order(file))
    return rules


def _decoded(raw: bytes, file: str) -> str:
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        problems = Problems()
        source = SourceText(file, raw[: error.start].decode("utf-8", "ignore"))
        # At the end of what could be read.
        line = len(source.lines)
        problems.add_at(
            Code.YAML_SYNTAX,
            f"not UTF-8 (byte {error.start})",
            source,
            line,
            len(source.lines[-1]) + 1,
        )
        raise RulesError(file, problems.found) from None


def _read(problems: Problems, source: SourceText, sha256: str) -> Rules | None:
    reader = Reader(problems)
    includer = Includer(reader)
    root = includer.tree(source)
    if root is None:
        return None
    reader.mapping(root, "a rules file", TOP_KEYS)
    types = TypeNames(reader)
    types.read_defaults(root.get("defaults"))
    types.read_enums(root.get("enums"))
    types.read_types(root.get("types"))
    references = ReferencesReader(reader)
    # Sections in the order in which they need each other, not in that of the file.
    sections = TablesReader(reader, types, references.read(root.get("reference")))
    sections.read_response(root.get("response"))
    tables = sections.read_tables(root.get("tables"), root)
    # Where something is wrong already, examples may name fields that could not be read: no second
    # line about them.
    declared = sections.all_names() if problems.found else frozenset()
    examples = ExamplesReader(reader, tables, declared, decode).read(
        root.get("examples")
    )
    return Rules(
        source.name,
        sha256,
        reader.text(root.get("title"), "title"),
        reader.text(root.get("note"), "note"),
        MappingProxyType(types.enums),
        sections.response,
        MappingProxyType(tables),
        sections.schedule(),
        examples,
        sections.embedded,
        sections.must_have,
        MappingProxyType(sections.kinds),
        sections.ignore,
        MappingProxyType({**includer.hashes, **references.hashes}),
    )
