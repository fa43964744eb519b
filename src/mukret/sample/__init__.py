"""The sample feed: the ferries of the Merrow Isles, a made-up network,
and the rules that read it.
"""

from __future__ import annotations

from importlib import resources
from importlib.resources.abc import Traversable

RULES_FILE = "merrow.rules.yaml"
REFERENCE_FILE = "fare_classes.csv"
CALLS_FILE = "service.calls.yaml"
CALLS_RULES_FILE = "service.rules.yaml"
# Three rows of a table that somebody wants.
WANTED_FILE = "crossings.csv"
FEED_FOLDER = "feed"


def sample_files() -> dict[str, Traversable]:
    """The files of the sample by their path below the folder that it is copied to."""
    # The package may be a zip file, where there are no paths.
    home = resources.files(__name__)
    feed = home.joinpath(FEED_FOLDER)
    responses = sorted(feed.iterdir(), key=lambda file: file.name)
    files = {
        name: home.joinpath(name)
        for name in (
            RULES_FILE,
            REFERENCE_FILE,
            CALLS_FILE,
            CALLS_RULES_FILE,
            WANTED_FILE,
        )
    }
    return {**files, **{f"{FEED_FOLDER}/{file.name}": file for file in responses}}
