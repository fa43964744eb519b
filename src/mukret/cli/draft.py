"""`mukret draft`: a first rules file out of responses."""

from __future__ import annotations

import os
import re
import shlex
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mukret.cli import completing
from mukret.cli.console import next_step
from mukret.cli.options import (
    examples,
    files_argument,
    loaded_rules,
    newest_option,
    output_options,
    set_up_logging,
    sources_of,
)

if TYPE_CHECKING:
    from mukret.documents import Source
    from mukret.drafting import Draft
    from mukret.drafting.wanted import Choice


@click.command(
    "draft",
    short_help="Begin a rules file for responses.",
    epilog=examples(
        "mukret draft merrow-demo/feed --out ferries.rules.yaml",
        "mukret draft merrow-demo/feed --add merrow-demo/merrow.rules.yaml",
    ),
)
@files_argument
@click.option(
    "--out",
    metavar="RULES",
    shell_complete=completing.files,
    help="The rules file to write, which must not exist; without it, to the screen.",
)
@click.option(
    "--add",
    "rules",
    metavar="RULES",
    shell_complete=completing.rules_files,
    help="Add to these rules what they do not read; all else stays.",
)
@click.option(
    "--path", metavar="PATH", help="Only what stands in the nodes that this JSONPath finds."
)
@click.option(
    "--fields",
    metavar="NAMES",
    help="Only these fields, comma-separated: names of members, or of fields of the draft.",
)
@click.option(
    "--like",
    "likes",
    metavar="[TABLE=]CSV",
    multiple=True,
    shell_complete=completing.files,
    help="Instead of all that is there, the rules that give the rows typed in this file.",
)
@newest_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    files: tuple[str, ...],
    out: str | None,
    rules: str | None,
    path: str | None,
    fields: str | None,
    likes: tuple[str, ...],
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Draft rules for every FILE (a file, a folder, a glob, or - for standard input): tables for
    its lists of records, with keys, types and an example of each field, ready to be edited.

    The draft is tried on these files: it makes null of nothing, what is plainly a mistake among
    other values is left to be rejected (with a comment), and what no rule reads stands under
    `ignore`.

    With --like two or three rows of the wanted table are enough: a header and, as `extract` would
    write them, cells; ? is whatever there is, an empty cell null, a row that begins with - not
    wanted. Out come the rules that give them. Exit code 1 if a document could not be read.
    """
    from mukret.cli.progress import progress_bar
    from mukret.drafting import draft_rules, rules_text
    from mukret.paths import parse_path
    from mukret.text import counted

    _refuse_nonsense(out, rules, likes, chosen=path is not None or fields is not None)
    if rules is not None:
        set_up_logging(log, verbose)
        _add(rules, files, quiet=quiet)
        return
    logger = set_up_logging(log, verbose)
    sources = sources_of(files)
    if likes:
        draft, text = _like(likes, sources, _title(files), out or "draft.rules.yaml")
    else:
        with progress_bar(sources, quiet=quiet) as progress:
            draft = draft_rules(
                sources,
                _title(files),
                out or "draft.rules.yaml",
                path=parse_path(path) if path is not None else None,
                fields=[name.strip() for name in (fields or "").split(",") if name.strip()],
                progress=progress,
            )
        text = rules_text(draft)
    if out is None:
        click.echo(text, nl=False)
    else:
        with open(out, "x", encoding="utf-8") as file:
            file.write(text)
    count = sum(len(table.fields) for table in draft.tables)
    summary = f"{counted(len(draft.tables), 'table')} with {counted(count, 'field')}"
    logger.info("drafted %s", summary)
    if not quiet and out is not None:
        click.echo(
            f"{click.style(out, bold=True)}: {summary}, tried on {counted(len(sources), 'file')}",
            err=True,
        )
        next_step("preview", out, *files)
    bad = draft.bad_documents
    if bad and not quiet:
        click.echo(
            f"{counted(bad, 'document')} could not be read: mukret survey says why", err=True
        )
    if draft.rejected and not quiet:
        click.echo(
            f"{counted(draft.rejected, 'row')} of these would be rejected: the comments say why",
            err=True,
        )
    ctx.exit(1 if bad else 0)


def _refuse_nonsense(
    out: str | None, rules: str | None, likes: tuple[str, ...], *, chosen: bool
) -> None:
    """Raises UsageError and OutputError, before anything is read.

    `chosen`: a part of a draft was asked for.
    """
    from mukret.errors import OutputError, UsageError

    if rules is not None and out is not None:
        raise UsageError(
            "usage", "--add changes a rules file, --out makes a new one", hint="take one of them"
        )
    if rules is not None and chosen:
        raise UsageError(
            "usage", "--path and --fields are for a new draft", hint="--add takes all that is new"
        )
    if likes and (rules is not None or chosen):
        raise UsageError(
            "usage", "--like says all that is wanted", hint="leave out --add, --path and --fields"
        )
    if out is not None and os.path.lexists(out):
        hint = f"--add {shlex.quote(out)} adds to it; else name a new file, or take that one away"
        raise UsageError("usage", f"{out} is there already", hint=hint)
    if out is not None and not (place := Path(out).absolute().parent).is_dir():
        raise OutputError(
            "not-written", f"there is no folder {place}", hint="make it, or name another place"
        )


def _like(
    likes: tuple[str, ...], sources: list[Source], title: str, file: str
) -> tuple[Draft, str]:
    """`likes`: files of wanted rows, each perhaps with the name of its table; else that is the name
    of the file.
    """
    from mukret.drafting.names import snake_case
    from mukret.drafting.wanted import draft_like, nobody_asked, read_wanted
    from mukret.errors import UsageError

    wanted = []
    for like in likes:
        name, equals, place = like.partition("=")
        if not equals:
            name, place = snake_case(Path(like).name.partition(".")[0]) or "wanted", like
        if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]{0,62}", name):
            raise UsageError(
                "usage", f"{name!r} is no name of a table", hint="--like bookings=wanted.csv"
            )
        wanted.append(read_wanted(place, name))
    asked = sys.stdin.isatty() and sys.stderr.isatty()
    found = draft_like(sources, wanted, title, file, _chosen if asked else nobody_asked)
    return found.draft, found.text


def _chosen(choice: Choice) -> bool:
    """Asks which of two places is meant."""
    click.echo(
        f"{choice.table}.{choice.column}: two places give it; they differ in row {choice.row}:",
        err=True,
    )
    for number, (place, value) in enumerate(zip(choice.places, choice.values, strict=True), 1):
        click.echo(f"  {number}  {value}  {click.style(place, dim=True)}", err=True)
    answer: str = click.prompt("which is it?", type=click.Choice(["1", "2"]), default="1", err=True)
    return answer == "2"


def _add(rules: str, files: tuple[str, ...], *, quiet: bool) -> None:
    from mukret.destinations.publish import rewrite
    from mukret.drafting.adding import added_to
    from mukret.errors import UsageError
    from mukret.rules.edit import NotPlain
    from mukret.text import counted

    checked = loaded_rules(rules, files)
    with open(rules, encoding="utf-8", newline="") as file:
        text = file.read()
    try:
        added = added_to(checked, text, sources_of(files))
    except NotPlain as error:
        message = f"{rules}: {error} stands in one line, in braces: there is no place for more"
        raise UsageError("usage", message, hint=f"write {error} as a block") from None
    if added.anything:
        rewrite(rules, added.text)
    if quiet:
        return
    if not added.anything:
        click.echo(f"{rules}: nothing is new{_rejected(added.rejected)}", err=True)
        return
    told = [counted(len(added.fields), "field"), counted(len(added.tables), "table")]
    click.echo(
        f"{click.style(rules, bold=True)}: {', '.join(told)} and "
        f"{counted(len(added.ignored), 'path')} to ignore added",
        err=True,
    )
    for name in (*added.fields, *added.tables):
        click.echo(f"  {name}", err=True)
    for path in added.ignored:
        click.echo(f"  {path} (ignored)", err=True)
    for one in added.proposals:
        click.echo(f"  {one.table}.{one.field}: {one.words}", err=True)
    if added.proposals:
        count = counted(len(added.proposals), "proposal")
        click.echo(
            f"{count} put above these fields, to be decided{_rejected(added.rejected)}", err=True
        )


def _rejected(rows: int) -> str:
    from mukret.text import counted

    return f"; {counted(rows, 'row')} would be rejected as the rules stand" if rows else ""


def _title(files: tuple[str, ...]) -> str:
    return f"Drafted from {Path(files[0]).name if files[0] != '-' else 'standard input'}"
