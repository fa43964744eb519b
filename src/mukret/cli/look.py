"""`mukret look`: the raw nodes of a path, as they stand."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterable, Iterator
from itertools import islice
from typing import TYPE_CHECKING

import click

from mukret.cli.console import next_step
from mukret.cli.options import examples, json_option, output_options, set_up_logging

if TYPE_CHECKING:
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
@click.argument("file", metavar="FILE")
@click.argument("path", metavar="[PATH]", default="$")
@click.option(
    "--nth", metavar="N", type=click.IntRange(1), help="Show the Nth node alone, counted from 1 over all of FILE."
)
@click.option("--every", is_flag=True, help="List every node below, with its kind, as a table.")
@click.option("--whole", is_flag=True, help="Cut nothing.")
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    file: str,
    path: str,
    nth: int | None,
    every: bool,
    whole: bool,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Show what a JSONPath (RFC 9535) finds in FILE (a file, a folder, a glob, or - for standard input), as it stands.

    Each node has its normalized path above it, to paste into other commands. Text is cut to the screen. PATH is $, the
    whole document, unless given. Reads no further than it has to. Exit code 1 if nothing is found.
    """
    from mukret.documents import find_sources, nothing_read
    from mukret.paths import parse_path
    from mukret.survey.nodes import find_nodes

    set_up_logging(log, verbose)
    reading, nodes = find_nodes(find_sources([file]), parse_path(path))
    if nth is not None:
        nodes = _nth(nodes, nth, path)
    if as_json:
        shown = _print_json(nodes, every)
    elif every:
        shown = _print_table(nodes)
    else:
        shown = _print_nodes(nodes, reading, _size(whole), file, path, nth, quiet)
    if reading.bad and not reading.documents:
        raise nothing_read(reading.bad[0])
    _print_bad(reading)
    if not shown:
        _explain(reading, path)
    ctx.exit(1 if not shown or reading.bad else 0)


def _nth(nodes: Iterator[Found], nth: int, path: str) -> Iterator[Found]:
    from mukret.errors import UsageError
    from mukret.text import counted

    count = 0
    for node in nodes:
        count += 1
        if count == nth:
            yield node
            return
    if count:
        raise UsageError("usage", f"{path} finds {counted(count, 'node')}; there is no number {nth:,}")


def _size(whole: bool) -> tuple[int, int | None]:
    """Columns and lines to use."""
    size = shutil.get_terminal_size((100, 40))
    return max(size.columns, 40), None if whole else max(size.lines - 4, 8)


# ---- nodes as they stand


def _print_nodes(
    nodes: Iterator[Found],
    reading: Reading,
    size: tuple[int, int | None],
    file: str,
    path: str,
    nth: int | None,
    quiet: bool,
) -> int:
    """Prints as many nodes as there are lines for; gives how many were found."""
    width, height = size
    first = list(nodes if height is None and nth is not None else islice(nodes, height or 1000))
    room = height
    shown = 0
    document: tuple[str, int] | None = None
    for node in first:
        if room is not None and shown and room < (FEWEST_LINES if type(node.value) in (dict, list) else 2):
            break
        if document != (node.source.name, node.document):
            document = (node.source.name, node.document)
            _print_document(node)
            room = None if room is None else room - 1
        alone = room is None or shown == len(first) - 1 or room // 2 < FEWEST_LINES
        share = room if room is None or alone else room // 2
        used = _print_node(node, width, share)
        room = None if room is None else room - used
        shown += 1
    if height is None:
        for node in nodes:
            _print_node(node, width, None)
            shown += 1
        return shown
    found, complete = _count_on(nodes, len(first), reading)
    if not quiet and nth is None and found:
        containers = any(type(node.value) in (dict, list) and node.value for node in first)
        _print_count(shown, found, complete, reading, file, path, containers)
    return found


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
        click.echo(f"  {in_short(node.value, width - len(path) - 2 if height is not None else 10**9)}")
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
    shown: int, found: int, complete: bool, reading: Reading, file: str, path: str, containers: bool
) -> None:
    from mukret.text import counted

    many = f"{counted(found, 'node')} in {counted(reading.documents, 'document')}"
    if not complete:
        many = f"more than {many}: reading stopped there"
    click.echo(f"\n{many}; {f'the first {shown:,} shown' if shown < found else 'all shown'}", err=True)
    if file == "-":
        return
    if shown < found:
        next_step("look", file, path, "--nth", str(shown + 1))
    elif containers:
        next_step("look", file, path, "--every")


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


def _explain(reading: Reading, path: str) -> None:
    """Why nothing was found."""
    from mukret.cli.console import print_unmatched
    from mukret.paths import parse_path
    from mukret.paths.locate import nearest_existing

    near = nearest_existing(parse_path(path), reading.first)
    print_unmatched(path, near.text if near else None)
