"""What each command may import: who waits for a match does not wait for a window, a workbook or a server."""

import json
import os
import re
import shlex
import subprocess
import sys
import tomllib
import unittest
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from importlib.metadata import packages_distributions
from pathlib import Path
from tempfile import TemporaryDirectory

from keen_trellis.cli.examples import EXAMPLES
from tests import demo_data

# Runs a command, and says which packages and which rooms of the program were loaded by then.
_TOLD = """
import json, sys, sysconfig
from pathlib import Path
from keen_trellis.cli import main
try:
    main(sys.argv[1:])
except SystemExit:
    pass
installed = Path(sysconfig.get_paths()["purelib"])
names = {
    name.partition(".")[0]
    for name, module in sys.modules.items()
    if installed in Path(getattr(module, "__file__", None) or "/").parents
}
rooms = {".".join(name.split(".")[:2]) for name in sys.modules if name.startswith("keen_trellis.")}
print(json.dumps([sorted(names), sorted(room.partition(".")[2] for room in rooms)]))
"""
# The libraries of pyproject.toml that an example of each command may load besides those of all.
_ALWAYS = {"click", "msgspec"}
_TABLES = {"numpy", "pyarrow", "platformdirs", "xxhash"}
_REASONS = {"rapidfuzz"}
_MAY = {
    "--help": set(),
    "completion bash": set(),
    "install": set(),
    "uninstall": set(),
    "match loans.csv objects.csv --link key=key": {*_TABLES, "rich"},
    "look": _TABLES,
    "propose": {*_TABLES, "rapidfuzz", "sqlalchemy"},
    "match": {*_TABLES, "rich", "sqlalchemy"},
    "explain": {*_TABLES, *_REASONS, "sqlalchemy", "sqlglot"},
    "blend": _TABLES,
    "run": {*_TABLES, *_REASONS, "lxml", "sqlglot", "xlsxwriter"},
    "runs": {"numpy", "pyarrow", "rapidfuzz", "rich"},
    "report": {*_TABLES, *_REASONS, "lxml", "sqlalchemy", "sqlglot", "xlsxwriter"},
    "answer": {*_TABLES, "rapidfuzz"},
    "follow": {*_TABLES, *_REASONS, "sqlglot"},
    "corrections": {"numpy", "pyarrow", "rich"},
    "from-sql": {*_TABLES, "sqlalchemy", "sqlglot"},
    "sql": {*_TABLES, "sqlglot"},
    "compare": {*_TABLES, *_REASONS, "sqlglot"},
}
_ROOMS = {"cli", "core", "flow"}
_READING = {*_ROOMS, "sources", "databases"}
_MAY_ENTER = {
    "--help": _ROOMS,
    "match loans.csv objects.csv --link key=key": _READING,
    "look": _READING,
    "blend": _READING,
    "sql": _READING,
}
_NOT_RUN = {"open", "demo", "hand-off"}  # the window needs all of it, and a hand-off another server


class Imports(unittest.TestCase):
    def test_each_command_loads_what_it_needs(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        folder = demo_data.copy(Path(place.name) / "demo")
        for name in ("loans", "objects"):
            (folder / f"{name}.csv").write_text("key;value\nLCM.1;2\n")
        self.assertEqual({name.partition(" ")[0] for name in _MAY} | _NOT_RUN, {*EXAMPLES, "--help"} - {""})
        loaded = partial(_loaded, folder, Path(place.name))
        told = {"report": loaded("report")}  # which writes what answers come from
        with ThreadPoolExecutor(2) as pool:
            others = [name for name in _MAY if name not in told]
            told |= dict(zip(others, pool.map(loaded, others), strict=True))
        for name, (libraries, rooms) in told.items():
            with self.subTest(name):
                self.assertLessEqual(libraries & _LIBRARIES, _MAY[name] | _ALWAYS)
                self.assertLessEqual(rooms, _MAY_ENTER.get(name, rooms))


def _loaded(folder, home, name):
    """What a command loads, as packages and rooms."""
    words = shlex.split(EXAMPLES[name][name == "report"] if name in EXAMPLES else name)
    surroundings = {**os.environ, "HOME": str(home)}
    done = subprocess.run(
        [sys.executable, "-c", _TOLD, *words], cwd=folder, capture_output=True, text=True, env=surroundings
    )
    libraries, rooms = json.loads(done.stdout.splitlines()[-1])
    return set(libraries), set(rooms)


def _libraries():
    """The packages that pyproject.toml asks for, as they are imported."""
    named = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text())["project"][
        "dependencies"
    ]
    asked = {re.split(r"[\[<>=]", text)[0].lower().replace("_", "-") for text in named}
    return {
        name
        for name, packages in packages_distributions().items()
        if asked & {package.lower().replace("_", "-") for package in packages} and name != "mpl_toolkits"
    }


_LIBRARIES = _libraries()

if __name__ == "__main__":
    unittest.main()
