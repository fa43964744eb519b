"""Apache Spark of the tests' own: a session in this process, or a master and a worker beside it."""

from __future__ import annotations

import importlib.util
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any, ClassVar

from tests.helpers import FolderCase

FLAGS = "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC"
"""Halve the time that Java takes to start."""
SETTINGS = {"spark.sql.shuffle.partitions": "3", "spark.ui.enabled": "false"}


def missing() -> str | None:
    """What is not installed here, of what these tests need."""
    if importlib.util.find_spec("pyspark") is None:
        return "mukret[spark]"
    return None if shutil.which("java") or os.environ.get("JAVA_HOME") else "Java"


class SparkCase(FolderCase):
    """A test with a session; without Spark or Java it is skipped (in CI none may be)."""

    session: ClassVar[Any]

    @classmethod
    def setUpClass(cls) -> None:
        lacking = missing()
        if lacking is not None:
            raise unittest.SkipTest(f"{lacking} is not installed")
        os.environ["JAVA_TOOL_OPTIONS"] = FLAGS
        os.environ["SPARK_LOCAL_IP"] = "127.0.0.1"
        from mukret.spark.session import spark_session

        opened = spark_session(cls.master(), more={**SETTINGS, **cls.settings()})
        cls.session = opened.__enter__()
        cls.addClassCleanup(opened.__exit__, None, None, None)

    @classmethod
    def master(cls) -> str:
        return "local[2]"

    @classmethod
    def settings(cls) -> dict[str, str]:
        return {}


class ClusterCase(SparkCase):
    """A test with a master and a worker, each a process of its own; the worker starts two executors
    with a core each.
    """

    worker: ClassVar[subprocess.Popen[bytes]]

    @classmethod
    def master(cls) -> str:
        home = Path(tempfile.mkdtemp(prefix="mukret-spark-"))
        cls.addClassCleanup(shutil.rmtree, home, ignore_errors=True)
        port = free_port()
        address = ["--host", "127.0.0.1", "--webui-port", "0", "--port"]
        cls.started("master.Master", [*address, str(port)], home)
        limits = ["--cores", "2", "--memory", "2g", "--work-dir", str(home / "work")]
        url = f"spark://127.0.0.1:{port}"
        cls.worker = cls.started(
            "worker.Worker", [*address, str(free_port()), *limits, url], home
        )
        return url

    @classmethod
    def settings(cls) -> dict[str, str]:
        return {
            "spark.executor.cores": "1",
            "spark.executor.memory": "600m",
            "spark.locality.wait": "0",
            "spark.driver.host": "127.0.0.1",
            "spark.driver.bindAddress": "127.0.0.1",
        }

    @classmethod
    def started(
        cls, program: str, arguments: list[str], home: Path
    ) -> subprocess.Popen[bytes]:
        """One of Spark's daemons, in the foreground; it ends with the tests."""
        import pyspark

        script = Path(pyspark.__file__).parent / "bin/spark-class"
        environment = {
            **os.environ,
            "SPARK_MASTER_OPTS": "-Dspark.master.rest.enabled=false",
            "SPARK_DAEMON_MEMORY": "256m",
            "PYSPARK_PYTHON": sys.executable,
        }
        log = open(home / f"{program}.log", "wb")  # noqa: SIM115
        cls.addClassCleanup(log.close)
        command = [str(script), f"org.apache.spark.deploy.{program}", *arguments]
        process = subprocess.Popen(
            command, env=environment, stdout=log, stderr=log, start_new_session=True
        )
        cls.addClassCleanup(ended, process)
        return process

    def executors(self) -> list[int]:
        """The processes of the executors that run."""
        found = []
        for place in Path("/proc").iterdir():
            try:
                words = (
                    (place / "cmdline").read_bytes().split(b"\0")
                    if place.name.isdecimal()
                    else []
                )
                of_ours = (
                    str(self.worker.pid)
                    == (place / "stat").read_text().rpartition(")")[2].split()[1]
                )
            except OSError:
                continue
            if of_ours and any(
                b"CoarseGrainedExecutorBackend" in word for word in words
            ):
                found.append(int(place.name))
        return sorted(found)

    def kill_an_executor_at_work(self) -> int:
        """Waits until tasks are under way, and kills one of the processes that do them; the number
        of that stage.
        """
        tracker = self.session.sparkContext.statusTracker()
        while True:
            for stage in tracker.getActiveStageIds():
                told = tracker.getStageInfo(stage)
                if (
                    told is not None
                    and told.numCompletedTasks
                    and told.numActiveTasks > 1
                ):
                    os.kill(self.executors()[0], signal.SIGKILL)
                    return int(stage)
            time.sleep(0.01)


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


def ended(process: subprocess.Popen[bytes]) -> None:
    os.killpg(process.pid, signal.SIGTERM)
    try:
        process.wait(20)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
