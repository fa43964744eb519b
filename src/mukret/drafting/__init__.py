"""A first rules file out of a survey: valid, and tried on the input that it was made from."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import PurePath

from mukret.codes import Code
from mukret.documents import Source
from mukret.drafting.by_call import sources_by_call, together, with_variables
from mukret.drafting.chosen import below, with_fields_alone
from mukret.drafting.draft_tables import tables_of
from mukret.drafting.kinds import kinds_of_documents
from mukret.drafting.model import Draft
from mukret.drafting.names import snake_case
from mukret.drafting.text import rules_text
from mukret.drafting.trial import tried_on
from mukret.errors import UsageError
from mukret.paths import Name, Path, parse_path
from mukret.paths.locate import path_text
from mukret.semantics.embedded import unfolded
from mukret.survey import PlaceReport, SurveyReport, survey
from mukret.values import JsonValue

# So deep texts are looked for that stand in other such texts.
MOST_LEVELS = 3
_BESIDE_WORDS = re.compile(r"[^A-Za-z]+")

__all__ = ["Draft", "draft_rules", "rules_text"]


def draft_rules(
    sources: Sequence[Source],
    title: str,
    file: str = "draft",
    *,
    embedded: Sequence[Path] | None = None,
    path: Path | None = None,
    fields: Sequence[str] = (),
    progress: Callable[[int], None] | None = None,
) -> Draft:
    """A draft for what is in some sources, which are read several times.

    Raises InputError as a survey does.

    `embedded`: where texts stand that hold JSON; None: wherever all texts of a place do. With
    `path` a draft of what stands in the nodes that it finds, with `fields` one of these alone;
    raises UsageError where nothing is found.
    """
    for source in sources:
        # Standard input can be read once only.
        source.keep()
    if path is not None:
        draft = _below(sources, path, title, progress)
        if fields:
            with_fields_alone(draft, fields)
        return tried_on(draft, sources, file, ignoring=False)
    if fields:
        draft = draft_rules(sources, title, file, embedded=embedded, progress=progress)
        with_fields_alone(draft, fields)
        return tried_on(draft, sources, file, ignoring=False)
    by_call = sources_by_call(sources)
    # One call, or files of which none is known: one kind of answer.
    if len(by_call) < 2:
        whole = _draft_of(sources, title, file, embedded, progress)
        return with_variables(whole, sources if by_call else ())
    drafts = {
        call: with_variables(
            _draft_of(sources_of_call, title, file, embedded, progress), sources_of_call
        )
        for call, sources_of_call in by_call.items()
    }
    return tried_on(together(title, drafts), sources, file)


def _below(
    sources: Sequence[Source],
    path: Path,
    title: str,
    progress: Callable[[int], None] | None,
) -> Draft:
    report = survey(sources, path, progress=progress)
    if not report.roots:
        raise UsageError(Code.USAGE, f"{path.text} finds nothing", hint=report.hint)
    # The table is called by the last name on the way.
    steps = [
        segment.only.name for segment in path.segments if isinstance(segment.only, Name)
    ]
    draft = tables_of(
        report, title, snake_case(steps[-1]) if steps else _word(sources), of_nodes=True
    )
    below(draft, path)
    return draft


def _draft_of(
    sources: Sequence[Source],
    title: str,
    file: str,
    embedded: Sequence[Path] | None,
    progress: Callable[[int], None] | None,
) -> Draft:
    """A draft for documents of one kind, or of several that have no member in common."""
    report, paths = (
        _looked_into(sources, progress)
        if embedded is None
        else (_survey(sources, embedded, progress), list(embedded))
    )
    kinds = kinds_of_documents(report)
    if kinds:
        drafts = {
            kind.name: _tables(
                _survey(sources, paths, progress, only=kind.fits), paths, title, sources
            )
            for kind in kinds
        }
        draft = together(title, drafts)
        draft.kinds = {kind.name: kind.when for kind in kinds}
        return tried_on(draft, sources, file)
    draft = _drafted(report, paths, title, sources, file)
    if paths and embedded is None and draft.unread_texts > report.bad_documents:
        plain = _survey(sources, (), progress)  # not all of them are JSON after all
        draft = _drafted(plain, [], title, sources, file)
    return draft


def _drafted(
    report: SurveyReport,
    embedded: Sequence[Path],
    title: str,
    sources: Sequence[Source],
    file: str,
) -> Draft:
    return tried_on(_tables(report, embedded, title, sources), sources, file)


def _tables(
    report: SurveyReport,
    embedded: Sequence[Path],
    title: str,
    sources: Sequence[Source],
) -> Draft:
    # Answers of one call are named after it: their own outermost name is often `data`.
    call = next(iter(sources_by_call(sources)), None)
    draft = tables_of(
        report,
        title,
        snake_case(call) if call else _word(sources),
        of_call=call is not None,
    )
    draft.embedded = tuple(path_text(path.segments) for path in embedded)
    return draft


def _looked_into(
    sources: Sequence[Source], progress: Callable[[int], None] | None
) -> tuple[SurveyReport, list[Path]]:
    """A survey that has read the texts that hold JSON, and where these stand."""
    embedded: list[Path] = []
    report = _survey(sources, embedded, progress)
    # Texts may hold objects with texts that hold JSON.
    for _ in range(MOST_LEVELS):
        more = [
            parse_path(place_report.path)
            for place_report in report.places
            if _holds_json(place_report)
        ]
        if not more:
            break
        embedded += more
        report = _survey(sources, embedded, progress)
    return report, embedded


def _survey(
    sources: Sequence[Source],
    embedded: Sequence[Path],
    progress: Callable[[int], None] | None,
    *,
    only: Callable[[JsonValue], bool] | None = None,
) -> SurveyReport:
    for source in sources:
        source.rewind()
    paths = list(embedded)
    prepare = (lambda document: unfolded(document, paths)[0]) if paths else None
    return survey(sources, progress=progress, prepare=prepare, only=only)


def _holds_json(report: PlaceReport) -> bool:
    """Whether all that stands at a place are texts that hold JSON."""
    place = report.place
    looks = [look.name for look in report.looks]
    texts = set(place.kinds) <= {"string", "null"} and not any(
        above.recursive for above in place.upward()
    )
    return texts and looks == ["JSON in text"] and not report.looks[0].odd


def _word(sources: Sequence[Source]) -> str:
    """What the files are called, without what differs between them: `timetable-2031-03-28.json` →
    timetable.
    """
    words = {
        snake_case(_BESIDE_WORDS.sub(" ", PurePath(source.path).name.partition(".")[0]))
        for source in sources
    }
    [word, *others] = words or {""}
    return word if word and not others else "rows"
