"""One column as a picture of its own, for a mail."""

from __future__ import annotations

import os
from typing import Any

from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from mukret.codes import Code
from mukret.delivered.contract import Delivered
from mukret.errors import InputError, OutputError, UsageError
from mukret.report.pictures import PLAIN, bars_of
from mukret.report.profile import MOST_SHOWN, ColumnProfile, profile
from mukret.report.words import moment, percent
from mukret.text import counted, did_you_mean, shortened

ENDINGS = (".png", ".svg", ".pdf")
LONGEST = 40


def draw(delivered: Delivered, name: str, file: str) -> None:
    """Draws a column, named TABLE.COLUMN, into a file of the kind that its name ends in.

    Raises UsageError for what is not there, InputError, OutputError.
    """
    ending = os.path.splitext(file)[1].lower()
    if ending not in ENDINGS:
        raise UsageError(
            Code.USAGE,
            f"a picture {file}",
            hint=f"a name that ends in {', '.join(ENDINGS)}",
        )
    table_name, _, column_name = name.partition(".")
    known = [
        f"{table.name}.{column}"
        for table in delivered.tables.values()
        for column in table.types
    ]
    if name not in known:
        raise UsageError(
            Code.UNKNOWN_FIELD,
            f"no column {name} in {delivered.target}",
            hint=did_you_mean(name, known),
        )
    # The whole table is read: ends and counts are exact whatever is drawn.
    profiled = profile(delivered, delivered.tables[table_name])
    figure = _figure(profiled.columns[column_name], name, profiled.sampled)
    try:
        figure.savefig(file, dpi=150)
    except OSError as error:
        raise OutputError(
            Code.NOT_WRITTEN, f"{file}: {(error.strerror or str(error)).lower()}"
        ) from None


def _figure(column: ColumnProfile, name: str, sampled: int | None) -> Figure:
    if not column.filled:
        raise InputError(
            Code.NO_INPUT,
            f"{name} has no value in {counted(column.rows, 'row')}",
            hint="choose another",
        )
    figure = Figure(figsize=(8, 4.5), layout="constrained")
    axes: Any = figure.add_subplot()
    bars = bars_of(column)
    if bars is None or (column.exactly and column.different <= MOST_SHOWN):
        values = column.top[::-1]
        # So few different values that each has a bar of its own, the most frequent on top.
        axes.barh(
            [shortened(text, LONGEST) for text, _ in values],
            [count for _, count in values],
            color=PLAIN["written"],
        )
        axes.set_xlabel("rows")
    else:
        step = (bars.last - bars.first) / len(bars.heights)
        places = [
            bars.first + step * (number + 0.5) for number in range(len(bars.heights))
        ]
        axes.bar(places, bars.heights, width=step * 0.88, color=PLAIN["written"])
        axes.set_ylabel("rows")
        if column.moments:
            axes.xaxis.set_major_formatter(
                FuncFormatter(lambda place, _: moment(place))
            )
            axes.xaxis.set_major_locator(_few())
    axes.spines[["top", "right"]].set_visible(False)
    told = f"{counted(column.rows, 'row')}, {percent(column.nulls, column.rows)} null"
    if sampled:
        told += f"; drawn from a sample of {sampled:,}"
    axes.set_title(f"{name}\n", loc="left", fontweight="bold")
    axes.text(0, 1.02, told, transform=axes.transAxes, fontsize=9, color="#5c6a70")
    return figure


def _few() -> Any:
    from matplotlib.ticker import MaxNLocator

    return MaxNLocator(5)
