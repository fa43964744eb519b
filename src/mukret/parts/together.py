"""What the shares of an extraction tell → what one run over all of the input would tell."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property

import msgspec

from mukret.codes import Code
from mukret.engine.coverage import Unmatched
from mukret.engine.notices import unknown, unmatched_notices
from mukret.engine.run import Run
from mukret.errors import Notice
from mukret.rules.model import Rules
from mukret.semantics.tally import TableTally, Tally
from mukret.values import JsonValue

# Codes of warnings that are not those of a share alone.
UNMATCHED, FILTERED_UNKNOWN = Code.UNMATCHED, Code.FILTERED_UNKNOWN

# Table, field and path of a rule that has found nothing.
OpenRule = tuple[str, str | None, str]


@dataclass(frozen=True)
class Told:
    """What a share tells when it is done.

    `open` are the rules that found nothing, also where there was nothing to look in; `unmatched`
    says more of the others.
    """

    tables: dict[str, TableTally]
    bad_documents: int
    documents: int
    documents_left_out: int
    response_values_nulled: int
    sample: dict[str, JsonValue]
    notices: list[Notice]
    unmatched: list[Unmatched]
    open: list[OpenRule]

    @classmethod
    def by(cls, run: Run) -> Told:
        """What a run tells that has come to its end."""
        tally = run.tally
        return cls(
            tally.tables,
            tally.bad_documents,
            tally.documents,
            tally.documents_left_out,
            tally.response_values_nulled,
            run.sample.as_json(),
            # Asked at the end only: before, a rule that found nothing may still find something.
            run.notices(),
            run.unmatched(),
            run.coverage.still_open(),
        )

    @classmethod
    def of_record(cls, record: Mapping[str, JsonValue]) -> Told:
        """What the record of a part tells."""
        names = ("tables", "bad_documents", "documents_left_out", "sample")
        told = {name: record[name] for name in names} | {
            name: record["part"][name] for name in _OF_A_PART
        }
        told["response_values_nulled"] = record["response"]["values_nulled"]
        return msgspec.convert(told, cls)

    def beside_the_record(self) -> dict[str, JsonValue]:
        """What stands in the record of a part beside that of a run."""
        told: dict[str, JsonValue] = msgspec.to_builtins(self)
        return {name: told[name] for name in _OF_A_PART}


_OF_A_PART = ("documents", "notices", "unmatched", "open")


class Together:
    """What all shares tell. Those that had inputs come first: they know better what stands near."""

    def __init__(self, rules: Rules, shares: Iterable[Told]) -> None:
        self.rules = rules
        self.tally = Tally({name: TableTally() for name in rules.tables})
        self.documents_sampled = 0
        self.unread: Counter[str] = Counter()
        self.twice: list[object] = []
        self.told: dict[OpenRule, Unmatched] = {}
        # None before the first share: it is the intersection of all of them.
        self.still_open: set[OpenRule] | None = None
        self.others: dict[tuple[str, str], Notice] = {}
        for share in shares:
            self.add(share)

    def add(self, share: Told) -> None:
        self.tally.merge(
            Tally(
                share.tables,
                share.bad_documents,
                share.documents,
                share.documents_left_out,
                share.response_values_nulled,
            )
        )
        self.documents_sampled += share.sample["documents"]
        self.unread.update(share.sample["unread"])
        self.twice += share.sample["twice"]
        still_open = set(share.open)
        self.still_open = (
            # A rule finds nothing in the run if it found nothing in any of its parts.
            still_open if self.still_open is None else self.still_open & still_open
        )
        for rule in share.unmatched:
            self.told.setdefault((rule.table, rule.field, rule.path), rule)
        for notice in share.notices:
            # These two are made anew, of the counts of all parts.
            if notice.code not in (UNMATCHED, FILTERED_UNKNOWN):
                self.others.setdefault((notice.code, notice.message), notice)

    @cached_property
    def unmatched(self) -> list[Unmatched]:
        """What found nothing in any share.

        A rule that had nothing to look in is told by none of these, and found nothing all the same.
        """
        still_open = self.still_open or set()
        return [rule for name, rule in self.told.items() if name in still_open]

    @property
    def sample(self) -> dict[str, JsonValue]:
        """The samples of all shares, added up: each has looked at documents of its own."""
        return {
            "documents": self.documents_sampled,
            "unread": dict(sorted(self.unread.items())),
            "twice": self.twice,
        }

    @property
    def notices(self) -> list[Notice]:
        """The warnings of all shares; what found nothing, and what is counted, is told of all of
        them together.
        """
        return [
            *self.others.values(),
            *unmatched_notices(self.rules, self.unmatched),
            *unknown(self.rules, self.tally),
        ]
