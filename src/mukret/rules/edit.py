"""Changes to the text of a rules file that leave all else as it was written, comments and order
included.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ruamel.yaml import YAML
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from mukret.values import json_text

_COMMENT = re.compile(r"(?:[ \t]*\n)*( *)#[^\n]*(?:\n|\Z)")


def with_ignored(text: str, paths: Sequence[str]) -> str:
    """The text of a rules file, which must be valid YAML,
    with more paths under `response.ignore`.
    """
    # The text is edited where it has to be, and not written anew: comments, quotes and the order of
    # keys are somebody's work.
    root = YAML().compose(text)
    assert isinstance(root, MappingNode)
    response = _member(root, "response")
    quoted = [json_text(path) for path in paths]
    if response is None:
        return _inserted(
            text, _before_tables(text, root), ["response:", *_listed(quoted, "  "), ""]
        )
    # `response:` with nothing behind it is null.
    if not isinstance(response, MappingNode):
        return _replaced(text, response, f"{{ignore: [{', '.join(quoted)}]}}")
    ignore = _member(response, "ignore")
    if ignore is None:
        return _first_of(text, response, quoted)
    if isinstance(ignore, SequenceNode):
        return _with_elements(text, ignore, quoted)
    # A single path, or nothing, stands where a list may stand.
    known = text[ignore.start_mark.index : ignore.end_mark.index].strip()
    listed = [known, *quoted] if _says_something(ignore) else quoted
    return _replaced(text, ignore, f"[{', '.join(listed)}]")


def _with_elements(text: str, sequence: SequenceNode, quoted: list[str]) -> str:
    """More elements behind the last one, written as the others are: in brackets, or a line each."""
    if sequence.flow_style:
        end = sequence.end_mark.index - 1
        comma = ", " if sequence.value else ""
        return f"{text[:end].rstrip()}{comma}{', '.join(quoted)}{text[end:]}"
    first, last = sequence.value[0], sequence.value[-1]
    indent = _indent(text, first.start_mark.index).rpartition("-")[0]
    lines = [f"{indent}- {path}" for path in quoted]
    return _inserted(text, _next_line(text, last.end_mark.index), lines)


def with_fields(text: str, table: str, fields: Mapping[str, str]) -> str:
    """More fields, by name each with what stands behind it, at the end of those of a table."""
    root = YAML().compose(text)
    tables = _member(root, "tables")
    assert isinstance(tables, MappingNode)
    node = _member(tables, table)
    assert isinstance(node, MappingNode)
    return _with_members(
        text, node, "fields", [f"{name}: {value}" for name, value in fields.items()]
    )


def with_facts(text: str, fields: Mapping[str, str]) -> str:
    """Adds fields of the response behind those that there are.

    Raises NotPlain if there are none.
    """
    response = _member(YAML().compose(text), "response")
    if not isinstance(response, MappingNode):
        raise NotPlain("response")
    return _with_members(
        text, response, "fields", [f"{name}: {value}" for name, value in fields.items()]
    )


def with_members(text: str, key: str, members: Sequence[Sequence[str]]) -> str:
    """More members of a mapping at the top (`tables`, `enums`), each as lines that are indented
    from its name on.

    One that is not there is put before the tables.
    """
    root = YAML().compose(text)
    assert isinstance(root, MappingNode)
    holder = _member(root, key)
    if holder is None:
        lines = [f"{key}:", *_indented(members, "  ")[1:], ""]
        return _inserted(text, _before_tables(text, root), lines)
    if not isinstance(holder, MappingNode) or holder.flow_style:
        raise NotPlain(key)
    # What is added is indented as the first member is, whatever the file uses.
    step = _indent(text, holder.value[0][0].start_mark.index)
    end = _end_of_block(text, holder, len(step) + 1)
    return _inserted(text, end, _indented(members, step))


def _indented(members: Sequence[Sequence[str]], step: str) -> list[str]:
    """The lines of all members, with a blank line before each."""
    lines: list[str] = []
    for member in members:
        lines.append("")
        lines += [_moved(line, step) for line in member]
    return lines


def _moved(line: str, step: str) -> str:
    return f"{step}{line}" if line else ""


class NotPlain(Exception):
    """A part of a rules file that is written in one line, in braces,
    has no place for whole blocks.
    """


def _with_members(
    text: str, holder: MappingNode, key: str, members: Sequence[str]
) -> str:
    inner = _member(holder, key)
    if inner is None:
        raise NotPlain(key)
    assert isinstance(inner, MappingNode)
    # A mapping in braces grows within its line.
    if inner.flow_style:
        end = inner.end_mark.index - 1
        return f"{text[:end].rstrip()}{', ' if inner.value else ''}{', '.join(members)}{text[end:]}"
    indent = _indent(text, inner.value[0][0].start_mark.index)
    return _inserted(
        text,
        _end_of_block(text, inner, len(indent)),
        [f"{indent}{member}" for member in members],
    )


def _before_tables(text: str, root: MappingNode) -> int:
    """Where the line of `tables` begins, or the comment above it."""
    place = _line_start(text, _key(root, "tables").start_mark.index)
    while place and text[(above := _line_start(text, place - 1)) : place].startswith(
        "#"
    ):
        place = above
    return place


def _end_of_block(text: str, node: MappingNode, indent: int) -> int:
    """Where the line after the last one of a block begins; comments that are indented as far belong
    to it.
    """
    last: Node = node
    while (
        isinstance(last, MappingNode | SequenceNode)
        and last.value
        and not last.flow_style
    ):
        last = last.value[-1][1] if isinstance(last, MappingNode) else last.value[-1]
    end = last.end_mark.index
    # A folded text ends at its last line break, everything else within its line.
    folded = isinstance(last, ScalarNode) and last.style in ("|", ">")
    place = int(end) if folded else _next_line(text, end)
    while comment := _COMMENT.match(text, place):
        if len(comment[1]) < indent:
            break
        place = comment.end()
    return place


def _says_something(node: Node) -> bool:
    return isinstance(node, ScalarNode) and node.value != ""


def _member(node: MappingNode, name: str) -> Node | None:
    return next((value for key, value in node.value if key.value == name), None)


def _key(node: MappingNode, name: str) -> ScalarNode:
    scalar: ScalarNode = next(key for key, _ in node.value if key.value == name)
    return scalar


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
    """What stands before a place in its line, comments and all else made blank but for the marks of
    a list.
    """
    return re.sub(r"[^\s-]", " ", text[_line_start(text, place) : place])
