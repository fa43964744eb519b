"""The section `reference`: small tables in CSV files (RFC 4180), for lookups."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from mukret.codes import Code
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Scalar
from mukret.text import did_you_mean
from mukret.types import Bad, TypeSpec, ValueType

REFERENCE_KEYS = keys("file key note")
# The standard library's reader does not tell an empty cell from an empty text in quotes: here they
# are two things.
_CELL = re.compile(r'(?:"((?:[^"]|"")*)"|([^",\r\n]*))(,|\r?\n|\r|\Z)')


class CsvError(ValueError):
    """A text that is no CSV."""


@dataclass(frozen=True)
class Reference:
    """A table of texts, None for an empty cell without quotes; `key` names the columns that
    identify a row.
    """

    name: str
    columns: tuple[str, ...]
    key: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]

    def answers(
        self, types: Sequence[ValueType], give: str
    ) -> dict[tuple[object, ...], object]:
        """The column `give` by the key, whose cells are read as these types; one that can't be read
        equals nothing.

        Of several rows with a key the first counts.
        """
        places = [self.columns.index(name) for name in self.key]
        taken = self.columns.index(give)
        by_key: dict[tuple[object, ...], object] = {}
        for row in self.rows:
            try:
                key = tuple(
                    TypeSpec(kind).read(row[place])
                    for kind, place in zip(types, places, strict=True)
                )
            except Bad:
                continue
            # As in a join: null equals nothing, and of several records with one key the first is
            # taken.
            if None not in key:
                by_key.setdefault(key, row[taken])
        return by_key


def read_csv(text: str) -> Iterator[tuple[str | None, ...]]:
    """The records of a CSV text; lines with nothing in them are left out. Raises CsvError."""
    at, line = 0, 1
    record: list[str | None] = []
    while at < len(text) or record:
        match = _CELL.match(text, at)
        if match is None:
            raise CsvError(f"line {line}: a quote stands where none can be")
        # RFC 4180, but for one thing: an empty cell is null and `""` is the empty text. The
        # standard library's reader takes both for the same.
        quoted, plain, end = match.groups()
        record.append(
            quoted.replace('""', '"') if quoted is not None else plain or None
        )
        line += match[0].count("\n")
        at = match.end()
        if end != ",":
            if record != [None]:
                yield tuple(record)
            record = []
            if end == "":
                return


class ReferencesReader:
    """`hashes`: SHA-256 of each file, by path."""

    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self.hashes: dict[str, str] = {}

    def read(self, node: Node | None) -> dict[str, Reference | None]:
        """By name; None for those that are broken, which has been noted."""
        section = self.reader.mapping(node, "reference")
        if section is None:
            return {}
        # Lookups name them: a reference and another in other case would be mixed up.
        self.reader.distinct([key for key, _ in section.entries.values()], "references")
        references: dict[str, Reference | None] = {}
        for name, (key, value) in section.entries.items():
            self.reader.name(key, "a reference")
            body = self.reader.mapping(value, f"the reference {name}", REFERENCE_KEYS)
            references[name] = (
                self.reference(name, key, body) if body is not None else None
            )
        return references

    def check_complete(self, name: str, name_key: Scalar, body: Mapping) -> None:
        for wanted in ("file", "key"):
            if wanted not in body.entries:
                self.reader.add(
                    Code.MISSING_KEY,
                    f"the reference {name} has no {wanted}",
                    name_key,
                    "reference: {classes: {file: classes.csv, key: [class_code]}}",
                )

    def reference(self, name: str, name_key: Scalar, body: Mapping) -> Reference | None:
        self.check_complete(name, name_key, body)
        file = self.reader.scalar(body.get("file"), f"file of {name}")
        key = self.reader.scalars(body.get("key"), f"key of {name}")
        # All about the file is said before anything about its columns.
        records = self.records(file) if file else None
        if file is None or not records or not key:
            return None
        columns = tuple(cell or "" for cell in records[0])
        problem = self.problem(columns, records[1:])
        if problem:
            self.reader.add(Code.REFERENCE_FILE, f"{file.text}: {problem}", file)
            return None
        missing = [scalar for scalar in key if scalar.text not in columns]
        if missing:
            for scalar in missing:
                message = f"key of {name}: no column {scalar.text} in {file.text}"
                near = did_you_mean(scalar.text, columns)
                self.reader.add(Code.UNKNOWN_FIELD, message, scalar, near)
            return None
        key_names = tuple(scalar.text for scalar in key)
        return Reference(name, columns, key_names, tuple(records[1:]))

    def records(self, file: Scalar) -> list[tuple[str | None, ...]] | None:
        path = Path(file.source.name).parent / file.text
        try:
            raw = path.read_bytes()
            records = list(read_csv(raw.decode("utf-8-sig")))
        except OSError as error:
            hint = "the path is relative to the rules file"
            self.reader.add(
                Code.REFERENCE_FILE, f"{file.text}: {error.strerror}", file, hint
            )
            return None
        except UnicodeDecodeError as error:
            self.reader.add(
                Code.REFERENCE_FILE,
                f"{file.text}: not UTF-8 (byte {error.start})",
                file,
            )
            return None
        except CsvError as error:
            self.reader.add(
                Code.REFERENCE_FILE,
                f"{file.text}: {error}",
                file,
                "quotes inside quotes are doubled",
            )
            return None
        if not records:
            self.reader.add(
                Code.REFERENCE_FILE,
                f"{file.text}: nothing stands in it",
                file,
                "its first line names columns",
            )
            return None
        # The record of a run names what its rules refer to.
        self.hashes[str(path)] = hashlib.sha256(raw).hexdigest()
        return records

    @staticmethod
    def problem(
        columns: tuple[str, ...], rows: list[tuple[str | None, ...]]
    ) -> str | None:
        for name in columns:
            if columns.count(name) > 1:
                return f"two columns are named {name!r}"
        # The header is record 1; records may go over several lines.
        for number, row in enumerate(rows, 2):
            if len(row) != len(columns):
                return (
                    f"record {number} has {len(row)} cells, the header {len(columns)}"
                )
        return None
