"""What the program takes to start: commands, the window empty, and the window with a flow."""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec
from rich.table import Table as Grid

from keen_trellis.demo.flow_names import WINTER_LOANS
from keen_trellis.demo.setting_up import make

_TIMES = 5
_ROWS = 300
_COMMAND = (sys.executable, "-m", "keen_trellis.cli")
_LIBRARIES = (sys.executable, "-c", "import numpy, pyarrow, pyarrow.compute")
_QT = (sys.executable, "-c", "import PySide6.QtWidgets, numpy, pyarrow, pyarrow.compute")
# To the picture of the window, with the rows of the step that is selected; what ends a process is no start.
_WINDOW = """
import os, sys
from pathlib import Path
from keen_trellis.desktop.pictures import new_window, picture
from keen_trellis.desktop.shell.turns import pause
window = new_window()
for path in sys.argv[1:]:
    window.files.open_flow(Path(path))
    while window.bench.content is None:
        pause(1)
picture(window)
os._exit(0)
"""


class Case(msgspec.Struct, frozen=True):
    """words: the command.  beside: what only loads the libraries that it needs.  aim: in seconds."""

    name: str
    words: Sequence[str]
    beside: Sequence[str]
    aim: str


class Taken(NamedTuple):
    """Seconds that pass, and those of CPU."""

    wall: float
    cpu: float


def cases(folder: Path) -> list[Case]:
    """What is started, on files in a folder."""
    sides = []
    for name, step in (("loans", 1), ("objects", 2)):
        path = folder / f"{name}.csv"
        path.write_text("key;value\n" + "".join(f"LCM.{n:05};{n}\n" for n in range(0, _ROWS * step, step)))
        sides.append(str(path))
    make(folder)
    match = (*_COMMAND, "match", *sides, "--link", "key=key")
    window = (sys.executable, "-c", _WINDOW)
    return [
        Case("keen-trellis --help", (*_COMMAND, "--help"), _LIBRARIES, "0.15 CPU"),
        Case("match of two small files", match, _LIBRARIES, "0.35 CPU"),
        Case("a window with an empty flow", window, _QT, "0.6"),
        Case("a window that shows the demo's flow", (*window, str(folder / WINTER_LOANS)), _QT, "1.2"),
    ]


def starting_grid() -> Grid:
    """Seconds of new processes, next to those that only load the libraries."""
    grid = Grid(title="Starting", title_justify="left")
    for column in ("case", "s", "CPU s", "libraries alone, CPU s", "ratio", "aim s"):
        grid.add_column(column, justify="left" if column == "case" else "right")
    with tempfile.TemporaryDirectory(prefix="keen-trellis-speed-") as place:
        for case in cases(Path(place)):
            taken(case.words)  # what is read once is in the cache, as it is in use
            pairs = [(taken(case.words), taken(case.beside)) for _ in range(_TIMES)]
            ours, theirs = (median(side) for side in zip(*pairs, strict=True))
            ratio = statistics.median(one.cpu / other.cpu for one, other in pairs)
            figures = (ours.wall, ours.cpu, theirs.cpu, ratio)
            grid.add_row(case.name, *(f"{figure:.2f}" for figure in figures), case.aim)
    return grid


def median(some: Sequence[Taken]) -> Taken:
    """The median of each."""
    return Taken(*map(statistics.median, zip(*some, strict=True)))


def taken(words: Sequence[str]) -> Taken:
    """What a process takes from its start to its end, all its threads and what it starts itself included."""
    # Modules are compiled once, as for anybody who installed the program.
    surroundings = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    surroundings["QT_QPA_PLATFORM"] = "offscreen"
    before, started = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(words, check=True, capture_output=True, env=surroundings)
    wall, after = time.perf_counter() - started, resource.getrusage(resource.RUSAGE_CHILDREN)
    return Taken(wall, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
