"""Options that are the same word with the same meaning in every command."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, TypeVar

import click

if TYPE_CHECKING:
    from mukret.engine.picking import Condition
    from mukret.rules import Rules
    from mukret.rules.model import Table
    from mukret.types import ValueType

Decorated = TypeVar("Decorated", bound=Callable[..., Any])

rules_argument = click.argument("rules", metavar="RULES")
files_argument = click.argument("files", metavar="FILE...", nargs=-1, required=True)
json_option = click.option("--json", "as_json", is_flag=True, help="Print the report as JSON, for scripts.")


def known_table(rules: Rules, name: str) -> Table:
    """A table of the rules by the name that was typed. Raises UsageError."""
    from mukret.errors import UsageError
    from mukret.text import did_you_mean

    if name not in rules.tables:
        raise UsageError("unknown-table", f"no table {name} in {rules.file}", hint=did_you_mean(name, rules.tables))
    return rules.tables[name]


def where_option(types: Mapping[str, ValueType], text: str) -> Condition:
    """What was typed after --where. Raises UsageError."""
    from mukret.engine.picking import Condition
    from mukret.errors import ExpressionError, UsageError

    try:
        return Condition(types, text)
    except ExpressionError as error:
        raise UsageError(error.code, f"--where, character {error.position + 1}: {error}", hint=error.hint) from None


def output_options(function: Decorated) -> Decorated:
    """`-q`, `-v` and `--log`."""
    function = click.option("--log", metavar="FILE", help="Keep what happened in a file, with times and levels.")(
        function
    )
    function = click.option("-v", "--verbose", count=True, help="Say more; -vv adds the traceback of an error.")(
        function
    )
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
        raise OutputError("not-written", f"{file}: {(error.strerror or str(error)).lower()}") from None
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)-7s %(message)s"))
    logger.addHandler(handler)
    return logger
