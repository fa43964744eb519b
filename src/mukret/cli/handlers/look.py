"""`mukret look`: the raw nodes of a path, as they stand."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from mukret.cli.handlers.request import Talk
from mukret.cli.views.counts import print_bad_documents
from mukret.cli.views.look import (
    Question,
    Size,
    print_as_json,
    print_every,
    print_nodes,
    print_values,
)
from mukret.cli.views.problems import print_unmatched
from mukret.codes import Code
from mukret.documents import find_sources, nothing_read
from mukret.errors import UsageError
from mukret.paths import Path, parse_path
from mukret.paths.locate import nearest_existing
from mukret.survey.nodes import FoundNode, NodeSearch, find_nodes
from mukret.text import counted


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret look`."""

    file: str
    path: str
    nth: int | None
    named: str | None
    every: bool
    values: bool
    whole: bool
    newest: bool
    as_json: bool

    @property
    def cut_to_the_screen(self) -> bool:
        """Whether nodes are cut to the screen."""
        return not (self.every or self.values or self.as_json or self.whole)


def handle(request: Request) -> int:
    request.start_log()
    _refuse_nonsense(request)
    path = parse_path(request.path)
    if request.named is not None:
        path = path.members_named(request.named)
    size = Size.of_terminal(cut=not request.whole)
    # More than the screen holds is counted, not kept.
    enough = max(size.width, size.height) if request.cut_to_the_screen else None
    sources = find_sources([request.file], newest=request.newest)
    reading, nodes = find_nodes(sources, path, enough)
    if request.nth is not None:
        nodes = _nth(nodes, request.nth, path, reading)
    shown = _print(request, path, nodes, reading, size)
    if reading.bad and not reading.documents:
        raise nothing_read(reading.bad[0], len(reading.bad))
    print_bad_documents(reading.bad, len(reading.bad))
    if not shown:
        # How far the path does lead says more than that it finds nothing.
        near = nearest_existing(path, reading.first)
        print_unmatched(path.text, near.text if near else None)
    return 1 if not shown or reading.bad else 0


def _refuse_nonsense(request: Request) -> None:
    """Raises UsageError."""
    ways = request.every + request.values + request.as_json
    if ways > 1 and not (request.every and request.as_json):
        message = "--values, --every and --json are ways to show the same nodes"
        raise UsageError(Code.USAGE, message, hint="take one")


def _print(
    request: Request,
    path: Path,
    nodes: Iterator[FoundNode],
    reading: NodeSearch,
    size: Size,
) -> int:
    """Shows nodes as was asked for; gives how many there are."""
    if request.as_json:
        return print_as_json(nodes, every=request.every)
    if request.values:
        return print_values(nodes)
    if request.every:
        return print_every(nodes)
    # What was typed, for the line that says how to see more.
    question = Question(request.file, path, request.nth, quiet=request.quiet)
    return print_nodes(nodes, reading, size, question)


def _nth(
    nodes: Iterator[FoundNode], nth: int, path: Path, reading: NodeSearch
) -> Iterator[FoundNode]:
    """The node of this number, from 1.

    Raises UsageError if there are fewer, but not if there are none.
    """
    count = 0
    for node in nodes:
        count += 1
        if count == nth:
            yield node
            return
    # Where nothing is found the caller says why, which tells more than a number.
    if count:
        print_bad_documents(reading.bad, len(reading.bad))
        message = (
            f"{path.text} finds {counted(count, 'node')}; there is no number {nth:,}"
        )
        raise UsageError(Code.USAGE, message)
