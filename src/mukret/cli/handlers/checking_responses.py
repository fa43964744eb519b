"""`mukret check RULES FILE…`: what responses have that the rules do not expect."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from mukret.cli.views.check import Checked, print_checked
from mukret.cli.views.drift import print_drift
from mukret.cli.views.progress import progress_bar
from mukret.destinations.publish import rewrite
from mukret.documents import find_sources
from mukret.inspect.drift import drift
from mukret.rules import Rules, parse_rules
from mukret.rules.edit import with_ignored
from mukret.text import counted
from mukret.values import json_text

if TYPE_CHECKING:
    from mukret.cli.handlers.check import Request


def check_responses(request: Request, checked: Checked) -> int:
    """Looks at every node of the responses; with --ignore-now the rules ignore from now on what no
    rule reads. Gives the exit code.
    """
    rules = checked.rules
    sources = find_sources(request.files, newest=request.newest)
    with progress_bar(sources, quiet=request.quiet or request.as_json) as progress:
        news = drift(rules, sources, progress=progress)
    if request.as_json:
        click.echo(json_text({**checked.as_json(), "responses": news.as_json()}))
    elif not request.quiet:
        print_checked(checked)
        print_drift(
            news, None if request.ignore_now else (request.rules, *request.files)
        )
    # Printed first, as it was found: what is ignored from now on was seen once.
    if request.ignore_now and news.unread:
        paths = [unread.path for unread in news.unread]
        _ignore(rules, paths)
        if not request.quiet:
            more = counted(len(paths), "path")
            click.echo(f"{rules.file}: {more} more under ignore", err=True)
        # It has been dealt with, and is no finding any more.
        news.unread = []
    return 1 if checked.failed or news.found else 0


def _ignore(rules: Rules, paths: list[str]) -> None:
    """Writes the rules file anew with these paths ignored."""
    with open(rules.file, encoding="utf-8", newline="") as file:
        text = with_ignored(file.read(), paths)
    # Should the text not be valid any more, this raises and nothing is written.
    parse_rules(text, rules.file)
    rewrite(rules.file, text)
