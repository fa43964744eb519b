"""Pictures out of numbers: as SVG that stands in a page and takes its colours, or as a file of its
own.
"""

from __future__ import annotations

import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import matplotlib as mpl
import numpy as np
import pyarrow as pa
from matplotlib.figure import Figure
from matplotlib.patches import PathPatch
from matplotlib.path import Path

from mukret.report.profile import ColumnProfile

mpl.rcParams["svg.fonttype"] = "none"
mpl.rcParams["svg.hashsalt"] = "mukret"

BINS = 32
# Stand for those of the page, whose names they take there.
COLOURS: Mapping[str, str] = {
    "written": "#101010",
    "rejected": "#202020",
    "filtered": "#303030",
    "merged": "#404040",
}
# The same in a file of its own: blue and orange, which the colour-blind can tell apart, and two
# greys.
PLAIN = {
    "written": "#1d6f8c",
    "rejected": "#c8572c",
    "filtered": "#9aa5ab",
    "merged": "#cfd6d9",
}
_OF_PAGE = {colour: f"var(--{name})" for name, colour in COLOURS.items()}
_SIZES = re.compile(r'<svg [^>]*?viewBox="([^"]+)"[^>]*>', re.DOTALL)


@dataclass(frozen=True)
class Bars:
    """How many values there are in each of equal steps from one end to the other."""

    heights: Sequence[int]
    first: float
    last: float


def bars_of(column: ColumnProfile) -> Bars | None:
    """The distribution of a column in the sample; None where there is none to draw."""
    if not column.ordered or not len(column.sample):
        return None
    values = positions(column.sample)
    values = values[np.isfinite(values)]
    if not len(values) or values.min() == values.max():
        return None
    heights, edges = np.histogram(values, bins=BINS)
    return Bars(heights.tolist(), float(edges[0]), float(edges[-1]))


def positions(array: pa.Array) -> pa.Array:
    """Typed values as places on a line: numbers as they are, moments and spans in microseconds."""
    kind = array.type
    if pa.types.is_date32(kind):
        array = array.cast(pa.timestamp("us"))
    if pa.types.is_temporal(array.type):
        array = array.cast(pa.int64())
    return np.asarray(array.cast(pa.float64()).to_numpy(zero_copy_only=False), float)


def distribution_svg(bars: Bars) -> str:
    """A small picture without letters: what it says of numbers stands beside it."""
    figure = Figure(figsize=(3.2, 0.62))
    axes = figure.add_axes((0, 0, 1, 1))
    corners = [
        corner
        for place, height in enumerate(bars.heights)
        for corner in (
            (place, 0),
            (place, height),
            (place + 0.86, height),
            (place + 0.86, 0),
            (place, 0),
        )
    ]
    steps = [Path.MOVETO, Path.LINETO, Path.LINETO, Path.LINETO, Path.CLOSEPOLY] * len(
        bars.heights
    )
    axes.add_patch(
        PathPatch(Path(corners, steps), color=COLOURS["written"], linewidth=0)
    )  # one is quicker than many
    axes.set_xlim(0, len(bars.heights) - 0.14)
    axes.set_ylim(0, max(bars.heights))
    axes.axis("off")
    return svg_of(figure, "distribution")


def flow_svg(rows: Mapping[str, Sequence[int]]) -> str:
    """For each table a bar of what became of its rows (written, rejected, filtered, merged), all
    equally long.
    """
    figure = Figure(figsize=(7.2, 0.3 * len(rows)))
    axes = figure.add_axes((0, 0, 1, 1))
    for line, counts in enumerate(rows.values()):
        total, left = sum(counts), 0.0
        for name, count in zip(COLOURS, counts, strict=True):
            width = count / total if total else 0.0
            axes.barh(
                line, width, left=left, height=0.62, color=COLOURS[name], linewidth=0
            )
            left += width
    axes.set_xlim(0, 1)
    # Upside down: the first table stands at the top, as in the list beside it.
    axes.set_ylim(len(rows) - 0.5, -0.5)
    axes.axis("off")
    return svg_of(figure, "what became of the rows")


def svg_of(figure: Figure, label: str) -> str:
    """A figure as an element of a page, as wide as there is room."""
    out = io.StringIO()
    figure.savefig(
        out, format="svg", transparent=True, metadata={"Date": None, "Creator": None}
    )
    text = out.getvalue()
    # An element of a page has neither declaration nor document type.
    text = text[text.index("<svg") :]
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
    head = _SIZES.match(text)
    assert head is not None
    text = (
        f'<svg viewBox="{head[1]}" preserveAspectRatio="none" role="img" '
        f'aria-label="{label}">{text[head.end() :]}'
    )
    # By names of the page's colours it goes along from light to dark.
    for colour, name in _OF_PAGE.items():
        text = text.replace(colour, name)
    return re.sub(r"\s*\n\s*", " ", text)
