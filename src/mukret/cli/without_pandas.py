"""Arrow imports pandas, where it is installed, to see whether it is given something of it, which
takes a third of a second at each start. Hardly a command uses it, so for them it is not there.
"""

from __future__ import annotations

import sys


class _NotThere:
    def find_spec(self, fullname: str, *_: object) -> None:
        if fullname == "pandas":
            raise ModuleNotFoundError(fullname)


_HIDDEN = _NotThere()


def hide_pandas() -> None:
    sys.meta_path.insert(0, _HIDDEN)


def show_pandas() -> None:
    """For a command that needs it."""
    if _HIDDEN in sys.meta_path:
        sys.meta_path.remove(_HIDDEN)
