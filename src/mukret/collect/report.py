"""What came of a collection, as facts: each answer, and the counts at the end."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field

from mukret.collect.judging import AnswerSort, Judgement
from mukret.collect.paging import Doubt, End, Fault, Last, Lost, Outlook
from mukret.documents import Diagnosis
from mukret.errors import InputError
from mukret.values import JsonValue

# Cases of each kind that are remembered.
MOST_EXAMPLES = 20


@dataclass(frozen=True)
class Answer:
    """What came of one request.

    `said`: how a body begins that is no data; `outlook`: what comes after this page. `url` and
    `asked` (the address before redirects) have no secrets in them.
    """

    call: str
    variables: Mapping[str, JsonValue]
    url: str
    asked: str
    list_id: str
    page: int
    method: str
    status: int
    reason: str
    media_type: str | None
    fetched_at: str
    seconds: float
    size: int
    sha256: str
    file: str
    judgement: Judgement
    said: str = ""
    outlook: Outlook | None = None
    etag: str | None = None
    last_modified: str | None = None
    headers: Mapping[str, str] = field(default_factory=dict)
    """Those from which the next page is told."""
    next_page: str | None = None
    """How the answer seems to go on, as `pages` would say it, where nothing was said of pages."""

    @property
    def problem(self) -> str | None:
        """Why it is no data; None if it is."""
        return self.judgement.problem

    @property
    def documents(self) -> int:
        return self.judgement.documents

    @property
    def bad_documents(self) -> int:
        return self.judgement.bad

    @property
    def finding(self) -> Diagnosis | None:
        return self.judgement.finding

    @property
    def unchanged(self) -> bool:
        return self.judgement.sort is AnswerSort.UNCHANGED

    @property
    def ends_list(self) -> bool:
        """Whether it only says that the list had ended with the page before."""
        return self.problem is not None and isinstance(self.outlook, Last)

    def record(self, round: int | None = None) -> dict[str, JsonValue]:
        """The line of `capture.jsonl`."""
        record: dict[str, JsonValue] = {
            "call": self.call,
            "variables": dict(self.variables),
            "url": self.url,
            "page": self.page,
            "status": self.status,
            "media_type": self.media_type,
            "fetched_at": self.fetched_at,
            "bytes": self.size,
            "sha256": self.sha256,
            "file": self.file,
        }
        # These stand there where there is something to say.
        more = {
            "round": round,
            "method": self.method if self.method != "GET" else None,
            "asked": self.asked if self.asked != self.url else None,
            "list": self.list_id or None,
            "etag": self.etag,
            "last_modified": self.last_modified,
            "headers": dict(self.headers) or None,
            "last": self.outlook.end.value if isinstance(self.outlook, Last) else None,
            "fault": self.outlook.fault.value
            if isinstance(self.outlook, Lost)
            else None,
            "problem": self.problem,
        }
        return record | {
            name: value for name, value in more.items() if value is not None
        }


@dataclass
class CallReport:
    """What came of one call: `pages` that are kept as data (`before` of them by an earlier process,
    `unchanged` not sent again), `lists` that came to their end and how, what was not asked and why,
    what was given up.
    """

    pages: int = 0
    before: int = 0
    unchanged: int = 0
    apart: int = 0
    bytes: int = 0
    bad_documents: int = 0
    lists: Counter[End] = field(default_factory=Counter)
    lost: list[tuple[Lost, str]] = field(default_factory=list)
    faults: Counter[Fault] = field(default_factory=Counter)
    short: list[tuple[Last, str]] = field(default_factory=list)
    not_asked: Counter[tuple[str, str]] = field(default_factory=Counter)
    given_up: list[InputError] = field(default_factory=list)
    asked_before: int = 0
    doubts: Counter[Doubt] = field(default_factory=Counter)
    unmatched: tuple[str, str | None] | None = None
    """The path of what the call hangs on, if it found nothing in any answer, and what is near."""

    @property
    def findings(self) -> bool:
        """Whether anything is not as it should be."""
        lists = self.faults or self.short or self.doubts
        records = self.not_asked or self.unmatched
        return bool(
            self.apart or self.bad_documents or self.given_up or lists or records
        )

    def as_json(self) -> dict[str, JsonValue]:
        members: dict[str, JsonValue] = {
            "pages": self.pages,
            "kept_before": self.before,
            "unchanged": self.unchanged,
            "apart": self.apart,
            "bytes": self.bytes,
            "ends": {end.value: count for end, count in self.lists.items()},
            "faults": {fault.value: count for fault, count in self.faults.items()},
            # Counts alone: the values behind them may be somebody's data.
            "not_asked": sum(self.not_asked.values()),
            "given_up": len(self.given_up),
            "doubts": sum(self.doubts.values()) + (self.unmatched is not None),
        }
        return members


@dataclass
class CollectionReport:
    """What came of all calls.

    `tries` counts requests that were sent; `retries` those of them that were sent again; `waited`
    seconds of all pauses.
    """

    calls: dict[str, CallReport] = field(default_factory=dict)
    tries: int = 0
    retries: int = 0
    waited: float = 0.0
    sign_ins: int = 0
    round: int = 0
    continued: str | None = None
    """When the round began, if an earlier process began it."""

    @property
    def pages(self) -> int:
        return sum(call.pages for call in self.calls.values())

    @property
    def apart(self) -> int:
        return sum(call.apart for call in self.calls.values())

    @property
    def bytes(self) -> int:
        return sum(call.bytes for call in self.calls.values())

    @property
    def given_up(self) -> list[InputError]:
        return [error for call in self.calls.values() for error in call.given_up]

    @property
    def findings(self) -> bool:
        """Whether anything is not as it should be."""
        return any(call.findings for call in self.calls.values())

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "requests": self.tries,
            "retries": self.retries,
            "waited": round(self.waited, 3),
            "sign_ins": self.sign_ins,
            "calls": {name: call.as_json() for name, call in self.calls.items()},
        }
