"""Findings and numbers in words."""

from __future__ import annotations

from datetime import UTC, datetime

from mukret.report.findings import Finding, Fitness, Matter
from mukret.text import counted

# The answer to the question on top of the page, and what stands below it.
VERDICTS = {
    Fitness.YES: ("Yes", "Nothing speaks against it."),
    Fitness.WITH_CARE: (
        "With care",
        "It can be used, if these are known and borne in mind:",
    ),
    Fitness.NO: ("No", "Not as it is. What weighs most:"),
}


def percent(count: float, of: float) -> str:
    """A share, as exactly as it is worth saying: never 0% of something,
    nor 100% of less than all.
    """
    if not of:
        return "–"
    share = 100 * count / of
    if 0 < share < 0.1:
        return "< 0.1%"
    if 99.9 < share < 100:
        return "> 99.9%"
    return f"{share:.1f}%".replace(".0%", "%")


_SAID = {
    Matter.NO_ROWS_AT_ALL: "No table has a row.",
    Matter.NOTHING_WRITTEN: "{table} is empty: {rows} came, and none was written.",
    Matter.NO_ROWS_FOUND: "{table} is empty: no row was found in the input.",
    Matter.REJECTED: "{share} of the rows of {table} were rejected: {count:,} of {of:,}{along}.",
    Matter.BAD_DOCUMENTS: "{documents} of {of:,} could not be read ({share}).",
    Matter.ALWAYS_NULL: "{table}.{column} is null in all of {rows}.",
    Matter.MOSTLY_NULL: "{table}.{column} is null in {share} of its rows.",
    Matter.UNKNOWN_FILTERED: (
        "{rows} of {table} left out since the condition was unknown, not false (of {of:,} left "
        "out in all)."
    ),
    Matter.ORPHANS: "{rows} of {table} stand in no row of {column}: a join loses them.",
    Matter.MEMBERS_TWICE: "{members} came twice in one object; the last one counted.",
    Matter.TABLE_GONE: "{table} is gone; before it had {of:,} rows.",
    Matter.COLUMN_GONE: "{table}.{column} is gone; it was there before.",
    Matter.SHRUNK: "{table} has shrunk to {rows}, from {of:,} before.",
    Matter.GREW: "{table} has grown to {rows}, from {of:,} before.",
    Matter.MORE_NULLS: "{table}.{column} is null in {count}% of its rows; before it was {of}%.",
    Matter.AS_BEFORE: "Beside the delivery before nothing is out of the way.",
    Matter.NONE_REJECTED: "None of {rows} was rejected, and every document could be read.",
    Matter.ALL_COLUMNS_FILLED: "Every column has values.",
    Matter.ALL_ACCOUNTED_FOR: "All of the {rows} that were seen are accounted for.",
}


def sentence(finding: Finding) -> str:
    """What a finding says."""
    count = finding.count
    return _SAID[finding.matter].format(
        table=finding.table,
        column=finding.column,
        count=count,
        of=finding.of,
        rows=counted(count, "row"),
        documents=counted(count, "document"),
        members=counted(count, "member"),
        share=percent(count, finding.of),
        along=f", and with them {counted(finding.along, 'row')} of the tables within"
        if finding.along
        else "",
    )


def moment(microseconds: float) -> str:
    """A place on a line of time, as a date; with the time of day if it is not midnight."""
    instant = datetime.fromtimestamp(microseconds / 1e6, UTC)
    return (
        f"{instant:%Y-%m-%d}"
        if (instant.hour, instant.minute) == (0, 0)
        else f"{instant:%Y-%m-%d %H:%M}"
    )
