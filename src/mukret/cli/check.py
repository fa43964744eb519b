"""`mukret check`: what is wrong with a rules file, and its examples."""

from __future__ import annotations

import json
from typing import Any

import click

from mukret.cli.options import examples, json_option, output_options, rules_argument, set_up_logging


@click.command(
    "check",
    short_help="Say what is wrong with a rules file, and run its examples.",
    epilog=examples(
        "mukret check merrow-demo/merrow.rules.yaml",
        "mukret check merrow-demo/merrow.rules.yaml --json",
    ),
)
@rules_argument
@json_option
@output_options
@click.pass_context
def command(ctx: click.Context, rules: str, as_json: bool, quiet: bool, verbose: int, log: str | None) -> None:
    """Check RULES without any data.

    Reports every problem of the file at once, each with its place, and runs the examples that stand in it. Exit code 0:
    all is well; 1: an example fails; 2: the file has problems.
    """
    from mukret.errors import RulesError
    from mukret.rules import load_rules

    logger = set_up_logging(log, verbose)
    try:
        checked = load_rules(rules)
    except RulesError as error:
        logger.error("%s", error)
        if as_json:
            click.echo(
                json.dumps({"problems": [_problem(found) for found in error.diagnostics], "examples": []}, indent=2)
            )
            ctx.exit(error.exit_code)
        raise
    from mukret.engine.examples import run_examples

    outcomes = run_examples(checked)
    failed = [outcome for outcome in outcomes if not outcome.passed]
    logger.info("%s: %d examples, %d failed", rules, len(outcomes), len(failed))
    if as_json:
        shown = [{"shows": item.example.shows, "differences": list(item.differences)} for item in outcomes]
        click.echo(json.dumps({"problems": [], "examples": shown}, indent=2, ensure_ascii=False))
    elif not quiet:
        _print(checked, outcomes)
    ctx.exit(1 if failed else 0)


def _problem(found: Any) -> dict[str, Any]:
    names = ("file", "line", "column", "code", "message", "hint")
    return {name: getattr(found, name) for name in names}


def _print(rules: Any, outcomes: list[Any]) -> None:
    from mukret.text import counted, escaped

    fields = sum(len(table.fields) for table in rules.tables.values())
    for outcome in outcomes:
        if outcome.passed:
            click.echo(f"{click.style('passes', fg='green')}  {escaped(outcome.example.shows)}")
            continue
        place = f"{outcome.example.file}:{outcome.example.line}:{outcome.example.column}"
        fails = click.style("fails", fg="red", bold=True)
        click.echo(f"{fails}   {escaped(outcome.example.shows)} [example-failed] at {place}")
        for difference in outcome.differences:
            click.echo(f"          {escaped(difference)}")
    failed = sum(not outcome.passed for outcome in outcomes)
    verdict = f"{counted(failed, 'example')} failed" if failed else "no problems"
    size = f"{counted(len(rules.tables), 'table')}, {counted(fields, 'field')}, {counted(len(outcomes), 'example')}"
    click.echo(f"{rules.file}: {verdict} ({size})")
