"""`mukret check CALLS.yaml`: what is wrong with a calls file; nothing is sent."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import click

from mukret.cli.views.calls import print_calls
from mukret.cli.views.check import problems_as_json
from mukret.codes import Code
from mukret.collect import load_calls
from mukret.errors import UsageError
from mukret.values import json_text

if TYPE_CHECKING:
    from mukret.cli.handlers.check import Request


def check_calls(request: Request) -> None:
    """Raises RulesError with every problem."""
    file = request.rules
    if request.files:
        message = f"{file} is a calls file: it is checked without responses"
        hint = f"mukret collect {file} --to kept; then mukret check RULES kept"
        # A calls file asks for responses and knows nothing of what is in them.
        raise UsageError(Code.USAGE, message, hint=hint)
    # All problems are raised together; here are calls that can be asked.
    calls = load_calls(file)
    if request.as_json:
        click.echo(json_text(problems_as_json([])))
    elif not request.quiet:
        print_calls(calls, file, os.environ)
