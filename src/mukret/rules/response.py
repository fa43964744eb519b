"""The section `response`, its fields apart: embedded texts, kinds of response, and what is left out
on purpose.
"""

from __future__ import annotations

from mukret.codes import Code
from mukret.paths import Path
from mukret.rules.model import Embedded, ResponseKind
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Scalar, Sequence

RESPONSE_KEYS = keys("embedded ignore fields kinds must_have")
KIND_KEYS = keys("files call when must_have note")


class ResponseReader:
    def __init__(self, reader: Reader) -> None:
        self.reader = reader
        self.embedded: tuple[Embedded, ...] = ()
        self.ignore: tuple[Path, ...] = ()
        self.must_have: tuple[Path, ...] = ()
        self.kinds: dict[str, ResponseKind] = {}

    def read(self, node: Node | None) -> Mapping | None:
        """The section; `embedded`, `ignore`, `must_have` and `kinds` are kept."""
        body = self.reader.mapping(node, "response", RESPONSE_KEYS)
        if body is None:
            return None
        self.embedded = tuple(
            Embedded(path, node.source.name, node.line, node.column)
            for path, node in self.paths(body.get("embedded"), "embedded")
        )
        self.ignore = tuple(
            path for path, _ in self.paths(body.get("ignore"), "ignore")
        )
        self.must_have = self.must_haves(body)
        section = self.reader.mapping(body.get("kinds"), "kinds")
        for name, (key, value) in section.entries.items() if section else ():
            self.reader.name(key, "a kind")
            kind = self.kind(name, key, value)
            # A broken kind is left out; tables that name it are told so.
            if kind is not None:
                self.kinds[name] = kind
        return body

    def must_haves(self, body: Mapping) -> tuple[Path, ...]:
        return tuple(path for path, _ in self.paths(body.get("must_have"), "must_have"))

    def paths(self, node: Node | None, what: str) -> list[tuple[Path, Node]]:
        """A list of paths, or one path as a list of one, each with the node in which it stands."""
        items = (
            node.items
            if isinstance(node, Sequence)
            else [node]
            if node is not None
            else []
        )
        paths = [(self.reader.path(item, f"a path of {what}"), item) for item in items]
        return [(path, item) for path, item in paths if path is not None]

    def kind(self, name: str, key: Scalar, node: Node) -> ResponseKind | None:
        body = self.reader.mapping(node, f"the kind {name}", KIND_KEYS)
        if body is None:
            return None
        if not any(word in body.entries for word in ("files", "call", "when")):
            hint = (
                '{files: "sailings-*.json"}, {call: sailings} or {when: "@.type == '
                "'sailings'\"}"
            )
            self.reader.add(
                Code.MISSING_KEY,
                f"the kind {name} does not say how it is recognised",
                key,
                hint,
            )
        # What tells a kind may be missing, which was noted: the kind itself exists, so that tables
        # can name it.
        return ResponseKind(
            name,
            tuple(
                scalar.text
                for scalar in self.reader.scalars(body.get("files"), f"files of {name}")
            ),
            self.reader.text(body.get("call"), f"call of {name}"),
            self.reader.condition(body.get("when"), f"when of {name}"),
            self.must_haves(body),
        )
