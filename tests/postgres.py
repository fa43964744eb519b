"""A PostgreSQL server of the tests' own, on a socket in a temporary folder."""

from __future__ import annotations

import glob
import os
import pwd
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path


def binaries() -> Path | None:
    """The folder of the newest server that is installed."""
    found = sorted(
        glob.glob("/usr/lib/postgresql/*/bin/initdb"),
        key=lambda path: float(Path(path).parts[-3]),
    )
    return Path(found[-1]).parent if found else None


class PostgresCase(unittest.TestCase):
    """A test with a server; without one installed it is skipped (in CI none may be)."""

    dsn: str

    @classmethod
    def setUpClass(cls) -> None:
        programs = binaries()
        if programs is None:
            raise unittest.SkipTest("PostgreSQL is not installed")
        home = tempfile.mkdtemp(prefix="mukret-postgres-")
        cls.addClassCleanup(shutil.rmtree, home, ignore_errors=True)
        as_owner: list[str] = []
        if os.geteuid() == 0:  # the server refuses to run as root
            owner = pwd.getpwnam("postgres")
            os.chown(home, owner.pw_uid, owner.pw_gid)
            as_owner = [
                "setpriv",
                "--reuid=postgres",
                "--regid=postgres",
                "--clear-groups",
                "--",
            ]

        def run(program: str, *arguments: str) -> None:
            subprocess.run(
                [*as_owner, str(programs / program), *arguments],
                check=True,
                capture_output=True,
                cwd="/",
            )

        run(
            "initdb",
            "-D",
            f"{home}/data",
            "-U",
            "ferries",
            "--auth=trust",
            "-E",
            "UTF8",
            "--lc-collate=C",
            "--lc-ctype=C.UTF-8",
            "--no-sync",
        )
        options = f"-k {home} -c listen_addresses= -c fsync=off -c timezone=UTC"
        run(
            "pg_ctl",
            "-D",
            f"{home}/data",
            "-w",
            "-o",
            options,
            "-l",
            f"{home}/log",
            "start",
        )
        cls.addClassCleanup(
            run, "pg_ctl", "-D", f"{home}/data", "-m", "immediate", "stop"
        )
        cls.dsn = f"host={home} user=ferries dbname=postgres"
