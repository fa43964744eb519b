"""A first rules file out of a survey: valid, and without rejects on the input that it was made from."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

from mukret.documents import Source
from mukret.drafting.model import Draft
from mukret.drafting.names import snake_case
from mukret.drafting.settle import settled
from mukret.drafting.tables import tables_of
from mukret.drafting.text import rules_text
from mukret.survey import survey

_BESIDE_WORDS = re.compile(r"[^A-Za-z]+")

__all__ = ["Draft", "draft_rules", "rules_text"]


def draft_rules(
    sources: Sequence[Source], title: str, file: str = "draft", *, progress: Callable[[int], None] | None = None
) -> Draft:
    """A draft for what is in some sources, which are read several times. Raises InputError as a survey does."""
    for source in sources:
        source.keep()
    report = survey(sources, progress=progress)
    return settled(tables_of(report, title, _word(sources)), sources, file)


def _word(sources: Sequence[Source]) -> str:
    """What the files are called, without what differs between them: `timetable-2031-03-28.json` → timetable."""
    words = {snake_case(_BESIDE_WORDS.sub(" ", Path(source.path).name.partition(".")[0])) for source in sources}
    [word, *others] = words or {""}
    return word if word and not others else "rows"
