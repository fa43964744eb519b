"""The keys of a table that say where its rows are: `rows`, `when`, `spread`, `outer`, `header`,
`recurse`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from collections.abc import Mapping as MappingType
from typing import cast

from mukret.codes import Code
from mukret.paths import Name, Path, Segment, parse_path
from mukret.rules.reader import Reader, keys
from mukret.rules.rows import Header, RowRules, Uneven, Zip
from mukret.rules.source import Mapping, Node, Scalar, Sequence
from mukret.text import did_you_mean

ZIP_KEYS = keys("zip uneven")
FIRST = "first"


def read_rows(reader: Reader, name: str, body: Mapping) -> RowRules:
    """Where the rows of a table are; what is wrong is noted and left out."""
    node = body.get("rows")
    zipped = _zip(reader, name, node) if isinstance(node, Mapping) else None
    header = _header(reader, name, body.get("header"))
    recurse = _recurse(reader, name, body)
    # Last: each key was read, and its own problems noted.
    _refuse_pairs(reader, name, body, isinstance(node, Mapping))
    return RowRules(
        () if zipped else _paths(reader, name, node),
        reader.condition(body.get("when"), f"when of {name}"),
        reader.flag(body.get("spread"), "spread"),
        zipped,
        header,
        recurse,
        reader.flag(body.get("outer"), "outer"),
    )


def _refuse_pairs(reader: Reader, name: str, body: Mapping, zipped: bool) -> None:
    """Keys that mean nothing together."""
    for key in ("spread", "header", "recurse") if zipped else ():
        if key in body.entries:
            message = f"{key} of {name}: rows that a zip puts together are objects"
            reader.add(
                Code.WRONG_OPTION, message, body.key(key), "take one of them away"
            )
    if "header" in body.entries and "recurse" in body.entries and not zipped:
        message = f"recurse of {name}: rows under a header are arrays without rows of their own"
        reader.add(
            Code.WRONG_OPTION, message, body.key("recurse"), "take one of them away"
        )


def _paths(reader: Reader, name: str, node: Node | None) -> tuple[Path, ...]:
    items = (
        node.items
        if isinstance(node, Sequence)
        else []
        if isinstance(node, Mapping)
        else [node]
    )
    if isinstance(node, Sequence) and not items:
        reader.add(Code.WRONG_VALUE, f"rows of {name} is an empty list of paths", node)
    # Without a path that can be read the document itself is the row: nothing else is said of the
    # table then.
    paths = [reader.path(item, f"rows of {name}") for item in items]
    return tuple(path for path in paths if path is not None) or (parse_path("$"),)


def _zip(reader: Reader, name: str, node: Mapping) -> Zip | None:
    body = reader.mapping(node, f"rows of {name}", ZIP_KEYS)
    uneven = reader.choice(node.get("uneven"), "uneven", ("reject", "pad", "shortest"))
    if "zip" not in node.entries:
        hint = 'rows: {zip: {time: "$.times[*]", height: "$.heights[*]"}}'
        reader.add(
            Code.MISSING_KEY,
            f"rows of {name} is a path, a list of paths or a zip",
            node,
            hint,
        )
    # One array is a zip as well, though a plain path would do.
    section = reader.mapping(body.get("zip"), f"zip of {name}") if body else None
    if section is None:
        return None
    if not section.entries:
        reader.add(Code.WRONG_VALUE, f"zip of {name} names no arrays", section)
    paths = {
        member: reader.path(value, f"path of {member} in the zip of {name}")
        for member, (_, value) in section.entries.items()
    }
    arrays = {member: path for member, path in paths.items() if path is not None}
    return Zip(arrays, cast(Uneven, uneven or "reject")) if arrays else None


def _header(reader: Reader, name: str, node: Node | None) -> Header | None:
    if node is None:
        return None
    if isinstance(node, Scalar) and node.text == FIRST:
        # `first`: each array of rows begins with its own names.
        return Header(None)
    if isinstance(node, Scalar) and not node.text.startswith("$"):
        hint = did_you_mean(node.text, [FIRST])
        reader.add(
            Code.WRONG_VALUE,
            f"header of {name} is a path to the column names, or {FIRST}",
            node,
            hint,
        )
        return None
    path = reader.path(node, f"header of {name}")
    return Header(path) if path else None


def _recurse(reader: Reader, name: str, body: Mapping) -> Path | None:
    path = reader.path(body.get("recurse"), f"recurse of {name}")
    if path is None:
        return None
    if not path.segments:
        message = f"recurse of {name}: a row would be below itself for ever"
        reader.add(
            Code.WRONG_VALUE,
            message,
            body.entries["recurse"][1],
            'a path to the rows below: "$.parts[*]"',
        )
        return None
    # Each row would be found once for every row above it.
    if any(segment.descend for segment in path.segments):
        message = (
            f"recurse of {name}: .. finds rows of every depth, which would come again below "
            "each row"
        )
        reader.add(
            Code.WRONG_VALUE,
            message,
            body.entries["recurse"][1],
            'one step at a time: "$.parts[*]"',
        )
        return None
    return path


def touched_names(
    name: str,
    tables: MappingType[str, tuple[str | None, RowRules]],
    paths_of: Callable[[str], Iterable[Path]],
) -> frozenset[str]:
    """The members of a row that paths of its table, or of tables within it, go through by name."""
    _, own_rules = tables[name]
    paths = [*paths_of(name), *([own_rules.recurse] if own_rules.recurse else [])]
    touched: set[str] = set()
    # The rest of a row is what nobody reads: neither its own fields nor tables within it.
    for child, (within, rows) in tables.items():
        if within == name:
            paths += rows.reads
            if rows.may_be_the_parent and rows.header is None:
                touched |= touched_names(child, tables, paths_of)
    for path in paths:
        if path.segments and not path.segments[0].descend:
            touched |= set(_names_selected(path.segments[0]))
    return frozenset(touched)


def _names_selected(segment: Segment) -> Iterator[str]:
    for selector in segment.selectors:
        if isinstance(selector, Name):
            yield selector.name
