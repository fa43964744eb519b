"""A draft as the text of a rules file: one field a line, paths quoted."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence

from mukret.drafting.model import Draft, DraftField, DraftTable
from mukret.values import JsonValue, json_text

_PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(?: [A-Za-z0-9_]+)*")
_TYPE = re.compile(r"[a-z_][a-z0-9_]*(?:\([a-z]+\))?")
_SEE_ABOVE = "could be a field: see above"
_FACTS = "# facts of the whole document"
# Letters of a word that may stand for a longer one.
SHORTEST_PART, LONGEST_PART = 3, 5
# Words that some readers of YAML take for something else than text.
_WORDS = {"null", "true", "false", "yes", "no", "on", "off", "y", "n", "~"}


def rules_text(draft: Draft) -> str:
    """The whole of a rules file."""
    return "\n".join(_lines(draft)) + "\n"


def _lines(draft: Draft) -> Iterator[str]:
    yield "mukret: 1"
    yield f"title: {scalar(draft.title)}"
    # In the order of the contract for rules files.
    if draft.enums:
        yield ""
        yield "enums:                         # the words that were seen; others are rejected"
        for name, words in draft.enums.items():
            yield from enum_lines(name, words, draft.accepted.get(name))
    yield from _response_lines(draft)
    yield ""
    yield "tables:"
    for number, table in enumerate(draft.tables):
        if number:
            yield ""
        yield from table_lines(table)


def _response_lines(draft: Draft) -> Iterator[str]:
    """Facts that a table inherits are fields; others are comments, ready to be made fields, and are
    ignored so far.
    """
    inherited = {name for table in draft.tables for name in table.inherit}
    fields = [field for field in draft.response if field.name in inherited]
    others = [field for field in draft.response if field.name not in inherited]
    # Ignored until they are made fields, or each would be told as read by no rule.
    paths = [str(field.source["at"]) for field in others if "at" in field.source]
    ignored = dict.fromkeys(paths, _SEE_ABOVE) | draft.ignored
    lines = [
        *_embedded_lines(draft.embedded),
        *_kind_lines(draft.kinds),
        *_fact_lines(fields, others, _width(draft.response)),
        *_ignored_lines(ignored),
    ]
    if lines:
        yield from ("", "response:", *lines)


def _width(fields: Sequence[DraftField]) -> int:
    """The length of the longest name, for what stands behind to be aligned."""
    return max((len(field.name) for field in fields), default=0)


def _embedded_lines(embedded: Sequence[str]) -> Iterator[str]:
    if embedded:
        yield f"  embedded: {flow(list(embedded))}"


def _kind_lines(kinds: Mapping[str, JsonValue]) -> Iterator[str]:
    if kinds:
        yield "  kinds:                       # documents that have no member in common"
    for name, when in kinds.items():
        yield f"    {name}: {flow({'when': when})}"


def _ignored_lines(ignored: Mapping[str, str]) -> Iterator[str]:
    """Each path with what is said of it."""
    if ignored:
        yield "  ignore:                      # read by no rule"
    for path, words in ignored.items():
        yield f"    - {json_text(path)}  # {_comment(words)}"


def _fact_lines(
    fields: Sequence[DraftField], others: Sequence[DraftField], width: int
) -> Iterator[str]:
    """Fields, and facts that could be some as comments beside them."""
    if fields:
        yield f"  fields:                      {_FACTS}: any table can inherit them"
        for field in fields:
            yield field_line(field, 4, width)
        for field in others:
            yield f"    # {field_line(field, 0, width)}"
    elif others:
        yield f"  # fields:                    {_FACTS}, for tables to inherit"
        for field in others:
            yield f"  #   {field_line(field, 0, width)}"


def enum_lines(
    name: str,
    words: Sequence[str],
    accepted_texts: Mapping[str, list[str]] | None = None,
) -> Iterator[str]:
    """The lines of one enum.

    A word with which another begins is taken for that one, shortened, unless it is said what stands
    for each.
    """
    yield f"  {name}:"
    yield "    values:"
    # What stands for each word was typed: nothing is guessed.
    if accepted_texts is not None:
        for word in words:
            accepted: list[JsonValue] = [*accepted_texts.get(word, ())]
            yield f"      {scalar(word)}: {flow({'accept': accepted} if accepted else {})}"
        return
    shortened = _shortened(words)
    for word in words:
        shorter: list[JsonValue] = [
            short for short, whole in shortened.items() if whole == word
        ]
        if word not in shortened:
            yield f"      {scalar(word)}: {flow({'accept': shorter} if shorter else {})}"


def _shortened(words: Sequence[str]) -> dict[str, str]:
    """Codes in capitals that are the beginning of one longer word: `DEP` of `Departed`; not `car`
    of `cargo`.
    """
    whole_words: dict[str, str] = {}
    for short in filter(_is_short, words):
        longer = [
            word
            for word in words
            if len(word) > len(short) + 1
            and not word.isupper()
            and word.upper().startswith(short)
        ]
        # A beginning of two words stands for neither.
        if len(longer) == 1:
            whole_words[short] = longer[0]
    return whole_words


def _is_short(word: str) -> bool:
    """Whether a word may be a code that stands for a longer one."""
    fits = SHORTEST_PART <= len(word) <= LONGEST_PART
    return fits and word.isalpha() and word.isupper()


def table_lines(table: DraftTable) -> Iterator[str]:
    """The lines of one table."""
    yield f"  {table.name}:" + (
        f"  # {_comment(table.comment)}" if table.comment else ""
    )
    if table.within is not None:
        yield f"    within: {table.within.name}"
    yield f"    rows: {flow(table.rows)}"
    yield from (f"    {name}: {flow(value)}" for name, value in table.options.items())
    if table.inherit:
        yield f"    inherit: [{', '.join(table.inherit)}]"
    if table.key:
        yield (
            f"    key: {table.key[0] if len(table.key) == 1 else '[' + ', '.join(table.key) + ']'}"
        )
    yield "    fields:"
    width = max((len(field.name) for field in table.fields), default=0)
    for field in table.fields:
        yield field_line(field, 6, width)
        # As a comment: it is a choice of the reader.
        if field.proposed is not None:
            yield f"      # {field.proposed}"


def field_line(field: DraftField, indent: int, width: int = 0) -> str:
    """One field."""
    gap = " " * max(1, width - len(field.name) + 1)
    line = f"{' ' * indent}{field.name}:{gap}{field_value(field)}"
    return f"{line}  # {_comment(field.remarks)}" if field.remarks else line


def field_value(field: DraftField) -> str:
    """What stands behind the name of a field."""
    options: dict[str, JsonValue] = {**field.source, **field.reading}
    if field.required:
        options["required"] = True
    if field.note:
        options["note"] = field.note
    return flow(options)


def _comment(text: str) -> str:
    return "".join(map(_printable, text))


def _printable(character: str) -> str:
    return character if character.isprintable() else "\ufffd"


def flow(value: JsonValue) -> str:
    """A value as YAML in one line."""
    if isinstance(value, Mapping):
        inner = ", ".join(
            f"{scalar(name)}: {_option(name, item)}" for name, item in value.items()
        )
        return f"{{{inner}}}"
    if isinstance(value, list):
        return f"[{', '.join(map(flow, value))}]"
    return scalar(value)


def _option(name: str, value: JsonValue) -> str:
    if name == "type" and isinstance(value, str) and _TYPE.fullmatch(value):
        return value
    if name in ("by", "in", "give", "fact", "take") and isinstance(value, str):
        return value
    return flow(value)


def scalar(value: JsonValue) -> str:
    """A scalar as YAML: a word as it is, other text in double quotes, as JSON writes it."""
    if (
        isinstance(value, str)
        and _PLAIN.fullmatch(value)
        and value.casefold() not in _WORDS
    ):
        return value
    text = json_text(value)
    # JSON lets these stand as they are, YAML takes them for breaks or for no text at all.
    for character in "\x7f\x85\u2028\u2029\ufeff":
        text = text.replace(character, f"\\u{ord(character):04x}")
    return text
