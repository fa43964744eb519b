"""Places that were counted → what a report says of each, and what surprises."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence

from mukret.codes import Code
from mukret.paths import Path
from mukret.paths.locate import path_text
from mukret.survey.forms import Form
from mukret.survey.look import LOOKS, Look
from mukret.survey.looks import looks_of
from mukret.survey.naming import named_like_an_id
from mukret.survey.places import Place, Seen
from mukret.survey.relations import PlaceReference, references, sorts_of
from mukret.survey.report import Headed, PlaceReport, RecordList, Surprise
from mukret.survey.words import differing_only_in_case, uniqueness, words_of
from mukret.text import counted
from mukret.values import json_text, shown_text

# A member is rare, or rarely missing, below this share; a kind or a form below it is odd.
RARE = 0.05
# Of fewer than these, one that differs is no surprise.
FEWEST = 20
NEARLY_UNIQUE = 0.9


def describe(
    root: Place, path: Path | None
) -> tuple[list[PlaceReport], list[RecordList], list[Surprise]]:
    """All places below a root that was counted and folded, the lists of records, and what
    surprises.
    """
    maker = _Describer(path)
    places = list(root.everything())
    looks = {id(place): looks_of(place) for place in places}
    unique = {id(place): uniqueness(place, looks[id(place)]) for place in places}
    referring = _references(places, looks, unique)
    reports: list[PlaceReport] = []
    surprises: list[Surprise] = []
    for place in places:
        reference = referring.get(id(place))
        report = maker.place(place, looks[id(place)], unique[id(place)], reference)
        reports.append(report)
        surprises += maker.surprises(report, reference)
    lists = [maker.records(place) for place in places if _holds_records(place)]
    # Many documents, each a record: they are the list.
    if root.nodes > 1 and root.objects == root.nodes and not lists:
        lists = [RecordList(maker.path(root), root.nodes, root.nodes, 1, 1)]
    return reports, lists, surprises


def _references(
    places: Sequence[Place],
    looks: Mapping[int, list[Look]],
    unique: Mapping[int, str | None],
) -> dict[int, PlaceReference]:
    """What refers to ids elsewhere, by the identity of the place; it can only be said once the ids
    of all places are known.
    """
    ids = [place for place in places if unique[id(place)] and place.step is not None]
    scalars = [
        place
        for place in places
        if place.values.count and _could_refer(looks[id(place)])
    ]
    return {id(reference.place): reference for reference in references(scalars, ids)}


def _could_refer(looks: list[Look]) -> bool:
    # Amounts, moments and flags refer to nothing, whatever values they share.
    names = (
        "text",
        "whole number",
        "uuid",
        "leading zeros",
        "number in text",
        "address",
    )
    return bool(looks) and looks[0].name in names


def _holds_records(place: Place) -> bool:
    inner = place.members or place.elements
    if inner is None:
        return False
    return bool(inner.columns) or (inner.objects > 0 and inner.members is None)


class _Describer:
    def __init__(self, path: Path | None) -> None:
        self.base = path.segments if path is not None else ()

    def path(self, place: Place) -> str:
        return path_text((*self.base, *place.segments()))

    def records(self, place: Place) -> RecordList:
        if place.members is not None:
            return RecordList(
                self.path(place.members),
                place.members.nodes,
                place.objects,
                None,
                None,
                # An object of records has no length that somebody could be surprised by.
                by_name=True,
            )
        assert place.elements is not None
        lengths = place.lengths
        return RecordList(
            self.path(place.elements),
            lengths.total,
            lengths.lists,
            lengths.shortest,
            lengths.longest,
        )

    def place(
        self,
        place: Place,
        looks: list[Look],
        unique: str | None,
        reference: PlaceReference | None,
    ) -> PlaceReport:
        return PlaceReport(
            place,
            self.path(place),
            tuple(looks),
            tuple(words_of(place, looks)),
            unique,
            tuple(self.shape(place)),
            self.path(reference.target) if reference else None,
            sorts_of(place),
            tuple(self.parallel(place)),
            tuple(self.headed(place)),
        )

    def shape(self, place: Place) -> Iterator[str]:
        if place.members is not None:
            yield "names are data"
        # Services that leave the list away around a single record.
        if place.count("array") and place.objects and place.step is not None:
            yield "a list, and an object now and then"
        if place.header:
            yield f"the first row holds the names: {', '.join(place.header)}"
        if place.recursive:
            yield "holds itself"
        yield from (
            f"{one} and {two} are of equal length: parallel"
            for one, two in self.parallel(place)
        )
        yield from (
            f"{one.names} holds the names of the columns of {one.rows}"
            for one in self.headed(place)
        )

    def parallel(self, place: Place) -> Iterator[tuple[str, str]]:
        for (first, second), (equal, compared) in place.parallel.items():
            if (
                equal == compared
                and compared
                and self.both_scalar(place, first, second)
            ):
                yield first, second

    def both_scalar(self, place: Place, first: str, second: str) -> bool:
        children = (place.children.get(first), place.children.get(second))
        return all(
            child and child.elements and child.elements.values.count
            for child in children
        )

    def headed(self, place: Place) -> Iterator[Headed]:
        """Members with arrays of rows, and those that hold as many names as these have columns."""
        for name, child in place.children.items():
            width = _columns_without_names(child)
            if width < 2:
                continue
            for other, names in place.children.items():
                lengths, words = names.lengths, names.elements
                if (
                    other == name
                    or not words
                    or not lengths.shortest == lengths.longest == width
                ):
                    continue
                # The names themselves, or records of columns that have a name among their members.
                if words.count("string") == words.nodes:
                    yield Headed(name, other)
                elif words.objects == words.nodes and (within := _naming_member(words)):
                    yield Headed(name, other, within)

    # ---- surprises

    def surprises(
        self, report: PlaceReport, reference: PlaceReference | None
    ) -> Iterator[Surprise]:
        yield from self.presence(report)
        yield from self.kinds(report)
        for look in report.looks:
            yield from self.odd(report, look)
            yield from self.ways(report, look)
        yield from self.repeats(report)
        # Words that are alike but for white space are told once, as such.
        alike = differing_only_in_case(list(report.words))
        yield from self.white_space(report, alike)
        for group in alike:
            shown = ", ".join(map(json_text, group))
            yield Surprise(
                Code.WORDS_ALIKE,
                f"differ in case or white space only: {shown}",
                report.path,
            )
        if reference is not None and reference.missing:
            what = f"{reference.missing:,} of {counted(reference.distinct, 'different value')}"
            message = f"{what} stand not in {report.refers_to}"
            yield Surprise(Code.REFERENCE_MISSING, message, report.path)
        yield from self.limits(report)

    def odd(self, report: PlaceReport, look: Look) -> Iterator[Surprise]:
        """Values that do not look like the others."""
        whole = look.count + sum(odd.count for odd in look.odd)
        for odd in look.odd:
            share = f"{odd.count:,} of {whole:,}"
            message = f"{share} is not {LOOKS[look.name]}: {shown_text(odd.example)}"
            yield Surprise(Code.ODD_VALUE, message, report.path, odd.where)

    def limits(self, report: PlaceReport) -> Iterator[Surprise]:
        """What a column, or the survey itself, can't hold."""
        place = report.place
        if place.numbers.huge:
            what = f"{counted(place.numbers.huge, 'whole number')} beyond 64 bits: keep as text"
            yield Surprise(Code.BEYOND_64_BITS, what, report.path)
        if place.not_followed:
            nodes = counted(place.not_followed, "node")
            what = f"{nodes} below not looked into: too deep, or too many places"
            yield Surprise(Code.NOT_FOLLOWED, what, report.path)

    def white_space(
        self, report: PlaceReport, alike: list[list[str]]
    ) -> Iterator[Surprise]:
        """Texts to be compared, with white space around them that would be kept; not those that are
        named anyway.
        """
        place, trimmed = report.place, report.place.trimmed
        named = any(trimmed.example in group for group in alike)
        if (
            trimmed.count
            and report.looks
            and report.looks[0].reading.get("trim")
            # It is told with the words that differ in it alone.
            and not named
        ):
            share = f"{trimmed.count:,} of {place.count('string'):,}"
            message = f"{share} have white space around them, such as {shown_text(trimmed.example)}"
            yield Surprise(Code.WHITE_SPACE, message, report.path, trimmed.where)

    def ways(self, report: PlaceReport, look: Look) -> Iterator[Surprise]:
        """Dates or instants that are written in several ways,
        or of which only some have an offset.
        """
        if look.name not in ("date", "timestamp"):
            return
        ways: defaultdict[str, list[Seen]] = defaultdict(list)
        for form, seen in report.place.forms.items():
            if form.kind == look.name and isinstance(form, Form):
                ways[_way_of_writing(form)].append(seen)
        if len(ways) < 2:
            return
        counts: dict[str, int] = {}
        for way, forms in ways.items():
            counts[way] = sum(seen.count for seen in forms)
        often_first = sorted(counts.items(), key=lambda item: -item[1])
        shown = ", ".join(f"{way} ×{count:,}" for way, count in often_first)
        # The example is of the rare way: the frequent one is on the screen already.
        rarest = ways[min(reversed(counts), key=lambda way: counts[way])][0]
        message = f"written in {len(counts)} ways: {shown}"
        yield Surprise(Code.WAYS_OF_WRITING, message, report.path, rarest.where)

    def presence(self, report: PlaceReport) -> Iterator[Surprise]:
        present, of = report.present, report.of
        if of < FEWEST or present >= of:
            return
        # Rules written from a few responses would not know of it.
        if present < RARE * of:
            where = next(iter(report.place.kinds.values())).where
            yield Surprise(
                Code.RARE_MEMBER,
                f"there in {present:,} of {of:,} only",
                report.path,
                where,
            )
        elif of - present < RARE * of:
            message = f"missing in {of - present:,} of {of:,}"
            yield Surprise(
                Code.MISSING_MEMBER, message, report.path, report.place.missing_where
            )

    def kinds(self, report: PlaceReport) -> Iterator[Surprise]:
        place, nulls, path = report.place, report.nulls, report.path
        if nulls and nulls < RARE * place.nodes and place.nodes >= FEWEST:
            message = f"null in {nulls:,} of {place.nodes:,}"
            yield Surprise(
                Code.NULL_NOW_AND_THEN, message, path, place.kinds["null"].where
            )
        kinds = {kind: seen for kind, seen in place.kinds.items() if kind != "null"}
        if len(kinds) < 2:
            return
        often_first = sorted(kinds.items(), key=lambda item: -item[1].count)
        shown = ", ".join(f"{kind} {seen.count:,}" for kind, seen in often_first)
        # Shown by an example of the rare kind, which is what breaks rules.
        rarest = min(kinds.values(), key=lambda seen: seen.count)
        if set(kinds) == {"array", "object"} and place.step is not None:
            message = f"a list, but an object now and then: {shown}"
            yield Surprise(Code.LIST_OR_OBJECT, message, path, rarest.where)
        else:
            yield Surprise(
                Code.MIXED_KINDS, f"of several kinds: {shown}", path, rarest.where
            )

    def repeats(self, report: PlaceReport) -> Iterator[Surprise]:
        """An id that is unique nearly always."""
        values = report.place.values
        distinct = values.distinct
        if (
            not values.repeated
            or distinct is None
            or not named_like_an_id(report.place.step)
        ):
            return
        # Few values say nothing; many repetitions say that it is no key at all.
        if values.count < FEWEST or distinct < NEARLY_UNIQUE * values.count:
            return
        again = counted(values.count - distinct, "value")
        message = f"{again} came before, such as {shown_text(values.repeated[0])}"
        yield Surprise(
            Code.ID_REPEATS, message, report.path, report.place.repeated_where
        )


def _naming_member(records: Place) -> str | None:
    """The member of records that names each of them: a text that is always there and never the
    same.
    """
    # The likeliest name first.
    for step in ("name", "key", "field", "id", "title", "label"):
        child = next(
            (child for name, child in records.children.items() if name.lower() == step),
            None,
        )
        if (
            child is not None
            and child.count("string") == records.objects == child.values.distinct
        ):
            return child.step
    return None


def _columns_without_names(place: Place) -> int:
    """How many columns the rows at a place have, where no first row names them; 0 for no table."""
    if (
        place.elements is None
        or place.header
        or place.lengths.total < 2 * place.lengths.lists
    ):
        return 0
    return len(place.elements.columns)


def _way_of_writing(form: Form) -> str:
    """`ISO 8601 with offset`, `%d.%m.%Y`"""
    pattern = (
        "ISO 8601" if form.detail[0] == "iso" else form.detail[0].replace("%?", "…")
    )
    if form.kind != "timestamp":
        return pattern
    return f"{pattern} {'without' if form.detail[1] == 'none' else 'with'} offset"
