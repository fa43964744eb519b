"""`mukret check`: what is wrong with a rules file, and its examples."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from mukret.cli import completing
from mukret.cli.console import next_step, print_notices
from mukret.cli.options import (
    examples,
    json_option,
    loaded_rules,
    looks_like_calls,
    newest_option,
    output_options,
    rules_argument,
    set_up_logging,
    sources_of,
)
from mukret.values import json_text

if TYPE_CHECKING:
    from mukret.errors import Notice
    from mukret.inspect.drift import Drift
    from mukret.rules.model import Rules


@click.command(
    "check",
    short_help="Say what is wrong with a rules file, or new in responses.",
    epilog=examples(
        "mukret check merrow-demo/merrow.rules.yaml",
        "mukret check merrow-demo/merrow.rules.yaml merrow-demo/feed",
    ),
)
@rules_argument
@click.argument("files", metavar="[FILE]...", nargs=-1, shell_complete=completing.files)
@click.option("--ignore-now", is_flag=True, help="Add what no rule reads now to `ignore` in RULES.")
@newest_option
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    rules: str,
    files: tuple[str, ...],
    ignore_now: bool,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Check RULES: every problem of the file at once, each with its place, and the examples that
    stand in it.

    With FILEs (a file, a folder, a glob, or - for standard input) also what is in them that the
    rules do not expect: what no rule reads, rules that find nothing, words that an enum does not
    have, values that do not fit. Every node of them is looked at. In place of RULES a calls file
    (of mukret collect) can be checked, alone. Exit code 0: all is well; 1: an example fails, or
    something is new; 2: the file has problems.
    """
    from mukret.errors import RulesError, UsageError

    if ignore_now and not files:
        raise UsageError(
            "usage",
            "--ignore-now wants responses to look at",
            hint="mukret check RULES FILE… --ignore-now",
        )
    logger = set_up_logging(log, verbose)
    try:
        if looks_like_calls(rules):
            _check_calls(rules, files, as_json=as_json, quiet=quiet)
            return
        checked = loaded_rules(rules, files)
    except RulesError as error:
        logger.error("%s", error)
        if as_json:
            problems = [_problem(found) for found in error.diagnostics]
            click.echo(json_text({"problems": problems, "warnings": [], "examples": []}))
            ctx.exit(error.exit_code)
        raise
    from mukret.rules.advice import advice
    from mukret.semantics.examples import run_examples

    warnings = advice(checked)
    outcomes = run_examples(checked)
    failed = [outcome for outcome in outcomes if not outcome.passed]
    logger.info("%s: %d examples, %d failed", rules, len(outcomes), len(failed))
    found = _drift(checked, files, quiet=quiet or as_json) if files else None
    if as_json:
        shown = [
            {"shows": item.example.shows, "differences": list(item.differences)}
            for item in outcomes
        ]
        report: dict[str, Any] = {
            "problems": [],
            "warnings": list(map(_warning, warnings)),
            "examples": shown,
        }
        if found is not None:
            report["responses"] = found.as_json()
        click.echo(json_text(report))
    elif not quiet:
        _print(checked, outcomes)
        print_notices(warnings)
        if found is not None:
            from mukret.cli.drift_view import print_drift

            print_drift(found, None if ignore_now else (rules, *files))
    if found is not None and ignore_now and found.unread:
        _ignore(checked, [one.path for one in found.unread], quiet=quiet)
        found.unread = []
    ctx.exit(1 if failed or (found is not None and found.found) else 0)


def _check_calls(file: str, files: tuple[str, ...], *, as_json: bool, quiet: bool) -> None:
    """Checks a calls file; nothing is sent. Raises RulesError with every problem."""
    import os

    from mukret.collect import load_calls
    from mukret.errors import UsageError
    from mukret.text import counted

    if files:
        hint = f"mukret collect {file} --to kept; then mukret check RULES kept"
        raise UsageError(
            "usage", f"{file} is a calls file: it is checked without responses", hint=hint
        )
    calls = load_calls(file)
    if as_json:
        click.echo(json_text({"problems": [], "warnings": [], "examples": []}))
    elif not quiet:
        variables = sorted({secret.variable for secret in calls.secrets()})
        click.echo(
            f"{file}: no problems ({counted(len(calls.calls), 'call')}; secrets: "
            f"{', '.join(variables) or 'none'})"
        )
        for variable in variables:
            if not os.environ.get(variable):
                click.secho(f"  the environment has no {variable}", fg="yellow", err=True)
        next_step("collect", file, "--dry-run")


def _drift(checked: Rules, files: tuple[str, ...], *, quiet: bool) -> Drift:
    from mukret.cli.progress import progress_bar
    from mukret.inspect.drift import drift

    sources = sources_of(files)
    with progress_bar(sources, quiet=quiet) as progress:
        return drift(checked, sources, progress=progress)


def _ignore(checked: Rules, paths: list[str], *, quiet: bool) -> None:
    """Writes the rules file anew with these paths ignored, beside its place and then into it."""
    from mukret.destinations.publish import rewrite
    from mukret.rules import parse_rules
    from mukret.rules.edit import with_ignored
    from mukret.text import counted

    with open(checked.file, encoding="utf-8", newline="") as file:
        text = with_ignored(file.read(), paths)
    parse_rules(
        text, checked.file
    )  # raises, and nothing is written, should it not be valid any more
    rewrite(checked.file, text)
    if not quiet:
        click.echo(f"{checked.file}: {counted(len(paths), 'path')} more under ignore", err=True)


def _problem(found: Any) -> dict[str, Any]:
    names = ("file", "line", "column", "code", "message", "hint")
    return {name: getattr(found, name) for name in names}


def _warning(notice: Notice) -> dict[str, Any]:
    return {name: getattr(notice, name) for name in ("code", "message", "place", "hint", "table")}


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
    size = (
        f"{counted(len(rules.tables), 'table')}, {counted(fields, 'field')}, "
        f"{counted(len(outcomes), 'example')}"
    )
    click.echo(f"{rules.file}: {verdict} ({size})")
