"""`mukret compare`: what differs between two deliveries, or by two versions of the rules."""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass

import click

from mukret.cli.handlers.inputs import listed, loaded_rules, looks_like_rules
from mukret.cli.handlers.request import Talk
from mukret.cli.views import comparison, differences
from mukret.cli.views.progress import progress_bar
from mukret.codes import Code
from mukret.delivered import open_delivered
from mukret.delivered.comparing import compare_deliveries
from mukret.documents import find_sources
from mukret.errors import UsageError
from mukret.inspect.comparing import compare_rules
from mukret.values import json_text


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret compare`."""

    old: str
    new: str
    files: tuple[str, ...]
    ignored: str | None
    newest: bool
    as_json: bool


def handle(request: Request) -> int:
    request.start_log()
    differ = _compare_rules(request) if request.files else _compare_deliveries(request)
    return 1 if differ else 0


def _compare_deliveries(request: Request) -> bool:
    """Whether two deliveries differ; what differs is printed."""
    # Somebody who compares rules has to name what they are to read.
    _refuse_rules(request.old, request.new)
    with (
        closing(open_delivered(request.old)) as before,
        closing(open_delivered(request.new)) as after,
    ):
        differing = compare_deliveries(before, after, ignored=listed(request.ignored))
    if request.as_json:
        click.echo(json_text(differing.as_json()))
    elif not request.quiet:
        differences.print_differences(differing)
        differences.print_next(differing, request.new)
    return differing.any


def _refuse_rules(old: str, new: str) -> None:
    """Raises UsageError for rules without anything to run them over."""
    rules = list(filter(looks_like_rules, (old, new)))
    # Two rules and nothing else: the responses were forgotten.
    if len(rules) == 2:
        message = "two rules files are compared over responses, and none are named"
        raise UsageError(Code.USAGE, message, hint=f"mukret compare {old} {new} FILE…")
    if rules:
        hint = "name two deliveries, or two rules files and responses"
        raise UsageError(
            Code.USAGE, f"{rules[0]} has rules, the other one is a delivery", hint=hint
        )


def _compare_rules(request: Request) -> bool:
    """Whether two versions of the rules give different tables; what differs is printed."""
    old, new, files = request.old, request.new, request.files
    before, after = loaded_rules(old, files), loaded_rules(new, files)
    sources = find_sources(files, newest=request.newest)
    for source in sources:
        # Read twice, and standard input is there once.
        source.keep()
    with progress_bar(sources, quiet=request.quiet) as progress:
        compared = compare_rules(
            before, after, sources, ignored=listed(request.ignored), progress=progress
        )
    if request.as_json:
        click.echo(json_text(compared.as_json()))
    elif not request.quiet:
        comparison.print_comparison(compared, after)
        comparison.print_next(compared, old, new, files)
    return compared.found
