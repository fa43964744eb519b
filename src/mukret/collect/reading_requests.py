"""What requests of all sorts have in common in a calls file: pairs of names and values, secrets,
bodies.
"""

from __future__ import annotations

import json
import re

from mukret.codes import Code
from mukret.collect.calls import SET_BY_THE_TRANSFER, Body, Pairs, Secret, Value
from mukret.collect.masking import is_sensitive
from mukret.collect.templates import VARIABLE
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Problems, Scalar, Sequence
from mukret.values import JsonValue, Number

_SECRET = keys("secret")
_JSON_SCALAR = re.compile(
    r"true|false|null|-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?", re.ASCII
)


class RequestReader:
    """Notes what is wrong and goes on."""

    def __init__(self, problems: Problems) -> None:
        self.problems = problems
        self.reader = Reader(problems)
        self.add = problems.add

    def headers(self, node: Node | None) -> Pairs:
        for key, value in node.entries.values() if isinstance(node, Mapping) else ():
            # Length, host and the like follow from what is sent: another value would break the
            # transfer.
            if key.text.lower() in SET_BY_THE_TRANSFER:
                self.add(
                    Code.WRONG_VALUE,
                    f"the header {key.text} follows from what is sent",
                    key,
                    "leave it out",
                )
            elif isinstance(value, Scalar) and not (
                value.text.isascii() and value.text.isprintable()
            ):
                self.add(
                    Code.WRONG_VALUE,
                    f"the header {key.text} holds printable ASCII only",
                    value,
                )
        return self.pairs(node, "headers")

    def pairs(self, node: Node | None, what: str) -> Pairs:
        """Names with a value each, or with a list of them."""
        mapping = self.reader.mapping(node, what)
        pairs: list[tuple[str, Value]] = []
        for key, value in mapping.entries.values() if mapping else ():
            # A list stands for a name that comes several times.
            for item in value.items if isinstance(value, Sequence) else (value,):
                read = self.value(item, key.text)
                if read is not None:
                    pairs.append((key.text, read))
        return tuple(pairs)

    def value(self, node: Node, what: str) -> Value | None:
        if isinstance(node, Mapping):
            return self.secret(node, what)
        text = self.reader.text(node, what)
        if isinstance(node, Scalar) and text is not None:
            self.no_secret(what, node)
        return text

    def no_secret(self, name: str, node: Scalar) -> None:
        """Notes a text that would be a secret in a file; one that is put together from variables is
        no secret.
        """
        if is_sensitive(name) and not VARIABLE.search(node.text):
            hint = f"write {name}: {{secret: NAME_OF_AN_ENVIRONMENT_VARIABLE}}"
            # The line is shown without it.
            self.problems.add_secret(
                Code.WRONG_VALUE,
                f"the value of {name} does not belong in a file",
                node,
                hint,
            )

    def secret(self, node: Node | None, what: str) -> Secret | None:
        mapping = self.reader.mapping(node, f"{what} from the environment", _SECRET)
        name = self.reader.text(mapping.get("secret"), "secret") if mapping else None
        # Names alone: a value in the file would be kept with it.
        if mapping and "secret" not in mapping.entries:
            self.add(
                Code.MISSING_KEY,
                f"{what}: secret names an environment variable",
                mapping,
            )
        return Secret(name) if name else None

    def needed_secret(self, mapping: Mapping, key: str, what: str) -> Secret | None:
        """The secret under a key that has to be there."""
        if key not in mapping.entries:
            self.add(
                Code.MISSING_KEY,
                f"{what} needs {key}",
                mapping,
                f"{key}: {{secret: NAME_OF_AN_ENVIRONMENT_VARIABLE}}",
            )
            return None
        node = mapping.get(key)
        # It may be the secret itself.
        if isinstance(node, Scalar):
            hint = f"write {key}: {{secret: NAME_OF_AN_ENVIRONMENT_VARIABLE}}"
            self.problems.add_secret(
                Code.WRONG_VALUE,
                f"the {key} of {what} does not belong in a file",
                node,
                hint,
            )
            return None
        return self.secret(node, key)

    def body(self, mapping: Mapping) -> Body | None:
        """What stands under `json` or `form`."""
        if "json" in mapping.entries and "form" in mapping.entries:
            self.add(
                Code.WRONG_VALUE,
                "a body is json or form, not both",
                mapping.key("form"),
            )
        if "json" in mapping.entries:
            node = mapping.get("json")
            return Body(self.content(node)) if node is not None else None
        if "form" not in mapping.entries:
            return None
        content = {}
        # Kept as an object, in which a name stands once.
        for name, value in self.pairs(mapping.get("form"), "form"):
            if name in content:
                self.add(
                    Code.WRONG_VALUE,
                    f"{name} stands in the form once",
                    mapping.key("form"),
                )
            content[name] = value
        return Body(content, form=True)

    def content(self, node: Node) -> JsonValue:
        """A JSON body as it is written in YAML. `{secret: NAME}` is a secret wherever it stands."""
        if isinstance(node, Scalar):
            return self.scalar_value(node)
        if isinstance(node, Sequence):
            return [self.content(item) for item in node.items]
        # An object with other members beside it is data that has such a member.
        if list(node.entries) == ["secret"] and isinstance(node.get("secret"), Scalar):
            return self.secret(node, "a value")
        for key, value in node.entries.values():
            if isinstance(value, Scalar) and is_sensitive(key.text) and _is_text(value):
                # A password in the file would be kept with it, in the history of versions too.
                self.no_secret(key.text, value)
        return {name: self.content(value) for name, (_, value) in node.entries.items()}

    def scalar_value(self, scalar: Scalar) -> JsonValue:
        """A scalar as YAML 1.2's JSON schema reads it: what is quoted is a text."""
        if _is_text(scalar):
            return scalar.text
        return json.loads(scalar.text, parse_float=Number) if scalar.text else None


def _is_text(scalar: Scalar) -> bool:
    return not scalar.plain or (
        scalar.text != "" and not _JSON_SCALAR.fullmatch(scalar.text)
    )
