"""What is printed of a collection: each request, each pause, and the results."""

from __future__ import annotations

import logging
import shlex
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import click

from mukret.cli.views.problems import print_failure, print_warning
from mukret.cli.views.screen import aligned, next_step
from mukret.codes import Code
from mukret.collect import Answer, Calls, CaptureFolder, CollectionReport
from mukret.collect.fetching import Try, Waiting, Watcher
from mukret.collect.following import Why
from mukret.collect.judging import status_text
from mukret.collect.paging import End, Fault, Lost
from mukret.collect.signing_in import KeptValue, Session
from mukret.errors import InputError
from mukret.text import counted, escaped, shortened

if TYPE_CHECKING:
    from mukret.collect.report import CallReport

SAID = 200
SHORT_PAUSE = 0.1
# Seconds of a pause that is told of, whoever looks.
LONG_PAUSE = 5.0
MOST_LINES = 5
LONGEST_URL = 90

# How a last page was recognised.
ENDS = {
    End.ONE_ANSWER: "one answer",
    End.NO_CURSOR: "no further cursor",
    End.NO_LINK: "no link to a next page",
    End.NO_ADDRESS: "no address of a next page",
    End.NO_RECORDS: "a page without records",
    End.NOTHING: "an empty answer",
    End.TOTAL: "the total that was stated",
    End.NO_MORE: "it said that there is no more",
}

# Why a list did not come to its end, and what to do.
FAULTS = {
    Fault.REPEATED: (
        "the next page would be one that was there before: {about}",
        "the list was left there",
    ),
    Fault.SAME_RECORDS: (
        "two pages with the same records",
        "does the service know the name in `pages`?",
    ),
    Fault.NOT_A_CURSOR: (
        "what stands where the cursor should is none: {about}",
        "look at the path in `pages`",
    ),
    Fault.NO_LIST: (
        "the records of a page can't be told {about}",
        'say where they are: pages: {{…, list: "$.…"}}',
    ),
    Fault.PAGE_LIMIT: (
        "there are more than {about} pages",
        "limits: {{pages: N}} allows more",
    ),
    Fault.MORE_BUT_NO_CURSOR: (
        "it says that there is more, and has no cursor at {about}",
        "ask the service",
    ),
    Fault.ELSEWHERE: (
        "the next page is at another origin: {about}",
        "origins: […] allows it, without credentials",
    ),
    Fault.NO_ADDRESS: (
        "what stands where the next address should is none: {about}",
        "look at the path in `pages`",
    ),
}

# Why records led to no request.
NOT_ASKED = {
    Why.MISSING: "have no {about}",
    Why.NOT_TEXT: "have no text or number there: {about}",
    Why.SEVERAL: "have several values at {about}",
    Why.NOT_FILLED: "give an address that can't be filled: {about}",
    Why.NO_ADDRESS: "give what is no address: {about}",
    Why.ELSEWHERE: "lead to another origin: {about}",
}


class CollectView(Watcher):
    """Prints and logs what happens. Its methods are called by several threads."""

    def __init__(
        self,
        calls: Calls,
        target: str,
        logger: logging.Logger,
        *,
        quiet: bool,
        verbose: bool,
    ) -> None:
        self.calls = calls
        self.target = target.rstrip("/")
        self.logger = logger
        self.quiet = quiet
        self.verbose = verbose
        # Answers come from several threads, and a line is written whole.
        self.lock = threading.Lock()
        self.bar: Any = None
        self.report: CollectionReport | None = None
        self.kept: list[KeptValue] = []
        self.begun = time.monotonic()
        self.apart = 0

    # ---- while it goes on

    @contextmanager
    def progress(self, report: CollectionReport) -> Iterator[None]:
        """A line on a terminal that shows how far it has come, and is removed at the end."""
        self.report = report
        self.begun = time.monotonic()
        # In a log file it would be a line for each turn of the wheel.
        if self.quiet or not sys.stderr.isatty():
            yield
            return
        # Loaded where something is drawn: a job at night needs none of it.
        from rich.console import Console
        from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

        told = TextColumn("{task.description}", markup=False)
        console = Console(stderr=True, highlight=False)
        with Progress(
            SpinnerColumn(), told, TimeElapsedColumn(), console=console, transient=True
        ) as bar:
            bar.add_task("asking …")
            self.bar = bar
            try:
                yield
            finally:
                self.bar = None

    def tried(self, tried: Try) -> None:
        line = _request_line(tried)
        self.logger.info("%s", line)
        with self.lock:
            if self.verbose and not self.quiet:
                self._echo(click.style(line, dim=True))
            self._refresh()

    def waiting(self, pause: Waiting) -> None:
        line = (
            f"{pause.why}: {_seconds(pause.seconds)} until try {pause.number} of "
            f"{pause.tries}, {pause.shown}"
        )
        self.logger.warning("%s", line)
        with self.lock:
            # Short pauses come by the hundred where a service limits its rate.
            if not self.quiet and (self.verbose or pause.seconds >= LONG_PAUSE):
                self._echo(click.style(escaped(line), fg="yellow"))
            self._refresh(
                f", waiting {_seconds(pause.seconds)}: {pause.why}"
                if pause.seconds >= SHORT_PAUSE
                else ""
            )

    def signed_in(self, session: Session) -> None:
        with self.lock:
            self.kept = session.told
            for kept in session.told:
                self.logger.info("signed in: %s", kept_line(kept))
                if self.verbose and not self.quiet:
                    self._echo(click.style(f"signed in: {kept_line(kept)}", dim=True))

    def _refresh(self, more: str = "") -> None:
        if self.bar is None or self.report is None:
            return
        report = self.report
        asked = sum(1 for call in report.calls.values() if call.pages)
        told = f"{counted(asked, 'call')}, {counted(report.pages, 'page')}, {_bytes(report.bytes)}"
        waits = f", {counted(report.retries, 'pause')}" if report.retries else ""
        self.bar.update(0, description=shortened(escaped(told + waits + more), 100))

    def _echo(self, line: str) -> None:
        if self.bar is not None:
            from rich.text import Text

            self.bar.console.print(Text.from_ansi(line), soft_wrap=True)
        else:
            click.echo(line, err=True)

    def answered(self, answer: Answer) -> None:
        """An answer was kept."""
        # The mark for the end of a list is no answer.
        if self.quiet or answer.ends_list:
            return
        with self.lock:
            if answer.problem is not None:
                self._apart(answer)
            elif self.calls.by_hand and not (
                self.calls.calls[0].pages or len(self.calls.calls) > 1
            ):
                self._kept(answer)

    def _kept(self, answer: Answer) -> None:
        self._echo(click.style(escaped(answer.url), bold=True))
        media_type = escaped(answer.media_type or "no media type")
        size = counted(answer.size, "byte")
        self._echo(
            f"  {status_text(answer.status)}, {media_type}, {size}, {answer.seconds:.2f} s"
        )
        documents = (
            "unchanged" if answer.unchanged else counted(answer.documents, "document")
        )
        self._echo(f"  {documents} in {self.target}/{answer.file}")
        # Told at once: who asks again only to see what was wrong costs the service a request.
        if answer.bad_documents:
            bad = counted(answer.bad_documents, "document")
            self._echo(
                click.style(
                    f"  {bad} in it can't be read: mukret survey shows which",
                    fg="yellow",
                )
            )

    def _apart(self, answer: Answer) -> None:
        self.apart += 1
        if self.apart > MOST_LINES:
            return  # how many there are stands in the report
        if self.calls.by_hand and len(self.calls.calls) == 1 and answer.page == 1:
            return  # the error at the end says all of it
        self._echo(click.style(escaped(answer.url), bold=True))
        problem = escaped(answer.problem or "")
        self._echo(
            click.style(
                f"  {problem}: kept apart, {self.target}/{answer.file}", fg="yellow"
            )
        )
        if answer.said:
            self._echo(
                click.style(f"  it begins: {escaped(answer.said[:SAID])}", dim=True)
            )

    # ---- at the end

    def print_report(self, report: CollectionReport, *, ended: bool) -> None:
        """What came of each call, what is not as it should be, and how the service was treated."""
        self._log_report(report)
        if self.quiet or (ended and self._all_was_said(report)):
            return
        if report.pages or (report.apart and len(report.calls) > 1):
            self._print_calls(report)
        self._print_signed_in(report)
        if report.tries and (report.pages or report.retries):
            self._print_requests(report)
        if self.apart > MOST_LINES:
            more = counted(self.apart - MOST_LINES, "more answer")
            click.secho(
                f"{more} kept apart: capture.jsonl says why of each",
                fg="yellow",
                err=True,
            )
        for name, call in report.calls.items():
            self._print_findings(name, call)

    def _all_was_said(self, report: CollectionReport) -> bool:
        """Whether there is one answer to an address that was typed: it was shown when it came."""
        alone = self.calls.by_hand and report.pages == 1
        return alone and not report.findings and not report.retries

    def _print_requests(self, report: CollectionReport) -> None:
        took = _seconds(time.monotonic() - self.begun)
        line = f"{counted(report.tries, 'request')} in {took}"
        if report.retries:
            line += f", {report.retries:,} of them again, {_seconds(report.waited)} of pauses"
        click.echo(line, err=True)

    def _print_calls(self, report: CollectionReport) -> None:
        what = (
            f"{counted(report.pages, 'page')} in {counted(len(report.calls), 'call')}"
        )
        since = f", round {report.round}"
        if report.continued:
            since += f", begun {report.continued[:16].replace('T', ' ')} UTC and gone on with"
        click.echo(
            f"{what} → {click.style(self.target + '/', bold=True)}{since}", err=True
        )
        rows = [
            [
                "call",
                "pages",
                *self._more_heads(report),
                "size",
                "lists",
                "how the last page was recognised",
            ]
        ]
        # Each call in the order of the file, also one that was never asked.
        for name, call in report.calls.items():
            more = [
                f"{getattr(call, attribute):,}" for attribute, _ in self._more(report)
            ]
            ends = ", ".join(
                _counted_end(end, count) for end, count in call.lists.most_common()
            )
            lists = sum(call.lists.values()) + sum(call.faults.values())
            rows.append(
                [name, f"{call.pages:,}", *more, _bytes(call.bytes), f"{lists:,}", ends]
            )
        header, *lines = aligned(rows, right=range(1, len(rows[0]) - 1))
        click.secho(f"  {header}", dim=True, err=True)
        for line in lines:
            click.echo(f"  {escaped(line)}", err=True)

    def _more(self, report: CollectionReport) -> list[tuple[str, str]]:
        """Counts that are not always there."""
        named = [
            ("before", "kept before"),
            ("unchanged", "unchanged"),
            ("apart", "apart"),
        ]
        # A column of noughts takes room and says nothing.
        return [(name, head) for name, head in named if _is_counted(report, name)]

    def _more_heads(self, report: CollectionReport) -> list[str]:
        return [head for _, head in self._more(report)]

    def _print_signed_in(self, report: CollectionReport) -> None:
        if not report.sign_ins:
            return
        times = "" if report.sign_ins == 1 else f" {report.sign_ins:,} times"
        kept = "; ".join(kept_line(value) for value in self.kept)
        click.echo(f"signed in{times}{': ' if kept else ''}{kept}", err=True)

    def _print_findings(self, name: str, call: CallReport) -> None:
        self._print_lists(name, call)
        for (why, about), count in call.not_asked.most_common(MOST_LINES):
            records = counted(count, "record")
            words = NOT_ASKED[Why(why)].format(about=about or "…")
            print_warning(
                f"{name}: {records} led to no request: they {words} [not-asked]"
            )
        for error in call.given_up[:MOST_LINES]:
            print_failure(
                f"{name}: {error.message} [{error.code}]", place=None, hint=error.hint
            )
        if len(call.given_up) > MOST_LINES:
            click.echo(
                f"  … and {len(call.given_up) - MOST_LINES:,} more of {name}", err=True
            )
        for doubt, count in call.doubts.most_common(MOST_LINES):
            lists = "the answer has" if count == 1 else f"{count:,} answers have"
            message = f"{name}: {lists} nothing at {doubt.path}, and seems to go on [unmatched]"
            hint = (
                f"did you mean {doubt.meant}?"
                if doubt.meant
                else f"pages: {doubt.seems}"
            )
            print_warning(message, hint=hint)
        if call.unmatched is not None:
            path, near = call.unmatched
            message = f"{name}: {path} finds nothing in the answers that it hangs on [unmatched]"
            print_warning(message, hint=near)
        # Records share addresses so often that it is no news.
        if call.asked_before and self.verbose:
            same = counted(call.asked_before, "record")
            click.echo(
                f"  {name}: {same} led to an address that had been asked already",
                err=True,
            )

    def _print_lists(self, name: str, call: CallReport) -> None:
        """Lists that did not come to their end, or have fewer records than was said."""
        for lost, url in call.lost[:MOST_LINES]:
            message, hint = fault_words(lost)
            print_failure(
                f"{name}: {message} [{lost.fault.value}]", place=url, hint=hint
            )
        hidden = sum(call.faults.values()) - len(call.lost[:MOST_LINES])
        if hidden > 0:
            click.echo(f"  … and {hidden:,} more lists of {name}", err=True)
        # Behind the lists that broke off: the service itself may have cut these.
        for last, url in call.short[:MOST_LINES]:
            message = f"{name}: {last.count:,} records came of {last.stated:,} that were stated"
            hint = "ask the service; it may have cut the list off"
            print_failure(f"{message} [records-short]", place=url, hint=hint)

    def _log_report(self, report: CollectionReport) -> None:
        for name, call in report.calls.items():
            self.logger.info("%s: %s", name, call.as_json())
            for lost, url in call.lost:
                self.logger.error("%s: %s at %s", name, fault_words(lost)[0], url)
            for error in call.given_up:
                self.logger.error("%s: %s", name, error.message)

    def print_next(
        self,
        folder: CaptureFolder,
        report: CollectionReport,
        answers: list[Answer],
        save_calls: str | None,
        *,
        then: bool,
    ) -> None:
        """What lies beside the answers, and what to type next."""
        if self.quiet:
            return
        beside, again = _beside(folder, report.round)
        if beside:
            answers_before = counted(beside, "answer")
            click.echo(
                f"  beside {answers_before} from before: a run reads all that is kept there",
                err=True,
            )
        if again:
            same = "the same address" if report.pages == 1 else "the same addresses"
            click.echo(
                f"  {again:,} of them from {same}: --newest reads the newest answer of each alone",
                err=True,
            )
        self._print_more_pages(answers)
        if then:
            return
        click.echo("\nNext:", err=True)
        # What is missing comes before what to do with the rest.
        if report.given_up or report.apart:
            click.echo(
                "  what is missing is asked for again by the same command with --go-on",
                err=True,
            )
        next_step("survey", self.target, *(["--newest"] if again else []))
        if save_calls:
            next_step("collect", save_calls, "--to", self.target)

    def _print_more_pages(self, answers: list[Answer]) -> None:
        """Of an address that was typed: whether its answer names a next page."""
        for answer in answers:
            if answer.next_page is not None:
                click.secho("  there are more pages", fg="yellow", nl=False, err=True)
                how = shlex.quote(answer.next_page)
                click.echo(
                    f": the answer names the next one; --pages {how} asks for them all",
                    err=True,
                )
                # One call says how it is done for all of them.
                return


def none_kept(apart: list[Answer], target: str) -> InputError:
    """The error where no answer is data."""
    from mukret.documents import WHAT_TO_DO

    first, target = apart[0], target.rstrip("/")
    if len(apart) > 1:
        # Of many answers the one reason that most of them share.
        reasons = Counter(answer.problem for answer in apart)
        hint = f"most often: {reasons.most_common(1)[0][0]}"
        return InputError(
            Code.SET_APART,
            f"none of {len(apart)} answers is data",
            place=f"{target}/apart",
            hint=hint,
        )
    hint = (
        f"it begins: {shortened(' '.join(first.said.split()), SAID)}"
        if first.said
        else ""
    )
    # Mostly a sign-in was forgotten, and that is all there is to know.
    if first.status in (401, 403):
        hint = "sign in: --bearer VARIABLE, or --basic VARIABLE VARIABLE" + (
            f"; {hint}" if hint else ""
        )
    if first.finding and first.finding.excerpt.strip():
        hint = WHAT_TO_DO[first.finding.sort]
    message = f"{first.url}: {first.problem}"
    error = InputError(
        Code.SET_APART, message, place=f"{target}/{first.file}", hint=hint or None
    )
    if first.finding and first.finding.excerpt.strip():
        error.pointer = (first.finding.excerpt, first.finding.caret)
    return error


def fault_words(lost: Lost) -> tuple[str, str]:
    """What is wrong with a list, and what to do."""
    message, hint = FAULTS[lost.fault]
    about = (
        f"at {lost.about}" if lost.fault is Fault.NO_LIST and lost.about else lost.about
    )
    return escaped(
        message.format(about=shortened(about, LONGEST_URL)).rstrip()
    ), hint.format()


def kept_line(kept: KeptValue) -> str:
    """`token from $.gangway.pass, 9 characters, good for 60 min`; never the value."""
    good = f", good for {_seconds(kept.seconds)}" if kept.seconds is not None else ""
    return f"{kept.name} from {kept.source}, {counted(kept.length, 'character')}{good}"


def _request_line(tried: Try) -> str:
    """Address, status, size and time of a request."""
    if tried.reply is None:
        return escaped(f"{tried.shown}  {tried.told}")
    reply = tried.reply
    line = (
        f"{tried.shown}  {status_text(reply.status)}  {_bytes(reply.content.size)}  "
        f"{reply.seconds:.2f} s"
    )
    problem = (
        tried.judgement.problem
        # With another status the status says what is wrong.
        if tried.judgement and 200 <= reply.status < 300
        else None
    )
    return escaped(f"{line}  {problem}" if problem else line)


def _counted_end(end: End, count: int) -> str:
    return ENDS[end] if count == 1 else f"{ENDS[end]} ({count:,} times)"


def _beside(folder: CaptureFolder, round: int) -> tuple[int, int]:
    """How many answers of earlier rounds are kept, and how many of them are of lists that were
    asked for again.
    """
    now = {
        record.key
        for record in folder.records()
        if record.round == round and not record.apart
    }
    beside = again = 0
    for record in folder.records():
        # What was unchanged is the same answer again and stands in no file.
        if record.round != round and not record.apart and not record.unchanged:
            beside += 1
            again += record.key in now
    return beside, again


def _seconds(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.1f} s" if seconds < 10 else f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"


def _bytes(size: int) -> str:
    if size < 1000:
        return f"{size} B"
    return (
        f"{size / 1000:,.1f} kB" if size < 1_000_000 else f"{size / 1_000_000:,.1f} MB"
    )


def _is_counted(report: CollectionReport, name: str) -> bool:
    """Whether some call has counted anything of that name."""
    return any(getattr(call, name) for call in report.calls.values())
