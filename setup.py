"""What `pyproject.toml` can't say: the parts that are compiled.

MUKRET_SANITIZE=1 builds them with the address and undefined-behaviour sanitizers, for the fuzzer
(docs/releasing.md).
"""

import os
import sys
from glob import glob

from Cython.Build import cythonize
from setuptools import Extension, setup

CHECKED = [
    "-fsanitize=address,undefined",
    "-fno-sanitize-recover=undefined",
    "-fno-omit-frame-pointer",
    "-O1",
    "-g",
]
flags = CHECKED if os.environ.get("MUKRET_SANITIZE") else ["-O2"]


def compiled(name: str) -> Extension:
    """A module, of which the headers stand beside it."""
    folder = f"src/mukret/{name.partition('.')[0]}"
    return Extension(
        f"mukret.{name}",
        [f"src/mukret/{name.replace('.', '/')}.pyx"],
        include_dirs=[folder],
        depends=glob(f"{folder}/*.h"),
        libraries=[] if sys.platform == "win32" else ["m"],
        extra_compile_args=flags,
        extra_link_args=CHECKED[:1] if flags is CHECKED else [],
    )


MODULES = ["scan._scanner", "scan._kernels", "scan._keys", "columns._lines"]
setup(
    ext_modules=cythonize(
        [compiled(name) for name in MODULES], build_dir="build", language_level=3
    )
)
