"""A report → a page: one file that needs nothing else, and asks for nothing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from importlib import resources

import jinja2
from markupsafe import Markup

from mukret.report.findings import Fitness, weighed
from mukret.report.pictures import bars_of, distribution_svg, flow_svg
from mukret.report.profile import MOST_SHOWN, ColumnProfile
from mukret.report.reading import Report, TableReport
from mukret.report.words import VERDICTS, moment, percent, sentence
from mukret.semantics.tally import TableTally
from mukret.text import shortened
from mukret.values import shown_text
from mukret.version import __version__

# As many stand on top; the rest further down.
REASONS = 3
MOST_REFUSED, MOST_UNREAD, MOST_FINDINGS = 40, 100, 40
# Characters of a value that are shown, and that have room beside another.
LONGEST, WIDE = 60, 12
_CLASSES = {Fitness.YES: "yes", Fitness.WITH_CARE: "care", Fitness.NO: "no"}


@dataclass(frozen=True)
class ShownFact:
    """What a card says of a column; `before`: the earlier value, if it is known and differs."""

    name: str
    text: str
    before: str | None = None

    @property
    def wide(self) -> bool:
        return len(self.text) > WIDE


@dataclass(frozen=True)
class Top:
    """One of the most frequent values, with its share of all filled ones."""

    text: str
    share: str
    width: float


@dataclass(frozen=True)
class Card:
    """A column.

    `picture` is its distribution, `ends` what stands at both sides of a line of time; else there
    are values.
    """

    name: str
    kind: str
    facts: list[ShownFact]
    picture: Markup | None
    ends: tuple[str, str] | None
    tops: list[Top]
    changed: bool


def page(report: Report) -> str:
    """The page as HTML, everything escaped."""
    verdict, findings = weighed(report)
    tables = [table for table in report.tables.values() if table.columns]
    flows = {table.name: _flow(table.tally) for table in report.tables.values()}
    answer, below = VERDICTS[verdict]
    return _template().render(
        style=Markup(_text("style.css")),
        report=report,
        version=__version__,
        answer=answer,
        # What jinja2 is given is escaped there, but for what we drew ourselves.
        below=below,
        verdict=_CLASSES[verdict],
        reasons=[sentence(finding) for finding in findings[:REASONS]],
        others=[sentence(finding) for finding in findings[REASONS:MOST_FINDINGS]],
        flow=Markup(flow_svg(flows)) if any(map(sum, flows.values())) else None,
        tables=[(table, list(_cards(report, table))) for table in tables],
        refused=report.refused[:MOST_REFUSED],
        left_refused=max(0, len(report.refused) - MOST_REFUSED),
        unread=sorted(report.unread.items(), key=lambda item: (-item[1], item[0]))[
            :MOST_UNREAD
        ],
        left_unread=max(0, len(report.unread) - MOST_UNREAD),
    )


@cache
def _template() -> jinja2.Template:
    environment = jinja2.Environment(
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
        # A name that is misspelt in the template would leave a hole that nobody sees.
        undefined=jinja2.StrictUndefined,
    )
    environment.filters.update(
        count=lambda number: f"{number:,}",
        percent=percent,
        short=_short,
        shown=shown_text,
    )
    return environment.from_string(_text("page.html"))


def _text(name: str) -> str:
    return resources.files("mukret.report").joinpath(name).read_text(encoding="utf-8")


def _short(text: str) -> str:
    return shortened(text, LONGEST)


def _cards(report: Report, table: TableReport) -> Iterator[Card]:
    before: Mapping[str, ColumnProfile] = {}
    if report.before is not None and table.name in report.before.tables:
        before = report.before.tables[table.name].columns
    for column in table.columns.values():
        yield _card(column, before.get(column.name))


def _card(column: ColumnProfile, before: ColumnProfile | None) -> Card:
    facts = list(_facts(column, before))
    bars = (
        None if column.exactly and column.different <= MOST_SHOWN else bars_of(column)
    )
    picture = None if bars is None else Markup(distribution_svg(bars))
    ends = None
    # Numbers have their ends among the facts; moments are too long for it.
    if bars is not None and column.moments:
        ends = (moment(bars.first), moment(bars.last))
    return Card(
        column.name,
        column.kind,
        facts,
        picture,
        ends,
        [] if picture else list(_tops(column)),
        any(fact.before is not None for fact in facts),
    )


def _facts(column: ColumnProfile, before: ColumnProfile | None) -> Iterator[ShownFact]:
    told = _told(column)
    earlier = dict(_told(before)) if before is not None else {}
    for name, text in told:
        was = earlier.get(name, text)
        yield ShownFact(name, text, was if was != text else None)


def _told(column: ColumnProfile) -> list[tuple[str, str]]:
    told = [("null", percent(column.nulls, column.rows))]
    if column.filled:
        # Estimated where there are too many to count, and said to be.
        about = "" if column.exactly else "about "
        told.append(
            (
                "different",
                f"{about}{column.different if column.exactly else _rounded(column.different):,}",
            )
        )
    if column.smallest is not None and column.largest is not None:
        names = ("first", "last") if column.moments else ("smallest", "largest")
        told += zip(names, map(_short, (column.smallest, column.largest)), strict=True)
    return told


def _rounded(number: int) -> int:
    """Rounds to two digits: an estimate is no better than that."""
    digits = len(str(number)) - 2
    return round(number, -digits) if digits > 0 else number


def _tops(column: ColumnProfile) -> Iterator[Top]:
    """The values that come most; of a column in which all are different some of them."""
    whole: int = column.filled if column.exactly else len(column.sample)
    # Where no value comes twice they are examples: a share of each would mean nothing.
    most = column.top[0][1] if column.top else 1
    for text, count in column.top:
        share = "" if most == 1 else percent(count, whole)
        yield Top(
            _short(text) if text else "(empty text)",
            share,
            0.0 if most == 1 else 100 * count / whole,
        )


def _flow(tally: TableTally) -> tuple[int, int, int, int]:
    """What became of the rows of a table, in the order in which it is drawn."""
    return (
        tally.rows_written,
        tally.rows_rejected,
        tally.rows_filtered,
        tally.rows_deduplicated,
    )
