"""What was typed of rules, tables and names → what it stands for, or an error with what to type.

A file is told from another by how it begins, so that rules and data that were typed in the wrong
order, or for the wrong command, are met with the right command instead of a syntax error.
"""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Sequence

import click

from mukret.codes import Code
from mukret.errors import MukretError, UsageError
from mukret.rules import Rules, load_rules
from mukret.rules.model import Table
from mukret.text import did_you_mean

# Bytes of a file that tell what it is.
_BEGINNING = 65_536
_RULES = re.compile(rb"""^[\s{]*["']?(mukret|tables)["']?\s*:""", re.MULTILINE)
_CALLS = re.compile(rb"""^[\s{]*["']?(calls|sign_in)["']?\s*:""", re.MULTILINE)
_TABLES = re.compile(rb"""^[\s{]*["']?tables["']?\s*:""", re.MULTILINE)


def loaded_rules(file: str, inputs: Sequence[str] = ()) -> Rules:
    """The rules in a file; `inputs` are the files that were typed behind it.

    Raises RulesError, and UsageError where data stands in the place of rules.
    """
    try:
        return load_rules(file)
    except MukretError:
        # It is a rules file, and what is wrong with it says more than how it was typed.
        if looks_like_rules(file):
            raise
        for other in inputs:
            if looks_like_rules(other):
                raise _swapped(file, other, inputs) from None
        # The first thing that somebody without rules tries.
        if _looks_like_data(file):
            hint = f"mukret draft {shlex.quote(file)} --out feed.rules.yaml begins one"
            raise UsageError(
                Code.USAGE, f"{file} is data, not a rules file", hint=hint
            ) from None
        raise


def _swapped(data: str, rules: str, inputs: Sequence[str]) -> UsageError:
    swapped = {rules: data}
    others = [swapped.get(other, other) for other in inputs]
    name = str(click.get_current_context().info_name)
    command = shlex.join(["mukret", name, rules, *others])
    message = f"{data} is data, and {rules} has the rules"
    return UsageError(Code.USAGE, message, hint=f"the rules come first: {command}")


def looks_like_rules(file: str) -> bool:
    """Whether it is a rules file, by how it begins."""
    return _RULES.search(_beginning_of(file)) is not None


def looks_like_calls(file: str) -> bool:
    """Whether it is a calls file and no rules file."""
    beginning = _beginning_of(file)
    return _CALLS.search(beginning) is not None and _TABLES.search(beginning) is None


def _looks_like_data(file: str) -> bool:
    """Whether it is a folder, or a file that begins like JSON."""
    return os.path.isdir(file) or _beginning_of(file).lstrip()[:1] in (b"{", b"[")


def _beginning_of(file: str) -> bytes:
    try:
        # What is read of a pipe here would be lost to whoever opens it afterwards.
        if not os.path.isfile(file):
            return b""
        with open(file, "rb") as opened:
            return opened.read(_BEGINNING)
    except OSError:
        return b""


def known_table(rules: Rules, name: str | None) -> Table:
    """A table of the rules by the name that was typed; none need be typed if there is only one.

    Raises UsageError.
    """
    if name is None:
        # There is no question which one is meant.
        if len(rules.tables) == 1:
            return next(iter(rules.tables.values()))
        hint = f"--table {next(iter(rules.tables))}"
        raise UsageError(
            Code.USAGE,
            f"of which table? There are {', '.join(rules.tables)}",
            hint=hint,
        )
    if name not in rules.tables:
        hint_or_none = did_you_mean(name, rules.tables)
        message = f"no table {name} in {rules.file}"
        raise UsageError(Code.UNKNOWN_TABLE, message, hint=hint_or_none)
    return rules.tables[name]


def listed(text: str | None) -> tuple[str, ...]:
    """Names that were typed with commas between them."""
    names = (name.strip() for name in (text or "").split(","))
    return tuple(filter(None, names))
