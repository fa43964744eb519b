"""What `pyproject.toml` can't say: the parts that are compiled.

MUKRET_SANITIZE=1 builds them with the address and undefined-behaviour sanitizers, for the fuzzer (docs/releasing.md).
"""

import os

from Cython.Build import cythonize
from setuptools import Extension, setup

FOLDER = "src/mukret/scan"
CHECKED = ["-fsanitize=address,undefined", "-fno-sanitize-recover=undefined", "-fno-omit-frame-pointer", "-O1", "-g"]
flags = CHECKED if os.environ.get("MUKRET_SANITIZE") else ["-O2"]


def compiled(name: str) -> Extension:
    """A module of the scanner."""
    return Extension(
        f"mukret.scan.{name}",
        [f"{FOLDER}/{name}.pyx"],
        include_dirs=[FOLDER],
        depends=[f"{FOLDER}/reading.h", f"{FOLDER}/values.h", f"{FOLDER}/pages.h"],
        extra_compile_args=flags,
        extra_link_args=CHECKED[:1] if flags is CHECKED else [],
    )


setup(ext_modules=cythonize([compiled("_scanner"), compiled("_kernels"), compiled("_keys")], build_dir="build", language_level=3))
