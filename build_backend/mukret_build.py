"""The build backend (PEP 517): setuptools, and where the machine has no C compiler, one that comes
as a wheel.

The scanner is compiled while `pip install` runs. `ziglang` holds a whole C compiler; it is asked
for only where nothing that setuptools would call is there, since it is 100 MB to fetch.
"""

from __future__ import annotations

import os
import shutil
import sys
import sysconfig
from typing import Any

from setuptools import build_meta
from setuptools.build_meta import (
    build_sdist,
    get_requires_for_build_sdist,
    prepare_metadata_for_build_editable,
    prepare_metadata_for_build_wheel,
)

__all__ = [
    "build_editable",
    "build_sdist",
    "build_wheel",
    "get_requires_for_build_editable",
    "get_requires_for_build_sdist",
    "get_requires_for_build_wheel",
    "prepare_metadata_for_build_editable",
    "prepare_metadata_for_build_wheel",
]

COMPILER_AS_WHEEL = "ziglang>=0.13"


def get_requires_for_build_wheel(config_settings: Any = None) -> list[str]:
    """What building needs besides `build-system.requires`."""
    needed = [] if system_compiler() else [COMPILER_AS_WHEEL]
    return [*build_meta.get_requires_for_build_wheel(config_settings), *needed]


def get_requires_for_build_editable(config_settings: Any = None) -> list[str]:
    """The same for an editable installation."""
    needed = [] if system_compiler() else [COMPILER_AS_WHEEL]
    return [*build_meta.get_requires_for_build_editable(config_settings), *needed]


def build_wheel(
    wheel_directory: str,
    config_settings: Any = None,
    metadata_directory: str | None = None,
) -> str:
    """The name of the wheel that was made in the folder."""
    choose_compiler()
    return build_meta.build_wheel(wheel_directory, config_settings, metadata_directory)


def build_editable(
    wheel_directory: str,
    config_settings: Any = None,
    metadata_directory: str | None = None,
) -> str:
    """The same for an editable installation."""
    choose_compiler()
    return build_meta.build_editable(
        wheel_directory, config_settings, metadata_directory
    )


def system_compiler() -> str | None:
    """The C compiler that setuptools would call, if it is there."""
    if sys.platform == "win32":
        return "its own search"  # setuptools asks the registry
    wanted = os.environ.get("CC") or sysconfig.get_config_var("CC") or "cc"
    return shutil.which(wanted.split()[0])


def choose_compiler() -> None:
    """Has setuptools call the compiler that came as a wheel, where there is no other."""
    if system_compiler() is None:
        zig = f"{sys.executable} -m ziglang"
        os.environ["CC"] = f"{zig} cc"
        os.environ["LDSHARED"] = f"{zig} cc -shared"
        os.environ["AR"] = f"{zig} ar"
