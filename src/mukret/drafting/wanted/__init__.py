"""A few rows of the wanted table → rules that give it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mukret.codes import Code
from mukret.documents import Source
from mukret.drafting import draft_rules, rules_text
from mukret.drafting.model import Draft
from mukret.drafting.wanted.checking import not_given
from mukret.drafting.wanted.exampling import with_examples
from mukret.drafting.wanted.proposing import Ask, Choice, nobody_asked, propose
from mukret.drafting.wanted.rows import WantedTable, read_wanted
from mukret.errors import UsageError
from mukret.rules import parse_rules

__all__ = ["Choice", "Like", "WantedTable", "draft_like", "nobody_asked", "read_wanted"]


@dataclass(frozen=True)
class Like:
    """Rules that give what is wanted: the draft, and its text with examples."""

    draft: Draft
    text: str


def draft_like(
    sources: Sequence[Source],
    wanted: Sequence[WantedTable],
    title: str,
    file: str,
    ask: Ask = nobody_asked,
) -> Like:
    """Rules that give the wanted rows and none of the unwanted ones, tried on all of the input.

    `ask` decides between two places that both give a column.

    Raises InputError, and UsageError where a cell is given by nothing.
    """
    for source in sources:
        # Standard input, too, is read several times here.
        source.keep()
    draft = propose(draft_rules(sources, title, file), sources, wanted, ask)
    text = rules_text(draft)
    row = next(not_given(parse_rules(text, file), sources, wanted), None)
    if row is not None:
        message = f"{row.file}, line {row.line}: no rules were found that are right about this row"
        raise UsageError(
            Code.NOT_GIVEN,
            message,
            hint="type another row, or put ? where a cell does not matter",
        )
    return Like(draft, with_examples(text, file, sources, wanted))
