"""Where YAML itself trips people: the message names the trap and prints the
line as it should be.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ruamel.yaml.error import MarkedYAMLError

_STEP = r"[^'\"\s,{}\[\]]*"
_UNQUOTED_PATH = re.compile(
    rf"(\b[A-Za-z_]\w*\s*:\s*)(\${_STEP}(?:\[[^\]]*\]{_STEP})*)"
)
_UNQUOTED_TYPE = re.compile(r"(\btype\s*:\s*)((?:decimal|list)\s*\([^)]*\))")
_BROKEN_TEXT = re.compile(r"^(\s*(?:- )?[A-Za-z_]+\s*:\s*)(['\"].*\S)\s*$")
_QUOTED_VALUE = re.compile(r"\b[A-Za-z_]\w*\s*:\s*(?=['\"])")
_YAML_QUOTED = re.compile(r"'(?:[^']|'')*'|\"(?:[^\"\\]|\\.)*\"")
_TOKEN = re.compile(r"'[^']*'|\"[^\"]*\"|.")
_ESCAPED = re.compile(r'"((?:[^"\\]|\\.)*)"')
_INDICATOR = re.compile(r"(:\s+|-\s+|[\[{,]\s*)([%@`][^,\]}]*?)\s*(?=[,\]}]|$)")


def quoted_line(line: str) -> str:
    """The line with its paths and parametrised types in quotes."""
    return _UNQUOTED_TYPE.sub(_quote, _UNQUOTED_PATH.sub(_quote, line)).strip()


def _quote(match: re.Match[str]) -> str:
    text = match[2]
    return match[1] + (
        f"'{text.replace(chr(39), chr(39) * 2)}'" if '"' in text else f'"{text}"'
    )


def _with_quotes_kept(line: str) -> str | None:
    """A line with the value quoted as a whole, within braces, of which only the beginning was:
    `{compute: 'a' || b}`; None if there is no such value in it.
    """
    for key in _QUOTED_VALUE.finditer(line):
        start = key.end()
        quoted = _YAML_QUOTED.match(line, start)
        if quoted is None or line[quoted.end() :].lstrip()[:1] in (
            "",
            ",",
            "}",
            "]",
            "#",
        ):
            continue
        # YAML ends the text at the second quote; where the writer meant it to end is where the
        # comma or brace stands.
        end = _end_of_value(line, start)
        text = line[start:end].rstrip().replace("\\", "\\\\").replace('"', '\\"')
        return f'{line[:start]}"{text}"{line[end:]}'
    return None


def _end_of_value(line: str, start: int) -> int:
    """Where a value within braces ends: at a comma or bracket that stands in no text and in no
    brackets of its own.
    """
    depth = 0
    for token in _TOKEN.finditer(line, start):
        mark = token.group()
        if depth == 0 and mark in (",", "}", "]"):
            return token.start()
        depth += (mark in ("(", "[", "{")) - (mark in (")", "]", "}"))
    return len(line)


def explain_yaml_error(
    error: MarkedYAMLError, lines: Sequence[str], line_number: int
) -> tuple[str, str | None]:
    """A sentence and a hint for a syntax error that stands in (or just after) a line, counted from
    0.
    """
    problem = str(error.problem or "not YAML")
    for number in (line_number, line_number - 1):
        line = lines[number] if 0 <= number < len(lines) else ""
        explained = _trap(problem, line)
        if explained:
            return explained
    return f"not YAML: {problem}", None


def _trap(problem: str, line: str) -> tuple[str, str] | None:
    # What the YAML library says is looked at for what tripped somebody most often; the line is
    # shown as it should be.
    if "escape" in problem and '"' in line:
        fixed = _ESCAPED.sub(
            lambda match: "'" + match[1].replace("'", "''") + "'", line
        )
        return (
            "a backslash in double quotes is an escape of YAML",
            f"single quotes keep it: {fixed.strip()}",
        )
    if "cannot start any token" in problem and _INDICATOR.search(line):
        fixed = _INDICATOR.sub(r'\1"\2"', line)
        return (
            "a plain YAML text can't begin with this character",
            f"quote it: {fixed.strip()}",
        )
    if "\t" in line[: len(line) - len(line.lstrip())]:
        return "a tab in the indentation", "YAML indents with spaces"
    in_braces = _in_braces(line) if "{" in line else None
    return in_braces or _cut_short(problem, line)


def _in_braces(line: str) -> tuple[str, str] | None:
    """What braces, brackets and commas end within a mapping in braces."""
    if _UNQUOTED_PATH.search(line):
        return "a path inside braces needs quotes", f"write {quoted_line(line)}"
    kept = _with_quotes_kept(line)
    if kept is None:
        return None
    return "the quotes end before the text does", f"quote the whole: {kept.strip()}"


def _cut_short(problem: str, line: str) -> tuple[str, str] | None:
    """A value of which quotes enclose the beginning alone: `'a' || b`."""
    broken = _BROKEN_TEXT.match(line)
    goes_on = any(word in problem for word in ("block end", "mapping", "expected"))
    if broken is None or not goes_on:
        return None
    # Double quotes around it all, so that the single ones in it stay.
    text = broken[2].replace("\\", "\\\\").replace('"', '\\"')
    return (
        "the quotes end before the text does",
        f'quote the whole: {broken[1].strip()} "{text}"',
    )


def comma_in_type(keys: Sequence[str], line: str) -> str | None:
    """The line as it should be, if an unquoted `decimal(12,2)` inside braces fell
    apart into keys.
    """
    if any(re.fullmatch(r"\d+\s*\)", key) for key in keys) and _UNQUOTED_TYPE.search(
        line
    ):
        return quoted_line(line)
    return None
