"""`mukret look`: the raw nodes of a path, as they stand."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import islice
from typing import TYPE_CHECKING

import click

from mukret.cli import completing
from mukret.cli.console import next_step
from mukret.cli.options import (
    examples,
    json_option,
    newest_option,
    output_options,
    set_up_logging,
    sources_of,
)

if TYPE_CHECKING:
    from mukret.paths import Path
    from mukret.survey.nodes import Found, Reading
    from mukret.values import JsonValue

ENOUGH_BYTES = 2_000_000
"""Inputs up to this size are read to their end, so that the count of nodes is that of the whole."""
FEWEST_LINES = 9
"""An array or object with fewer lines than these says little."""
BLOCK = 200
"""Rows that `--every` aligns together."""


@click.command(
    "look",
    short_help="Show the nodes of a path as they stand.",
    epilog=examples(
        "mukret look merrow-demo/feed '$.network.ports[*].sailings[*]' --nth 3",
        "mukret look merrow-demo/feed/timetable-2031-03-28.json '$.vessels[0]' --every",
    ),
)
@click.argument("file", metavar="FILE", shell_complete=completing.files)
@click.argument("path", metavar="[PATH]", default="$")
@click.option(
    "--nth",
    metavar="N",
    type=click.IntRange(1),
    help="Show the Nth node alone, counted from 1 over all of FILE.",
)
@click.option(
    "--named", metavar="NAME", help="Members of this name, wherever they stand below PATH."
)
@click.option("--every", is_flag=True, help="List every node below, with its kind, as a table.")
@click.option(
    "--values",
    is_flag=True,
    help="Bare values, a line each: texts without quotes, all else as JSON.",
)
@click.option("--whole", is_flag=True, help="Cut nothing.")
@newest_option
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    file: str,
    path: str,
    nth: int | None,
    named: str | None,
    every: bool,
    values: bool,
    whole: bool,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Show what a JSONPath (RFC 9535) finds in FILE (a file, a folder, a glob, or - for standard
    input), as it stands.

    Each node has its normalized path above it, to paste into other commands. Text is cut to the
    screen. PATH is $, the whole document, unless given. Reads no further than it has to. Exit code
    1 if nothing is found.
    """
    from mukret.documents import nothing_read
    from mukret.errors import UsageError
    from mukret.paths import parse_path
    from mukret.survey.nodes import find_nodes

    set_up_logging(log, verbose)
    if every + values + as_json > 1 and not (every and as_json):
        raise UsageError(
            "usage", "--values, --every and --json are ways to show the same nodes", hint="take one"
        )
    asked = parse_path(path)
    if named is not None:
        asked = asked.members_named(named)
    size = _size(whole)
    plain = not (every or values or as_json or whole)
    reading, nodes = find_nodes(
        sources_of([file]), asked, max(size.width, size.height) if plain else None
    )
    if nth is not None:
        nodes = _nth(nodes, nth, asked.text, reading)
    if as_json:
        shown = _print_json(nodes, every)
    elif values:
        shown = _print_values(nodes)
    elif every:
        shown = _print_table(nodes)
    else:
        shown = _print_nodes(nodes, reading, size, Question(file, asked, nth, quiet=quiet))
    if reading.bad and not reading.documents:
        raise nothing_read(reading.bad[0], len(reading.bad))
    _print_bad(reading)
    if not shown:
        _explain(reading, asked)
    ctx.exit(1 if not shown or reading.bad else 0)


@dataclass(frozen=True)
class Size:
    """Columns and lines to use; as many lines as there are, if nothing is to be cut."""

    width: int
    height: int
    cut: bool


@dataclass(frozen=True)
class Question:
    """What was typed."""

    file: str
    path: Path
    nth: int | None
    quiet: bool


def _nth(nodes: Iterator[Found], nth: int, path: str, reading: Reading) -> Iterator[Found]:
    from mukret.errors import UsageError
    from mukret.text import counted

    count = 0
    for node in nodes:
        count += 1
        if count == nth:
            yield node
            return
    if count:
        _print_bad(reading)
        raise UsageError(
            "usage", f"{path} finds {counted(count, 'node')}; there is no number {nth:,}"
        )


def _size(whole: bool) -> Size:
    size = shutil.get_terminal_size((100, 40))
    return Size(max(size.columns, 40), max(size.lines - 4, 8), cut=not whole)


# ---- nodes as they stand


def _print_nodes(nodes: Iterator[Found], reading: Reading, size: Size, asked: Question) -> int:
    """Prints as many nodes as there are lines for; gives how many were found."""
    if not size.cut:
        return _print_whole(nodes, size.width)
    first, enough = _first_nodes(nodes, size.height, reading, one=asked.path.singular)
    room = size.height
    shown = 0
    document: tuple[str, int] | None = None
    for node in first:
        if shown and room < (FEWEST_LINES if type(node.value) in (dict, list) else 2):
            break
        if document != (node.source.name, node.document):
            document = (node.source.name, node.document)
            _print_document(node)
            room -= 1
        alone = shown == len(first) - 1 or room // 2 < FEWEST_LINES
        room -= _print_node(node, size.width, room if alone else room // 2)
        shown += 1
    found, complete = (len(first), False) if enough else _count_on(nodes, len(first), reading)
    if not asked.quiet and asked.nth is None and found:
        containers = any(type(node.value) in (dict, list) and node.value for node in first)
        _print_count(shown, found, complete, reading, asked, containers)
    return found


def _print_whole(nodes: Iterator[Found], width: int) -> int:
    shown = 0
    document: tuple[str, int] | None = None
    for node in nodes:
        if document != (node.source.name, node.document):
            document = (node.source.name, node.document)
            _print_document(node)
        _print_node(node, width, None)
        shown += 1
    return shown


def _first_nodes(
    nodes: Iterator[Found], most: int, reading: Reading, *, one: bool
) -> tuple[list[Found], bool]:
    """The first nodes, and whether reading ends there: in a long document of which `one` node was
    wanted.
    """
    first: list[Found] = []
    for node in nodes:
        first.append(node)
        if one and reading.in_pieces:
            return first, True
        if len(first) == most:
            break
    return first, False


def _print_document(node: Found) -> None:
    from mukret.text import escaped

    origin = f", from {node.origin.address}" if node.origin else ""
    click.secho(escaped(f"{node.source.name}, document {node.document}{origin}"), dim=True)


def _print_node(node: Found, width: int, height: int | None) -> int:
    """Prints a node below its path, a scalar beside it; gives the number of lines."""
    from mukret.survey.excerpts import excerpt, in_short
    from mukret.text import escaped

    path = escaped(node.path)
    if type(node.value) not in (dict, list) or not node.value:
        click.secho(path, fg="green", nl=False)
        click.echo(
            f"  {in_short(node.value, width - len(path) - 2 if height is not None else 10**9)}"
        )
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


def _count_on(nodes: Iterator[Found], found: int, reading: Reading) -> tuple[int, bool]:
    """How many nodes there are, as far as a small input is read; whether that is all of them."""
    for _ in nodes:
        found += 1
        if reading.size > ENOUGH_BYTES:
            return found, False
    return found, True


def _print_count(
    shown: int, found: int, complete: bool, reading: Reading, asked: Question, containers: bool
) -> None:
    from mukret.text import counted

    many = f"{counted(found, 'node')} in {counted(reading.documents, 'document')}"
    if not complete:
        many = f"{many} so far: reading stopped there"
    click.echo(
        f"\n{many}; {f'the first {shown:,} shown' if shown < found else 'all shown'}", err=True
    )
    if asked.file == "-":
        return
    if shown < found:
        next_step("look", asked.file, asked.path.text, "--nth", str(shown + 1))
    elif containers:
        next_step("look", asked.file, asked.path.text, "--every")


# ---- every node below


def _print_table(nodes: Iterator[Found]) -> int:
    """Prints every node below the ones found, aligned in blocks; gives how many were found."""
    found = 0
    document: tuple[str, int] | None = None
    for node in nodes:
        found += 1
        if document != (node.source.name, node.document):
            document = (node.source.name, node.document)
            _print_document(node)
        below = node.every()
        while block := list(islice(below, BLOCK)):
            _print_block(block)
    return found


def _print_block(block: list[Found]) -> None:
    from mukret.cli.console import cell_width
    from mukret.survey.excerpts import in_short
    from mukret.text import escaped

    paths = [escaped(node.path) for node in block]
    width = shutil.get_terminal_size((100, 40)).columns
    widths = list(map(cell_width, paths))
    longest = min(max(widths), max(width - 40, 20))
    for path, wide, node in zip(paths, widths, block, strict=True):
        click.secho(path + " " * (longest - wide), fg="green", nl=False)
        click.secho(f"  {node.kind:<7}", dim=True, nl=False)
        click.echo(f"  {in_short(node.value, width - max(wide, longest) - 11)}")


# ---- for scripts


def _print_values(nodes: Iterable[Found]) -> int:
    """A line for each: control characters in a text are escaped, so that there are no more."""
    from mukret.text import escaped
    from mukret.values import json_text

    found = 0
    for node in nodes:
        found += 1
        click.echo(escaped(node.value if type(node.value) is str else json_text(node.value)))
    return found


def _print_json(nodes: Iterable[Found], every: bool) -> int:
    """An array of nodes, one to a line, as they come."""
    from mukret.values import json_text

    found = written = 0
    click.echo("[", nl=False)
    for node in nodes:
        found += 1
        for one in node.every() if every else (node,):
            click.echo(f"{',' if written else ''}\n{json_text(_as_json(one, every))}", nl=False)
            written += 1
    click.echo("\n]")
    return found


def _as_json(node: Found, every: bool) -> dict[str, JsonValue]:
    shown: dict[str, JsonValue] = {
        "file": node.source.name,
        "document": node.document,
        "path": node.path,
        "kind": node.kind,
    }
    if every and type(node.value) in (dict, list):
        return shown | {"size": len(node.value)}
    return shown | {"value": node.value}


def _print_bad(reading: Reading) -> None:
    from mukret.cli.console import print_bad_documents

    print_bad_documents(reading.bad, len(reading.bad))


def _explain(reading: Reading, path: Path) -> None:
    """Why nothing was found."""
    from mukret.cli.console import print_unmatched
    from mukret.paths.locate import nearest_existing

    near = nearest_existing(path, reading.first)
    print_unmatched(path.text, near.text if near else None)
