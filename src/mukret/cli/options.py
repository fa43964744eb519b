"""Options that are the same word with the same meaning in every command."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Any, TypeVar

import click

Decorated = TypeVar("Decorated", bound=Callable[..., Any])

rules_argument = click.argument("rules", metavar="RULES")
files_argument = click.argument("files", metavar="FILE...", nargs=-1, required=True)
json_option = click.option("--json", "as_json", is_flag=True, help="Print the report as JSON, for scripts.")


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
