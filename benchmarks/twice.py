"""Runs a script twice at once, the last argument made different: what two processes gain on this
machine.

twice.py SCRIPT FEED OUT
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path


def main() -> None:
    script, feed, out = sys.argv[1:]
    command = [sys.executable, str(Path(__file__).parent / script), feed]
    both = [subprocess.Popen([*command, f"{out}.{number}"]) for number in range(2)]
    sys.exit(max(process.wait() for process in both))


if __name__ == "__main__":
    main()
