"""Sources → what is in them: read once, in bounded memory."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence

from mukret.documents import BadDocument, Batch, Source, nothing_read, read_batches
from mukret.documents.blocks import BLOCK_BYTES
from mukret.documents.collector import collector_at_rest
from mukret.documents.doubled import DoubledMembers, is_sampled
from mukret.paths import Path, child_segment, parse_path
from mukret.paths.locate import nearest_existing, path_text
from mukret.paths.query import Index, Wildcard
from mukret.survey.places import Where
from mukret.survey.report import MOST_BAD, Surprise, SurveyReport, describe
from mukret.survey.shapes import settle
from mukret.survey.walk import Walk
from mukret.text import counted
from mukret.values import JsonValue

Prepare = Callable[[JsonValue], JsonValue]
"""What is made of a document before it is looked at."""
Chosen = Callable[[JsonValue], bool]
"""Whether a document is looked at."""
Progress = Callable[[int], None]
"""Called after each batch with the bytes of input that it held."""


def survey(
    sources: Sequence[Source],
    path: Path | None = None,
    *,
    batch_bytes: int = BLOCK_BYTES,
    progress: Progress | None = None,
    prepare: Prepare | None = None,
    only: Chosen | None = None,
) -> SurveyReport:
    """Looks at every document, or at what `path` finds in each; with `only` at those that are
    chosen. Raises InputError, also if none could be read.
    """
    walk, doubled = Walk(path), DoubledMembers()
    goes_on = True
    bad: list[BadDocument] = []
    documents = bad_documents = 0
    first: list[JsonValue] = []
    with collector_at_rest():
        for batch in read_batches(sources, is_sampled, batch_bytes, arrays=walk.arrays):
            if prepare is not None:
                batch.documents = list(map(prepare, batch.documents))
            if only is not None:
                if batch.part.array is None:
                    _choose(batch, only)
                    goes_on = bool(batch.documents)
                elif not goes_on:  # a part of one that was not chosen
                    continue
            walk.see(batch)
            if path is not None and not walk.roots:
                first += batch.documents[: MOST_BAD - len(first)]
            doubled.see(
                batch, walk.arrays[0] if walk.arrays and batch.part.array is not None else None
            )
            documents += len(batch.documents) * (batch.part.array is None)
            bad_documents += len(batch.bad)
            bad += batch.bad[: MOST_BAD - len(bad)]
            if progress:
                progress(batch.size)
    if not documents and bad:
        raise nothing_read(bad[0], bad_documents)
    settle(walk.root)
    places, lists, surprises = describe(walk.root, path) if walk.roots else ([], [], [])
    passed_over: Counter[str] = sum((source.passed_over for source in sources), Counter())
    report = SurveyReport(
        documents,
        len(sources),
        sum(source.size for source in sources),
        walk.roots,
        str(path) if path else None,
        dict(passed_over),
        bad,
        bad_documents,
        places,
        lists,
        surprises,
        _nearest(path, first) if path is not None and not walk.roots else None,
    )
    if doubled.found:
        twice = doubled.found[0]
        message = (
            f"{counted(len(doubled.found), 'member')} came twice in one object; the last one counts"
        )
        where = Where(twice.file, twice.document, twice.path)
        report.surprises.append(Surprise("member-twice", message, _any_element(twice.path), where))
    return report


def _choose(batch: Batch, only: Chosen) -> None:
    """Leaves the documents that are chosen."""
    kept = [number for number, document in enumerate(batch.documents) if only(document)]
    batch.documents = [batch.documents[number] for number in kept]
    batch.sources = [batch.sources[number] for number in kept]
    batch.numbers = [batch.numbers[number] for number in kept]
    batch.raw = {}


def _nearest(path: Path, roots: Sequence[JsonValue]) -> str | None:
    near = nearest_existing(path, roots)
    return near.text if near else None


def _any_element(normalized_path: str) -> str:
    """The path of a node with every index open: that of the place where it stands."""
    segments = parse_path(normalized_path).segments
    return path_text(
        tuple(child_segment(Wildcard()) if isinstance(one.only, Index) else one for one in segments)
    )
