"""What responses have that their rules do not expect: nodes that no rule reads, rules that find
nothing, words that no enum has, values that do not fit their type.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import msgspec

from mukret.codes import Code
from mukret.documents import Source
from mukret.documents.blocks import BLOCK_BYTES
from mukret.engine.coverage import Unmatched
from mukret.engine.misshapen import Misshapen
from mukret.engine.run import InFull, Progress, Run
from mukret.errors import InputError
from mukret.rules.model import Derive, Field, Inherit, Inherited, Rules, Step, Table
from mukret.rules.sources import At
from mukret.semantics.rejects import PARENT_REJECTED
from mukret.semantics.tally import Reason
from mukret.types import Enum
from mukret.values import JsonValue

ALL = 2**60
MOST_WORDS = 200

_UNKNOWN = Code.UNKNOWN_WORD


@dataclass(frozen=True)
class Unread:
    """A path that no rule reads and none leaves out on purpose; array indexes are written `*`."""

    path: str
    count: int
    example: str


@dataclass(frozen=True)
class NewWord:
    """A word that the enum of a field does not have."""

    table: str
    field: str
    enum: str
    word: str
    count: int


@dataclass
class Drift:
    documents: int
    bad_documents: int
    bad: list[Reason] = field(default_factory=list)
    """Ways in which documents could not be read."""
    unread: list[Unread] = field(default_factory=list)
    unmatched: list[Unmatched] = field(default_factory=list)
    misshapen: list[Misshapen] = field(default_factory=list)
    words: list[NewWord] = field(default_factory=list)
    unfit: list[tuple[Reason, int]] = field(default_factory=list)
    """Other ways in which rows or values are bad, each with the number of rows of the table."""
    nulled: list[tuple[Reason, int]] = field(default_factory=list)
    """Values that do not fit either, and become null since the rules say so."""

    @property
    def found(self) -> bool:
        """Whether there is anything to be looked at."""
        return bool(
            self.unread
            or self.unmatched
            or self.misshapen
            or self.words
            or self.unfit
            or self.bad_documents
        )

    def as_json(self) -> dict[str, JsonValue]:
        return {
            "documents": self.documents,
            "bad_documents": self.bad_documents,
            "bad": [
                _reason_json(reason, self.documents + self.bad_documents)
                for reason in self.bad
            ],
            "unread": msgspec.to_builtins(self.unread),
            "unmatched": [finding.as_json() for finding in self.unmatched],
            "misshapen": [finding.as_json() for finding in self.misshapen],
            "words": msgspec.to_builtins(self.words),
            "unfit": [_reason_json(reason, rows) for reason, rows in self.unfit],
            "nulled": [_reason_json(reason, rows) for reason, rows in self.nulled],
        }


def _reason_json(reason: Reason, rows: int) -> dict[str, JsonValue]:
    return {
        "table": reason.table,
        "field": reason.field,
        "code": reason.code,
        "count": reason.count,
        "rows": rows,
        "example": reason.example.as_json(),
        "file": reason.file,
        "document": reason.document,
    }


def ran_over_all(rules: Rules, sources: Sequence[Source]) -> Run:
    """A run that looked at every node of every document, also of those in which no rule reads
    anything. Raises InputError for an input that can't be opened.
    """
    run = looking_at_all(rules, sources, refused_too=True)
    try:
        for _ in run.batches():
            pass
    except InputError as error:
        if not run.sample.documents:
            raise error
    return run


def looking_at_all(
    rules: Rules,
    sources: Sequence[Source],
    progress: Progress | None = None,
    batch_bytes: int = BLOCK_BYTES,
    *,
    refused_too: bool = False,
) -> Run:
    """A run that looks at every node of every document; `refused_too`: also of those that the rules
    can't read.
    """
    in_full = InFull(lambda number: True, every_part=True, refused_too=refused_too)
    run = Run(
        rules, sources, batch_bytes=batch_bytes, progress=progress, in_full=in_full
    )
    run.sample.nodes_left = run.sample.doubled.bytes_left = ALL
    return run


def drift(
    rules: Rules, sources: Sequence[Source], *, progress: Progress | None = None
) -> Drift:
    """Looks at every node of every document.

    Values count as bad also where the rules make something else of them: `bad: null`, `otherwise`.
    Raises InputError as a run does.
    """
    run = looking_at_all(_strict(rules), sources, progress)
    words = _new_words(run)
    result = Drift(run.tally.documents, run.tally.bad_documents)
    result.unread = [
        Unread(path, count, run.sample.examples[path])
        for path, count in sorted(run.sample.unread.items())
    ]
    result.unmatched, result.misshapen = run.unmatched(), run.misshapen()
    result.bad = [
        reason for reason in run.tally.reasons.values() if reason.table is None
    ]
    result.words = [
        NewWord(table, name, _enum_name(rules.tables[table], name), word, count)
        for (table, name, word), count in sorted(words.items())
    ]
    for reason in run.tally.reasons.values():
        # What goes with its parent is told there, and words of enums are counted as such.
        if reason.table and reason.code not in (PARENT_REJECTED, _UNKNOWN):
            # What the rules say becomes null was foreseen, and is told apart.
            expected = _is_expected(rules.tables[reason.table], reason)
            reasons = result.nulled if expected else result.unfit
            reasons.append((reason, run.tally.tables[reason.table].rows_seen))
    return result


def _new_words(run: Run) -> Counter[tuple[str, str, str]]:
    """How often words that an enum lacks came, by table and field; of very many the first ones."""
    words: Counter[tuple[str, str, str]] = Counter()
    for output in run.batches():
        for reject in output.rejects:
            for problem in reject.problems:
                if problem.code == _UNKNOWN and reject.table and problem.field:
                    word = (reject.table, problem.field, str(problem.value))
                    # A field that holds free text would have millions of them.
                    if word in words or len(words) < MOST_WORDS:
                        words[word] += 1
    return words


def _is_expected(table: Table, reason: Reason) -> bool:
    """Whether the rules themselves turn such a bad value into null."""
    field = _field(table, reason.field)
    return field is not None and field.bad == "null" and reason.code != Code.REQUIRED


def _field(table: Table, name: str | None) -> Field | None:
    inherited = [item.field for item in table.inherit]
    for candidate in [*table.fields, *inherited]:
        if candidate.name == name:
            return candidate
    return None


def _enum_name(table: Table, name: str) -> str:
    own_field = _field(table, name)
    return own_field.type.name if own_field is not None else ""


def _strict(rules: Rules) -> Rules:
    """The rules with every value that does not fit rejected."""

    def field_of(own_field: Field) -> Field:
        if not isinstance(own_field.source, At):
            return own_field
        reading = own_field.reading
        # An enum that takes any word would show none that is new.
        if isinstance(reading.type, Enum):
            reading = replace(reading, type=replace(reading.type, otherwise="bad"))
        return replace(own_field, reading=reading, bad="reject")

    def inherited(item: Inherited) -> Inherited:
        return replace(item, field=field_of(item.field))

    def step(before: Step) -> Step:
        match before:
            case Derive(table, own_field):
                return Derive(table, field_of(own_field))
            case Inherit(table, item):
                return Inherit(table, inherited(item))
        return before

    return replace(
        rules,
        response_fields=tuple(map(field_of, rules.response_fields)),
        tables={
            name: replace(
                table,
                fields=tuple(map(field_of, table.fields)),
                inherit=tuple(map(inherited, table.inherit)),
            )
            for name, table in rules.tables.items()
        },
        schedule=tuple(map(step, rules.schedule)),
    )
