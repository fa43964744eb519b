"""Time `mukret extract` against a script written by hand for the same feed; print medians, ratio and peak memory.

    python benchmarks/against_by_hand.py --feed MAKE_FEED.py --by-hand BY_HAND.py --rules FEED.rules.yaml

The feed is made once and kept in a temporary folder. Both programs run in turn, each in a process of its own, start-up
included; the first run of each is not counted.
"""

from __future__ import annotations

import argparse
import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, field
from pathlib import Path


@dataclass
class Timed:
    """One program: its command, and what its runs took (seconds, megabytes)."""

    name: str
    command: list[str]
    seconds: list[float] = field(default_factory=list)
    peak: float = 0.0

    def run(self, *, counted: bool) -> None:
        started = time.perf_counter()
        process = subprocess.Popen(self.command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        _, status, usage = os.wait4(process.pid, 0)
        took = time.perf_counter() - started
        process.returncode = os.waitstatus_to_exitcode(status)
        if process.returncode not in (0, 1):
            raise SystemExit(f"{self.name} ended with {process.returncode}: {' '.join(self.command)}")
        if counted:
            self.seconds.append(took)
            self.peak = max(self.peak, usage.ru_maxrss / 1000)

    @property
    def median(self) -> float:
        return statistics.median(self.seconds)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--feed", required=True, help="program that makes the feed")
    parser.add_argument("--by-hand", required=True, help="script to beat")
    parser.add_argument("--rules", required=True)
    parser.add_argument("--megabytes", default="100")
    parser.add_argument("--dirt", default="0.0", help="share of bad rows in a second feed; 0 for none")
    parser.add_argument("--runs", type=int, default=5)
    options = parser.parse_args()
    folder = Path(tempfile.mkdtemp())
    try:
        measure(options, folder)
    finally:
        shutil.rmtree(folder)


def measure(options: argparse.Namespace, folder: Path) -> None:
    clean = make_feed(options, folder / "clean.jsonl", "0")
    out = str(folder / "out")
    programs = [
        Timed("by hand", [sys.executable, options.by_hand, clean, str(folder / "by-hand.csv")]),
        Timed("mukret", [sys.executable, "-m", "mukret", "extract", options.rules, clean, "--to", out]),
    ]
    if float(options.dirt):
        dirty = make_feed(options, folder / "dirty.jsonl", options.dirt)
        command = [sys.executable, "-m", "mukret", "extract", options.rules, dirty, "--to", out]
        programs.append(Timed(f"mukret, {options.dirt} dirty", command))
    for number in range(options.runs + 1):
        for program in programs:
            program.run(counted=number > 0)
    report(options, programs)


def make_feed(options: argparse.Namespace, place: Path, dirt: str) -> str:
    command = [sys.executable, options.feed, str(place), "--megabytes", options.megabytes, "--dirt", dirt]
    subprocess.run(command, check=True)
    return str(place)


def report(options: argparse.Namespace, programs: list[Timed]) -> None:
    machine = f"Python {platform.python_version()}, {os.cpu_count()} cores"
    print(f"{options.megabytes} MB of lines, {options.runs} runs in turn; {machine}")
    print("| program | median s | fastest s | times as fast as by hand | peak MB |")
    print("| --- | --- | --- | --- | --- |")
    for program in programs:
        ratio = programs[0].median / program.median
        row = f"{program.median:.2f} | {min(program.seconds):.2f} | {ratio:.2f} | {program.peak:.0f}"
        print(f"| {program.name} | {row} |")


if __name__ == "__main__":
    main()
