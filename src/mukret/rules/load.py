"""From a rules file to checked rules, or to every problem that it has."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from types import MappingProxyType

from mukret.documents.decode import decode
from mukret.errors import InputError, RulesError
from mukret.rules.examples import ExamplesReader
from mukret.rules.model import Rules
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Problems, read_source
from mukret.rules.tables import TablesReader
from mukret.rules.typing import TypeNames

_TOP_KEYS = keys("mukret title note enums types response tables examples", "include reference")


def load_rules(path: str | os.PathLike[str]) -> Rules:
    """Load and check a rules file.

    Raises RulesError with every problem and its position; InputError if the file can't be read.
    """
    try:
        data = Path(path).read_bytes()
    except OSError as error:
        hint = "the rules file comes first: mukret extract RULES FILE… --to DIR"
        raise InputError("not-opened", f"{os.fspath(path)}: {error.strerror}", hint=hint) from None
    return parse_rules(data, os.fspath(path))


def parse_rules(data: bytes | str, file: str = "rules.yaml") -> Rules:
    """Check the text of a rules file; `file` is the name for messages, and where relative paths start."""
    raw = data.encode("utf-8") if isinstance(data, str) else data
    problems = Problems(file, _decoded(raw, file))
    rules = _read(problems, Path(file).parent, hashlib.sha256(raw).hexdigest())
    if problems.found or rules is None:
        raise RulesError(file, sorted(problems.found, key=lambda found: (found.line, found.column)))
    return rules


def _decoded(raw: bytes, file: str) -> str:
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        problems = Problems(file, raw[: error.start].decode("utf-8", "ignore"))
        line = len(problems.lines)
        problems.add_at("yaml-syntax", f"not UTF-8 (byte {error.start})", line, len(problems.lines[-1]) + 1)
        raise RulesError(file, problems.found) from None


def _read(problems: Problems, folder: Path, sha256: str) -> Rules | None:
    source = read_source(problems.text, problems)
    if source is None:
        return None
    reader = Reader(problems)
    reader.mapping(source, "a rules file", _TOP_KEYS)
    _check_version(reader, source)
    types = TypeNames(reader)
    types.read_enums(source.get("enums"))
    types.read_types(source.get("types"))
    sections = TablesReader(reader, types)
    response_evaluation = sections.read_response(source.get("response"))
    tables = sections.read_tables(source.get("tables"), source)
    declared = sections.named.union(*sections.defined.values()) if problems.found else frozenset()
    examples = ExamplesReader(reader, tables, declared, folder, decode).read(source.get("examples"))
    return Rules(
        problems.file,
        sha256,
        reader.text(source.get("title"), "title"),
        reader.text(source.get("note"), "note"),
        MappingProxyType(types.enums),
        sections.response,
        response_evaluation,
        MappingProxyType(tables),
        examples,
    )


def _check_version(reader: Reader, source: Mapping) -> None:
    if "mukret" not in source.entries:
        reader.add("missing-key", "the format version is missing", source, "begin the file with mukret: 1")
        return
    version = reader.scalar(source.get("mukret"), "mukret")
    if version is not None and version.text != "1":
        reader.add(
            "wrong-value", f"format version {version.text} is not known", version, "this program reads mukret: 1"
        )
