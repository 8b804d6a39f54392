"""The demo's data and flows, made once for all tests that need them, in whichever process they run."""

import atexit
import fcntl
import functools
import json
import os
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from keen_trellis.demo.scenario import Scenario, build
from keen_trellis.demo.setting_up import make, make_next_month
from tests import SHARED


@functools.cache
def scenario() -> Scenario:
    """The demo's tables in memory."""
    return build()


@functools.cache
def folder() -> Path:
    """A folder with the demo's data and flows, for reading only."""
    return _made("demo", make)


def copy(into: Path) -> Path:
    """A copy of the demo that may be changed."""
    shutil.copytree(folder(), into, dirs_exist_ok=True)
    return into


def written_as_text(flow: Path) -> Path:
    """Let a copied flow write text in place of workbooks, which take most of a run; the same path."""
    content = json.loads(flow.read_bytes())
    for step in content["steps"]:
        if step["kind"] == "output":
            step["settings"] = {
                "writer": "text",
                "path": str(Path(step["settings"]["path"]).with_suffix(".csv")),
            }
    flow.write_text(json.dumps(content))
    return flow


def next_month(into: Path) -> None:
    """Put the data of the month after over that in a copy of the demo."""
    shutil.copytree(_made("next-month", make_next_month), into, dirs_exist_ok=True)


@functools.cache
def _shared() -> Path:
    if SHARED in os.environ:
        return Path(os.environ[SHARED])
    made = Path(tempfile.mkdtemp(prefix="keen-trellis-demo-"))
    atexit.register(shutil.rmtree, made, ignore_errors=True)
    return made


def _made(name: str, make_it: Callable[[Path], object]) -> Path:
    """A folder that whoever needs it first has made; the others wait for it."""
    place = _shared() / name
    with (_shared() / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not place.exists():
            draft = _shared() / f"{name}.draft"
            draft.mkdir()
            make_it(draft)
            draft.rename(place)
    return place
