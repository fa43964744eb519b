"""What all views draw with: the terminal, aligned columns, paths as people write them."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

import click

from mukret.paths import parse_path
from mukret.paths.locate import path_text
from mukret.text import escaped

if TYPE_CHECKING:
    from rich.console import Console

# Characters of a long line that are shown around a mistake.
_WINDOW = 100


def screen() -> Console:
    """Where rich draws.

    A reader that has seen enough is no error here either: rich would end the program with 1.
    """
    from rich.console import Console

    class Screen(Console):
        def on_broken_pipe(self) -> None:
            raise BrokenPipeError

    return Screen(highlight=False, soft_wrap=False)


def cell_width(text: str) -> int:
    """How many columns of a terminal a text takes; wide characters take two."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def aligned(rows: Sequence[Sequence[str]], *, right: Collection[int] = ()) -> list[str]:
    """Rows of texts as lines with their columns below each other; those in `right` end there."""
    widths = [max(map(cell_width, column)) for column in zip(*rows, strict=True)]
    lines = []
    for row in rows:
        cells = [
            _padded(cell, width, right=index in right)
            for index, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        lines.append("  ".join(cells).rstrip())
    return lines


def _padded(cell: str, width: int, *, right: bool) -> str:
    blank = " " * (width - cell_width(cell))
    return blank + cell if right else cell + blank


def print_table(rows: Sequence[Sequence[str]], *, right: Collection[int] = ()) -> None:
    """A small table on standard error: its head, which is the first of the rows, is dim."""
    head, *lines = aligned(rows, right=right)
    click.secho(f"  {head}", dim=True, err=True)
    for line in lines:
        click.echo(f"  {line}", err=True)


def windowed(source: str, caret: int) -> tuple[str, int]:
    """The part of a line around a place, control characters escaped, and how many columns stand
    before the place.
    """
    first = max(0, caret - _WINDOW // 2) if len(source) > _WINDOW else 0
    before = ("…" if first else "") + escaped(source[first:caret])
    after = source[caret : first + _WINDOW]
    more = "…" if caret + len(after) < len(source) else ""
    return before + escaped(after) + more, cell_width(before)


def readable(normalized_path: str) -> str:
    """A normalized path as a person writes it, `$.sailings[3].fare`: it can still be pasted."""
    return path_text(parse_path(normalized_path).segments)


def next_step(*words: str) -> None:
    """A command to go on with, words quoted so that they can be pasted."""
    click.secho(f"  mukret {shlex.join(words)}", fg="green", err=True)
