"""`mukret draft`: a first rules file out of responses, or out of wanted rows."""

from __future__ import annotations

import os
import re
import shlex
import sys
from dataclasses import dataclass
from pathlib import Path

import click

from mukret.cli.handlers.inputs import listed, loaded_rules
from mukret.cli.handlers.request import Talk
from mukret.cli.views.draft import ask_which, print_added, print_drafted, summary
from mukret.cli.views.progress import progress_bar
from mukret.codes import Code
from mukret.destinations.publish import rewrite
from mukret.documents import Source, find_sources
from mukret.drafting import Draft, draft_rules, rules_text
from mukret.drafting.adding import added_to
from mukret.drafting.names import snake_case
from mukret.drafting.wanted import draft_like, nobody_asked, read_wanted
from mukret.errors import OutputError, UsageError
from mukret.paths import parse_path
from mukret.rules.edit import NotPlain

_TABLE_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,62}")
# The name of a draft that goes to the screen, where a message has to name it.
_UNNAMED = "draft.rules.yaml"


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret draft`."""

    files: tuple[str, ...]
    out: str | None
    rules: str | None
    path: str | None
    fields: str | None
    likes: tuple[str, ...]
    newest: bool

    @property
    def title(self) -> str:
        first = self.files[0]
        return f"Drafted from {Path(first).name if first != '-' else 'standard input'}"

    @property
    def partial(self) -> bool:
        """Whether only a part of a draft was asked for."""
        return self.path is not None or self.fields is not None

    def sources(self) -> list[Source]:
        return find_sources(self.files, newest=self.newest)


def handle(request: Request) -> int:
    _refuse_nonsense(request)
    logger = request.start_log()
    if request.rules is not None:
        _add(request, request.rules)
        return 0
    sources = request.sources()
    draft, text = _like(request, sources) if request.likes else _draft(request, sources)
    if request.out is None:
        click.echo(text, nl=False)
    else:
        # Never over what is there, even if it came while the draft was made.
        with open(request.out, "x", encoding="utf-8") as file:
            file.write(text)
    logger.info("drafted %s", summary(draft))
    if not request.quiet:
        print_drafted(draft, request.out, request.files, sources=len(sources))
    return 1 if draft.bad_documents else 0


def _refuse_nonsense(request: Request) -> None:
    """Raises UsageError and OutputError, before anything is read."""
    out = request.out
    if request.rules is not None and out is not None:
        message = "--add changes a rules file, --out makes a new one"
        raise UsageError(Code.USAGE, message, hint="take one of them")
    if request.rules is not None and request.partial:
        message = "--path and --fields are for a new draft"
        raise UsageError(Code.USAGE, message, hint="--add takes all that is new")
    if request.likes and (request.rules is not None or request.partial):
        hint = "leave out --add, --path and --fields"
        raise UsageError(Code.USAGE, "--like says all that is wanted", hint=hint)
    if out is None:
        return
    # Asked before the input is read, which may take minutes.
    if os.path.lexists(out):
        hint = f"--add {shlex.quote(out)} adds to it; else name a new file, or take that one away"
        raise UsageError(Code.USAGE, f"{out} is there already", hint=hint)
    folder = Path(out).absolute().parent
    if not folder.is_dir():
        hint = "make it, or name another place"
        raise OutputError(Code.NOT_WRITTEN, f"there is no folder {folder}", hint=hint)


def _draft(request: Request, sources: list[Source]) -> tuple[Draft, str]:
    """A draft of all that is there, or of the part that was asked for."""
    with progress_bar(sources, quiet=request.quiet) as progress:
        draft = draft_rules(
            sources,
            request.title,
            # Messages about the draft name the file that it is to be in.
            request.out or _UNNAMED,
            path=parse_path(request.path) if request.path is not None else None,
            fields=listed(request.fields),
            progress=progress,
        )
    return draft, rules_text(draft)


def _like(request: Request, sources: list[Source]) -> tuple[Draft, str]:
    """A draft of what gives wanted rows."""
    wanted = [
        read_wanted(place, name) for name, place in map(_table_and_file, request.likes)
    ]
    # In a script nobody answers: the first place is taken.
    somebody = sys.stdin.isatty() and sys.stderr.isatty()
    ask = ask_which if somebody else nobody_asked
    proposed = draft_like(sources, wanted, request.title, request.out or _UNNAMED, ask)
    return proposed.draft, proposed.text


def _table_and_file(like: str) -> tuple[str, str]:
    """`bookings=wanted.csv`; without a name the table has that of the file. Raises UsageError."""
    name, equals, file = like.partition("=")
    if not equals:
        # `bookings.wanted.csv` is of bookings.
        name, file = snake_case(Path(like).name.partition(".")[0]) or "wanted", like
    if not _TABLE_NAME.fullmatch(name):
        hint = "--like bookings=wanted.csv"
        raise UsageError(Code.USAGE, f"{name!r} is no name of a table", hint=hint)
    return name, file


def _add(request: Request, rules: str) -> None:
    """Adds to a rules file what it does not read. Raises UsageError without a place for it."""
    checked = loaded_rules(rules, request.files)
    # Line ends are kept as they are: only what is added may differ in a comparison of versions.
    with open(rules, encoding="utf-8", newline="") as file:
        text = file.read()
    try:
        added = added_to(checked, text, request.sources())
    except NotPlain as error:
        message = f"{rules}: {error} stands in one line, in braces: there is no place for more"
        raise UsageError(
            Code.USAGE, message, hint=f"write {error} as a block"
        ) from None
    # A file in which nothing has changed keeps its time, for those who watch it.
    if added.anything:
        rewrite(rules, added.text)
    if not request.quiet:
        print_added(added, rules)
