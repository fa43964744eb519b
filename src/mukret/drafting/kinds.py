"""Documents of several kinds in one input,
told apart by a member that only those of one kind have.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from mukret.drafting.meanings import is_about_the_answer
from mukret.drafting.names import fitting, snake_case
from mukret.paths import Name, child_segment
from mukret.paths.locate import path_text
from mukret.survey import SurveyReport
from mukret.survey.places import Place
from mukret.values import JsonValue

MOST_KINDS = 6
# A single document of another kind is an accident.
FEWEST = 2


@dataclass(frozen=True)
class DocumentKind:
    """`member` is what all documents of the kind have, and no other."""

    name: str
    member: str

    @property
    def when(self) -> str:
        return path_text((child_segment(Name(self.member)),)).replace("$", "@", 1)

    def fits(self, document: JsonValue) -> bool:
        return type(document) is dict and self.member in document


def kinds_of_documents(report: SurveyReport) -> list[DocumentKind]:
    """The kinds, if documents fall into groups that have no member in common but what tells of the
    answer.
    """
    root = report.places[0].place
    if root.signatures is None or root.members is not None or root.objects < root.nodes:
        return []
    groups = _groups(_telling_members(root))
    if not 2 <= len(groups) <= MOST_KINDS:
        return []
    kinds: dict[str, DocumentKind] = {}
    for members, count in groups.items():
        member = _in_all(root, members, count)
        if member is not None and count >= FEWEST:
            name = fitting(snake_case(member) or "kind")
            kinds[name] = DocumentKind(name, member)
    # All or none: two groups of one name, too, would leave documents to no kind.
    return list(kinds.values()) if len(kinds) == len(groups) else []


def _groups(signatures: Iterable[tuple[set[str], int]]) -> dict[frozenset[str], int]:
    """Sets of members that come together, with the number of documents that have some of them."""
    groups: dict[frozenset[str], int] = {}
    for names, count in signatures:
        members, total = frozenset(names), count
        if not members:
            continue
        # A document may join two groups that had nothing in common so far.
        for other in [other for other in groups if other & members]:
            total += groups.pop(other)
            members |= other
        groups[members] = total
    return groups


def _in_all(root: Place, members: frozenset[str], documents: int) -> str | None:
    """The first of these members that all of so many documents have.

    None of the other documents has it: groups have no member in common.
    """
    for name, child in root.children.items():
        if name in members and child.nodes == documents:
            return name
    return None


def _telling_members(root: Place) -> Iterator[tuple[set[str], int]]:
    """The members that came together in some documents, without those that tell of the answer, and
    the number of these documents.
    """
    telling = {
        step for step, child in root.children.items() if not is_about_the_answer(child)
    }
    for names, count in (root.signatures or {}).items():
        yield telling.intersection(names), count
