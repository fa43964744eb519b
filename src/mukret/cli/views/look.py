"""How raw nodes are drawn: each below its path, cut to the screen; as a table; or for scripts."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice

import click

from mukret.cli.views.screen import cell_width, next_step
from mukret.paths import Path
from mukret.survey.excerpts import excerpt, in_short
from mukret.survey.nodes import FoundNode, NodeSearch
from mukret.text import counted, escaped
from mukret.values import JsonValue, json_text

# Inputs up to this size are read to their end, so that the count of nodes is that of the whole.
ENOUGH_BYTES = 2_000_000
# An array or object with fewer lines than these says little.
FEWEST_LINES = 9
UNCUT = 10**9
# Rows that `--every` aligns together.
BLOCK = 200


@dataclass(frozen=True)
class Size:
    """Columns and lines to use; as many lines as there are, if nothing is to be cut."""

    width: int
    height: int
    cut: bool

    @classmethod
    def of_terminal(cls, *, cut: bool) -> Size:
        size = shutil.get_terminal_size((100, 40))
        return cls(max(size.columns, 40), max(size.lines - 4, 8), cut)


@dataclass(frozen=True)
class Question:
    """What was asked for, to be told how to see more of it."""

    file: str
    path: Path
    nth: int | None
    quiet: bool


@dataclass(frozen=True)
class Count:
    """How many nodes are shown and found, and whether those found are all that there are."""

    shown: int
    found: int
    complete: bool


# ---- nodes as they stand


class _Headings:
    """A line above the nodes of each document that says which it is."""

    def __init__(self) -> None:
        self._last: tuple[str, int] | None = None

    def print_above(self, node: FoundNode) -> bool:
        """Prints the heading if the node is the first of its document; says whether it was."""
        document = (node.source.name, node.document)
        # Once above all nodes of a document.
        if document == self._last:
            return False
        self._last = document
        origin = f", from {node.origin.address}" if node.origin else ""
        click.secho(
            escaped(f"{node.source.name}, document {node.document}{origin}"), dim=True
        )
        return True


def print_nodes(
    nodes: Iterator[FoundNode], reading: NodeSearch, size: Size, asked: Question
) -> int:
    """Prints as many nodes as there are lines for; gives how many were found."""
    # Into a file or pipe goes all of it: cutting is for screens.
    if not size.cut:
        return _print_whole(nodes, size.width)
    first, enough = _first_nodes(nodes, size.height, reading, one=asked.path.singular)
    shown = _print_fitting(first, size)
    count = Count(shown, len(first), complete=False)
    # The others are counted without being shown, as far as that takes little time.
    if not enough:
        count = _count_on(nodes, count, reading)
    if not asked.quiet and asked.nth is None and first:
        _print_count(count, first, reading, asked)
    return count.found


def _print_whole(nodes: Iterator[FoundNode], width: int) -> int:
    shown = 0
    headings = _Headings()
    for node in nodes:
        headings.print_above(node)
        _print_node(node, width, None)
        shown += 1
    return shown


def _print_fitting(nodes: Sequence[FoundNode], size: Size) -> int:
    """Prints nodes for which there are lines, the first one in any case; gives how many."""
    room = size.height
    shown = 0
    headings = _Headings()
    for node in nodes:
        fewest = FEWEST_LINES if type(node.value) in (dict, list) else 2
        if shown and room < fewest:
            break
        room -= headings.print_above(node)
        # Half of the lines that are left are for the nodes behind this one, as long as a half is
        # enough for anything.
        last = shown == len(nodes) - 1 or room // 2 < FEWEST_LINES
        room -= _print_node(node, size.width, room if last else room // 2)
        shown += 1
    return shown


def _first_nodes(
    nodes: Iterator[FoundNode], most: int, reading: NodeSearch, *, one: bool
) -> tuple[list[FoundNode], bool]:
    """The first nodes, and whether reading ends there: in a long document of which `one` node was
    wanted.
    """
    first: list[FoundNode] = []
    for node in nodes:
        first.append(node)
        if one and reading.in_pieces:
            return first, True
        if len(first) == most:
            break
    return first, False


def _print_node(node: FoundNode, width: int, height: int | None) -> int:
    """Prints a node below its path, a scalar beside it; gives the number of lines.

    `height`: so many lines at most; None: nothing is cut.
    """
    path = escaped(node.path)
    # An empty array is told like a scalar: there is nothing below it.
    if type(node.value) not in (dict, list) or not node.value:
        room = UNCUT if height is None else width - len(path) - 2
        click.secho(path, fg="green", nl=False)
        click.echo(f"  {in_short(node.value, room)}")
        return 1
    click.secho(path, fg="green", nl=False)
    click.secho(f"  {node.kind}, {in_short(node.value, width)}", dim=True)
    lines = excerpt(node.value, width, None if height is None else height - 1)
    for line in lines:
        _print_line(line)
    return len(lines) + 1


_MEMBER = re.compile(r'( *)("(?:[^"\\]|\\.)*")(: .*)')


def _print_line(line: str) -> None:
    """A line of JSON, the name of its member in a colour of its own."""
    match = _MEMBER.fullmatch(line)
    if match:
        click.echo(f"{match[1]}{click.style(match[2], fg='cyan')}{match[3]}")
    else:
        click.echo(line)


def _count_on(nodes: Iterator[FoundNode], count: Count, reading: NodeSearch) -> Count:
    """Counts the nodes that are not shown, as far as a small input is read."""
    total = count.found
    for _ in nodes:
        total += 1
        if reading.size > ENOUGH_BYTES:
            return Count(count.shown, total, complete=False)
    return Count(count.shown, total, complete=True)


def _print_count(
    count: Count, nodes: Sequence[FoundNode], reading: NodeSearch, asked: Question
) -> None:
    """How many nodes there are, and how to see more of them; some of the `nodes` are shown."""
    many = f"{counted(count.found, 'node')} in {counted(reading.documents, 'document')}"
    if not count.complete:
        many = f"{many} so far: reading stopped there"
    hidden = count.shown < count.found
    shown = f"the first {count.shown:,} shown" if hidden else "all shown"
    click.echo(f"\n{many}; {shown}", err=True)
    # It can't be read a second time.
    if asked.file == "-":
        return
    if hidden:
        next_step("look", asked.file, asked.path.text, "--nth", str(count.shown + 1))
    elif any(type(node.value) in (dict, list) and node.value for node in nodes):
        next_step("look", asked.file, asked.path.text, "--every")


# ---- every node below


def print_every(nodes: Iterator[FoundNode]) -> int:
    """Prints every node below the ones found, aligned in blocks; gives how many were found."""
    count = 0
    headings = _Headings()
    for node in nodes:
        count += 1
        headings.print_above(node)
        below = node.every()
        # A document may have millions of nodes: they are aligned by blocks, and never all held.
        while block := list(islice(below, BLOCK)):
            _print_block(block)
    return count


def _print_block(block: list[FoundNode]) -> None:
    paths = [escaped(node.path) for node in block]
    width = shutil.get_terminal_size((100, 40)).columns
    widths = list(map(cell_width, paths))
    longest = min(max(widths), max(width - 40, 20))
    for path, wide, node in zip(paths, widths, block, strict=True):
        click.secho(path + " " * (longest - wide), fg="green", nl=False)
        click.secho(f"  {node.kind:<7}", dim=True, nl=False)
        click.echo(f"  {in_short(node.value, width - max(wide, longest) - 11)}")


# ---- for scripts


def print_values(nodes: Iterable[FoundNode]) -> int:
    """A line for each: control characters in a text are escaped, so that there are no more."""
    count = 0
    for node in nodes:
        count += 1
        click.echo(
            escaped(node.value if type(node.value) is str else json_text(node.value))
        )
    return count


def print_as_json(nodes: Iterable[FoundNode], *, every: bool) -> int:
    """An array of nodes, one to a line, as they come."""
    count = written = 0
    click.echo("[", nl=False)
    for node in nodes:
        count += 1
        # Written as they come, so that the first are there while the rest is read.
        for shown in node.every() if every else (node,):
            click.echo(
                f"{',' if written else ''}\n{json_text(_as_json(shown, every))}",
                nl=False,
            )
            written += 1
    click.echo("\n]")
    return count


def _as_json(node: FoundNode, every: bool) -> dict[str, JsonValue]:
    shown: dict[str, JsonValue] = {
        "file": node.source.name,
        "document": node.document,
        "path": node.path,
        "kind": node.kind,
    }
    # What is in it comes in lines of its own.
    if every and type(node.value) in (dict, list):
        return shown | {"size": len(node.value)}
    return shown | {"value": node.value}
