"""A quick look at the documents of a batch: which of them may be such as the rules can't read (`acceptance.py`)."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from mukret.paths import Filter, Name, Path, Slice, Wildcard
from mukret.plan.codegen import nodes_function
from mukret.plan.places import Place, objects_at
from mukret.plan.source_lines import Source
from mukret.rules.model import must_haves
from mukret.semantics.acceptance import Acceptance, All, Look
from mukret.values import JsonValue

NO_KINDS: frozenset[str] = frozenset()


class FirstLook:
    """Documents all of which stand at `place`, decoded as far as the rules read them. Nearly all have what a rule looks
    for first; only the others are looked at as a whole."""

    def __init__(self, acceptance: Acceptance, place: Place | None) -> None:
        self.acceptance = acceptance
        self.place = place
        wanted = must_haves(acceptance.rules)
        self.must_have = [nodes_function([path], with_nulls=False, place=place) for path in wanted]
        self.by_kinds: dict[frozenset[str], Callable[[JsonValue], bool]] = {}

    def doubtful(self, documents: Sequence[JsonValue], kinds: Sequence[frozenset[str]] | None) -> list[int]:
        """The numbers of the documents that have to be judged; `kinds` are those of each, if the rules know kinds."""
        if not self.acceptance.looks and not self.must_have:
            return []
        missing = {number for has in self.must_have for number, nodes in enumerate(has(documents)[0]) if not nodes}
        if kinds is None:
            reads = self.reads(NO_KINDS)
            return [n for n, document in enumerate(documents) if n in missing or not reads(document)]
        return [n for n, document in enumerate(documents) if n in missing or not self.reads(kinds[n])(document)]

    def reads(self, kinds: frozenset[str]) -> Callable[[JsonValue], bool]:
        """Whether a rule surely reads something in a document of these kinds."""
        if kinds not in self.by_kinds:
            self.by_kinds[kinds] = _reads(self.acceptance.looks_into(kinds), self.place)
        return self.by_kinds[kinds]


def _reads(looks: Sequence[Look], place: Place | None) -> Callable[[JsonValue], bool]:
    source = Source()
    objects = source.bind("Objects", objects_at(place))
    conditions: list[str] = []
    members: list[str] = []
    for look in looks:
        match look.target:
            case All.ANYTHING:
                return lambda document: True
            case All.MEMBERS:
                conditions.append(f"type(document) is {objects}")
            case All.ELEMENTS:
                conditions.append("type(document) is list")
            case Path(segments=(segment, *_)) if not segment.descend:
                names = [selector.name for selector in segment.selectors if isinstance(selector, Name)]
                members += [found for name in names if (found := _has(name, place))]
                if any(isinstance(selector, Wildcard | Slice | Filter) for selector in segment.selectors):
                    conditions.append("type(document) is list")
    if members:
        conditions.insert(0, f"type(document) is {objects} and ({' or '.join(dict.fromkeys(members))})")
    source.add("def generated(document):")
    source.depth = 1
    source.add(f"return {' or '.join(dict.fromkeys(conditions)) or 'False'}")
    reads: Callable[[JsonValue], bool] = source.compiled("first look")
    return reads


def _has(name: str, place: Place | None) -> str | None:
    """The condition that an object has a member; None where that can't be seen here."""
    if place is None or place.objects is dict:
        return f"{name!r} in document"
    return f"document.{place.slots[name][0]} is not UNSET" if name in place.slots else None
