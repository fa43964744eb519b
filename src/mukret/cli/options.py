"""Options that are the same word with the same meaning in every command."""

from __future__ import annotations

import logging
import os
import re
import shlex
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

import click

from mukret.cli import completing

if TYPE_CHECKING:
    from mukret.documents import Source
    from mukret.inspect.picking import Condition
    from mukret.rules import Rules
    from mukret.rules.model import Table
    from mukret.types import ValueType

Decorated = TypeVar("Decorated", bound=Callable[..., Any])

rules_argument = click.argument("rules", metavar="RULES", shell_complete=completing.rules_files)
files_argument = click.argument(
    "files", metavar="FILE...", nargs=-1, required=True, shell_complete=completing.files
)
_NEWEST = "mukret.newest"


def _note_newest(ctx: click.Context, _: click.Parameter, value: bool) -> None:
    ctx.meta[_NEWEST] = value


newest_option = click.option(
    "--newest",
    is_flag=True,
    expose_value=False,
    callback=_note_newest,
    help="Of a folder that collect wrote, each address's newest answer alone.",
)
json_option = click.option(
    "--json", "as_json", is_flag=True, help="Print the report as JSON, for scripts."
)


def newest_wanted(ctx: click.Context) -> bool:
    """Whether `--newest` was typed."""
    return bool(ctx.meta.get(_NEWEST, False))


def sources_of(files: Sequence[str]) -> list[Source]:
    """The sources that were typed, of collected folders as `--newest` says. Raises InputError."""
    from mukret.documents import find_sources

    return find_sources(files, newest=newest_wanted(click.get_current_context()))


def print_earlier(sources: Sequence[Source]) -> None:
    """Says which of the answers that were read are earlier ones of addresses that
    were asked again.
    """
    from mukret.text import counted

    earlier = sorted(
        source.origin.fetched_at or ""
        for source in sources
        if source.origin and source.origin.superseded
    )
    if not earlier:
        return
    first, last = earlier[0][:10], earlier[-1][:10]
    when = f"of {first}" if first == last else f"of {first} to {last}"
    which = (
        f"{counted(len(earlier), 'earlier answer')} {when}"
        if first
        else counted(len(earlier), "earlier answer")
    )
    click.echo(
        f"read too: {which}, of addresses that were asked again since (--newest leaves them out)",
        err=True,
    )


def loaded_rules(file: str, inputs: Sequence[str] = ()) -> Rules:
    """The rules in a file. Raises RulesError, and UsageError where data stands in their place."""
    from mukret.errors import MukretError, UsageError
    from mukret.rules import load_rules

    try:
        return load_rules(file)
    except MukretError:
        if looks_like_rules(file):
            raise
        swapped = next((other for other in inputs if looks_like_rules(other)), None)
        if swapped is not None:
            others = [file if other == swapped else other for other in inputs]
            command = shlex.join(
                ["mukret", str(click.get_current_context().info_name), swapped, *others]
            )
            message = f"{file} is data, and {swapped} has the rules"
            raise UsageError("usage", message, hint=f"the rules come first: {command}") from None
        if _looks_like_data(file):
            hint = f"mukret draft {shlex.quote(file)} --out feed.rules.yaml begins one"
            raise UsageError("usage", f"{file} is data, not a rules file", hint=hint) from None
        raise


_CALLS = re.compile(rb"""^[\s{]*["']?(calls|sign_in)["']?\s*:""", re.MULTILINE)
_TABLES = re.compile(rb"""^[\s{]*["']?tables["']?\s*:""", re.MULTILINE)


def looks_like_calls(file: str) -> bool:
    """Whether it is a calls file and no rules file."""
    beginning = _beginning_of(file)
    return _CALLS.search(beginning) is not None and _TABLES.search(beginning) is None


_BEGINNING = 65_536
_RULES = re.compile(rb"""^[\s{]*["']?(mukret|tables)["']?\s*:""", re.MULTILINE)


def _beginning_of(file: str) -> bytes:
    try:
        if not os.path.isfile(file):  # a pipe is not to be opened twice
            return b""
        with open(file, "rb") as opened:
            return opened.read(_BEGINNING)
    except OSError:
        return b""


def looks_like_rules(file: str) -> bool:
    """Whether it is a rules file, by how it begins."""
    return _RULES.search(_beginning_of(file)) is not None


def _looks_like_data(file: str) -> bool:
    """Whether it is a folder, or a file that begins like JSON."""
    return os.path.isdir(file) or _beginning_of(file).lstrip()[:1] in (b"{", b"[")


def known_table(rules: Rules, name: str | None) -> Table:
    """A table of the rules by the name that was typed; none need be typed if there is only one.

    Raises UsageError.
    """
    from mukret.errors import UsageError
    from mukret.text import did_you_mean

    if name is None:
        if len(rules.tables) == 1:
            return next(iter(rules.tables.values()))
        hint = f"--table {next(iter(rules.tables))}"
        raise UsageError("usage", f"of which table? There are {', '.join(rules.tables)}", hint=hint)
    if name not in rules.tables:
        raise UsageError(
            "unknown-table",
            f"no table {name} in {rules.file}",
            hint=did_you_mean(name, rules.tables),
        )
    return rules.tables[name]


def where_option(types: Mapping[str, ValueType], text: str) -> Condition:
    """What was typed after --where. Raises UsageError."""
    from mukret.errors import ExpressionError, UsageError
    from mukret.inspect.picking import Condition

    try:
        return Condition(types, text)
    except ExpressionError as error:
        raise UsageError(
            error.code, f"--where, character {error.position + 1}: {error}", hint=error.hint
        ) from None


def output_options(function: Decorated) -> Decorated:
    """`-q`, `-v` and `--log`."""
    function = click.option(
        "--log",
        metavar="FILE",
        shell_complete=completing.files,
        help="Keep what happened in a file, with times and levels.",
    )(function)
    function = click.option(
        "-v", "--verbose", count=True, help="Say more; -vv adds the traceback of an error."
    )(function)
    return click.option("-q", "--quiet", is_flag=True, help="Say nothing but errors.")(function)


def examples(*lines: str, note: str = "on the data that `mukret demo` writes") -> str:
    """The end of a help text: examples that work on the demo data."""
    return f"\b\nExamples, {note}:\n" + "\n".join(f"  {line}" for line in lines)


def set_up_logging(file: str | None, verbose: int) -> logging.Logger:
    """The program's log: nowhere, unless a file is named."""
    from mukret.errors import OutputError

    logger = logging.getLogger("mukret")
    logger.setLevel(logging.DEBUG if verbose else logging.INFO)
    logger.propagate = False
    if file is None:
        logger.addHandler(logging.NullHandler())
        return logger
    try:
        handler = logging.FileHandler(file, encoding="utf-8")
    except OSError as error:
        raise OutputError(
            "not-written", f"{file}: {(error.strerror or str(error)).lower()}"
        ) from None
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)-7s %(message)s"))
    logger.addHandler(handler)
    return logger
