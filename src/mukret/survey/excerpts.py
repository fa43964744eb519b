"""A value as indented JSON text, cut to a number of lines and columns.

What is cut is said. The outer levels come first: a container is opened as long as there are lines
for it, so that one sees the whole of a record before the whole of its first member. But of a list
of records the first is opened before the others take all lines.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from json.encoder import encode_basestring

from mukret.text import counted, escaped
from mukret.values import JsonValue, json_text, kind_of

INDENT = "  "
# To open a container: its brackets, an element, and how many more there are.
FEWEST_LINES = 4
_NARROWEST = 24


@dataclass
class _Line:
    """A value that takes one line until it is opened."""

    value: JsonValue
    depth: int
    name: str | None
    last: bool
    below: list[_Line] = field(default_factory=list)
    more: int = 0


def excerpt(value: JsonValue, width: int, height: int | None = None) -> list[str]:
    """Lines of JSON text, none longer than `width` columns where that can be; at most `height` of
    them. If that is None, nothing is left out, and only a long text makes a line longer.
    """
    # Containers are opened level by level, as a queue has them: going down into the first member
    # would spend all lines on it. The first record of a list goes to the front of the queue.
    root = _Line(value, 0, None, True)
    room = None if height is None else height - 1
    todo = deque([root])
    while todo:
        line = todo.popleft()
        if _fits(line, width) or not line.value:
            continue
        first = _first_record(line)
        shown = len(line.value)
        if room is not None:
            shown = _most_shown(shown, first, room)
            if not shown:
                continue
            room -= shown + 1 + (shown < len(line.value))
        _open(line, shown)
        if first is None:
            todo += line.below
        else:
            todo.appendleft(line.below[0])
            todo += line.below[1:]
    return list(_texts(root, width, whole=height is None))


def _most_shown(count: int, first: JsonValue, room: int) -> int:
    """How many of so many members there are lines for, some being kept for the first record of a
    list; 0 if the container can't be opened.
    """
    if room < min(count + 1, FEWEST_LINES - 1):
        return 0
    reserved = (
        0 if first is None else min(len(first) + 1, max(FEWEST_LINES - 1, room // 2))
    )
    return count if count + 1 <= room - reserved else max(1, room - reserved - 2)


def _first_record(line: _Line) -> JsonValue:
    """The first element of a list, if it is an object or array that holds something; else None."""
    first = line.value[0] if type(line.value) is list else None
    return first if type(first) in (dict, list) and first else None


def _open(line: _Line, shown: int) -> None:
    members = (
        line.value.items()
        if type(line.value) is dict
        else ((None, element) for element in line.value)
    )
    total = len(line.value)
    for number, (name, child) in enumerate(members):
        if number == shown:
            break
        line.below.append(_Line(child, line.depth + 1, name, number == total - 1))
    # What is left out is counted, not hidden.
    line.more = total - shown


def _fits(line: _Line, width: int) -> bool:
    """Whether a value is a scalar, or stands whole on its line."""
    if type(line.value) not in (dict, list):
        return True
    room = width - len(_head(line)) - 1
    return len(escaped(json_text(line.value, room, spaced=True))) <= room


def _head(line: _Line) -> str:
    name = "" if line.name is None else f"{escaped(encode_basestring(line.name))}: "
    return INDENT * line.depth + name


def _texts(root: _Line, width: int, *, whole: bool) -> Iterator[str]:
    todo: list[_Line | str] = [root]
    while todo:
        line = todo.pop()
        if isinstance(line, str):
            yield line
            continue
        head, comma = _head(line), "" if line.last else ","
        if not line.below:
            room = width - len(head) - len(comma)
            text = (
                escaped(json_text(line.value, spaced=True))
                if whole
                else _one_line(line, room)
            )
            yield f"{head}{text}{comma}"
            continue
        opening, closing = _brackets(line.value)
        yield f"{head}{opening}"
        # Last in, first out: what ends the object waits below its members.
        todo.append(f"{INDENT * line.depth}{closing}{comma}")
        if line.more:
            todo.append(f"{INDENT * (line.depth + 1)}… {_more(line)}")
        todo += reversed(line.below)


def _more(line: _Line) -> str:
    return counted(
        line.more, "more member" if type(line.value) is dict else "more element"
    )


def _one_line(line: _Line, room: int) -> str:
    value = line.value
    room = max(room, _NARROWEST)
    if type(value) in (dict, list):
        text = escaped(json_text(value, room, spaced=True))
        if len(text) <= room:
            return text
        # Of what has no room only the size is of use.
        opening, closing = _brackets(value)
        return f"{opening}… {_size(value)}{closing}"
    text = escaped(json_text(value, room))
    if len(text) <= room:
        return text
    if type(value) is str:
        size = f"… {counted(len(value), 'character')}"
    else:
        size = f"… {len(str(value)):,} digits"
    return text[: max(1, room - len(size))] + size


def _brackets(container: JsonValue) -> tuple[str, str]:
    return ("{", "}") if type(container) is dict else ("[", "]")


def _size(container: JsonValue) -> str:
    return counted(len(container), "member" if type(container) is dict else "element")


def in_short(value: JsonValue, room: int) -> str:
    """A scalar as JSON text, a container as its size, on one line of so many columns."""
    if type(value) in (dict, list):
        return _size(value) if value else f"empty {kind_of(value)}"
    return _one_line(_Line(value, 0, None, True), room)
