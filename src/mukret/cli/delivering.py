"""What `extract` and `merge` have in common: the options of a delivery, and what is said of it when
it is done.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

from mukret.cli import completing

if TYPE_CHECKING:
    from mukret.destinations.deliver import RejectLimit
    from mukret.rules import Rules

Decorated = TypeVar("Decorated", bound=Callable[..., Any])

_OPTIONS = (
    click.option(
        "--to",
        "target",
        metavar="DEST",
        required=True,
        shell_complete=completing.files,
        help="A folder, sqlite:///FILE, postgresql://HOST/DATABASE, or - for standard output.",
    ),
    click.option(
        "--format",
        "form",
        metavar="FORMAT",
        shell_complete=completing.formats,
        help="Format of the tables: csv (if it is not said), jsonl, json, parquet, arrow, xlsx.",
    ),
    click.option(
        "--mode",
        type=click.Choice(["create", "replace", "append", "upsert"]),
        help=(
            "What becomes of tables that are there; if it is not said those that Mukret made are "
            "made anew."
        ),
    ),
    click.option(
        "--widen",
        is_flag=True,
        help="Add new columns to tables of a database, with append and upsert.",
    ),
    click.option(
        "--table",
        metavar="T",
        shell_complete=completing.tables,
        help="With --to -: the table to write, if there is more than one.",
    ),
    click.option(
        "--titles",
        is_flag=True,
        help="Head the columns of csv and xlsx with the titles of the fields.",
    ),
    click.option(
        "--nested",
        is_flag=True,
        help="Put tables within into their parents' records, in json and jsonl.",
    ),
    click.option(
        "--indent", metavar="N", type=click.IntRange(1, 8), help="Indent json by N blanks a level."
    ),
    click.option(
        "--formulas-as-text",
        is_flag=True,
        help="Put a ' before each text of csv that a spreadsheet would take for a formula.",
    ),
    click.option(
        "--max-rejects",
        metavar="N|P%",
        help="So many rejects are clean; with more nothing is published.",
    ),
    click.option("--strict", is_flag=True, help="Warnings are findings too (exit code 1)."),
)


def delivery_options(function: Decorated) -> Decorated:
    """Where tables go, and how they are written."""
    for option in reversed(_OPTIONS):
        function = option(function)
    return function


def refuse_twins(rules: Rules) -> None:
    """Columns of a table with the same title can't be told apart by it."""
    from mukret.errors import UsageError

    for table in rules.tables.values():
        by_title: dict[str, str] = {}
        for name, title in table.titles.items():
            other = by_title.setdefault(title, name)
            if other != name:
                message = f"{table.name}: {other} and {name} would both be headed {title!r}"
                raise UsageError(
                    "usage", message, hint="give one of them another title, or leave out --titles"
                )


def reject_limit(text: str | None) -> RejectLimit | None:
    from mukret.destinations.deliver import RejectLimit
    from mukret.errors import UsageError

    if text is None:
        return None
    try:
        return RejectLimit.parse(text)
    except ValueError:
        raise UsageError(
            "usage", f"--max-rejects can't be {text!r}", hint="a number (12) or a share (0.5%)"
        ) from None


def where_rejects_are(target: str) -> str | None:
    """Where the rejects are."""
    if target == "-":
        return None
    return (
        f"mukret_rejects of {target}" if "://" in target else f"{target.rstrip('/')}/rejects.jsonl"
    )


def headline(documents: int, files: int, target: str) -> str:
    from mukret.text import counted

    to = (
        "standard output"
        if target == "-"
        else target
        if "://" in target
        else f"{target.rstrip('/')}/"
    )
    return (
        f"{counted(documents, 'document')} in {counted(files, 'file')} → "
        f"{click.style(to, bold=True)}"
    )
