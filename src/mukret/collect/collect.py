"""Calls → answers, each kept as it came, beside what is known of it.

Requests are sent by as many threads as the calls allow. What came is looked at in the order in
which it was asked for, so that answers have the same numbers however many threads there are, and in
whichever process a round goes on.
"""

from __future__ import annotations

import os
import random
from collections import deque
from collections.abc import Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

from mukret.codes import Code
from mukret.collect.asking import Ask
from mukret.collect.bounds import Bounds
from mukret.collect.calls import Calls
from mukret.collect.earlier import Earlier, KeptAnswer
from mukret.collect.fetching import Fetcher, Try, Watcher, documents_in
from mukret.collect.folder import CaptureFolder, Received
from mukret.collect.following import NotAsked, Why
from mukret.collect.frontier import Frontier
from mukret.collect.judging import AnswerSort, Judgement
from mukret.collect.manners import Clock, RealClock
from mukret.collect.masking import Masker
from mukret.collect.paging import Last, Lost, More, Outlook, Page, outlook
from mukret.collect.report import MOST_EXAMPLES, Answer, CallReport, CollectionReport
from mukret.collect.rounds import Round, end_round, this_round
from mukret.collect.templates import NotFilled
from mukret.collect.wire import RequestWriter
from mukret.errors import InputError
from mukret.paths import nearest_existing
from mukret.values import JsonValue

# Characters of a body that is no data that are shown.
SAID = 300
# After so many requests in a row that had to be given up the service is taken to be away.
MOST_IN_A_ROW = 10


@dataclass(frozen=True)
class Manner:
    """How a collection goes about what was kept before.

    `source` names the calls file or the address; `since_last`: only what changed is sent; `anew`
    and `go_on`: a new round although the last one did not end, or the other way round.
    """

    source: str = ""
    since_last: bool = False
    anew: bool = False
    go_on: bool = False


@dataclass(frozen=True)
class _Body:
    """Where a body is kept, and how it begins if it is no data."""

    file: str
    size: int
    sha256: str
    said: str = ""


class Collection:
    """One run. Iterate over it: it gives each answer once it is kept; `report` has the counts."""

    def __init__(
        self,
        calls: Calls,
        folder: CaptureFolder,
        *,
        bounds: Bounds | None = None,
        environment: Mapping[str, str] = os.environ,
        manner: Manner = Manner(),  # it is frozen
        watcher: Watcher | None = None,
        clock: Clock | None = None,
        chance: random.Random | None = None,
    ) -> None:
        """Raises UsageError for a secret that the environment lacks or that can't be sent."""
        self.calls = calls
        self.folder = folder
        self.manner = manner
        self.masker = Masker.of(calls, environment)
        self.writer = RequestWriter(calls, environment, self.masker)
        self.report = CollectionReport(
            {call.name: CallReport() for call in calls.calls}
        )
        self.clock = clock or RealClock()
        self.fetcher = Fetcher(
            calls,
            folder,
            bounds or Bounds(silence=calls.limits.timeout),
            self.writer,
            self.masker,
            self.clock,
            chance or random.Random(),
            watcher or Watcher(),
            self.report,
        )
        self.earlier = Earlier()
        self.in_a_row = 0

    def __iter__(self) -> Iterator[Answer]:
        """Asks each call and keeps what comes.

        Raises InputError if the service is not reached, refuses the sign-in or wants a longer pause
        than is allowed, and if nothing could be kept; OutputError if the folder can't be written.
        What was kept stays.
        """
        # Two collections into one folder would write into each other's lines.
        with self.folder.alone():
            round = this_round(
                self.folder,
                self.manner.source,
                anew=self.manner.anew,
                go_on=self.manner.go_on,
            )
            self.report.round = round.number
            self.report.continued = round.began if round.continued else None
            self.earlier = Earlier.of(
                self.folder.records(), round.number, since_last=self.manner.since_last
            )
            pool = ThreadPoolExecutor(
                self.calls.limits.at_once, thread_name_prefix="ask"
            )
            try:
                yield from self._asked(pool, round)
            finally:
                self.fetcher.stop()
                pool.shutdown(cancel_futures=True)
                self.fetcher.close()
            end_round(self.folder, round, self.report.as_json())
        given_up = self.report.given_up
        if given_up and not self.report.pages and not self.report.apart:
            raise given_up[0]

    def _asked(self, pool: ThreadPoolExecutor, round: Round) -> Iterator[Answer]:
        frontier = Frontier(self.calls, self.documents_of)
        flying: deque[tuple[Ask, KeptAnswer | Future[Try]]] = deque()
        while True:
            # So many requests at once; their answers are taken in the order in which they were
            # asked, so that a run can be repeated.
            while (
                len(flying) < self.calls.limits.at_once
                and (following := frontier.next()) is not None
            ):
                begun = self._begun(following, pool)
                flying.extend([begun] if begun else [])
            if not flying:
                break
            ask, coming = flying.popleft()
            if isinstance(coming, KeptAnswer):
                self._kept_before(ask, coming, frontier)
                continue
            answer = self._taken(ask, coming.result(), frontier, round)
            if answer is not None:
                yield answer
        self._note_unmatched(frontier)

    def _note_unmatched(self, frontier: Frontier) -> None:
        """Notes, of each call whose path found no records, the path and the nearest one that is
        there.
        """
        for name, unmatched in frontier.unmatched.items():
            if unmatched.path is None or unmatched.records:
                continue
            near = nearest_existing(unmatched.path, unmatched.documents)
            self.report.calls[name].unmatched = (
                unmatched.path.text,
                near.text if near else None,
            )

    def _begun(
        self, following: Ask | NotAsked, pool: ThreadPoolExecutor
    ) -> tuple[Ask, KeptAnswer | Future[Try]] | None:
        """The request on its way, or the answer kept before; None if it is not to be asked."""
        if isinstance(following, NotAsked):
            self._note_not_asked(following)
            return None
        ask = following
        try:
            shown, identity = self.writer.identity(ask)
            ask = ask.identified(identity)
        except NotFilled as error:
            self._note_not_asked(NotAsked(ask.call.name, Why.NOT_FILLED, str(error)))
            return None
        # Records that lead to one address share its answer.
        if not self.earlier.first_time(ask):
            self.report.calls[ask.call.name].asked_before += 1
            return None
        kept = self.earlier.kept(ask)
        if kept is not None:
            return ask, kept
        return ask, pool.submit(
            self.fetcher.fetch, ask, self.earlier.before(ask, shown)
        )

    def _note_not_asked(self, not_asked: NotAsked) -> None:
        counts = self.report.calls[not_asked.call].not_asked
        key = (not_asked.why.value, self.masker.text(not_asked.about))
        if key in counts or len(counts) < MOST_EXAMPLES:
            counts[key] += 1
        else:
            counts[not_asked.why.value, ""] += 1

    # ---- what came

    def _kept_before(self, ask: Ask, kept: KeptAnswer, frontier: Frontier) -> None:
        """An answer that an earlier process kept in this round: read again, to see what comes after
        it.
        """
        report = self.report.calls[ask.call.name]
        report.pages += 1
        report.before += 1
        report.bytes += kept.size
        # The body is on the disk: only what leads on is looked for in it.
        page = Page(
            lambda: self.documents_of(kept.file), kept.headers, kept.url, kept.size
        )
        ahead = outlook(ask, page, self.fetcher.reach)
        self._go_on(ask, ahead, kept.shown, kept.url, kept.file, frontier)

    def _taken(
        self, ask: Ask, tried: Try, frontier: Frontier, round: Round
    ) -> Answer | None:
        report = self.report.calls[ask.call.name]
        if tried.error is not None:
            self._gave_up(report, tried.error, away=tried.away)
            return None
        answer = self._kept(ask, tried, round)
        if answer.ends_list:
            self._note_end(report, answer.outlook, answer.asked)
        elif answer.problem is not None:
            report.apart += 1
            self._count_in_a_row(tried, answer)
        else:
            self.in_a_row = 0
            report.pages += 1
            report.unchanged += answer.unchanged
            report.bytes += 0 if answer.unchanged else answer.size
            report.bad_documents += answer.bad_documents
            assert answer.outlook is not None
            # What follows is put in the queue now: a later answer may be there already.
            self._go_on(
                ask, answer.outlook, answer.asked, tried.url, answer.file, frontier
            )
        if tried.too_long is not None:
            raise self._later(answer, tried.too_long)
        return answer

    def _gave_up(self, report: CallReport, error: InputError, *, away: bool) -> None:
        self.in_a_row += 1
        if away or self.in_a_row >= MOST_IN_A_ROW:
            raise error
        report.given_up.append(error)

    def _count_in_a_row(self, tried: Try, answer: Answer) -> None:
        # An answer that is refused for good says that the service is there.
        if not tried.passing:
            return
        self.in_a_row += 1
        if self.in_a_row >= MOST_IN_A_ROW:
            message = (
                f"{MOST_IN_A_ROW} requests in a row came to nothing, the last: "
                f"{answer.url}: {answer.problem}"
            )
            raise InputError(
                Code.NOT_REACHED,
                message,
                hint="the same command goes on where it stopped",
            )

    def _later(self, answer: Answer, seconds: float) -> InputError:
        longest = self.calls.limits.longest_wait
        # Hours of waiting are no business of a process: it ends, and can be started again.
        message = (
            f"{answer.url}: the service asks for a pause of {seconds:,.0f} s "
            f"({answer.problem})"
        )
        hint = (
            f"the same command goes on then; limits: {{longest_wait: {longest:g}}} is how long "
            "is waited"
        )
        return InputError(Code.ASKED_TO_WAIT, message, hint=hint)

    def _kept(self, ask: Ask, tried: Try, round: Round) -> Answer:
        """Puts an answer in its place and on record."""
        reply, judgement = tried.reply, tried.judgement
        assert reply is not None and judgement is not None
        media_type = self.masker.text(reply.media_type or "") or None
        body = self._put(tried, reply.content, judgement, media_type)
        telling = {
            name: reply.headers[name] for name in tried.telling if name in reply.headers
        }
        answer = Answer(
            call=ask.call.name,
            variables=ask.variables,
            url=self.masker.url(reply.url) if tried.redirected else tried.shown,
            asked=tried.shown,
            list_id=ask.list_id,
            page=ask.page,
            method=ask.call.method,
            status=reply.status,
            reason=reply.reason,
            media_type=media_type,
            fetched_at=reply.fetched_at,
            seconds=reply.seconds,
            size=body.size,
            sha256=body.sha256,
            file=body.file,
            judgement=judgement,
            said=body.said,
            outlook=tried.outlook,
            etag=self._version(tried, "etag"),
            last_modified=self._version(tried, "last-modified"),
            headers={name: self.masker.text(value) for name, value in telling.items()},
            next_page=tried.next_page,
        )
        # The line comes after the file: a line that is there tells of an answer that is whole.
        self.folder.note(answer.record(round.number))
        return answer

    def _put(
        self,
        tried: Try,
        received: Received,
        judgement: Judgement,
        media_type: str | None,
    ) -> _Body:
        """Puts a body in its place: among the pages, apart, or nowhere if the one of before is
        still good.
        """
        before = tried.before
        if judgement.sort is AnswerSort.UNCHANGED and before is not None:
            received.discard()
            return _Body(before.file, before.size, before.sha256)
        if judgement.problem is None:
            return _Body(received.keep(), received.size, received.sha256)
        said = self.masker.excerpt(received.beginning(SAID))
        file = received.set_apart(
            media_type, self.masker
        )  # which masks it, so that size and hash are others
        return _Body(file, received.size, received.sha256, said)

    def _version(self, tried: Try, header: str) -> str | None:
        """The version (ETag or date) by which later requests ask for changes.

        An unchanged answer keeps that of the one before; a version that holds a secret is not kept.
        """
        assert tried.reply is not None
        value = tried.reply.headers.get(header)
        if value is None and tried.before is not None:
            return tried.before.etag if header == "etag" else tried.before.last_modified
        # Changed by masking: it holds a secret.
        if value is None or self.masker.text(value) != value:
            return None
        return value

    # ---- what comes after

    def _go_on(
        self,
        ask: Ask,
        ahead: Outlook,
        shown: str,
        url: str,
        file: str,
        frontier: Frontier,
    ) -> None:
        report = self.report.calls[ask.call.name]
        if isinstance(ahead, More):
            frontier.add_page(ask.next(ahead.turn, ahead.count, ahead.records))
        else:
            self._note_end(report, ahead, shown)
        frontier.add_answer(ask, file, url)

    def _note_end(self, report: CallReport, ahead: Outlook | None, shown: str) -> None:
        if isinstance(ahead, Lost):
            report.faults[ahead.fault] += 1
            report.lost += [(Lost(ahead.fault, self.masker.text(ahead.about)), shown)]
            # All are counted; a few are shown.
            del report.lost[MOST_EXAMPLES:]
        elif isinstance(ahead, Last):
            report.lists[ahead.end] += 1
            if ahead.doubt is not None:
                report.doubts[ahead.doubt] += 1
            report.short += (
                [(ahead, shown)]
                if ahead.short_of and len(report.short) < MOST_EXAMPLES
                else []
            )

    def documents_of(self, file: str) -> list[JsonValue]:
        """The documents of a kept answer; those that can't be read were told of when it came."""
        return documents_in(str(self.folder.path / file))
