"""Sources → what is in them: read once, in bounded memory."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence

from mukret.codes import Code
from mukret.documents import BadDocument, Batch, Source, nothing_read, read_batches
from mukret.documents.blocks import BLOCK_BYTES
from mukret.documents.doubled import DoubledMembers, is_sampled
from mukret.documents.gc_pause import gc_paused
from mukret.paths import Path, parse_path
from mukret.paths.locate import nearest_existing, path_text
from mukret.paths.query import Index, with_wildcards
from mukret.survey.describing import describe
from mukret.survey.places import Where
from mukret.survey.report import MOST_BAD, Surprise, SurveyReport
from mukret.survey.shapes import fold_names_that_are_data
from mukret.survey.walk import Walk
from mukret.text import counted
from mukret.values import JsonValue

# What is made of a document before it is looked at.
Prepare = Callable[[JsonValue], JsonValue]
# Whether a document is looked at.
Chosen = Callable[[JsonValue], bool]
# Called after each batch with the bytes of input that it held.
Progress = Callable[[int], None]


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
    reading = _SurveyRun(path, prepare, only)
    # Millions of small objects are made and dropped: the collector would look at them in vain.
    with gc_paused():
        for batch in read_batches(
            sources, is_sampled, batch_bytes, arrays=reading.walk.arrays
        ):
            reading.see(batch)
            if progress:
                progress(batch.size)
    if not reading.documents and reading.bad:
        raise nothing_read(reading.bad[0], reading.bad_documents)
    return reading.report(sources)


class _SurveyRun:
    """What a survey has come to so far."""

    def __init__(
        self, path: Path | None, prepare: Prepare | None, only: Chosen | None
    ) -> None:
        self.path = path
        self.prepare = prepare
        self.only = only
        self.walk = Walk(path)
        self.doubled = DoubledMembers()
        self.documents = 0
        self.bad_documents = 0
        self.bad: list[BadDocument] = []
        # The first documents, as long as the path found nothing in any.
        self.first: list[JsonValue] = []
        # Whether the document that comes in parts is one that was chosen.
        self.goes_on = True

    def see(self, batch: Batch) -> None:
        if self.prepare is not None:
            batch.documents = list(map(self.prepare, batch.documents))
        if self.only is not None and not self._chosen(batch, self.only):
            return
        self.walk.see(batch)
        if self.path is not None and not self.walk.roots:
            self.first += batch.documents[: MOST_BAD - len(self.first)]
        in_parts = batch.part.array is not None
        self.doubled.see(
            batch, self.walk.arrays[0] if self.walk.arrays and in_parts else None
        )
        # A part that goes on with a document is none of its own.
        self.documents += 0 if in_parts else len(batch.documents)
        self.bad_documents += len(batch.bad)
        self.bad += batch.bad[: MOST_BAD - len(self.bad)]

    def _chosen(self, batch: Batch, only: Chosen) -> bool:
        """Leaves the documents that are chosen; False for a part of one that was not."""
        if batch.part.array is None:
            _choose(batch, only)
            self.goes_on = bool(batch.documents)
            return True
        return self.goes_on

    def report(self, sources: Sequence[Source]) -> SurveyReport:
        walk, path = self.walk, self.path
        # Names that are data are folded first: all that follows goes by places.
        fold_names_that_are_data(walk.root)
        places, lists, surprises = (
            describe(walk.root, path) if walk.roots else ([], [], [])
        )
        surprises += self._doubled_members()
        passed_over: Counter[str] = sum(
            (source.passed_over for source in sources), Counter()
        )
        return SurveyReport(
            self.documents,
            len(sources),
            sum(source.size for source in sources),
            walk.roots,
            str(path) if path else None,
            dict(passed_over),
            self.bad,
            self.bad_documents,
            places,
            lists,
            surprises,
            _nearest(path, self.first) if path is not None and not walk.roots else None,
        )

    def _doubled_members(self) -> Iterator[Surprise]:
        if not self.doubled.found:
            return
        first = self.doubled.found[0]
        members = counted(len(self.doubled.found), "member")
        message = f"{members} came twice in one object; the last one counts"
        where = Where(first.file, first.document, first.path)
        yield Surprise(Code.MEMBER_TWICE, message, _any_element(first.path), where)


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
        with_wildcards(segments, lambda segment: isinstance(segment.only, Index))
    )
