"""The text of a rules file as a tree of nodes that know where they stand.

YAML 1.2 by ruamel.yaml's composer: scalars stay the text that was written, nothing is ever
constructed. Tags, anchors that multiply and keys that come twice are refused.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.nodes import MappingNode, ScalarNode, SequenceNode

from mukret.codes import Code
from mukret.errors import Diagnostic
from mukret.rules.traps import explain_yaml_error

# Aliases are followed, so a few lines could stand for billions of nodes; more than this are
# refused.
MOST_NODES = 200_000

_TAGS = (
    "str",
    "int",
    "float",
    "bool",
    "null",
    "map",
    "seq",
    "timestamp",
    "merge",
    "value",
)
# What the composer itself calls plain scalars; none of it is acted upon.
_HARMLESS_TAGS = frozenset(f"tag:yaml.org,2002:{name}" for name in _TAGS)


@dataclass(frozen=True, eq=False)
class SourceText:
    """One file: its name as it was given, and what stands in it."""

    name: str
    text: str

    @cached_property
    def lines(self) -> list[str]:
        return self.text.split("\n")


@dataclass(frozen=True)
class Scalar:
    """A scalar.

    `plain`: written without quotes. `start` counts characters from the beginning of the file.
    """

    text: str
    source: SourceText
    line: int
    column: int
    start: int
    plain: bool

    @property
    def empty(self) -> bool:
        return self.plain and self.text == ""

    @property
    def means_null(self) -> bool:
        return self.plain and self.text in ("null", "Null", "NULL", "~")


@dataclass(frozen=True)
class Sequence:
    items: tuple[Node, ...]
    source: SourceText
    line: int
    column: int


@dataclass(frozen=True)
class Mapping:
    entries: dict[str, tuple[Scalar, Node]]
    source: SourceText
    line: int
    column: int

    def get(self, key: str) -> Node | None:
        entry = self.entries.get(key)
        return entry[1] if entry else None

    def key(self, key: str) -> Scalar:
        return self.entries[key][0]


Node = Scalar | Sequence | Mapping


@dataclass
class Problems:
    """Collects everything that is wrong with a rules file and the files that it includes, with
    positions.
    """

    found: list[Diagnostic] = field(default_factory=list)
    # Lines with a secret, by file and number, and the column from which on they are not shown.
    hidden: dict[tuple[str, int], int] = field(default_factory=dict)

    def add_secret(self, code: str, message: str, where: Node, hint: str) -> None:
        """Notes a text that should not stand in the file; no problem shows it."""
        self.add(code, message, where, hint)
        line = (where.source.name, where.line)
        self.hidden[line] = min(where.column, self.hidden.get(line, where.column))

    def add(
        self,
        code: str,
        message: str,
        where: Node,
        hint: str | None = None,
        offset: int | None = None,
    ) -> None:
        """Notes a problem at a node; `offset` is a character within the node's text."""
        line, column = where.line, where.column
        if offset is not None and isinstance(where, Scalar):
            line, column = _Inside(where).position(offset)
        self.add_at(code, message, where.source, line, column, hint)

    def add_at(
        self,
        code: str,
        message: str,
        source: SourceText,
        line: int,
        column: int,
        hint: str | None = None,
    ) -> None:
        text = source.lines[line - 1].rstrip("\r") if line <= len(source.lines) else ""
        diagnostic = Diagnostic(
            source.name, line, column, code, message, hint, source=text
        )
        if diagnostic not in self.found:
            self.found.append(diagnostic)

    def in_order(self, first: str) -> list[Diagnostic]:
        """File by file, that of this name first, each by line and column."""
        return sorted(
            # Before anything is shown anywhere.
            map(self._without_secret, self.found),
            key=lambda found: (
                found.file != first,
                found.file,
                found.line,
                found.column,
            ),
        )

    def _without_secret(self, problem: Diagnostic) -> Diagnostic:
        column = self.hidden.get((problem.file, problem.line))
        if column is None:
            return problem
        shown = problem.source[: column - 1]
        # As long as before, so that a mark below it stands where it did.
        return replace(problem, source=shown.ljust(len(problem.source), "*"))


class _Inside:
    """Finds characters of a scalar's text in its file: quotes,
    escapes and folds are stepped over.
    """

    def __init__(self, scalar: Scalar) -> None:
        self.scalar = scalar
        self.text = scalar.source.text

    def position(self, offset: int) -> tuple[int, int]:
        """Line and column of a character."""
        scalar = self.scalar
        at = scalar.start + (0 if scalar.plain else 1)
        if not scalar.plain and self.text[scalar.start : scalar.start + 1] in (
            "|",
            ">",
        ):
            at = self.text.find("\n", scalar.start) + 1
            at += len(self.text[at:]) - len(self.text[at:].lstrip(" "))
        quote = self.text[scalar.start : scalar.start + 1]
        # YAML tells where a text begins, not where each character of it stands: it is found by
        # going along both.
        for character in scalar.text[:offset]:
            at = self._step(at, character, quote)
        while (
            offset < len(scalar.text)
            and not scalar.text[offset].isspace()
            and self.text[at : at + 1].isspace()
        ):
            at += 1
        line = self.text.count("\n", 0, at) + 1
        return line, at - (self.text.rfind("\n", 0, at) + 1) + 1

    def _step(self, at: int, character: str, quote: str) -> int:
        here = self.text[at : at + 1]
        # Line breaks are folded into a blank, and blank lines into breaks: several characters of
        # the file are one of the text.
        if here.isspace() and (character.isspace() or here == "\n"):
            while self.text[at : at + 1].isspace() and (
                here == "\n" or self.text[at + 1 : at + 2] == "\n"
            ):
                at += 1
            if here != "\n" or not character.isspace():
                at += 1
            return at
        if quote == '"' and here == "\\":
            return at + {"x": 4, "u": 6, "U": 10}.get(self.text[at + 1 : at + 2], 2)
        return at + (2 if quote == "'" and here == "'" else 1)


# Brackets that may be open at once, those within texts included.
#
# The YAML library takes the square of their number.
MOST_OPEN = 1000


def _most_open(text: str) -> int:
    """The most brackets that are open at one place of a text."""
    most = depth = 0
    for bracket in re.findall(r"[\[\]{}]", text):
        depth = depth + 1 if bracket in "[{" else max(0, depth - 1)
        most = max(most, depth)
    return most


def read_source(source: SourceText, problems: Problems) -> Mapping | None:
    """The tree of a rules file, or None with the problems noted."""
    if _most_open(source.text) > MOST_OPEN:
        problems.add_at(
            Code.YAML_REFUSED, "nested too deeply for a rules file", source, 1, 1
        )
        return None
    try:
        # Composed, not loaded: nodes keep their places, and nothing of YAML's own types is made of
        # them.
        document = YAML(typ="safe", pure=True).compose(source.text)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        line, column = (mark.line, mark.column) if mark else (0, 0)
        message, hint = explain_yaml_error(error, source.lines, line)
        problems.add_at(Code.YAML_SYNTAX, message, source, line + 1, column + 1, hint)
        return None
    except RecursionError:
        problems.add_at(
            Code.YAML_REFUSED, "nested too deeply for a rules file", source, 1, 1
        )
        return None
    except (YAMLError, ValueError) as error:
        problems.add_at(Code.YAML_SYNTAX, str(error).splitlines()[0], source, 1, 1)
        return None
    if document is None:
        problems.add_at(
            Code.YAML_SYNTAX,
            "the file is empty",
            source,
            1,
            1,
            "a rules file begins with mukret: 1",
        )
        return None
    return _Builder(problems, source).root(document)


class _Refused(Exception):
    pass


class _Builder:
    def __init__(self, problems: Problems, source: SourceText) -> None:
        self.problems = problems
        self.source = source
        self.count = 0

    def root(self, document: Any) -> Mapping | None:
        try:
            node = self.build(document, ())
        # Noted where it stands; what else is in the document hangs on it.
        except _Refused:
            return None
        if isinstance(node, Mapping):
            return node
        self.problems.add(
            Code.YAML_SYNTAX,
            "a rules file is a mapping",
            node,
            "it begins with mukret: 1",
        )
        return None

    def refuse(self, node: Any, message: str) -> _Refused:
        line, column = node.start_mark.line + 1, node.start_mark.column + 1
        self.problems.add_at(Code.YAML_REFUSED, message, self.source, line, column)
        return _Refused()

    def build(self, node: Any, above: tuple[int, ...]) -> Node:
        self.count += 1
        # Aliases of aliases grow as powers do: a file of a kilobyte can stand for more nodes than
        # fit in memory.
        if self.count > MOST_NODES:
            raise self.refuse(
                node, f"more than {MOST_NODES:,} values (aliases included)"
            )
        if id(node) in above:
            raise self.refuse(node, "an anchor that contains itself")
        if str(node.tag) not in _HARMLESS_TAGS:
            raise self.refuse(node, f"the tag {node.tag}: rules files have none")
        line, column = node.start_mark.line + 1, node.start_mark.column + 1
        if isinstance(node, ScalarNode):
            plain = node.style not in ("'", '"', "|", ">")
            return Scalar(
                node.value, self.source, line, column, node.start_mark.index, plain
            )
        inner = (*above, id(node))
        if isinstance(node, SequenceNode):
            return Sequence(
                tuple(self.build(item, inner) for item in node.value),
                self.source,
                line,
                column,
            )
        assert isinstance(node, MappingNode)
        return self.mapping(node, inner, line, column)

    def mapping(
        self, node: Any, inner: tuple[int, ...], line: int, column: int
    ) -> Mapping:
        entries: dict[str, tuple[Scalar, Node]] = {}
        for key_node, value_node in node.value:
            key = self.build(key_node, inner)
            if not isinstance(key, Scalar):
                self.problems.add(Code.YAML_SYNTAX, "a key is a plain word", key)
                continue
            value = self.build(value_node, inner)
            # YAML takes the last one without a word.
            if key.text in entries:
                first = entries[key.text][0].line
                self.problems.add(
                    Code.NAME_TWICE,
                    f"{key.text} stands here a second time (first in line {first})",
                    key,
                )
                continue
            entries[key.text] = (key, value)
        return Mapping(entries, self.source, line, column)
