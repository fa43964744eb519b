"""What a shell offers where a file, a table or a field is to be typed.

Whatever goes wrong, it offers nothing.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable
from contextlib import suppress

import click
from click.shell_completion import CompletionItem

_RULES_ENDINGS = (".yaml", ".yml")
_RECORD = "run.json"


def files(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    """Files and folders, by the shell itself."""
    return [CompletionItem(begun, type="file")]


def rules_files(
    ctx: click.Context, parameter: click.Parameter, begun: str
) -> list[CompletionItem]:
    """The YAML files of a folder; if it has none, whatever the shell finds there."""
    folder, name = os.path.split(begun)
    rules: list[str] = []
    # A folder that can't be read completes nothing; an error would be printed into the line that
    # somebody types.
    with suppress(OSError):
        rules = sorted(
            name_or_file
            for name_or_file in os.listdir(folder or ".")
            if name_or_file.startswith(name) and name_or_file.endswith(_RULES_ENDINGS)
        )
    if rules:
        return [
            CompletionItem(os.path.join(folder, name_or_file)) for name_or_file in rules
        ]
    # A rules file may have any ending, so nobody is kept from naming one.
    return files(ctx, parameter, begun)


def tables(ctx: click.Context, _: click.Parameter, begun: str) -> list[CompletionItem]:
    """The tables of the rules."""
    return _beginning(begun, _outline(ctx))


def fields(ctx: click.Context, _: click.Parameter, begun: str) -> list[CompletionItem]:
    """The fields of the table that was named, or of all."""
    return _beginning(begun, _fields(ctx))


def listed_fields(
    ctx: click.Context, _: click.Parameter, begun: str
) -> list[CompletionItem]:
    """The last of several fields with commas between them."""
    before, comma, last = begun.rpartition(",")
    taken = before.split(",")
    left = (name for name in _fields(ctx) if name not in taken)
    return [
        CompletionItem(f"{before}{comma}{item.value}")
        for item in _beginning(last, left)
    ]


def keys(ctx: click.Context, _: click.Parameter, begun: str) -> list[CompletionItem]:
    """FIELD=, up to where the value begins."""
    return (
        [] if "=" in begun else _beginning(begun, (f"{name}=" for name in _fields(ctx)))
    )


def compared_fields(
    ctx: click.Context, _: click.Parameter, begun: str
) -> list[CompletionItem]:
    """The fields of two deliveries in folders, or of two rules files."""
    before, comma, last = begun.rpartition(",")
    names: dict[str, None] = {}
    # Either side may have fields that the other one lacks.
    for side in (_typed(ctx, "old", 0), _typed(ctx, "new", 1)):
        for columns in (_recorded(side) or _outline_of(side)).values():
            names |= dict.fromkeys(columns)
    return [
        CompletionItem(f"{before}{comma}{side.value}")
        for side in _beginning(last, names)
    ]


def formats(_: click.Context, __: click.Parameter, begun: str) -> list[CompletionItem]:
    # Only when it is completed: `--help` loads no writers.
    from mukret.destinations.formats import FORMATS

    return [
        CompletionItem(name, help=form.about)
        for name, form in FORMATS.items()
        if name.startswith(begun)
    ]


# ---- names


def _beginning(begun: str, names: Iterable[str]) -> list[CompletionItem]:
    return [
        CompletionItem(name) for name in dict.fromkeys(names) if name.startswith(begun)
    ]


def _fields(ctx: click.Context) -> list[str]:
    fields_by_table = _outline(ctx)
    table = ctx.params.get("table")
    return (
        fields_by_table.get(table, [])
        # Without a table the fields of all of them are offered.
        if table
        else [name for names in fields_by_table.values() for name in names]
    )


def _outline(ctx: click.Context) -> dict[str, list[str]]:
    return _outline_of(_typed(ctx, "rules", 0))


def _typed(ctx: click.Context, name: str, position: int) -> str | None:
    """What was typed for an argument.

    Behind an option that still lacks its value click has not told them apart.
    """
    left = ctx.args[position] if len(ctx.args) > position else None
    return ctx.params.get(name) or left


def _outline_of(file: str | None) -> dict[str, list[str]]:
    """The fields of each table of a rules file."""
    from mukret.rules.outline import outline

    with suppress(OSError, UnicodeError):
        return outline(str(file))
    return {}


def _recorded(folder: str | None) -> dict[str, list[str]]:
    """The columns of each table of a delivery."""
    with (
        # Whatever is wrong with it, it completes nothing.
        suppress(OSError, ValueError, KeyError, AttributeError),
        open(os.path.join(str(folder), _RECORD), "rb") as file,
    ):
        return {
            name: list(columns) for name, columns in json.load(file)["columns"].items()
        }
    return {}
