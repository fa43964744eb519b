"""What stands where, drawn as a tree, a line for each place."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence

import click
from rich.console import Console
from rich.text import Text

from mukret.cli.views.screen import (
    cell_width,
    readable,
)
from mukret.paths import child_segment
from mukret.paths.locate import path_text
from mukret.survey.places import Place
from mukret.survey.report import PlaceReport, SurveyReport, share
from mukret.survey.shapes import in_array
from mukret.text import counted, escaped, shortened
from mukret.values import JsonValue, json_text

# Places below one that are drawn.
MOST_MEMBERS = 200
MOST_WORDS = 12
LONGEST_EXAMPLE = 40
LONGEST_UNBROKEN = 20
LONGEST_ROOT = 16
SHORTEST_LABEL = 8
NARROWEST = 24
# Places that are shown on two screens, about; of more the deepest are counted.
MOST_LINES = 120
# The part of the width that names may take.
LIST_SHARE = 0.42
# A space at which no line is broken; a character that no text is to hold (Unicode: a noncharacter).
GLUE = "\ufdd0"
PLAIN = frozenset(
    "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./:+"
)
# A piece of text and its style.
Part = tuple[str, str]


def span(low: int, high: int) -> str:
    return f"{low:,}" if low == high else f"{low:,} to {high:,}"


class Tree:
    """One line or more per place; an array and its elements stand on one line."""

    def __init__(
        self,
        report: SurveyReport,
        console: Console,
        width: int,
        details: bool,
        *,
        whole: bool = False,
    ) -> None:
        self.console = console
        self.details = details
        self.reports = {
            id(place_report.place): place_report for place_report in report.places
        }
        self.root = report.places[0]
        # So deep the lines go, where there are too many for that.
        self.deepest = None if whole else self.depth_to_show()
        # The first place of which those below are only counted.
        self.cut_at: str | None = None
        self.rows = list(self.lines(self.root, "", ""))
        longest = max(
            len(guide) + cell_width(label) for guide, _, label, _ in self.rows
        )
        deepest = max(len(guide) for guide, *_ in self.rows)
        self.label_width = min(
            longest, max(int(width * LIST_SHARE), deepest + SHORTEST_LABEL)
        )
        self.width = max(
            width - self.label_width - 2, NARROWEST
        )  # where places are deep, wider than the screen

    def print(self) -> None:
        for guide, below, label, parts in self.rows:
            text = Text()
            for part, style in parts:
                text.append(part, style)
            lines = list(text.wrap(self.console, self.width)) or [Text()]
            for number, line in enumerate(lines):
                head = Text()
                head.append(guide if number == 0 else below, style="dim")
                room = self.label_width - len(head)
                if number == 0:
                    name = Text(label, style="bold")
                    name.truncate(room, overflow="ellipsis")
                    head.append_text(name)
                head.pad_right(max(0, self.label_width + 2 - head.cell_len))
                # The blanks that hold words together are put back once the line is broken.
                line.plain = line.plain.replace(GLUE, " ")
                head.append_text(line)
                head.rstrip()
                self.console.print(
                    head, no_wrap=True, overflow="ignore", crop=False, soft_wrap=True
                )

    def print_cut(self) -> None:
        """Says how to see the places that were only counted."""
        if self.cut_at is not None:
            path = shlex.quote(readable(self.cut_at))
            click.echo(
                f"Deeper places are only counted: --path {path} shows those below it, --whole all"
            )

    def depth_to_show(self) -> int | None:
        """How deep the lines may go so that they fill two screens; None if all of them may be
        shown.
        """
        counts: list[int] = []
        # Level by level: the depth that fits is the last one whose lines still do.
        level = [self.root]
        while level:
            counts.append(len(level))
            level = [
                child
                for place_report in level
                for child in self.children(self.chain(place_report))[:MOST_MEMBERS]
            ]
        if sum(counts) <= MOST_LINES:
            return None
        fitting = [
            depth
            for depth in range(len(counts))
            if sum(counts[: depth + 1]) <= MOST_LINES
        ]
        return max([1, *fitting])

    def children(self, chain: Sequence[PlaceReport]) -> list[PlaceReport]:
        return [child for holder in chain for child in self.shown_below(holder, chain)]

    def lines(
        self, report: PlaceReport, guide: str, below: str, depth: int = 0
    ) -> Iterator[tuple[str, str, str, list[Part]]]:
        """Guides of the first line and of those that follow, the label, and what is said of the
        place.
        """
        chain = self.chain(report)
        label = self.label(chain)
        children = self.children(chain)
        # What is not shown is counted, and can be asked for by `--path`.
        if children and depth == self.deepest:
            self.cut_at = self.cut_at or chain[-1].path
            places = sum(1 for _ in chain[-1].place.everything()) - 1
            said = [
                *self.parts(chain),
                [(f"{counted(places, 'place')} below", "yellow")],
            ]
            yield guide, below, label, list(_joined(iter(said)))
            return
        bar = f"{below}│ " if children else below
        yield guide, bar, label, list(_joined(self.parts(chain)))
        more = len(children) - MOST_MEMBERS
        for number, child in enumerate(children[:MOST_MEMBERS]):
            last = number == len(children) - 1
            guides = (
                f"{below}{'└' if last else '├'} ",
                f"{below}{'  ' if last else '│ '}",
            )
            yield from self.lines(child, *guides, depth + 1)
        if more > 0:
            yield (
                f"{below}└ ",
                below,
                "…",
                [(f"{counted(more, 'more member')}: --json lists all", "yellow")],
            )

    def chain(self, report: PlaceReport) -> list[PlaceReport]:
        """A place and, as long as each is only there to hold the next, its elements or members
        whose names are data.
        """
        chain = [report]
        while True:
            place = chain[-1].place
            following = place.members or place.elements
            if following is None or (place.children and place.step is None):
                return chain
            chain.append(self.reports[id(following)])

    def label(self, chain: Sequence[PlaceReport]) -> str:
        segments = tuple(child_segment(holder.place.selector) for holder in chain[1:])
        first = chain[0]
        if first.place.parent is None:
            label = self.root_label(first.path)
        elif first.place.position is not None:
            position = first.place.position
            header = self.header(first.place) or ()
            name = (
                header[position] if position < len(header) else ""
            )  # a row may be longer than its header
            label = f"[{position}] {name}".rstrip()
        else:
            label = (
                path_text((child_segment(first.place.selector),))
                .removeprefix("$")
                .removeprefix(".")
            )
        return escaped(
            label + path_text(segments).removeprefix("$").replace(".*", "[*]")
        )

    def root_label(self, path: str) -> str:
        """A long path by its last member alone; the whole of it stands in the headline."""
        if len(path) <= LONGEST_ROOT:
            return path
        _, dot, name = path.rpartition(".")
        return name if dot and len(name) <= LONGEST_ROOT else "…"

    def header(self, column: Place) -> tuple[str, ...] | None:
        table = column.parent.parent if column.parent else None
        return table.header if table is not None else None

    def shown_below(
        self, report: PlaceReport, chain: Sequence[PlaceReport]
    ) -> Iterator[PlaceReport]:
        place = report.place
        inner = {
            name
            for holder in chain
            if holder is not report
            for name in holder.place.children
        }
        below = [*place.children.values(), *place.columns]
        if place.elements is not None and report is chain[-1]:
            below.append(place.elements)
        for child in below:
            if (
                report is chain[-1] or child.step not in inner
            ):  # an object instead of a list: told once
                yield self.reports[id(child)]

    # ---- what is said of a place

    def parts(self, chain: Sequence[PlaceReport]) -> Iterator[list[Part]]:
        first = chain[0]
        place = first.place
        # How often it is there comes first: it decides whether a rule may require it.
        if not first.always:
            yield [(share(first.present, first.of), "yellow")]
        if place.parent is None:
            yield [
                (counted(place.nodes, "document" if first.path == "$" else "node"), "")
            ]
        for holder in chain:
            yield from self.own_parts(holder)

    def own_parts(self, report: PlaceReport) -> Iterator[list[Part]]:
        """What is said of a place itself, each thing that belongs together as one list."""
        place = report.place
        kinds = [kind for kind in place.kinds if kind != "null"]
        yield from self.doubtful_parts(report, kinds)
        # Elements with columns of their own are told by these.
        if place.lengths.lists and not (place.columns and in_array(place)):
            yield self.array_parts(place)
        if place.members is not None:
            yield self.names_parts(place)
        elif kinds == ["object"] and not place.children:
            yield [("always an empty object", "")]
        for text in report.shape_beside_names:
            yield [(text, "cyan")]
        if report.sorts:
            yield self.sorts_parts(report)
        if place.values.count or place.count("boolean"):
            yield from self.scalar_parts(report)

    def doubtful_parts(
        self, report: PlaceReport, kinds: Sequence[str]
    ) -> Iterator[list[Part]]:
        """Nulls, and several kinds of values at one place: what rules must provide for."""
        place = report.place
        if report.nulls == place.nodes and report.nulls:
            yield [("always null", "yellow")]
        elif report.nulls:
            yield [(f"null in {share(report.nulls, place.nodes)}", "yellow")]
        if len(kinds) > 1:
            counts = (f"{kind} {place.count(kind):,}" for kind in kinds)
            yield [(" or ".join(counts), "yellow")]

    def names_parts(self, place: Place) -> list[Part]:
        """Members whose names are data, with some of the names."""
        names = place.names
        count = (
            f"{names.distinct:,} different"
            if names.distinct is not None
            else "very many"
        )
        return [
            ("names are data", "cyan"),
            (f": {count}, {_examples(names.examples)}", ""),
        ]

    def array_parts(self, place: Place) -> list[Part]:
        lengths = place.lengths
        if not lengths.longest:
            return [("always an empty list", "yellow")]
        # Pairs such as positions on a map: lengths would say nothing more.
        if place.columns:
            return [
                (
                    f"always {counted(lengths.longest, 'element')}, told apart by position",
                    "",
                )
            ]
        record = place.elements is not None and place.elements.objects
        columns = len(place.elements.columns) if place.elements else 0
        what = counted(
            lengths.total, "record" if record else "row" if columns else "element"
        )
        empty = f", {lengths.empty:,} of them empty" if lengths.empty else ""
        lists = (
            "one list"
            if lengths.lists == 1
            else f"{lengths.lists:,} lists of {span(lengths.shortest, lengths.longest)}"
        )
        width = f" of {columns}" if columns and not record else ""
        return [(f"{what}{width} in {lists}{empty}", "")]

    def sorts_parts(self, report: PlaceReport) -> list[Part]:
        assert report.sorts
        shown = "; ".join(
            f"{_word(sort.word)}{GLUE}×{sort.count:,}: {', '.join(sort.members) or 'nothing more'}"
            for sort in report.sorts.sorts
        )
        return [
            ("several sorts", "cyan"),
            (f", told by {report.sorts.member}: {shown}", ""),
        ]

    def scalar_parts(self, report: PlaceReport) -> Iterator[list[Part]]:
        place = report.place
        for look in report.looks:
            often = f" in {look.count:,}" if len(report.looks) > 1 else ""
            detail = f" ({look.detail})" if look.detail else ""
            yield [(look.name, "cyan"), (f"{often}{detail}", "")]
        if report.unique:
            yield [
                (
                    "unique" if report.unique == "everywhere" else "unique in its list",
                    "green",
                )
            ]
        if report.refers_to:
            yield [(f"found in {report.refers_to}", "green")]
        yield from self.values(report)
        # Both counts: a flag that is never true is worth a question.
        if place.count("boolean"):
            counts = {
                "true": place.trues,
                "false": place.count("boolean") - place.trues,
            }
            shown = ", ".join(
                f"{word}{GLUE}×{count:,}" for word, count in counts.items() if count
            )
            yield [("boolean", "cyan"), (f": {shown}", "")]

    def values(self, report: PlaceReport) -> Iterator[list[Part]]:
        """The words if there are few; else the ends of numbers, and examples of texts."""
        place = report.place
        if report.words:
            yield [(_words(report.words), "")]
            return
        if place.numbers.low is not None and report.looks[-1].name != "epoch":
            yield [(_range(place), "")]
        texts = [value for value in place.values.examples if type(value) is str]
        if texts:
            shown = _examples(texts[: 3 if self.details else 2])
            yield [("e.g. ", "dim"), (shown, "dim")]
        if self.details and place.longest:
            longest = counted(place.longest, "character")
            yield [(f"up to {longest}", "dim")]


def _joined(parts: Iterator[list[Part]]) -> Iterator[Part]:
    for number, some in enumerate(parts):
        if number:
            yield ("; ", "dim")
        yield from ((_harmless(text), style) for text, style in some)


def _harmless(text: str) -> str:
    """What is said of a place holds names and values of the data: escaped here, whoever put them
    in.
    """
    return GLUE.join(map(escaped, text.split(GLUE)))


def _word(value: JsonValue) -> str:
    """A word as it is where that can't be misread, else as a JSON text."""
    text = str(value) if type(value) is str else json_text(value)
    return (
        text
        if text and PLAIN.issuperset(text)
        else shortened(escaped(json_text(value)), LONGEST_EXAMPLE)
    )


def _examples(values: Sequence[JsonValue]) -> str:
    shown = (shortened(escaped(json_text(value)), LONGEST_EXAMPLE) for value in values)
    return ", ".join(map(_unbroken, shown))


def _unbroken(text: str) -> str:
    """A short text, held together on its line."""
    return text.replace(" ", GLUE) if len(text) <= LONGEST_UNBROKEN else text


def _words(words: Sequence[tuple[JsonValue, int]]) -> str:
    """Words with how often each came; of many the most frequent."""
    shown = [f"{_word(word)}{GLUE}×{count:,}" for word, count in words[:MOST_WORDS]]
    more = len(words) - MOST_WORDS
    if more > 0:
        shown.append(f"… {more} more words")
    return ", ".join(shown)


def _range(place: Place) -> str:
    """The least and the greatest number; one of them if all are the same."""
    ends = (json_text(end) for end in (place.numbers.low, place.numbers.high))
    low, high = (shortened(end, LONGEST_EXAMPLE) for end in ends)
    return low if low == high else f"{low} … {high}"
