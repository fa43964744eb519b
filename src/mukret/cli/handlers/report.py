"""`mukret report`: whether a delivery is fit for use, as a page, a picture or JSON."""

from __future__ import annotations

from contextlib import ExitStack, closing
from dataclasses import dataclass

from mukret.cli.handlers.request import Talk
from mukret.cli.without_pandas import show_pandas
from mukret.codes import Code
from mukret.delivered import open_delivered
from mukret.errors import UsageError


@dataclass(frozen=True, kw_only=True)
class Request(Talk):
    """What was typed after `mukret report`."""

    delivery: str
    out: str | None
    against: str | None
    plot: tuple[str, str] | None
    as_json: bool


def handle(request: Request) -> int:
    request.start_log()
    _refuse_nonsense(request)
    show_pandas()  # what draws looks for it
    with ExitStack() as opened:
        delivered = opened.enter_context(closing(open_delivered(request.delivery)))
        before = None
        if request.against is not None:
            before = opened.enter_context(closing(open_delivered(request.against)))
        try:
            from mukret.cli.handlers import report_page
        except ImportError as error:
            message = f"pictures and pages need {error.name}, which is not installed"
            hint = "pip install 'mukret[report]'"
            raise UsageError(Code.MISSING_EXTRA, message, hint=hint) from None
        if request.plot is not None:
            report_page.draw_column(delivered, *request.plot, quiet=request.quiet)
        else:
            report_page.write_report(request, delivered, before)
    return 0


def _refuse_nonsense(request: Request) -> None:
    """Raises UsageError."""
    of_a_page = (
        request.out is not None or request.against is not None or request.as_json
    )
    if request.plot is not None and of_a_page:
        message = "--plot draws one picture and nothing else"
        raise UsageError(Code.USAGE, message, hint="leave out what goes with a page")
    # A command without an effect would look like one that failed.
    if request.out is None and request.plot is None and not request.as_json:
        hint = "--out page.html, --plot TABLE.COLUMN FILE.png, or --json"
        raise UsageError(Code.USAGE, "a page, a picture or JSON?", hint=hint)
