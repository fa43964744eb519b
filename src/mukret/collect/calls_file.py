"""Calls files: what a service is asked for, in YAML; secrets by the names of environment variables."""

from __future__ import annotations

import io
import os
import re
from pathlib import Path
from typing import Any

from mukret.collect.calls import SENSITIVE, SET_BY_THE_TRANSFER, Basic, Bearer, Call, Calls, Secret, Value, call_for
from mukret.errors import InputError, OutputError, RulesError, UsageError
from mukret.rules.reader import Reader, keys
from mukret.rules.source import Mapping, Node, Problems, Scalar, SourceText, read_source

_TOP = keys("mukret base sign_in headers calls", "limits")
_SIGN_IN = keys("basic bearer", "post json form keep oauth2")
_BASIC = keys("user password")
_CALL = keys("get query", "post json pages once_per with headers")
_SECRET = keys("secret")
_TEMPLATE = re.compile(r"\{[A-Za-z_]\w*\}")


def load_calls(path: str | os.PathLike[str]) -> Calls:
    """Reads a calls file. Raises RulesError with every problem and its place, InputError if it can't be read."""
    name = os.fspath(path)
    try:
        text = Path(path).read_text(encoding="utf-8-sig")
    except OSError as error:
        raise InputError("not-opened", f"{name}: {(error.strerror or str(error)).lower()}") from None
    except UnicodeDecodeError:
        raise InputError("not-opened", f"{name}: not UTF-8") from None
    problems = Problems()
    calls = _Calls(problems, SourceText(name, text)).read()
    if problems.found or calls is None:
        raise RulesError(name, problems.in_order(name))
    return calls


class _Calls:
    def __init__(self, problems: Problems, source: SourceText) -> None:
        self.problems = problems
        self.source = source
        self.reader = Reader(problems)
        self.add = problems.add

    def read(self) -> Calls | None:
        source = read_source(self.source, self.problems)
        top = self.reader.mapping(source, "a calls file", _TOP)
        if top is None:
            return None
        for key in ("mukret", "base", "calls"):
            if key not in top.entries:
                self.add("missing-key", f"a calls file needs {key}", top)
        if self.reader.text(top.get("mukret"), "mukret") not in ("1", None):
            self.add("wrong-value", "the version of the format is 1", top.get("mukret") or top)
        base = self.base(top.get("base"))
        headers = self.headers(top.get("headers"))
        calls = self.reader.mapping(top.get("calls"), "calls")
        found = [self.call(key, node) for key, node in calls.entries.values()] if calls else []
        return Calls(base or "", tuple(call for call in found if call), headers, self.sign_in(top.get("sign_in")))

    def base(self, node: Node | None) -> str | None:
        base = self.reader.text(node, "base")
        if base is not None and node is not None:
            if "?" in base or "#" in base:
                self.add("wrong-value", "base holds no query: it goes into each call", node)
            try:
                call_for(base)
            except UsageError as error:
                self.add("wrong-value", f"base: {error.message}", node, error.hint)
        return base

    def call(self, key: Scalar, node: Node) -> Call | None:
        self.reader.name(key, "a call")
        mapping = self.reader.mapping(node, "a call", _CALL)
        if mapping is None:
            return None
        if "get" not in mapping.entries:
            self.add("missing-key", f"the call {key.text} needs get", mapping)
        get = self.reader.scalar(mapping.get("get"), "get")
        if get is not None and "{" in get.text:
            self.add("not-supported", "variables in an address are not supported yet", get)
        elif get is not None and not re.match(r"/(?!/)", get.text):
            elsewhere = "//" in get.text
            hint = "an address elsewhere has a calls file of its own" if elsewhere else f"write get: /{get.text}"
            self.add("wrong-value", f"get begins with / and goes on from base, unlike {get.text}", get, hint)
        return Call(key.text, get.text if get else "/", self.values(mapping.get("query"), "query"))

    def headers(self, node: Node | None) -> tuple[tuple[str, Value], ...]:
        if isinstance(node, Mapping):
            for key, value in node.entries.values():
                if key.text.lower() in SET_BY_THE_TRANSFER:
                    self.add("wrong-value", f"the header {key.text} follows from what is sent", key, "leave it out")
                elif isinstance(value, Scalar) and not (value.text.isascii() and value.text.isprintable()):
                    self.add("wrong-value", f"the header {key.text} holds printable ASCII only", value)
        return self.values(node, "headers")

    def values(self, node: Node | None, what: str) -> tuple[tuple[str, Value], ...]:
        mapping = self.reader.mapping(node, what)
        if mapping is None:
            return ()
        found: list[tuple[str, Value]] = []
        for key, value in mapping.entries.values():
            for item in value.items if hasattr(value, "items") else (value,):
                read = self.value(item, key.text)
                if read is not None:
                    found.append((key.text, read))
        return tuple(found)

    def value(self, node: Node, what: str) -> Value | None:
        if isinstance(node, Mapping):
            return self.secret(node, what)
        text = self.reader.text(node, what)
        if text is not None and _TEMPLATE.search(text):
            self.add("not-supported", f"variables in {what} are not supported yet", node)
        elif text is not None and SENSITIVE.search(what):
            hint = f"write {what}: {{secret: NAME_OF_AN_ENVIRONMENT_VARIABLE}}"
            self.add("wrong-value", f"the value of {what} does not belong in a file", node, hint)
        return text

    def secret(self, node: Node | None, what: str) -> Secret | None:
        mapping = self.reader.mapping(node, f"{what} from the environment", _SECRET)
        name = self.reader.text(mapping.get("secret"), "secret") if mapping else None
        if mapping and name is None:
            self.add("missing-key", f"{what}: secret names an environment variable", mapping)
        return Secret(name) if name else None

    def sign_in(self, node: Node | None) -> Basic | Bearer | None:
        mapping = self.reader.mapping(node, "sign_in", _SIGN_IN)
        if mapping is None or self.problems.found:
            return None
        if len(mapping.entries) != 1:
            self.add("wrong-value", "sign_in is either basic or bearer", mapping)
            return None
        if "bearer" in mapping.entries:
            token = self.secret(mapping.get("bearer"), "bearer")
            return Bearer(token) if token else None
        basic = self.reader.mapping(mapping.get("basic"), "basic", _BASIC)
        user = self.secret(basic.get("user"), "user") if basic else None
        password = self.secret(basic.get("password"), "password") if basic else None
        if basic and not (user and password):
            self.add("missing-key", "basic needs user and password", basic)
        return Basic(user, password) if user and password else None


def write_calls(calls: Calls, path: str) -> None:
    """Writes a calls file that `load_calls` reads as the same calls. Raises OutputError, never overwriting a file;
    UsageError if a value that looks like a secret would be written."""
    for name, value in (*calls.headers, *(pair for call in calls.calls for pair in call.query)):
        if isinstance(value, str) and SENSITIVE.search(name):
            hint = "--header-from and --query-from take a value from the environment, and the file its name"
            raise UsageError(
                "usage", f"the value of {name} looks like a secret and is not written to a file", hint=hint
            )
    text = io.StringIO()
    _yaml().dump(_plain(calls), text)
    try:
        with open(path, "x", encoding="utf-8") as file:
            file.write(text.getvalue())
    except FileExistsError:
        raise OutputError("not-empty", f"{path} is there already", hint="name another file, or remove it") from None
    except OSError as error:
        raise OutputError("not-written", f"{path}: {(error.strerror or str(error)).lower()}") from None


def _yaml() -> Any:
    from ruamel.yaml import YAML

    yaml = YAML()
    yaml.default_flow_style = None
    yaml.width = 120
    return yaml


def _plain(calls: Calls) -> dict[str, Any]:
    found: dict[str, Any] = {"mukret": 1, "base": calls.base}
    if isinstance(calls.sign_in, Basic):
        found["sign_in"] = {
            "basic": {"user": _written(calls.sign_in.user), "password": _written(calls.sign_in.password)}
        }
    elif calls.sign_in:
        found["sign_in"] = {"bearer": _written(calls.sign_in.token)}
    if calls.headers:
        found["headers"] = _pairs(calls.headers)
    found["calls"] = {
        call.name: {"get": call.get} | ({"query": _pairs(call.query)} if call.query else {}) for call in calls.calls
    }
    return found


def _pairs(pairs: tuple[tuple[str, Value], ...]) -> dict[str, Any]:
    """Names with their values; a name that comes several times has a list."""
    found: dict[str, Any] = {}
    for name, value in pairs:
        if name not in found:
            found[name] = _written(value)
        else:
            before = found[name]
            found[name] = [*(before if isinstance(before, list) else [before]), _written(value)]
    return found


def _written(value: Value) -> Any:
    from ruamel.yaml.scalarstring import DoubleQuotedScalarString

    if isinstance(value, Secret):
        return {"secret": value.variable}
    return DoubleQuotedScalarString(value)
