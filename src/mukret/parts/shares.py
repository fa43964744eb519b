"""Which machine takes which inputs: each works it out alone, with the same result."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from dataclasses import dataclass

from mukret.codes import Code
from mukret.documents import Source
from mukret.errors import UsageError
from mukret.rules.model import Rules
from mukret.rules.sources import Compute


@dataclass(frozen=True)
class Share:
    """One part of several: its number (from 1), and how many there are."""

    number: int
    of: int

    @classmethod
    def parse(cls, text: str) -> Share:
        """`3/16`. Raises UsageError."""
        # `isdecimal` takes other digits, too; they are read as what they mean.
        number, slash, of = text.partition("/")
        if not (
            slash
            and number.isdecimal()
            and of.isdecimal()
            and 1 <= int(number) <= int(of)
        ):
            hint = "--part 3/16: the third of sixteen"
            raise UsageError(Code.USAGE, f"--part can't be {text!r}", hint=hint)
        return cls(int(number), int(of))

    def taken(self, sources: Sequence[Source]) -> list[int]:
        """The numbers of the inputs that this part takes: the largest first, each by the part that
        has the least so far, so that all have about as much to do.
        """
        loads = [0] * self.of
        taken = []
        for number in sorted(
            range(len(sources)), key=lambda number: (-_bytes(sources[number]), number)
        ):
            least = loads.index(min(loads))
            # One more for each, so that empty files are spread as well.
            loads[least] += _bytes(sources[number]) + 1
            if least == self.number - 1:
                taken.append(number)
        return sorted(taken)


def fingerprint(sources: Sequence[Source]) -> str:
    """What two machines agree on if they see the same inputs: names, sizes and order."""
    digest = hashlib.sha256()
    for source in sources:
        digest.update(
            f"{source.name}\0{_bytes(source)}\n".encode("utf-8", "surrogateescape")
        )
    return digest.hexdigest()


def _bytes(source: Source) -> int:
    return os.path.getsize(source.path) if os.path.isfile(source.path) else 0


def refuse_what_looks_across(rules: Rules) -> None:
    """Raises UsageError for rules by which a row hangs on rows of other inputs, before they are
    together.
    """
    for table, field in rules.all_fields():
        # Refused before anything is read, and not after a night of work.
        if field.reads.across_run:
            message = (
                f"{table}.{field.name} looks at rows of the whole run, and a part has a share "
                "of them"
            )
            raise UsageError(
                Code.NOT_SUPPORTED,
                message,
                hint="extract it in one piece, or join the tables afterwards",
            )


def asks_the_time(rules: Rules) -> bool:
    """Whether a value hangs on when it is extracted, which each part is at a time of its own."""
    computed = [
        field.source.expression
        for _, field in rules.all_fields()
        if isinstance(field.source, Compute)
    ]
    conditions = [
        table.where for table in rules.tables.values() if table.where is not None
    ]
    # A merge of such parts would mix times that one run would not.
    return any(expression.asks_the_time for expression in (*computed, *conditions))


def refuse_streams(sources: Sequence[Source]) -> None:
    """Raises UsageError for inputs that can't be the same on several machines."""
    for source in sources:
        if not os.path.isfile(source.path):
            raise UsageError(
                Code.USAGE,
                f"--part shares files, and {source.name} is none",
                hint="name files or folders",
            )
