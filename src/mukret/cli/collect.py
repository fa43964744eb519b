"""`mukret collect`: ask a service for a response and keep it as it came."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from mukret.cli.console import next_step
from mukret.cli.options import examples, json_option, output_options, set_up_logging

if TYPE_CHECKING:
    from mukret.collect import Answer, Calls
    from mukret.collect.calls import Value

SAID = 200


@click.command(
    "collect",
    short_help="Ask a service for responses, and keep each as it came.",
    epilog=examples(
        "mukret collect 'http://127.0.0.1:8431/v2/timetable?day=2031-03-28' --to kept",
        "mukret collect http://127.0.0.1:8431/v2/ports --bearer FERRY_PASS --to kept --save-calls ferries.calls.yaml",
        note="of the service that `mukret standin` starts",
    ),
)
@click.argument("source", metavar="URL|CALLS.yaml")
@click.option("--to", "target", metavar="DIR", required=True, help="The folder that keeps the responses.")
@click.option("--header", "headers", metavar="'NAME: VALUE'", multiple=True, help="Send this header; may be repeated.")
@click.option("--query", "query", metavar="NAME=VALUE", multiple=True, help="Add to the query; may be repeated.")
@click.option(
    "--header-from", metavar="NAME VARIABLE", nargs=2, multiple=True, help="A header whose value is in the environment."
)
@click.option(
    "--query-from", metavar="NAME VARIABLE", nargs=2, multiple=True, help="A query member from the environment."
)
@click.option("--basic", metavar="VARIABLE VARIABLE", nargs=2, help="Sign in with user and password (RFC 7617).")
@click.option("--bearer", metavar="VARIABLE", help="Sign in with a token (RFC 6750).")
@click.option("--timeout", metavar="SECONDS", type=click.FloatRange(0.1), default=30.0, show_default=True,
              help="For connecting, and for each silence of the service.")  # fmt: skip
@click.option("--max-body", metavar="SIZE", default="1GB", show_default=True,
              help="No answer may be larger, unpacked: 500MB, 2GB …")  # fmt: skip
@click.option("--max-time", metavar="SECONDS", type=click.FloatRange(0.1), default=3600.0, show_default=True,
              help="No answer may take longer as a whole.")  # fmt: skip
@click.option("--save-calls", metavar="FILE", help="Write a calls file to go on from; secrets stay in the environment.")
@json_option
@output_options
@click.pass_context
def command(
    ctx: click.Context,
    source: str,
    target: str,
    headers: tuple[str, ...],
    query: tuple[str, ...],
    header_from: tuple[tuple[str, str], ...],
    query_from: tuple[tuple[str, str], ...],
    basic: tuple[str, str] | None,
    bearer: str | None,
    timeout: float,
    max_body: str,
    max_time: float,
    save_calls: str | None,
    as_json: bool,
    quiet: bool,
    verbose: int,
    log: str | None,
) -> None:
    """Ask URL, or each call of CALLS.yaml, and keep every response byte for byte in DIR/pages, with a line in
    DIR/capture.jsonl about where it came from and when. DIR can then be given to any other command.

    VARIABLE is the name of an environment variable: secrets are never typed, printed or kept. An answer that is no data
    (its status is not 2xx, or its body is not JSON) is kept apart in DIR/apart. Exit code 0: all is kept; 1: some
    answers were kept apart; 3: none is data, or the service was not reached.
    """
    from mukret.collect import Bounds, CaptureFolder, collect, write_calls
    from mukret.errors import UsageError, if_interrupted

    if target == "-":
        hint = "--to kept; then mukret look kept, or mukret extract RULES kept --to -"
        raise UsageError("usage", "--to - : answers are kept in a folder, with where they came from", hint=hint)
    logger = set_up_logging(log, verbose)
    given = _Given(headers, query, header_from, query_from, basic, bearer)
    calls = given.calls(source)
    bounds = Bounds(_size(max_body), max_time, timeout)
    folder = CaptureFolder(target)
    if save_calls is not None:
        write_calls(calls, save_calls)
    answers: list[Answer] = []
    with if_interrupted(f"whole answers stay in {target}"):
        for answer in collect(calls, folder, bounds=bounds):
            answers.append(answer)
            logger.info("%s: %d, %d bytes, %s", answer.url, answer.status, answer.size, answer.problem or answer.file)
            if not as_json and not quiet and answer.problem is None:
                _print_kept(answer, target)
            elif not as_json and answer.problem is not None and len(calls.calls) > 1:
                _print_apart(answer, target)
    if as_json:
        click.echo(json.dumps([answer.record() for answer in answers], indent=2, ensure_ascii=False))
    apart = [answer for answer in answers if answer.problem]
    if len(apart) == len(answers):
        raise _none_kept(apart, target)
    if not quiet and not as_json:
        _print_next(target, folder.before, {answer.url for answer in answers}, save_calls)
    ctx.exit(1 if apart or any(answer.bad_documents for answer in answers) else 0)


class _Given:
    """What was typed besides the address."""

    def __init__(
        self,
        headers: tuple[str, ...],
        query: tuple[str, ...],
        header_from: tuple[tuple[str, str], ...],
        query_from: tuple[tuple[str, str], ...],
        basic: tuple[str, str] | None,
        bearer: str | None,
    ) -> None:
        from mukret.collect import Basic, Bearer, Secret
        from mukret.errors import UsageError

        if basic and bearer:
            raise UsageError("usage", "--basic and --bearer exclude each other")
        typed = [_pair(text, ":", "--header", "'NAME: VALUE'") for text in headers]
        self.headers: tuple[tuple[str, Value], ...] = (*typed, *((name, Secret(var)) for name, var in header_from))
        typed = [_pair(text, "=", "--query", "NAME=VALUE") for text in query]
        self.query: tuple[tuple[str, Value], ...] = (*typed, *((name, Secret(var)) for name, var in query_from))
        self.sign_in = Basic(*map(Secret, basic)) if basic else Bearer(Secret(bearer)) if bearer else None

    def calls(self, source: str) -> Calls:
        from mukret.collect import Calls, load_calls
        from mukret.collect.calls import call_for
        from mukret.errors import UsageError

        if "://" in source or not source.endswith((".yaml", ".yml")):
            base, call = call_for(source, self.query)
            return Calls(base, (call,), self.headers, self.sign_in)
        if self.headers or self.query or self.sign_in:
            raise UsageError("usage", "headers, query and sign-in stand in the calls file", hint=f"edit {source}")
        return load_calls(source)


def _pair(text: str, mark: str, option: str, form: str) -> tuple[str, str]:
    from mukret.collect.calls import SET_BY_THE_TRANSFER
    from mukret.errors import UsageError

    name, found, value = text.partition(mark)
    if not found or not name.strip():
        raise UsageError("usage", f"{option} wants {form}", hint=f"{option} {form}")
    if mark == ":" and name.strip().lower() in SET_BY_THE_TRANSFER:
        raise UsageError(
            "usage", f"{option} {name.strip()}: that header follows from what is sent", hint="leave it out"
        )
    if mark == ":" and not (text.isascii() and text.isprintable()):
        raise UsageError("usage", f"{option} {name.strip()}: a header holds printable ASCII only")
    return name.strip(), value.strip() if mark == ":" else value


def _print_kept(answer: Answer, target: str) -> None:
    from mukret.collect.collect import status_text
    from mukret.text import counted, escaped

    click.secho(escaped(answer.url), bold=True, err=True)
    media_type = answer.media_type or "no media type"
    line = (
        f"  {status_text(answer.status)}, {escaped(media_type)}, {counted(answer.size, 'byte')}, {answer.seconds:.2f} s"
    )
    click.echo(line, err=True)
    what = counted(answer.documents, "document")
    click.echo(f"  {what} in {target.rstrip('/')}/{answer.file}", err=True)
    if answer.bad_documents:
        bad = counted(answer.bad_documents, "document")
        click.secho(f"  {bad} in it can't be read: mukret survey shows which", fg="yellow", err=True)


def _print_apart(answer: Answer, target: str) -> None:
    from mukret.text import escaped

    click.secho(escaped(answer.url), bold=True, err=True)
    click.secho(
        f"  {escaped(answer.problem or '')}: kept apart, {target.rstrip('/')}/{answer.file}", fg="yellow", err=True
    )
    if answer.said:
        click.secho(f"  it begins: {escaped(answer.said[:SAID])}", dim=True, err=True)


def _none_kept(apart: list[Answer], target: str) -> Exception:
    from mukret.documents import WHAT_TO_DO
    from mukret.errors import InputError
    from mukret.text import shortened

    first = apart[0]
    if len(apart) > 1:
        return InputError("set-apart", f"none of {len(apart)} answers is data", place=f"{target.rstrip('/')}/apart")
    hint = f"it begins: {shortened(' '.join(first.said.split()), SAID)}" if first.said else None
    if first.status in (401, 403):
        hint = "sign in: --bearer VARIABLE, or --basic VARIABLE VARIABLE" + (f"; {hint}" if hint else "")
    if first.finding and first.finding.excerpt.strip():
        hint = WHAT_TO_DO[first.finding.sort]
    error = InputError(
        "set-apart", f"{first.url}: {first.problem}", place=f"{target.rstrip('/')}/{first.file}", hint=hint
    )
    if first.finding and first.finding.excerpt.strip():
        error.pointer = (first.finding.excerpt, first.finding.caret)
    return error


def _print_next(target: str, before: Sequence[str], now: set[str], save_calls: str | None) -> None:
    from mukret.text import counted

    if before:
        click.echo(
            f"  beside {counted(len(before), 'answer')} from before: a run reads all that is kept there", err=True
        )
    again = sum(url in now for url in before)
    if again:
        same = "the same address" if len(now) == 1 else "the same addresses"
        click.echo(f"  {again:,} of them from {same}: --newest reads the newest answer of each alone", err=True)
    click.echo("\nNext:", err=True)
    next_step("survey", target, *(["--newest"] if again else []))
    if save_calls:
        next_step("collect", save_calls, "--to", target)


def _size(text: str) -> int:
    from mukret.collect.bounds import parse_size
    from mukret.errors import UsageError

    try:
        return parse_size(text)
    except ValueError:
        raise UsageError(
            "usage", f"--max-body can't be {text!r}", hint="a size: 500MB, 2GB, or a number of bytes"
        ) from None
