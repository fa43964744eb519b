"""The tests.

Property tests draw the same examples every time, so that a run tells of the change and not of luck.
"""

import os
import unittest

from hypothesis import settings

settings.register_profile("steady", derandomize=True, deadline=None)
settings.load_profile("steady")


def load_tests(
    loader: unittest.TestLoader, _: unittest.TestSuite, pattern: str | None
) -> unittest.TestSuite:
    """All of them, side by side; those that are named one by one run as usual."""
    from tests.side_by_side import SideBySide

    here = os.path.dirname(__file__)
    return SideBySide(
        [loader.discover(here, pattern or "test*.py", os.path.dirname(here))]
    )
