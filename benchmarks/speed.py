"""Make feeds and time `mukret extract` on them, beside a script written by hand and what any reader
must do at least.

    python benchmarks/speed.py [--megabytes 400] [--runs 5] [--shapes 60] [--large 2000]

Needs orjson. All programs of a table run in turn, each in a process of its own, start-up included;
the first turn is not counted. A ratio is the median of those within one turn: machines have their
hours. Peak memory is that of the largest process. Tables go to standard output, as they stand in
`docs/performance.md`.
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
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import feeds

import mukret.sample

HERE = Path(__file__).parent
TINY = 0.01
"""Megabytes of a feed of which only the start-up of a program is to be seen."""
MUKRET = [sys.executable, "-m", "mukret"]
BARE = (
    "import click\n@click.group()\ndef main(): 'A program.'\n@main.command()\ndef one(): "
    "'One.'\nmain()"
)


@dataclass
class Program:
    """A command; what its runs took (seconds) and the most memory that one of its processes held
    (megabytes).
    """

    name: str
    command: list[str]
    megabytes: float
    seconds: list[float] = field(default_factory=list)
    peak: float = 0.0

    def run(self, *, counted: bool) -> None:
        started = time.perf_counter()
        process = subprocess.Popen(
            self.command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        _, status, usage = os.wait4(process.pid, 0)
        took = time.perf_counter() - started
        process.returncode = os.waitstatus_to_exitcode(status)
        if process.returncode not in (0, 1):
            raise SystemExit(
                f"{self.name} ended with {process.returncode}: {' '.join(self.command)}"
            )
        if counted:
            self.seconds.append(took)
            self.peak = max(self.peak, usage.ru_maxrss / 1000)

    def times(self, other: Program) -> float:
        """How many times as long as another it took."""
        return statistics.median(
            own / its for own, its in zip(self.seconds, other.seconds, strict=True)
        )

    @property
    def median(self) -> float:
        return statistics.median(self.seconds)


def measured(programs: Sequence[Program], runs: int) -> None:
    for number in range(runs + 1):
        for program in programs:
            program.run(counted=number > 0)
            print(f"  {program.name}: {number} of {runs}", file=sys.stderr, flush=True)


Pairs = dict[str, tuple[Program, Program]]
"""Programs by what they are for, each over a feed and over a tiny one."""


class Bench:
    """The feeds of one run, in a folder of its own."""

    def __init__(self, folder: Path, runs: int) -> None:
        self.folder = folder
        self.runs = runs

    def rules(self, text: str) -> str:
        path = self.folder / f"{abs(hash(text))}.rules.yaml"
        path.write_text(text, encoding="utf-8")
        return str(path)

    def feed(self, name: str, make: Callable[[Path], None]) -> Path:
        path = self.folder / name
        if not path.exists():
            make(path)
        return path

    def extract(
        self, name: str, feed: Path, *options: str, rules: str = feeds.SAILINGS_RULES
    ) -> Program:
        place = rules if rules.endswith(".yaml") else self.rules(rules)
        command = [
            *MUKRET,
            "extract",
            place,
            str(feed),
            "--to",
            str(self.folder / "out"),
            *options,
        ]
        return Program(name, command, feed.stat().st_size / 1e6)

    def beside(self, name: str, script: str, *arguments: object, feed: Path) -> Program:
        command = [sys.executable, str(HERE / script), *map(str, arguments)]
        return Program(name, command, feed.stat().st_size / 1e6)

    # ---- the tables

    def sailings(self, megabytes: float) -> None:
        clean = self.feed("clean.jsonl", lambda path: feeds.sailings(path, megabytes))
        dirty = self.feed(
            "dirty.jsonl", lambda path: feeds.sailings(path, megabytes, dirt=0.001)
        )
        document = self.feed(
            "one.json", lambda path: feeds.sailings(path, megabytes, one_document=True)
        )
        hand = self.beside(
            "by hand, to CSV", "by_hand.py", clean, self.folder / "hand.csv", feed=clean
        )
        parse = self.beside(
            "projected parse alone", "floor.py", "parse", clean, feed=clean
        )
        programs = [
            hand,
            self.beside("read alone", "floor.py", "read", clean, feed=clean),
            parse,
            Program(
                "the fastest general parser alone",
                [sys.executable, str(HERE / "shapes/decode.py"), str(clean)],
                megabytes,
            ),
            self.extract("mukret, to CSV", clean, "--workers", "1"),
            self.extract("the same, 0.1% dirty", dirty, "--workers", "1"),
            self.extract("to CSV, two workers", clean, "--workers", "2"),
            self.extract("to Parquet", clean, "--format", "parquet", "--workers", "1"),
            self.extract(
                "to Parquet, two workers",
                clean,
                "--format",
                "parquet",
                "--workers",
                "2",
            ),
            self.extract(
                "to CSV, a key of one number",
                clean,
                "--workers",
                "1",
                rules=feeds.KEYED_RULES,
            ),
            self.extract("to CSV, one document", document, "--workers", "1"),
            self.beside(
                "by hand, twice at once",
                "twice.py",
                "by_hand.py",
                clean,
                self.folder / "hand.csv",
                feed=clean,
            ),
        ]
        measured(programs, self.runs)
        print(
            f"\n{megabytes:.0f} MB of sailings, {self.runs} runs in turn; {machine()}\n"
        )
        print(
            "| program | median s | MB/s | times as fast as by hand | times the parse | peak MB |"
        )
        print("| --- | --- | --- | --- | --- | --- |")
        *programs, twice = programs
        for program in programs:
            ratios = f"{hand.times(program):.2f} | {program.times(parse):.2f}"
            speed = f"{program.median:.2f} | {program.megabytes / program.median:.0f}"
            print(f"| {program.name} | {speed} | {ratios} | {program.peak:.0f} |")
        one, dirt, two = programs[4], programs[5], programs[6]
        print(
            f"\nTwo workers against one: {one.times(two):.2f} (CSV), "
            f"{programs[7].times(programs[8]):.2f} (Parquet)"
        )
        print(
            "What two processes can gain here: by hand, twice at once, "
            f"{2 / twice.times(hand):.2f} times the work"
        )
        print(f"0.1% dirt against clean: {dirt.times(one):.2f}")

    def start(self) -> None:
        small = self.feed("small.jsonl", lambda path: feeds.sailings(path, 0.01))
        bare = Program(
            "a bare Click program, --help", [sys.executable, "-c", BARE, "--help"], 0
        )
        programs = [
            bare,
            Program("mukret --help", [*MUKRET, "--help"], 0),
            self.extract("mukret extract, 10 kB", small),
        ]
        measured(programs, 2 * self.runs)
        print("\n| start-up | median s | times the bare program |\n| --- | --- | --- |")
        for program in programs:
            print(
                f"| {program.name} | {program.median:.2f} | {program.times(bare):.2f} |"
            )

    def shapes(self, megabytes: float) -> None:
        """Other shapes, each beside the script by hand for it and the fastest general parser alone;
        the start-up of each program, measured on a tiny feed in the same turn, is taken off.
        """
        kinds = [
            self.shape(path.parent, megabytes)
            for path in sorted((HERE / "shapes").glob("*/feed.rules.yaml"))
        ]
        kinds.append(self.sample(megabytes))
        measured(
            [program for kind in kinds for pair in kind.values() for program in pair],
            self.runs,
        )
        print(
            f"\n{megabytes:.0f} MB of other shapes to CSV, {self.runs} runs in turn, without "
            "start-up\n"
        )
        print(
            "| shape | s, one thread | MB/s | times as fast as by hand | times the parser alone | "
            "two threads |"
        )
        print("| --- | --- | --- | --- | --- | --- |")
        for kind in kinds:
            took = {name: net(*pair) for name, pair in kind.items()}
            one, two = took["one"], took["two"]
            by_hand = [
                f"{ratio(took['hand'], own):.2f}" if "hand" in took else ""
                for own in (one, two)
            ]
            program, seconds = kind["one"][0], statistics.median(one)
            speed = f"{seconds:.2f} | {program.megabytes / seconds:.0f}"
            print(
                f"| {program.name} | {speed} | {by_hand[0]} | {ratio(one, took['parse']):.2f} | "
                f"{by_hand[1]} |"
            )

    def shape(self, folder: Path, megabytes: float) -> Pairs:
        """The programs of a shape, each over a feed and over a tiny one."""

        def made(size: float) -> Path:
            def make(path: Path) -> None:
                command = [
                    sys.executable,
                    str(folder / "make_feed.py"),
                    str(path),
                    "--megabytes",
                    str(size),
                ]
                subprocess.run(command, check=True)

            return self.feed(f"{folder.name}{size}.jsonl", make)

        feed, tiny = made(megabytes), made(TINY)
        script, target = f"shapes/{folder.name}/by_hand.py", self.folder / "hand"
        hand = [
            self.beside(folder.name, script, one, target, feed=one)
            for one in (feed, tiny)
        ]
        others = self.parsed_and_extracted(
            folder.name, feed, tiny, folder / "feed.rules.yaml"
        )
        return {"hand": (hand[0], hand[1]), **others}

    def sample(self, megabytes: float) -> Pairs:
        folder = Path(mukret.sample.__file__).parent
        documents = sorted((folder / "feed").glob("*.json"))
        feed = self.feed(
            "sample.jsonl", lambda path: feeds.repeated(path, megabytes, documents)
        )
        tiny = self.feed(
            "tiny.jsonl", lambda path: feeds.repeated(path, TINY, documents)
        )
        return self.parsed_and_extracted(
            "the sample's rules", feed, tiny, folder / "merrow.rules.yaml"
        )

    def parsed_and_extracted(
        self, name: str, feed: Path, tiny: Path, rules: Path
    ) -> dict[str, tuple[Program, Program]]:
        found: Pairs = {}
        for key, workers in (("one", "1"), ("two", "2")):
            pair = [
                self.extract(name, one, "--workers", workers, rules=str(rules))
                for one in (feed, tiny)
            ]
            found[key] = (pair[0], pair[1])
        parse = [
            self.beside(name, "shapes/decode.py", one, feed=one) for one in (feed, tiny)
        ]
        return {**found, "parse": (parse[0], parse[1])}

    def memory(self, large: float) -> None:
        print("\n| input | MB | seconds | peak MB |\n| --- | --- | --- | --- |")
        for megabytes in (100, large):
            for one_document in (False, True):
                feed = self.folder / "memory"
                feeds.sailings(feed, megabytes, one_document=one_document)
                for workers in ("1", "2"):
                    program = self.extract("", feed, "--workers", workers)
                    program.run(counted=True)
                    what = (
                        f"{'one document' if one_document else 'lines'}, {workers} "
                        f"thread{'s' * (workers != '1')}"
                    )
                    print(
                        f"| {what} | {megabytes:.0f} | {program.median:.0f} | {program.peak:.0f} |",
                        flush=True,
                    )
                feed.unlink()


def net(program: Program, start: Program) -> list[float]:
    """What each run of a program took beyond its start-up in the same turn."""
    return [
        max(0.001, took - before)
        for took, before in zip(program.seconds, start.seconds, strict=True)
    ]


def ratio(ones: Sequence[float], others: Sequence[float]) -> float:
    return statistics.median(
        one / other for one, other in zip(ones, others, strict=True)
    )


def machine() -> str:
    return f"Python {platform.python_version()}, {os.cpu_count()} cores"


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument(
        "--megabytes",
        type=float,
        default=400,
        help="size of the feeds of sailings; 0: none",
    )
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument(
        "--shapes",
        type=float,
        default=60,
        help="size of the feeds of other shapes; 0: none",
    )
    parser.add_argument(
        "--large", type=float, default=0, help="also memory, at 100 MB and so many"
    )
    options = parser.parse_args()
    folder = Path(tempfile.mkdtemp())
    try:
        bench = Bench(folder, options.runs)
        bench.start()
        if options.megabytes:
            bench.sailings(options.megabytes)
        if options.shapes:
            bench.shapes(options.shapes)
        if options.large:
            bench.memory(options.large)
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
