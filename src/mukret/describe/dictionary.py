"""The data dictionary in Markdown (CommonMark, with tables): what each table, column and word means
and comes from.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from mukret.describe.nesting import Nested, nested_tables
from mukret.describe.sources import code, read_by, told_source
from mukret.destinations.joins import never_null, parent_key
from mukret.rules.model import RESPONSE, Field, Rules, Table
from mukret.rules.sources import At
from mukret.types import Enum, ListOf, ValueType

# Characters up to which the cells of a column are filled up with blanks.
WIDEST = 40


def dictionary(rules: Rules) -> str:
    """The whole document."""
    tables = nested_tables(rules)
    lines = [f"# {_plain(rules.title or 'Data dictionary')}", ""]
    if rules.note:
        lines += [rules.note.strip(), ""]
    lines += ["## How the tables join", "", *diagram(rules, tables), ""]
    lines += ["## Tables", "", *_overview(tables), ""]
    for table in tables:
        lines += [*_table(rules, table), ""]
    enums = _used_enums(tables)
    if enums:
        lines += ["## Words", ""]
    # Only those that some column uses: others are in no delivery.
    for enum in enums:
        lines += [*_enum(enum), ""]
    if rules.response_fields:
        lines += [
            "## Facts of a response",
            "",
            "Tables inherit them, where they name them.",
            "",
        ]
        lines += [*_fields(rules.response_fields), ""]
    return "\n".join(lines).rstrip("\n") + "\n"


# ---- joins


def diagram(rules: Rules, tables: Sequence[Nested]) -> Iterator[str]:
    """An entity-relationship diagram, as text that many readers of Markdown draw."""
    yield "```mermaid"
    yield "erDiagram"
    for table in tables:
        if table.above is not None:
            yield f'  {table.above} ||--o{{ {table.name} : "{_joined_by(rules, table)}"'
    for table in tables:
        if table.above is None and not table.inside:
            yield f"  {table.name}"
    yield "```"


def _joined_by(rules: Rules, table: Nested) -> str:
    """The columns by which a table leads to the one around it."""
    joined = parent_key(rules, table.table)
    if joined is not None:
        return ", ".join(joined[1])
    shared = [item.name for item in table.table.inherit if item.origin == table.above]
    return f"{', '.join(shared)} (not the whole key)" if shared else "no common column"


def _overview(tables: Sequence[Nested]) -> Iterator[str]:
    rows = []
    for nested in tables:
        link = f"[{nested.name}](#{nested.name.lower()})"
        rows.append(
            (
                link,
                str(len(nested.fields)),
                _names(nested.table.key),
                nested.above or "",
                _cell(nested.table.note),
            )
        )
    yield from _grid(("table", "columns", "key", "within", "what it holds"), rows)


# ---- a table


def _table(rules: Rules, nested: Nested) -> Iterator[str]:
    table = nested.table
    yield f"### {table.name}"
    yield ""
    if table.note:
        yield f"{table.note.strip()}\n"
    for fact in _facts(rules, table):
        yield f"- {fact}"
    yield ""
    yield from _columns(rules, nested)
    # They are in no file, and still explain where values come from.
    hidden = [field for field in table.fields if not field.keep]
    if hidden:
        yield ""
        yield "Used, and not written:"
        yield ""
        yield from _fields(hidden)


def _columns(rules: Rules, nested: Nested) -> Iterator[str]:
    """A row for each column of a table."""
    # What can never be null for all tables above, too, is worked out once.
    sure = never_null(rules, nested.table)
    origins = {item.name: item.origin for item in nested.table.inherit}
    rows = []
    for name, kind in nested.table.columns:
        field = nested.fields[name]
        if name in origins:
            source = _inherited(origins[name], field)
        else:
            source = told_source(field)
        null = "never" if name in sure else _null(field)
        meaning = " · ".join(part for part in (field.title, field.note) if part)
        rows.append(
            (
                f"`{name}`",
                _type(kind),
                null,
                _cell(field.measured_in),
                source,
                _cell(meaning),
            )
        )
    yield from _grid(("column", "type", "null", "unit", "comes from", "meaning"), rows)


def _facts(rules: Rules, table: Table) -> Iterator[str]:
    """What one must know of the rows."""
    inside = f", in each row of `{table.within}`" if table.within else ""
    yield f"Rows: {read_by(table.rows)}{inside}"
    if table.kind:
        yield f"Of responses of the kind `{table.kind}` alone"
    if table.key:
        again = {
            "reject": "rejected",
            "first": "left out",
            "last": "taken in place of the earlier one",
        }
        yield f"Key: {_names(table.key)}; a row whose key came before is {again[table.duplicates]}"
    if table.where is not None:
        yield f"Only rows for which {code(str(table.where_text))}"
    # Said, since nulls in its key would surprise whoever joins.
    if table.rows.outer:
        yield f"A row of `{table.within}` without any has one row here, with nulls"
    joined = parent_key(rules, table)
    if joined is not None:
        yield f"Joins `{joined[0]}` by {_names(joined[1])}"


def _fields(fields: Sequence[Field]) -> Iterator[str]:
    rows = [
        (f"`{field.name}`", _type(field.type), told_source(field), _cell(field.note))
        for field in fields
    ]
    yield from _grid(("field", "type", "comes from", "meaning"), rows)


def _inherited(origin: str, field: Field) -> str:
    return (
        f"the response: {told_source(field)}"
        if origin == RESPONSE
        else f"inherited from `{origin}`"
    )


def _null(field: Field) -> str:
    """When a column is null.

    A value that can't be read rejects its row, unless the rules say otherwise.
    """
    if not isinstance(field.source, At):
        return "yes"
    if field.bad == "null":
        return "if missing or unreadable"
    return "if missing" if field.default is None else "no"


def _type(kind: ValueType) -> str:
    inner = kind.item if isinstance(kind, ListOf) else kind
    name = f"`{kind.name}`"
    return f"[{name}](#{inner.name.lower()})" if isinstance(inner, Enum) else name


# ---- words


def _used_enums(tables: Sequence[Nested]) -> list[Enum]:
    enums: dict[str, Enum] = {}
    for nested in tables:
        for _, kind in nested.table.columns:
            inner = kind.item if isinstance(kind, ListOf) else kind
            if isinstance(inner, Enum):
                enums.setdefault(inner.enum_name, inner)
    return list(enums.values())


def _enum(enum: Enum) -> Iterator[str]:
    yield f"### {enum.name}"
    yield ""
    # What becomes of a new word is what a reader has to know before all others.
    other = {"bad": "can't be read", None: "is null"}.get(
        enum.otherwise, f"is `{enum.otherwise}`"
    )
    case = "in this case alone" if enum.exact_case else "in any case"
    yield f"Words are taken {case}; any other {other}."
    yield ""
    attributes = list(enum.attribute_types)
    rows = []
    for value in enum.values:
        facts = [_cell(_shown(value.attributes.get(name))) for name in attributes]
        rows.append((code(value.name), _names(value.accept), *facts))
    yield from _grid(("word", "also written", *attributes), rows)


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else str(value)


# ---- Markdown


def _grid(head: Sequence[str], rows: Iterable[Sequence[str]]) -> Iterator[str]:
    """A table, its columns but for the last as wide as their cells (up to a bound), so that it can
    be read before it is drawn, too.
    """
    lines = [head, *rows]
    cells = zip(*lines, strict=True)
    widths = [min(WIDEST, max(map(len, column))) for column in cells]
    # The last column has no edge to align: filling it up would only make lines longer.
    widths[-1] = len(head[-1])
    lines.insert(1, ["-" * width for width in widths])
    for line in lines:
        padded = (
            cell + " " * (width - len(cell))
            for cell, width in zip(line, widths, strict=True)
        )
        yield f"| {' | '.join(padded)} |"


def _cell(text: str | None) -> str:
    return _plain(text or "").replace("|", "\\|")


def _plain(text: str) -> str:
    """A text in one line."""
    return " ".join(text.split())


def _names(names: Sequence[str]) -> str:
    return ", ".join(code(name) for name in names)
