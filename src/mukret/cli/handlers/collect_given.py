"""What was typed after `mukret collect`, as calls, folders and bounds."""

from __future__ import annotations

import re
from dataclasses import replace
from urllib.parse import urlsplit

from mukret.codes import Code
from mukret.collect import Basic, Bearer, Calls, Limits, Secret, load_calls
from mukret.collect.bounds import parse_size
from mukret.collect.calls import (
    SET_BY_THE_TRANSFER,
    Call,
    OncePer,
    Pairs,
    SignIn,
    Value,
    call_for,
)
from mukret.collect.calls_file import parse_pages
from mukret.errors import UsageError
from mukret.paths import parse_path
from mukret.text import did_you_mean

# Somebody waits for an address that was typed.
TRIES_BY_HAND = 3
_ADDRESS_WORDS = re.compile(r"_?(?:url|uri|href|link)s?$", re.IGNORECASE)


class Given:
    """What was typed besides the address."""

    def __init__(
        self,
        headers: tuple[str, ...],
        query: tuple[str, ...],
        header_from: tuple[tuple[str, str], ...],
        query_from: tuple[tuple[str, str], ...],
        basic: tuple[str, str] | None,
        bearer: str | None,
        pages: str | None,
    ) -> None:
        if basic and bearer:
            raise UsageError(Code.USAGE, "--basic and --bearer exclude each other")
        typed: list[tuple[str, Value]] = [
            _pair(text, ":", "--header", "'NAME: VALUE'") for text in headers
        ]
        self.headers: Pairs = (
            *typed,
            # Secrets are named by their variables, and read when a request is sent.
            *((name, Secret(variable)) for name, variable in header_from),
        )
        typed = [_pair(text, "=", "--query", "NAME=VALUE") for text in query]
        self.query: Pairs = (
            *typed,
            *((name, Secret(variable)) for name, variable in query_from),
        )
        self.sign_in: SignIn | None = None
        if basic:
            self.sign_in = Basic(Secret(basic[0]), Secret(basic[1]))
        elif bearer:
            self.sign_in = Bearer(Secret(bearer))
        self.pages = pages

    def calls(self, source: str) -> Calls:
        if "://" in source or not source.endswith((".yaml", ".yml")):
            base, call = call_for(source, self.query)
            pages = parse_pages(self.pages) if self.pages is not None else None
            # Somebody is waiting: fewer tries than a run at night has.
            limits = Limits(tries=TRIES_BY_HAND)
            return Calls(
                base,
                (replace(call, pages=pages),),
                self.headers,
                self.sign_in,
                limits=limits,
                by_hand=True,
            )
        if self.headers or self.query or self.sign_in or self.pages is not None:
            message = "headers, query, pages and sign-in stand in the calls file"
            raise UsageError(Code.USAGE, message, hint=f"edit {source}")
        return load_calls(source)


def _pair(text: str, mark: str, option: str, form: str) -> tuple[str, str]:
    name, mark_found, value = text.partition(mark)
    name = name.strip()
    if not mark_found or not name:
        raise UsageError(Code.USAGE, f"{option} wants {form}", hint=f"{option} {form}")
    # A length or an encoding that was typed would contradict what is sent.
    if mark == ":" and name.lower() in SET_BY_THE_TRANSFER:
        raise UsageError(
            Code.USAGE,
            f"{option} {name}: that header follows from what is sent",
            hint="leave it out",
        )
    if mark == ":" and not (text.isascii() and text.isprintable()):
        raise UsageError(
            Code.USAGE, f"{option} {name}: a header holds printable ASCII only"
        )
    return name, value.strip() if mark == ":" else value


def with_constants(calls: Calls, typed: tuple[str, ...]) -> Calls:
    """The calls with other values for some of their constants.

    Raises UsageError for one that they don't have.
    """

    constants = dict(calls.constants)
    for text in typed:
        name, equals, value = text.partition("=")
        if not equals:
            raise UsageError(
                Code.USAGE, "--with wants NAME=VALUE", hint="--with day=2031-03-28"
            )
        # A new one would be used by no call, and a slip would go unseen.
        if name not in constants:
            hint = (
                did_you_mean(name, constants)
                or "with: {NAME: VALUE} in the calls file says what it is usually"
            )
            raise UsageError(
                Code.USAGE,
                f"--with {name}: the calls have no constant of that name",
                hint=hint,
            )
        constants[name] = value
    return replace(calls, constants=tuple(constants.items()))


def follow_also(calls: Calls, paths: tuple[str, ...]) -> Calls:
    """The calls with others, for addresses found in the answers of each."""

    all_calls: list[Call] = list(calls.calls)
    for text in paths:
        path = parse_path(text)
        # Every call may answer with such addresses.
        for call in calls.calls:
            name = _follower_name(text, call, [other.name for other in all_calls])
            all_calls.append(Call(name, None, url=path, once_per=OncePer(call.name)))
    return replace(calls, calls=tuple(all_calls))


def _follower_name(path: str, call: Call, taken: list[str]) -> str:
    """A name for what lies at addresses: the member's name without `_url` and the like."""
    # Of a path the last name that is a word by itself: `timetable_url` gives `timetable`.
    words = re.findall(r"[A-Za-z_]\w*", path, re.ASCII)
    usable = [
        name
        for word in words
        if (name := _ADDRESS_WORDS.sub("", word).strip("_").lower())
    ]
    name = (usable[-1] if usable else "followed")[:50]
    name = name if name not in taken else f"{call.name}_{name}"[:60]
    number = 1
    unique = name
    # Names of calls are names of folders and of tables: each has to be its own.
    while unique in taken:
        number += 1
        unique = f"{name}_{number}"
    return unique


def destinations(
    targets: tuple[str, ...], then: str | None, source: str
) -> tuple[str, str | None]:
    """The folder of the responses and, with --then, where the tables go. Raises UsageError."""

    # With --then the tables can go to standard output, the responses can't.
    if targets[:1] == ("-",) and (then is None or len(targets) > 1):
        hint = "--to kept; then mukret look kept, or mukret extract RULES kept --to -"
        message = "--to - : answers are kept in a folder, with where they came from"
        raise UsageError(Code.USAGE, message, hint=hint)
    if not targets:
        raise UsageError(Code.USAGE, "where do the responses go?", hint="--to FOLDER")
    if then is None:
        if len(targets) > 1:
            raise UsageError(
                Code.USAGE,
                "a second --to is for the tables of --then",
                hint="--then RULES",
            )
        return targets[0], None
    if len(targets) > 2:
        raise UsageError(
            Code.USAGE, "--to is for the responses and, a second one, for the tables"
        )
    # The first is for the responses, as it is without --then.
    if len(targets) == 2:
        return targets[0], targets[1]
    return _folder_of(source), targets[0]


def _folder_of(source: str) -> str:
    """The folder of responses where only that of the tables was named."""
    if "://" in source:
        name = urlsplit(source).hostname or "service"
    else:
        name = source.replace("\\", "/").rpartition("/")[2].partition(".")[0]
    return f"{name}-responses"


def size_of(text: str) -> int:
    """Bytes. Raises UsageError."""

    try:
        return parse_size(text)
    except ValueError:
        hint = "a size: 500MB, 2GB, or a number of bytes"
        raise UsageError(
            Code.USAGE, f"--max-body can't be {text!r}", hint=hint
        ) from None
