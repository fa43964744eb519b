"""Build the scanner with the address and undefined-behaviour sanitizers and try it on mutated
documents.

    python scripts/fuzz_scanner.py [--mutants 1000000] [--seed 1]

Needs gcc, whose sanitizers are loaded before Python. Runs the tests of the scanner, of which one
takes so many mutated documents, and those of the kernels; whatever the sanitizers find ends it.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
TESTS = [
    "tests.test_scanning.Scans",
    "tests.test_types.Reading_",
    "tests.test_types.Writing",
]


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--mutants", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        shutil.copytree(
            ROOT / "src",
            f"{folder}/src",
            ignore=shutil.ignore_patterns("*.so", "__pycache__"),
        )
        shutil.copytree(
            ROOT / "tests",
            f"{folder}/tests",
            ignore=shutil.ignore_patterns("__pycache__"),
        )
        shutil.copy(ROOT / "setup.py", folder)
        building = {
            **os.environ,
            "MUKRET_SANITIZE": "1",
            "CC": "gcc",
            "LDSHARED": "gcc -shared",
        }
        subprocess.run(
            [sys.executable, "setup.py", "-q", "build_ext", "--build-lib", "src"],
            cwd=folder,
            env=building,
            check=True,
        )
        library = subprocess.run(
            ["gcc", "-print-file-name=libasan.so"],
            capture_output=True,
            text=True,
            check=True,
        )
        running = {
            **os.environ,
            "LD_PRELOAD": library.stdout.strip(),
            "ASAN_OPTIONS": "detect_leaks=0",  # of the interpreter itself there are some
            "PYTHONMALLOC": "malloc",  # so that the ends of bytes are watched, too
            "PYTHONPATH": f"{folder}/src:{folder}",
            "MUKRET_MUTANTS": str(options.mutants),
            "MUKRET_SEED": str(options.seed),
        }
        done = subprocess.run(
            [sys.executable, "-m", "unittest", *TESTS],
            cwd=folder,
            env=running,
            check=False,
        )
    sys.exit(done.returncode)


if __name__ == "__main__":
    main()
