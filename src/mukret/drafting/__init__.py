"""A first rules file out of a survey: valid, and without rejects on the input that it was made from."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from mukret.documents import Source
from mukret.drafting.model import Draft
from mukret.drafting.settle import settled
from mukret.drafting.tables import tables_of
from mukret.drafting.text import rules_text
from mukret.survey import survey

__all__ = ["Draft", "draft_rules", "rules_text"]


def draft_rules(
    sources: Sequence[Source], title: str, file: str = "draft", *, progress: Callable[[int], None] | None = None
) -> Draft:
    """A draft for what is in some sources, which are read several times. Raises InputError as a survey does."""
    for source in sources:
        source.keep()
    report = survey(sources, progress=progress)
    return settled(tables_of(report, title), sources, file)
