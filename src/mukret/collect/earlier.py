"""What was kept before: by an earlier process in this round, and in earlier rounds."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from mukret.collect.asking import Ask
from mukret.documents.captures import CaptureRecord


@dataclass(frozen=True)
class KeptAnswer:
    """An answer that was kept.

    `shown`: the address that was asked for, `url`: where it came from.
    """

    file: str
    shown: str
    url: str
    size: int
    sha256: str
    headers: Mapping[str, str] = field(default_factory=dict)
    etag: str | None = None
    last_modified: str | None = None

    @staticmethod
    def of(record: CaptureRecord) -> KeptAnswer:
        size = record.line.get("bytes")
        headers = record.line.get("headers")
        return KeptAnswer(
            record.file,
            record.asked_url,
            record.text("url") or "",
            # The file may have been edited: what is not as we write it is not relied on.
            size if type(size) is int else 0,
            record.text("sha256") or "",
            headers if type(headers) is dict else {},
            record.text("etag"),
            record.text("last_modified"),
        )

    @property
    def conditions(self) -> dict[str, str]:
        """The headers with which a service sends only what has changed (RFC 9110, section 13.1)."""
        headers = {"If-None-Match": self.etag, "If-Modified-Since": self.last_modified}
        return {name: value for name, value in headers.items() if value}


@dataclass
class Earlier:
    """`in_round`: kept in this round, by list and page; `in_rounds`: the newest of earlier ones
    that can be asked for on condition.
    """

    in_round: dict[tuple[str, int], KeptAnswer] = field(default_factory=dict)
    in_rounds: dict[tuple[str, int], KeptAnswer] = field(default_factory=dict)
    asked: set[str] = field(default_factory=set)

    @staticmethod
    def of(
        records: Iterable[CaptureRecord], round: int, *, since_last: bool
    ) -> Earlier:
        earlier = Earlier()
        for record in records:
            if record.apart:
                continue
            kept = KeptAnswer.of(record)
            if record.round == round:
                earlier.in_round[record.key, record.page] = kept
            # Without an ETag or a date there is nothing to ask for changes with (RFC 9110, section
            # 13).
            elif since_last and kept.conditions:
                earlier.in_rounds[record.key, record.page] = kept
        return earlier

    def kept(self, ask: Ask) -> KeptAnswer | None:
        """The answer to a request in this round."""
        return self.in_round.get((ask.list_id, ask.page))

    def before(self, ask: Ask, shown: str) -> KeptAnswer | None:
        """The answer of an earlier round from the very same address: the ETag of another means
        nothing.
        """
        kept = self.in_rounds.get((ask.list_id, ask.page))
        return kept if kept is not None and kept.shown == shown else None

    def first_time(self, ask: Ask) -> bool:
        """Whether a request that a record leads to is the first of its call to this address."""
        if ask.call.once_per is None or ask.page > 1:
            return True
        if ask.address_id in self.asked:
            return False
        self.asked.add(ask.address_id)
        return True
