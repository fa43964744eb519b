"""`mukret check`: what is wrong with a rules file, and its examples."""

from __future__ import annotations

import click

from mukret.cli.commands import completing
from mukret.cli.commands.handling import handled
from mukret.cli.commands.options import (
    examples,
    json_option,
    newest_option,
    output_options,
    rules_argument,
)


@click.command(
    "check",
    epilog=examples(
        "mukret check merrow-demo/merrow.rules.yaml",
        "mukret check merrow-demo/merrow.rules.yaml merrow-demo/feed",
    ),
)
@rules_argument
@click.argument("files", metavar="[FILE]...", nargs=-1, shell_complete=completing.files)
@click.option(
    "--ignore-now",
    is_flag=True,
    help="Add what no rule reads now to `ignore` in RULES.",
)
@newest_option
@json_option
@output_options
@handled
def command() -> None:
    """Check RULES: every problem of the file at once, each with its place, and the examples that
    stand in it.

    With FILEs (a file, a folder, a glob, or - for standard input) also what is in them that the
    rules do not expect: what no rule reads, rules that find nothing, words that an enum does not
    have, values that do not fit. Every node of them is looked at. In place of RULES a calls file
    (of mukret collect) can be checked, alone. Exit code 0: all is well; 1: an example fails, or
    something is new; 2: the file has problems.
    """
