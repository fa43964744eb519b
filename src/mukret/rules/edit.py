"""Changes to the text of a rules file that leave all else as it was written, comments and order included."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ruamel.yaml import YAML
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from mukret.values import json_text


def with_ignored(text: str, paths: Sequence[str]) -> str:
    """The text of a rules file, which must be valid YAML, with more paths under `response.ignore`."""
    root = YAML().compose(text)
    assert isinstance(root, MappingNode)
    response = _member(root, "response")
    quoted = [json_text(path) for path in paths]
    if response is None:
        tables = _key(root, "tables")
        return _inserted(text, _line_start(text, tables.start_mark.index), ["response:", *_listed(quoted, "  "), ""])
    if not isinstance(response, MappingNode):
        return _replaced(text, response, f"{{ignore: [{', '.join(quoted)}]}}")
    ignore = _member(response, "ignore")
    if ignore is None:
        return _first_of(text, response, quoted)
    if isinstance(ignore, SequenceNode) and not ignore.flow_style and ignore.value:
        last = ignore.value[-1]
        indent = _indent(text, ignore.value[0].start_mark.index).rpartition("-")[0]
        return _inserted(text, _next_line(text, last.end_mark.index), [f"{indent}- {path}" for path in quoted])
    if isinstance(ignore, SequenceNode) and ignore.flow_style:
        end = ignore.end_mark.index - 1
        return text[:end].rstrip() + (", " if ignore.value else "") + ", ".join(quoted) + text[end:]
    known = [text[ignore.start_mark.index : ignore.end_mark.index].strip()] if _says_something(ignore) else []
    return _replaced(text, ignore, f"[{', '.join([*known, *quoted])}]")


def _says_something(node: Node) -> bool:
    return isinstance(node, ScalarNode) and node.value != ""


def _member(node: MappingNode, name: str) -> Node | None:
    return next((value for key, value in node.value if key.value == name), None)


def _key(node: MappingNode, name: str) -> ScalarNode:
    found: ScalarNode = next(key for key, _ in node.value if key.value == name)
    return found


def _first_of(text: str, response: MappingNode, quoted: list[str]) -> str:
    """`ignore` as the first member of `response`."""
    start = response.start_mark.index
    if response.flow_style:
        comma = ", " if response.value else ""
        return f"{text[: start + 1]}ignore: [{', '.join(quoted)}]{comma}{text[start + 1 :]}"
    indent = _indent(text, start)
    return _inserted(text, _line_start(text, start), _listed(quoted, indent))


def _listed(quoted: list[str], indent: str) -> list[str]:
    return [f"{indent}ignore:", *(f"{indent}  - {path}" for path in quoted)]


def _replaced(text: str, node: Node, value: str) -> str:
    start, end = node.start_mark.index, node.end_mark.index
    space = "" if text[start - 1 : start].isspace() else " "
    return text[:start] + space + value + text[end:]


def _inserted(text: str, place: int, lines: Sequence[str]) -> str:
    before = text[:place]
    if before and not before.endswith("\n"):
        before += "\n"
    return before + "".join(f"{line}\n" for line in lines) + text[place:]


def _line_start(text: str, place: int) -> int:
    return text.rfind("\n", 0, place) + 1


def _next_line(text: str, place: int) -> int:
    end = text.find("\n", place)
    return len(text) if end < 0 else end + 1


def _indent(text: str, place: int) -> str:
    """What stands before a place in its line, comments and all else made blank but for the marks of a list."""
    return re.sub(r"[^\s-]", " ", text[_line_start(text, place) : place])
