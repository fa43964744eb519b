"""The entry point, and the one place that turns errors into text and an exit code."""

from __future__ import annotations

import errno
import os
import signal
import sys
import traceback
from importlib import import_module
from typing import NoReturn

import click
from click.shell_completion import CompletionItem

from mukret.cli.streams import set_up_streams
from mukret.cli.without_pandas import hide_pandas
from mukret.codes import Code
from mukret.errors import Interrupted, MukretError, OutputError
from mukret.text import did_you_mean
from mukret.version import __version__

COMMANDS = {
    "collect": "Ask a service for responses, and keep each as it came.",
    "look": "Show the nodes of a path as they stand.",
    "survey": "Say what is in responses: paths, kinds, looks, surprises.",
    "draft": "Begin a rules file for responses.",
    "check": "Say what is wrong with a rules file, or new in responses.",
    "preview": "Show the first typed rows, and the rejected ones with reasons.",
    "compare": "Say what differs between two deliveries, or by other rules.",
    "trace": "Explain a row: from the response to each value.",
    "extract": "Write clean tables: the main job.",
    "merge": "Put parts of an extraction together.",
    "report": "Draw a page that says whether a delivery is fit for use.",
    "describe": "Say what the tables are: dictionary, schemas, SQL, Python.",
    "demo": "Try it all on the sample feed, command by command.",
    "standin": "Run the sample service, simulated, on this machine only.",
}
INTERRUPTED = 130
DEFECT = 70


class ReaderGone(Exception):
    """Whoever read standard output has seen enough (`head`); no error."""


class LazyGroup(click.Group):
    """A group whose commands are imported when they are run: `--help` loads none of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = import_module(
            f"mukret.cli.commands.{cmd_name}"
        ).command
        # Said once, in the table of commands, which needs none of their modules.
        command.short_help = COMMANDS[cmd_name]
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            raise click.UsageError(
                f"no command {args[0]}: {did_you_mean(args[0], COMMANDS)}", ctx
            )
        return super().resolve_command(ctx, args)

    def shell_complete(
        self, ctx: click.Context, incomplete: str
    ) -> list[CompletionItem]:
        """The commands out of the list, without importing them."""
        named = [
            CompletionItem(name, help=text)
            for name, text in COMMANDS.items()
            if name.startswith(incomplete)
        ]
        return [*named, *click.Command.shell_complete(self, ctx, incomplete)]

    def invoke(self, ctx: click.Context) -> object:
        try:
            return super().invoke(ctx)
        except (
            BrokenPipeError
        ):  # click would call this a failure and end the program itself
            raise ReaderGone from None

    def format_commands(
        self, ctx: click.Context, formatter: click.HelpFormatter
    ) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(cls=LazyGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="mukret", message="%(prog)s %(version)s")
def main() -> None:
    """Turn nested JSON responses into typed tables, by rules that you write once and can trust.

    Begin with: mukret demo
    """


def run() -> NoReturn:
    """What the installed program calls."""
    # Before anything is printed: a message about an option may hold any character.
    set_up_streams()
    signal.signal(signal.SIGTERM, _interrupt)
    # Where pandas is installed Arrow loads it on its own, a second that no command needs.
    hide_pandas()
    # What went wrong has been printed there; here only the last of standard output can still fail.
    code = answer(sys.argv[1:])
    _past_interrupting()
    try:
        sys.stdout.flush()
    # `| head` has seen enough, which is no failure of ours.
    except BrokenPipeError:
        _silence_output()
    # A full disk is often told at the last flush only: what was printed is not all there.
    except OSError as error:
        code = show(_unwritten(error))
        _silence_output()
    sys.exit(code)


def answer(arguments: list[str]) -> int:
    """Runs the command that was typed; whatever goes wrong is printed, and decides the exit code,
    which is given back.
    """
    verbose = "-vv" in arguments
    try:
        code = main.main(
            arguments,
            standalone_mode=False,
            prog_name="mukret",
            color=False if "NO_COLOR" in os.environ else None,
        )
    except MukretError as error:
        return show(error, verbose)
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.format_message())
        return error.exit_code
    except click.ClickException as error:
        return show_usage(error)
    except (KeyboardInterrupt, click.Abort) as error:
        interrupt = error.__cause__ or error  # click makes another exception of it
        outcome = f"; {interrupt.outcome}" if isinstance(interrupt, Interrupted) else ""
        click.echo(f"\ninterrupted{outcome}", err=True)
        return INTERRUPTED
    except ReaderGone:
        _silence_output()
        return 0
    except OSError as error:
        code = show(_unwritten(error), verbose)
        _silence_output()
    except Exception as error:
        return show(_defect(error), verbose)
    return code if isinstance(code, int) else 0


def _unwritten(error: OSError) -> MukretError:
    if error.errno == errno.EBADF:
        return OutputError(
            Code.NOT_WRITTEN, "standard output is closed", hint="> FILE, or > /dev/null"
        )
    return OutputError(Code.NOT_WRITTEN, (error.strerror or str(error)).lower())


def _defect(error: Exception) -> MukretError:
    defect = MukretError(
        Code.DEFECT, f"a defect of Mukret itself: {type(error).__name__}: {error}"
    )
    defect.__cause__ = error
    # Whatever is not one of our errors is our mistake, and nobody else's.
    defect.hint = "the same command with -vv shows where; please report it"
    defect.exit_code = DEFECT
    return defect


def _interrupt(*_: object) -> None:
    raise KeyboardInterrupt


def _past_interrupting() -> None:
    """What the program did is decided: a signal that comes while it ends must not make another exit
    code of it.
    """
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, signal.SIG_IGN)


def _silence_output() -> None:
    """Without this Python complains, when it ends, that it could not flush."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def show(error: MukretError, verbose: bool = False) -> int:
    """Prints an error, with its traceback if more is to be said; gives the exit code."""
    from mukret.cli.views.problems import (
        print_error,
    )  # `--help` prints none, and starts faster

    if verbose:
        traceback.print_exception(error, file=sys.stderr)
    print_error(error)
    return error.exit_code


def show_usage(error: click.ClickException) -> int:
    """Prints what click says of a command that it can't take; gives the exit code."""
    from mukret.cli.views.problems import print_failure

    context = getattr(error, "ctx", None)
    hint = (
        f"{context.command_path} --help shows how it is used"
        if context is not None
        else None
    )
    print_failure(f"{error.format_message()} [usage]", place=None, hint=hint)
    # As for every mistake in how a command is called, and as other programs have it.
    return 2
