"""`mukret check`: what is wrong with a rules file or a calls file, and what its examples give."""

from __future__ import annotations

from dataclasses import dataclass

import click

from mukret.cli.handlers.inputs import loaded_rules, looks_like_calls
from mukret.cli.handlers.request import Talk
from mukret.cli.views.check import Checked, print_checked, problems_as_json
from mukret.codes import Code
from mukret.errors import RulesError, UsageError
from mukret.rules.advice import advice
from mukret.semantics.examples import run_examples
from mukret.values import json_text


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret check`."""

    rules: str
    files: tuple[str, ...]
    ignore_now: bool
    newest: bool
    as_json: bool


def handle(request: Request) -> int:
    if request.ignore_now and not request.files:
        message = "--ignore-now wants responses to look at"
        raise UsageError(
            Code.USAGE, message, hint="mukret check RULES FILE… --ignore-now"
        )
    logger = request.start_log()
    try:
        if looks_like_calls(request.rules):
            # What talks to a service is imported for calls files alone.
            from mukret.cli.handlers.checking_calls import check_calls

            check_calls(request)
            return 0
        rules = loaded_rules(request.rules, request.files)
    except RulesError as error:
        logger.error("%s", error)
        if request.as_json:
            click.echo(json_text(problems_as_json(error.diagnostics)))
            return error.exit_code
        raise
    checked = Checked(rules, advice(rules), run_examples(rules))
    logger.info("%s: %s", request.rules, checked.examples_in_short)
    if request.files:
        # Without responses nothing of a run is needed, and none of its start-up time is taken.
        from mukret.cli.handlers.checking_responses import check_responses

        return check_responses(request, checked)
    if request.as_json:
        click.echo(json_text(checked.as_json()))
    elif not request.quiet:
        print_checked(checked)
    return 1 if checked.failed else 0
