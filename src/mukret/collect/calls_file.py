"""Calls files: what a service is asked for, in YAML;
secrets by the names of environment variables.
"""

from __future__ import annotations

import os
from pathlib import Path

from mukret.codes import Code
from mukret.collect.calls import Calls, Limits, Pages, Value, check_address, origin_of
from mukret.collect.limits_text import read_limits
from mukret.collect.reading_calls import CallReader
from mukret.collect.reading_pages import PagesReader
from mukret.collect.reading_requests import RequestReader
from mukret.collect.reading_sign_in import SignInReader
from mukret.collect.scopes import check_scopes
from mukret.errors import InputError, RulesError, UsageError
from mukret.rules.reader import keys
from mukret.rules.source import Mapping, Node, Problems, SourceText, read_source

_TOP = keys("mukret base with sign_in headers query calls origins limits")


def load_calls(path: str | os.PathLike[str]) -> Calls:
    """Reads a calls file.

    Raises RulesError with every problem and its place, InputError if it can't be read.
    """
    name = os.fspath(path)
    try:
        # Editors on Windows put a mark before the text, which is none of it.
        text = Path(path).read_text(encoding="utf-8-sig")
    except OSError as error:
        raise InputError(
            Code.NOT_OPENED, f"{name}: {(error.strerror or str(error)).lower()}"
        ) from None
    except UnicodeDecodeError:
        raise InputError(Code.NOT_OPENED, f"{name}: not UTF-8") from None
    return parse_calls(text, name)


def parse_calls(text: str, name: str) -> Calls:
    """The calls in a text; `name` is what problems call it. Raises RulesError."""
    problems = Problems()
    calls = _CallsFile(problems, SourceText(name, text)).read()
    if problems.found or calls is None:
        raise RulesError(name, problems.in_order(name))
    return calls


class _CallsFile:
    def __init__(self, problems: Problems, source: SourceText) -> None:
        self.problems = problems
        self.source = source
        self.requests = RequestReader(problems)
        self.reader = self.requests.reader
        self.add = problems.add

    def read(self) -> Calls | None:
        source = read_source(self.source, self.problems)
        top = self.reader.mapping(source, "a calls file", _TOP)
        if top is None:
            return None
        for key in ("mukret", "base", "calls"):
            if key not in top.entries:
                self.add(Code.MISSING_KEY, f"a calls file needs {key}", top)
        if self.reader.text(top.get("mukret"), "mukret") not in ("1", None):
            self.add(
                Code.WRONG_VALUE,
                "the version of the format is 1",
                top.get("mukret") or top,
            )
        calls = CallReader(self.requests).calls(top.get("calls"))
        calls_read = Calls(
            base=self.base(top.get("base")),
            calls=tuple(calls),
            headers=self.requests.headers(top.get("headers")),
            sign_in=SignInReader(self.requests).read(top.get("sign_in")),
            query=self.requests.pairs(top.get("query"), "query"),
            constants=self.constants(top.get("with")),
            origins=tuple(self.origins(top.get("origins"))),
            limits=read_limits(self.reader, top.get("limits")) or Limits(),
        )
        # Variables can only be looked for once all calls are read: which of them fills which
        # address.
        check_scopes(calls_read, top, self.problems)
        return calls_read

    def base(self, node: Node | None) -> str:
        base = self.reader.text(node, "base")
        if base is None or node is None:
            return ""
        # Paths are put behind it as text: a query would end up in their middle.
        if any(mark in base for mark in "?#{"):
            self.add(
                Code.WRONG_VALUE,
                "base holds no query and no variables: they go into each call",
                node,
            )
        try:
            check_address(base)
        except UsageError as error:
            self.add(Code.WRONG_VALUE, f"base: {error.message}", node, error.hint)
        return base

    def constants(self, node: Node | None) -> tuple[tuple[str, Value], ...]:
        mapping = self.reader.mapping(node, "with")
        constants: list[tuple[str, Value]] = []
        for key, value in mapping.entries.values() if mapping else ():
            self.reader.name(key, "a variable")
            # A mapping can only name a secret; values of requests are scalars.
            if isinstance(value, Mapping):
                secret = self.requests.secret(value, key.text)
                constants += [(key.text, secret)] if secret else []
                continue
            scalar = self.reader.scalar(value, key.text)
            if scalar is not None:
                self.requests.no_secret(key.text, scalar)
                constants.append((key.text, self.requests.scalar_value(scalar)))
        return tuple(constants)

    def origins(self, node: Node | None) -> list[str]:
        origins = []
        for scalar in self.reader.scalars(node, "origins"):
            try:
                # Judged as a typed address is, and told at its place in the file.
                check_address(scalar.text)
                origins.append(origin_of(scalar.text))
            except UsageError as error:
                self.add(
                    Code.WRONG_VALUE, f"origins: {error.message}", scalar, error.hint
                )
        return origins


def parse_pages(text: str) -> Pages:
    """What stands after `pages:` in a call, as it was typed. Raises RulesError."""
    name = "--pages"
    problems = Problems()
    # Read as a line of a calls file: what goes there goes here, with the same messages.
    top = read_source(SourceText(name, f"pages: {text}"), problems)
    pages = (
        PagesReader(RequestReader(problems), "GET").read(top.get("pages"))
        if top
        else None
    )
    if problems.found or pages is None:
        raise RulesError(name, problems.in_order(name))
    return pages
