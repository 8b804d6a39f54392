"""The demo's data and flows, made once for all tests that need them."""

import atexit
import functools
import shutil
import tempfile
from pathlib import Path

from keen_trellis.demo.scenario import Scenario, build
from keen_trellis.demo.setting_up import make


@functools.cache
def scenario() -> Scenario:
    """The demo's tables in memory."""
    return build()


@functools.cache
def folder() -> Path:
    """A folder with the demo's data and flows, for reading only."""
    made = Path(tempfile.mkdtemp(prefix="keen-trellis-demo-"))
    atexit.register(shutil.rmtree, made, ignore_errors=True)
    make(made)
    return made


def copy(into: Path) -> Path:
    """A copy of the demo that may be changed."""
    shutil.copytree(folder(), into, dirs_exist_ok=True)
    return into
