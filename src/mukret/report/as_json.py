"""A report as JSON, for scripts."""

from __future__ import annotations

from mukret.report.findings import weighed
from mukret.report.joins import Join
from mukret.report.profile import ColumnProfile
from mukret.report.reading import Report, TableReport
from mukret.report.words import sentence
from mukret.values import JsonValue


def report_as_json(report: Report) -> dict[str, JsonValue]:
    """What the page says, without its pictures."""
    verdict, findings = weighed(report)
    return {
        "fit_for_use": verdict.value,
        "reasons": [
            {
                "about": told.matter.name.lower().replace("_", "-"),
                "text": sentence(told),
            }
            for told in findings
        ],
        "documents": report.documents,
        "bad_documents": report.bad_documents,
        "tables": {table.name: _table(table) for table in report.tables.values()},
        "refused": [
            {
                "table": told.table,
                "field": told.field_name,
                "code": told.code,
                "count": told.count,
            }
            for told in report.refused
        ],
        "unmatched": list(report.unmatched),
        "unread": dict(report.unread),
        "joins": [_join(join) for join in report.joins],
    }


def _join(join: Join) -> dict[str, JsonValue]:
    # Examples that there are none of are left out.
    return {name: value for name, value in vars(join).items() if value != ()}


def _table(table: TableReport) -> dict[str, JsonValue]:
    columns = {column.name: _column(column) for column in table.columns.values()}
    return {
        "rows": table.rows,
        "sampled": table.sampled,
        **table.tally.as_json(),
        "columns": columns,
    }


def _column(column: ColumnProfile) -> dict[str, JsonValue]:
    return {
        "type": column.kind,
        "nulls": column.nulls,
        "different": column.different,
        "exactly": column.exactly,
        "smallest": column.smallest,
        "largest": column.largest,
        "top": [{"value": value, "rows": count} for value, count in column.top],
    }
