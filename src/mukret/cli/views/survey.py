"""How a survey is drawn: lists of records, the tree of places, surprises; fitted to the width of
the terminal.
"""

from __future__ import annotations

from collections.abc import Sequence

import click
from rich.console import Console
from rich.text import Text

from mukret.cli.views.counts import print_bad_documents
from mukret.cli.views.problems import print_unmatched
from mukret.cli.views.screen import (
    aligned,
    next_step,
    readable,
    screen,
)
from mukret.cli.views.survey_tree import Tree, span
from mukret.survey.addresses import AddressPlace
from mukret.survey.report import RecordList, Surprise, SurveyReport
from mukret.text import counted, escaped, shortened

MOST_ADDRESSES = 8
WIDEST = 160
MOST_SURPRISES = 30
MOST_LISTS = 25


def print_survey(
    report: SurveyReport,
    files: Sequence[str],
    *,
    quiet: bool,
    details: bool,
    whole: bool = False,
) -> None:
    """Prints a survey; with `details` also reading options and longest texts.

    Unless `whole`, of very many places those that stand deepest are only counted, and of very many
    surprises some are shown.
    """
    console = screen()
    width = min(console.width, WIDEST)
    console.print(_headline(report), width=width)
    print_bad_documents(report.bad, report.bad_documents)
    # The path finds nothing: what may have been meant is all there is to say.
    if not report.roots:
        print_unmatched(report.path or "$", report.hint)
        return
    if report.lists:
        console.print("\n[bold]Lists of records[/bold]")
        _print_lists(report.lists, len(report.lists) if whole else MOST_LISTS)
    console.print("\n[bold]What stands where[/bold]")
    tree = Tree(report, console, width, details, whole=whole)
    tree.print()
    tree.print_cut()
    if report.surprises:
        console.print(
            f"\n[bold yellow]{counted(len(report.surprises), 'surprise')}[/bold yellow]"
        )
        most = len(report.surprises) if whole else MOST_SURPRISES
        for surprise in report.surprises[:most]:
            _print_surprise(surprise, console, width)
        if len(report.surprises) > most:
            console.print(
                f"  … and {len(report.surprises) - most} more: --whole shows all"
            )
    if not quiet:
        _print_next(report, files)


def _headline(report: SurveyReport) -> Text:
    size = (
        f"{counted(report.documents, 'document')} in {counted(report.files, 'file')}, "
        f"{_bytes(report.size)}"
    )
    text = Text(size, style="bold")
    if report.path is not None:
        nodes = counted(report.roots, "node") if report.roots else "nothing"
        text.append(f"; {escaped(report.path)} finds {nodes}", style="not bold")
    if report.passed_over:
        shown = ", ".join(
            f"{count:,} × {escaped(reason)}"
            for reason, count in report.passed_over.items()
        )
        text.append(
            f"\npassed over, since they hold no data: {shown}", style="not bold dim"
        )
    return text


def _bytes(size: int) -> str:
    for unit, power in (("GB", 9), ("MB", 6), ("kB", 3)):
        if size >= 10**power:
            return f"{size / 10**power:.1f} {unit}"
    return counted(size, "byte")


def _print_lists(lists: Sequence[RecordList], most: int) -> None:
    """The lists in their order; of more than so many those that stand highest."""
    # Those that stand highest are what the response is about.
    highest = sorted(
        range(len(lists)), key=lambda number: lists[number].path.count("[")
    )[:most]
    shown = [lists[number] for number in sorted(highest)]
    rows = [
        [f"  {records.path}", f"{records.records:,}", _lists_text(records)]
        for records in shown
    ]
    for line in aligned(rows, right=[1]):
        click.echo(escaped(line))
    if len(lists) > most:
        click.echo(
            f"  … and {counted(len(lists) - most, 'list')} deeper down: --whole shows all"
        )


def _lists_text(records: RecordList) -> str:
    if records.shortest is None or records.longest is None:
        many = "one object" if records.lists == 1 else f"{records.lists:,} objects"
        return f"in {many}, under names that are data"
    if records.lists == 1:
        return "in one list"
    if records.lists == records.records and records.path == "$":
        return "one to a document"
    return f"in {records.lists:,} lists of {span(records.shortest, records.longest)}"


def _print_surprise(surprise: Surprise, console: Console, width: int) -> None:
    text = Text("  ")
    text.append(escaped(surprise.path), style="bold")
    text.append(f": {escaped(surprise.message)}")
    for number, line in enumerate(text.wrap(console, width - 2)):
        line.rstrip()
        console.print(Text("    ") + line if number else line, soft_wrap=True)
    # A place that can be pasted into `look`.
    if surprise.where:
        where = surprise.where
        document = f", document {where.document}" if where.document > 1 else ""
        place = (
            f"    at {escaped(readable(where.path))} in {escaped(where.file)}{document}"
        )
        console.print(Text(place, style="dim"), soft_wrap=True)


def _print_next(report: SurveyReport, files: Sequence[str]) -> None:
    """What to type next, words quoted so that they can be pasted."""
    # Of a single scalar there is nothing to look at or to draft.
    if "-" in files or len(report.places) < 2:
        return
    largest = max(report.lists, key=lambda one: one.records, default=None)
    path = largest.path if largest else report.path or "$"
    click.echo("\nNext: see one as it stands, one list alone; begin rules", err=True)
    next_step("look", files[0], path, "--nth", "1")
    if largest and report.path is None:
        next_step("survey", *files, "--path", path)
        next_step("draft", *files)


def print_addresses(
    places: Sequence[AddressPlace], urls: Sequence[str], kept: str
) -> None:
    """Says which places lead on at the service that documents came from, by requests to these URLs,
    and what to type; `kept` is the folder that the documents stand in.
    """
    if not places:
        return
    click.echo("\nAddresses at the same service, to be asked for as well:", err=True)
    for place in places[:MOST_ADDRESSES]:
        click.echo(
            f"  {escaped(place.path)}: {shortened(escaped(place.example))}", err=True
        )
    if len(places) > MOST_ADDRESSES:
        click.echo(f"  … and {len(places) - MOST_ADDRESSES} more places", err=True)
    # With several it is not known which of them is meant.
    url = urls[0] if len(set(urls)) == 1 else "URL"
    next_step("collect", url, "--follow", places[0].path, "--to", kept)
