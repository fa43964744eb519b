"""One request until it is answered, or given up: paced, signed in,
tried again where that may help.
"""

from __future__ import annotations

import random
import threading
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from http.cookiejar import CookieJar
from typing import Any

from mukret.codes import Code
from mukret.collect.asking import Ask
from mukret.collect.bounds import Bounds
from mukret.collect.calls import Calls, CursorPages, LinkPages, NumberPages, OffsetPages
from mukret.collect.client import Connection, NotReached, Reply
from mukret.collect.earlier import KeptAnswer
from mukret.collect.folder import CaptureFolder, Received
from mukret.collect.judging import (
    ASKS_TO_WAIT,
    PASSING,
    UNAUTHORIZED,
    AnswerSort,
    Judgement,
    judged,
    status_text,
)
from mukret.collect.manners import Clock, Pace, Stopped, pause, retry_after
from mukret.collect.masking import Masker
from mukret.collect.paging import (
    End,
    Fault,
    Last,
    Lost,
    Outlook,
    Page,
    Reach,
    outlook,
    spotted,
)
from mukret.collect.report import CollectionReport
from mukret.collect.signing_in import Session
from mukret.collect.wire import RequestWriter, Wire
from mukret.documents import Source, read_batches
from mukret.errors import InputError
from mukret.values import JsonValue

# Bytes that an answer to a sign-in may have; it is never written to the disk.
LARGEST_SIGN_IN = 1_000_000

# Bytes up to which an answer is searched for a sign that it goes on.
LARGEST_SPOTTED = 50_000_000


class Passing(StrEnum):
    """Why another try may do better."""

    STATUS = "status"
    NOT_REACHED = "not-reached"
    CUT_OFF = "cut-off"
    NOT_JSON = "not-json"
    REPEATED = "page-repeated"
    SIGN_IN = "sign-in"


@dataclass(frozen=True)
class Try:
    """One try of a request: an answer with its body, or an error.

    `passing`: why another may do better; `wanted`: the seconds that the service asks to wait
    before; `too_long`: those, where they are more than is ever waited.
    """

    shown: str
    reply: Reply[Received] | None = None
    judgement: Judgement | None = None
    outlook: Outlook | None = None
    error: InputError | None = None
    passing: Passing | None = None
    wanted: float | None = None
    too_long: float | None = None
    before: KeptAnswer | None = None
    telling: tuple[str, ...] = ()
    """The headers from which the next page is told."""
    wire_url: str = ""
    next_page: str | None = None

    @property
    def received(self) -> Received | None:
        return self.reply.content if self.reply else None

    @property
    def url(self) -> str:
        return self.reply.url if self.reply else self.wire_url

    @property
    def redirected(self) -> bool:
        return self.reply is not None and self.reply.url != self.wire_url

    @property
    def away(self) -> bool:
        """Whether there is not even a connection."""
        return isinstance(self.error, NotReached) and self.error.away

    @property
    def told(self) -> str:
        """What came, in a few words."""
        if self.error is not None:
            return self.error.message.rpartition(": ")[2]
        if self.passing is Passing.REPEATED:
            return "the next page is one that was there before"
        assert self.reply is not None and self.judgement is not None
        return self.judgement.problem or status_text(self.reply.status)


@dataclass(frozen=True)
class Waiting:
    """A pause before a request is tried again: the try that comes then is number `number` of
    `tries`.
    """

    shown: str
    why: str
    seconds: float
    number: int
    tries: int


class Watcher:
    """Called with what happens, from several threads. This one ignores it."""

    def tried(self, tried: Try) -> None:
        """A request was sent and answered, or failed."""

    def waiting(self, pause: Waiting) -> None:
        """A request will be tried again."""

    def signed_in(self, session: Session) -> None:
        """A sign-in was accepted."""


class Fetcher:
    def __init__(
        self,
        calls: Calls,
        folder: CaptureFolder,
        bounds: Bounds,
        writer: RequestWriter,
        masker: Masker,
        clock: Clock,
        chance: random.Random,
        watcher: Watcher,
        report: CollectionReport,
    ) -> None:
        self.calls = calls
        self.limits = calls.limits
        self.folder = folder
        self.bounds = bounds
        self.writer = writer
        self.masker = masker
        self.clock = clock
        self.chance = chance
        self.watcher = watcher
        self.report = report
        self.reach = Reach.of(calls)
        self.pace = Pace(calls.limits.per_second, clock)
        self.session = Session(calls, writer, masker, clock.now, self.signed_in)
        self.jar = CookieJar()
        self.lines: list[Connection] = []
        # A connection for each thread; cookies and the sign-in are shared by all.
        self.own = threading.local()
        self.lock = threading.Lock()

    def line(self) -> Connection:
        """The line of this thread."""
        line: Connection | None = getattr(self.own, "line", None)
        if line is None:
            line = self.own.line = Connection(self.bounds, self.masker, self.jar)
            with self.lock:
                self.lines.append(line)
        return line

    def stop(self) -> None:
        """Ends all waiting, and all connections."""
        self.clock.stop()
        for line in self.lines:
            line.sockets.cut()

    def close(self) -> None:
        for line in self.lines:
            line.close()

    # ---- tries

    def fetch(self, ask: Ask, before: KeptAnswer | None) -> Try:
        """The last try of a request.

        `before`: an answer of an earlier round, if only what changed is wanted.

        Raises InputError where the sign-in is refused, OutputError where the body can't be written,
        and Stopped.
        """
        last: Try = self._repeated(lambda: self.once(ask, before))
        return last

    def _repeated(self, once: Callable[[], Try]) -> Try:
        from tenacity import Retrying, retry_if_result, stop_after_attempt

        retrying = Retrying(
            stop=stop_after_attempt(self.limits.tries),
            retry=retry_if_result(lambda tried: tried.passing is not None),
            wait=self._pause,
            sleep=self.clock.wait,
            before_sleep=self._told,
            # After the last try its result is what there is: no exception of the library.
            retry_error_callback=lambda state: (
                state.outcome.result() if state.outcome else None
            ),
        )
        last: Try = retrying(once)
        return last

    def _pause(self, state: Any) -> float:
        tried: Try = state.outcome.result()
        # The token had run out: with a new one it may be tried at once.
        if tried.passing is Passing.SIGN_IN and state.attempt_number == 1:
            return 0.0
        seconds = max(
            pause(state.attempt_number, self.limits, self.chance), tried.wanted or 0.0
        )
        if tried.reply is not None and tried.reply.status in ASKS_TO_WAIT:
            # The others wait as well: the service asked all of us.
            self.pace.hold(seconds)
        return seconds

    def _told(self, state: Any) -> None:
        """Before a pause: discards what the failed try brought, and tells of it."""
        tried: Try = state.outcome.result()
        seconds = state.next_action.sleep
        if tried.received is not None:
            # The file of a body that nobody will read.
            tried.received.discard()
        with self.lock:
            self.report.retries += 1
            self.report.waited += seconds
        number = state.attempt_number + 1
        self.watcher.waiting(
            Waiting(tried.shown, tried.told, seconds, number, self.limits.tries)
        )

    def once(self, ask: Ask, before: KeptAnswer | None) -> Try:
        """One try."""
        credentials = self.session.credentials(self.send_sign_in)
        # After signing in, which may take as long as it likes.
        self.pace.take_turn()
        wire = self.writer.wire(ask, credentials.kept, credentials.authorization)
        if before is not None:
            wire = replace(wire, headers={**wire.headers, **before.conditions})
        tried = self._sent(ask, wire, before)
        status = tried.reply.status if tried.reply else None
        # The pass has run out: one more try, with a new one.
        if status == UNAUTHORIZED and self.session.renewable and wire.home:
            self.session.refused(credentials.generation)
            tried = replace(tried, passing=Passing.SIGN_IN)
        with self.lock:
            self.report.tries += 1
        self.watcher.tried(tried)
        return tried

    def _sent(self, ask: Ask, wire: Wire, before: KeptAnswer | None) -> Try:
        tried = Try(wire.shown, before=before, wire_url=wire.url)
        try:
            reply = self.line().send(wire, self._receive)
        except NotReached as error:
            if self._stopped():
                raise Stopped from None
            return replace(tried, error=error, passing=Passing.NOT_REACHED)
        except InputError as error:
            return replace(tried, error=error)
        self._learn_cookies()
        received = reply.content
        judgement = judged(
            reply.status,
            received.size,
            str(received.part),
            self.masker,
            on_condition=before is not None,
        )
        tried = replace(
            tried, reply=reply, judgement=judgement, telling=telling_headers(ask)
        )
        # 429 and 5xx pass: they are tried again, after the pause that was asked for.
        if reply.status in PASSING:
            return self._passing_status(tried, reply)
        if judgement.sort in (AnswerSort.DATA, AnswerSort.UNCHANGED):
            return self._data(tried, ask)
        if (
            # An empty page behind the last one is how some lists end.
            judgement.sort is AnswerSort.EMPTY
            and ask.page > 1
            and isinstance(ask.call.pages, NumberPages | OffsetPages)
        ):
            return replace(tried, outlook=Last(End.NOTHING, ask.count))
        return replace(tried, passing=self._no_data(judgement))

    def _receive(self, status: int, body: Iterable[bytes]) -> Received:
        """Puts a body on the disk.

        What is no data by its status has its secrets masked on the way, so that they don't stand
        there even if the process is killed.
        """
        return self.folder.receive(
            body if 200 <= status < 300 else self.masker.pieces(body)
        )

    def _stopped(self) -> bool:
        try:
            self.clock.wait(0)
        except Stopped:
            return True
        return False

    def _passing_status(self, tried: Try, reply: Reply[Received]) -> Try:
        wanted = retry_after(reply.headers.get("retry-after"))
        if wanted is not None and wanted > self.limits.longest_wait:
            return replace(tried, too_long=wanted)
        return replace(tried, passing=Passing.STATUS, wanted=wanted)

    def _no_data(self, judgement: Judgement) -> Passing | None:
        if judgement.sort is AnswerSort.STATUS:
            return None
        if judgement.finding is not None and judgement.finding.sort == "cut-off":
            return Passing.CUT_OFF
        return None if self.calls.by_hand else Passing.NOT_JSON

    def _data(self, tried: Try, ask: Ask) -> Try:
        """Data, with what comes after it.

        Where that is a page that was there before, or the last line is cut off, the answer may be a
        faulty one.
        """
        assert tried.reply is not None and tried.judgement is not None
        ahead = outlook(ask, self._page(tried), self.reach)
        passing = None
        if tried.judgement.cut_off:
            passing = Passing.CUT_OFF
        # A service that gives the same page again may have been too busy to look.
        elif isinstance(ahead, Lost) and ahead.fault is Fault.REPEATED:
            passing = Passing.REPEATED
        if (
            # Somebody who typed an address may not know that there is more.
            self.calls.by_hand
            and ask.call.pages is None
            and tried.reply.content.size < LARGEST_SPOTTED
        ):
            tried = replace(tried, next_page=spotted(self._page(tried)))
        return replace(tried, outlook=ahead, passing=passing)

    def _page(self, tried: Try) -> Page:
        assert tried.reply is not None
        reply, before = tried.reply, tried.before
        if (
            tried.judgement is not None
            and tried.judgement.sort is AnswerSort.UNCHANGED
            and before is not None
        ):
            file, size = str(self.folder.path / before.file), before.size
            # A 304 answers with a few headers alone; the others are those of the answer that is
            # kept.
            headers = {**before.headers, **reply.headers}
        else:
            file, size, headers = (
                str(reply.content.part),
                reply.content.size,
                dict(reply.headers),
            )
        return Page(lambda: documents_in(file), headers, reply.url, size)

    # ---- signing in

    def signed_in(self, session: Session) -> None:
        self.report.sign_ins = session.sign_ins
        self.watcher.signed_in(session)

    def send_sign_in(self, wire: Wire) -> Reply[bytes]:
        """Sends a sign-in, as often as it takes; its answer is kept in memory alone.

        Raises InputError.
        """
        last: list[Reply[bytes]] = []
        tried = self._repeated(lambda: self._sign_in_once(wire, last))
        if tried.error is not None:
            raise tried.error
        return last[0]

    def _sign_in_once(self, wire: Wire, last: list[Reply[bytes]]) -> Try:
        """One try of a sign-in; what was answered goes into `last`."""
        self.pace.take_turn()
        with self.lock:
            self.report.tries += 1
        try:
            reply = self.line().send(wire, _in_memory)
        except NotReached as error:
            if self._stopped():
                raise Stopped from None
            return Try(wire.shown, error=error, passing=Passing.NOT_REACHED)
        except InputError as error:
            return Try(wire.shown, error=error)
        self._learn_cookies()
        last[:] = [reply]
        if reply.status not in PASSING:
            return Try(wire.shown)
        problem = f"the service answered {status_text(reply.status)} to the sign-in"
        # A pause longer than anybody waits for is told at once.
        wanted = retry_after(reply.headers.get("retry-after"))
        if wanted is not None and wanted > self.limits.longest_wait:
            later = InputError(
                Code.ASKED_TO_WAIT,
                f"{problem}, and asks for a pause of {wanted:,.0f} s",
            )
            return Try(wire.shown, error=later)
        return Try(
            wire.shown,
            error=InputError(Code.SIGN_IN, problem),
            passing=Passing.STATUS,
            wanted=wanted,
        )

    def _learn_cookies(self) -> None:
        """What a cookie holds is a secret, too."""
        for cookie in list(self.jar):
            self.masker.learn(cookie.value or "")


def telling_headers(ask: Ask) -> tuple[str, ...]:
    """The headers of an answer from which the next page is told."""
    match ask.call.pages:
        case LinkPages():
            return ("link",)
        case CursorPages(header=str(header)):
            return (header.lower(),)
    return ()


def documents_in(file: str) -> list[JsonValue]:
    batches = read_batches([Source(file, named=False)])
    return [document for batch in batches for document in batch.documents]


def _in_memory(_: int, body: Iterable[bytes]) -> bytes:
    content = bytearray()
    for piece in body:
        content += piece
        # A faulty or hostile service may send without end.
        if len(content) > LARGEST_SIGN_IN:
            raise InputError(
                Code.SIGN_IN,
                f"the answer to the sign-in is larger than {LARGEST_SIGN_IN:,} bytes",
            )
    return bytes(content)
