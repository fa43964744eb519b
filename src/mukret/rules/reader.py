"""Reading nodes of a rules file as what a key wants, noting a problem and going on where that
fails.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import TypeVar

from mukret.codes import Code
from mukret.errors import PositionedError
from mukret.paths import Condition, Path, parse_condition, parse_path
from mukret.rules.source import Mapping, Node, Problems, Scalar
from mukret.rules.source import Sequence as SequenceNode
from mukret.rules.traps import comma_in_type
from mukret.text import did_you_mean, nearest

Parsed = TypeVar("Parsed", Path, Condition)
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,62}")


@dataclass(frozen=True)
class Keys:
    """The keys that may stand in a mapping."""

    known: frozenset[str]


def keys(known: str) -> Keys:
    return Keys(frozenset(known.split()))


class Reader:
    """Wraps the problems of one file; every method notes what is wrong and returns None then."""

    def __init__(self, problems: Problems) -> None:
        self.problems = problems
        self.add = problems.add

    def describe(self, node: Node) -> str:
        if isinstance(node, Scalar):
            return "nothing" if node.empty else "a text"
        return "a list" if isinstance(node, SequenceNode) else "a mapping"

    def missing(self, key: Scalar) -> None:
        self.add(
            Code.EMPTY_KEY,
            f"{key.text} is left empty",
            key,
            "give it a value, or take the key away",
        )

    def mapping(
        self, node: Node | None, what: str, allowed: Keys | None = None
    ) -> Mapping | None:
        """The node as a mapping whose keys are all allowed (any key if `allowed` is None) and have
        a value.
        """
        if node is None:
            return None
        if not isinstance(node, Mapping):
            self.add(
                Code.WRONG_VALUE,
                f"{what} is a mapping, not {self.describe(node)}",
                node,
            )
            return None
        if allowed is not None:
            self.check_keys(node, what, allowed)
        # `key:` with nothing behind it is a slip more often than a null.
        for key, value in node.entries.values():
            if (
                isinstance(value, Scalar)
                and value.empty
                and (allowed is None or key.text in allowed.known)
            ):
                self.missing(key)
        return node

    def check_keys(self, node: Mapping, what: str, allowed: Keys) -> None:
        names = list(node.entries)
        # `decimal(12,2)` in braces is cut at its comma by YAML: one line about that, instead of one
        # about each half.
        fixed = comma_in_type(names, node.source.lines[node.line - 1])
        for name, (key, _) in node.entries.items():
            if name not in allowed.known:
                if fixed:
                    self.add(
                        Code.YAML_TRAP,
                        "a comma inside braces ends the value: this type needs quotes",
                        key,
                        f"write {fixed}",
                    )
                    return
                hint = did_you_mean(name, sorted(allowed.known))
                if name == "<<":
                    hint = "merge keys are not part of YAML 1.2: write the keys out"
                self.add(Code.UNKNOWN_KEY, f"{what} has no key {name}", key, hint)

    def scalar(self, node: Node | None, what: str) -> Scalar | None:
        if node is None or (isinstance(node, Scalar) and node.empty):
            return None  # an empty key was noted where the mapping was read
        if not isinstance(node, Scalar):
            self.add(
                Code.WRONG_VALUE, f"{what} is a text, not {self.describe(node)}", node
            )
            return None
        return node

    def text(self, node: Node | None, what: str) -> str | None:
        scalar = self.scalar(node, what)
        return None if scalar is None else scalar.text

    def choice(
        self,
        node: Node | None,
        what: str,
        choices: Iterable[str],
    ) -> str | None:
        scalar = self.scalar(node, what)
        if scalar is None:
            return None
        word, known = scalar.text, list(choices)
        if word not in known:
            # The list of all words only where none is near: it is long.
            near = nearest(word, known)
            hint = f"did you mean {near}?" if near else f"one of {', '.join(known)}"
            self.add(Code.WRONG_VALUE, f"{what} can't be {word!r}", scalar, hint)
            return None
        return word

    def flag(self, node: Node | None, what: str, default: bool = False) -> bool:
        if isinstance(node, Scalar) and node.text in ("True", "TRUE", "False", "FALSE"):
            return node.text.lower() == "true"  # as YAML 1.2's core schema has them
        word = self.choice(node, what, ("true", "false"))
        return default if word is None else word == "true"

    def scalars(self, node: Node | None, what: str) -> list[Scalar]:
        """A list of texts, or one text as a list of one."""
        if node is None or (isinstance(node, Scalar) and node.empty):
            return []
        if isinstance(node, Scalar):
            return [node]
        if isinstance(node, Mapping):
            self.add(
                Code.WRONG_VALUE,
                f"{what} is a text or a list of texts, not a mapping",
                node,
            )
            return []
        texts = []
        for item in node.items:
            scalar = self.scalar(item, f"an entry of {what}")
            if scalar is not None:
                texts.append(scalar)
            # What is no scalar was noted by the reader of one.
            elif isinstance(item, Scalar):
                self.add(
                    Code.EMPTY_KEY,
                    f"an entry of {what} is left empty",
                    item,
                    'the empty text is written ""',
                )
        return texts

    def path(self, node: Node | None, what: str) -> Path | None:
        return self.parsed(node, what, parse_path)

    def condition(self, node: Node | None, what: str) -> Condition | None:
        return self.parsed(node, what, parse_condition)

    def parsed(
        self, node: Node | None, what: str, parse: Callable[[str], Parsed]
    ) -> Parsed | None:
        scalar = self.scalar(node, what)
        if scalar is None:
            return None
        try:
            parsed = parse(scalar.text)
        except PositionedError as error:
            self.positioned(error, scalar, what)
            return None
        # Patterns that can never match are no error in RFC 9535; here they are, since a rule that
        # finds nothing is a silent one.
        for doubt in parsed.doubts:
            self.add(
                Code.NO_PATTERN,
                f"{what}: {doubt.cause}",
                scalar,
                doubt.hint,
                doubt.position,
            )
        return parsed

    def positioned(self, error: PositionedError, scalar: Scalar, what: str) -> None:
        self.add(
            error.code, f"{what}: {error.message}", scalar, error.hint, error.position
        )

    def name(self, key: Scalar, what: str) -> bool:
        """Whether a key is a proper name of a table, field, enum or type."""
        if _NAME.fullmatch(key.text):
            return True
        hint = "a letter or _, then letters, digits and _, at most 63, ASCII"
        self.add(Code.NAME_INVALID, f"{key.text!r} is no name of {what}", key, hint)
        return False

    def distinct(self, names: Sequence[Scalar], what: str) -> None:
        """Notes names that differ only in case."""
        # Files and columns of some destinations do not tell case apart.
        seen: dict[str, Scalar] = {}
        for name in names:
            first = seen.setdefault(name.text.lower(), name)
            if first is not name and first.text != name.text:
                self.add(
                    Code.NAME_CLASH,
                    f"the {what} {name.text} and {first.text} differ only in case",
                    name,
                )
