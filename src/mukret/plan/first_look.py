"""A quick look at the documents of a batch: which of them the rules may not be able to read
(`acceptance.py` judges those).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from mukret.paths import Filter, Path, Segment, Slice, Wildcard
from mukret.plan.plainly import nodes_of
from mukret.plan.scanning import ScanPlan, names_in
from mukret.rules.model import must_haves
from mukret.scan import Kind, Scan
from mukret.scan.kinds import NOTHING
from mukret.scan.program import DOCUMENT
from mukret.semantics.acceptance import Acceptance, All, Sought
from mukret.values import JsonValue

NO_KINDS: frozenset[str] = frozenset()


class FirstLook:
    """Sorts out the few documents that have to be judged as a whole: nearly all plainly have what a
    rule looks for first.
    """

    def __init__(self, acceptance: Acceptance, scan: ScanPlan | None) -> None:
        self.acceptance = acceptance
        self.scan = scan
        self.by_kinds: dict[frozenset[str], Callable[[JsonValue], bool]] = {}

    @property
    def looks_for_nothing(self) -> bool:
        return (
            not self.acceptance.looks
            and next(must_haves(self.acceptance.rules), None) is None
        )

    def doubtful(
        self, documents: Sequence[JsonValue], kinds: Sequence[frozenset[str]] | None
    ) -> list[int]:
        """The numbers of the documents that have to be judged; `kinds` are those of each, if the
        rules know kinds.
        """
        if self.looks_for_nothing:
            return []
        # Most documents plainly have what is looked for; only those that may not are judged, at
        # some length.
        missing = set()
        for path in must_haves(self.acceptance.rules):
            nodes, _ = nodes_of([path], documents, with_nulls=False)
            missing |= {
                number for number, found_here in enumerate(nodes) if not found_here
            }
        if kinds is None:
            reads = self.reads(NO_KINDS)
            return [
                n
                for n, document in enumerate(documents)
                if n in missing or not reads(document)
            ]
        return [
            n
            for n, document in enumerate(documents)
            if n in missing or not self.reads(kinds[n])(document)
        ]

    def doubtful_scanned(
        self, scan: Scan, kinds: Sequence[frozenset[str]] | None
    ) -> list[int]:
        """The same of documents that were scanned."""
        if self.looks_for_nothing:
            return []
        assert self.scan is not None
        signs = Signs(scan, self.scan)
        doubtful = set(signs.lacking())
        if kinds is None:
            doubtful |= signs.unread(self.acceptance.looks_into(NO_KINDS))
        else:
            # Documents of several kinds can stand in one batch; each kind looks for something else.
            for some in set(kinds):
                unread = signs.unread(self.acceptance.looks_into(some))
                doubtful.update(number for number in unread if kinds[number] == some)
        return sorted(doubtful)

    def reads(self, kinds: frozenset[str]) -> Callable[[JsonValue], bool]:
        """Whether a rule surely reads something in a document of these kinds."""
        if kinds not in self.by_kinds:
            looks = self.acceptance.looks_into(kinds)
            self.by_kinds[kinds] = lambda document: any(
                surely_finds(look, document) for look in looks
            )
        return self.by_kinds[kinds]


def surely_finds(look: Sought, document: JsonValue) -> bool:
    """Whether a look finds something, as far as that can be seen quickly."""
    match look.target:
        case All.ANYTHING:
            return True
        case All.MEMBERS:
            return type(document) is dict
        case All.ELEMENTS:
            return type(document) is list
        # The first step alone is looked at: that is quick, and what it lets through is judged in
        # full.
        case Path(segments=(segment, *_)) if not segment.descend:
            if type(document) is dict:
                return any(name in document for name in names_in(segment))
            return type(document) is list and takes_any_element(segment)
    return False


def takes_any_element(segment: Segment) -> bool:
    return any(
        isinstance(selector, Wildcard | Slice | Filter)
        for selector in segment.selectors
    )


class Signs:
    """What a scan saw of what documents have."""

    def __init__(self, found: Scan, scan: ScanPlan) -> None:
        self.found = found
        self.scan = scan
        self.count = found.count(DOCUMENT)
        self.kinds = bytes(found.nodes(DOCUMENT)[0])

    def lacking(self) -> Iterator[int]:
        """The documents that lack what they must have, or may do so."""
        for sign in self.scan.must_have:
            # No sign for this path: any of them may lack it.
            if sign is None:
                yield from range(self.count)
            elif sign.table is not None:
                owners = memoryview(self.found.owners(sign.table)).cast("I")
                kinds = bytes(self.found.nodes(sign.table)[0])
                having = {
                    owner
                    for owner, kind in zip(owners, kinds, strict=True)
                    if kind not in NOTHING
                }
                yield from (
                    number for number in range(self.count) if number not in having
                )
            elif sign.column is not None:
                cells = bytes(self.found.column(DOCUMENT, sign.column)[0])
                yield from (
                    number for number, kind in enumerate(cells) if kind in NOTHING
                )

    def unread(self, looks: Sequence[Sought]) -> set[int]:
        """The documents in which these looks find nothing that can be seen quickly."""
        read = 0  # a byte for each document, that is not 0 where something is read
        for look in looks:
            match look.target:
                case All.ANYTHING:
                    return set()
                case All.MEMBERS:
                    read |= self.of_kind(Kind.OBJECT)
                case All.ELEMENTS:
                    read |= self.of_kind(Kind.ARRAY)
                case Path(segments=(segment, *_)) if not segment.descend:
                    for name in names_in(segment):
                        column = bytes(
                            self.found.column(DOCUMENT, self.scan.members[name])[0]
                        )
                        read |= int.from_bytes(column, "little")
                    if takes_any_element(segment):
                        read |= self.of_kind(Kind.ARRAY)
        read_bytes = read.to_bytes(self.count, "little")
        return (
            {number for number, seen in enumerate(read_bytes) if not seen}
            if 0 in read_bytes
            else set()
        )

    def of_kind(self, kind: Kind) -> int:
        """A byte for each document that is of a kind, as one number."""
        return int.from_bytes(
            self.kinds.translate(bytes(number == kind for number in range(256))),
            "little",
        )
