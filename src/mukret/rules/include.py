"""Rules files that include others: their trees merged into one, every node keeping its place in its
own file.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from pathlib import Path

from mukret.codes import Code
from mukret.rules.reader import Reader
from mukret.rules.source import Mapping, Node, Scalar, SourceText, read_source
from mukret.text import did_you_mean

# What is replaced whole and not merged: fields, and the values of an enum.
#
# None stands for any name.
_WHOLE = (
    ("tables", None, "fields", None),
    ("response", "fields", None),
    ("enums", None, "values", None),
)


class Includer:
    """Reads rules files with what they include.

    `hashes`: SHA-256 of each file but the first, by path.
    """

    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self.hashes: dict[str, str] = {}
        self.trees: dict[Path, Mapping | None] = {}

    def tree(self, source: SourceText, above: tuple[Path, ...] = ()) -> Mapping | None:
        """The merged tree of a file; None with the problems noted if one of the files
        is no YAML.
        """
        tree = read_source(source, self.reader.problems)
        if tree is None:
            return None
        check_version(self.reader, tree)
        # The files that lead here: including one of them again would never end.
        here = (*above, Path(source.name).resolve())
        base: Mapping | None = None
        # Later includes win over earlier ones, and the file itself over all of them.
        for scalar in self.reader.scalars(tree.get("include"), "include"):
            included = self.included(scalar, here)
            if included is not None:
                base = included if base is None else self.merged(base, included, ())
        tree = replace(
            tree,
            entries={
                name: entry for name, entry in tree.entries.items() if name != "include"
            },
        )
        return tree if base is None else self.merged(base, tree, ())

    def included(self, scalar: Scalar, above: tuple[Path, ...]) -> Mapping | None:
        path = Path(scalar.source.name).parent / scalar.text
        if path.resolve() in above:
            chain = [*above[above.index(path.resolve()) :], path]
            names = " → ".join(file.name for file in chain)
            self.reader.add(
                Code.CYCLE, f"files that include each other: {names}", scalar
            )
            return None
        # A file that several include is read once, and its problems are told once.
        if path.resolve() not in self.trees:
            self.trees[path.resolve()] = self.read(path, scalar, above)
        return self.trees[path.resolve()]

    def read(
        self, path: Path, scalar: Scalar, above: tuple[Path, ...]
    ) -> Mapping | None:
        try:
            raw = path.read_bytes()
            text = raw.decode("utf-8-sig")
        except OSError as error:
            hint = "the path is relative to the file that includes it"
            self.reader.add(
                Code.INCLUDE_FILE, f"{scalar.text}: {error.strerror}", scalar, hint
            )
            return None
        except UnicodeDecodeError as error:
            self.reader.add(
                Code.INCLUDE_FILE,
                f"{scalar.text}: not UTF-8 (byte {error.start})",
                scalar,
            )
            return None
        # The record of a run names each file that its rules were made of.
        self.hashes[str(path)] = hashlib.sha256(raw).hexdigest()
        return self.tree(SourceText(str(path), text), above)

    def merged(self, below: Mapping, above: Mapping, where: tuple[str, ...]) -> Mapping:
        """The entries of an included file with those of the file that includes it:
        the latter win.
        """
        # Fields are left out of tables alone, and before they are merged.
        if len(where) == 2 and where[0] == "tables":
            below, above = self.without_omitted(below, above)
        entries = dict(below.entries)
        for name, (key, node) in above.entries.items():
            old = below.get(name)
            inner = (*where, name)
            if (
                isinstance(old, Mapping)
                and isinstance(node, Mapping)
                and not _is_whole(inner)
            ):
                node = self.merged(old, node, inner)
            entries[name] = (key, node)
        return replace(above, entries=entries)

    def without_omitted(
        self, below: Mapping, above: Mapping
    ) -> tuple[Mapping, Mapping]:
        """A table without the fields that `omit` takes away, and the table that says so without
        `omit`.
        """
        names = self.reader.scalars(above.get("omit"), "omit")
        fields = below.get("fields")
        known: dict[str, tuple[Scalar, Node]] = (
            fields.entries if isinstance(fields, Mapping) else {}
        )
        for scalar in names:
            if scalar.text not in known:
                message = (
                    f"omit: no included file gives this table a field {scalar.text}"
                )
                self.reader.add(
                    Code.UNKNOWN_FIELD,
                    message,
                    scalar,
                    did_you_mean(scalar.text, known),
                )
        # Unknown names were noted; the others are taken away.
        omitted = {scalar.text for scalar in names}
        if isinstance(fields, Mapping):
            left = replace(
                fields,
                entries={
                    name: entry for name, entry in known.items() if name not in omitted
                },
            )
            below = replace(
                below, entries={**below.entries, "fields": (below.key("fields"), left)}
            )
        return below, replace(
            above,
            entries={
                name: entry for name, entry in above.entries.items() if name != "omit"
            },
        )


def _is_whole(where: tuple[str, ...]) -> bool:
    return any(_fits(pattern, where) for pattern in _WHOLE)


def _fits(pattern: tuple[str | None, ...], where: tuple[str, ...]) -> bool:
    """Whether a place is as a pattern says, in which None stands for any name."""
    if len(pattern) != len(where):
        return False
    pairs = zip(pattern, where, strict=True)
    return all(part in (None, name) for part, name in pairs)


def check_version(reader: Reader, source: Mapping) -> None:
    """Every file begins with the version of the format."""
    if "mukret" not in source.entries:
        reader.add(
            Code.MISSING_KEY,
            "the format version is missing",
            source,
            "begin the file with mukret: 1",
        )
        return
    version = reader.scalar(source.get("mukret"), "mukret")
    # A later format may mean something else by the same words: nothing is guessed.
    if version is not None and version.text != "1":
        reader.add(
            Code.WRONG_VALUE,
            f"format version {version.text} is not known",
            version,
            "this program reads mukret: 1",
        )
