"""How a declared command comes to its handler."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from importlib import import_module
from typing import Any

import click


def handled(declaration: Callable[[], None]) -> Callable[..., None]:
    """The body of a command: `handle` in the module of its name in `mukret.cli.handlers`.

    That module is imported when the command runs, so that `--help` and completion load none of
    what a command needs. It has a `Request`, a dataclass with a field for each option, and
    `handle(request)`, which gives the exit code.
    """

    @click.pass_context
    @wraps(declaration)
    def body(ctx: click.Context, /, **typed: Any) -> None:
        handler = import_module(f"mukret.cli.handlers.{ctx.command.name}")
        ctx.exit(handler.handle(handler.Request(**typed)))

    return body
