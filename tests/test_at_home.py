"""At home on the desktop: what is put into a user's folders, a second start, and the program as a wheel."""

import os
import shutil
import subprocess
import sys
import sysconfig
import unittest
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory

from PySide6.QtCore import QRectF
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtSvg import QSvgRenderer

from keen_trellis import __version__
from keen_trellis.cli.at_home import _SHELLS, _completion
from keen_trellis.core.errors import OutputError
from keen_trellis.desktop.shell.app import make_application
from keen_trellis.desktop.shell.handing import Handing, hand_over
from keen_trellis.home import installing
from keen_trellis.home.installing import ID, SIZES, Folders
from tests import demo_data
from tests.desktop.driving import WindowCase

_HERE = Path(__file__).parents[1]
_COMPLETIONS = {shell: _completion(shell) for shell in _SHELLS}


class AtHomeCase(unittest.TestCase):
    def setUp(self):
        place = TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.home = Path(place.name) / "a home"
        self.home.mkdir()
        self.folders = Folders.of({"HOME": str(self.home)})
        self.command = Path(place.name) / "venv" / "keen-trellis"
        self.command.parent.mkdir()
        self.command.write_text("#!/bin/sh\n")
        self.command.chmod(0o755)

    def install(self) -> list[Path]:
        return installing.install(self.folders, self.command, _COMPLETIONS)

    def all_files(self) -> set[Path]:
        return {path for path in self.home.rglob("*") if path.is_file() or path.is_symlink()}


class Installing(AtHomeCase):
    def test_all_of_it_is_put_there_and_taken_away(self):
        put = set(self.install())
        self.assertEqual(len(put), 4 + len(SIZES) + len(_SHELLS) + 1)
        self.assertLessEqual(put, self.all_files())
        self.assertEqual((self.home / ".local/bin/keen-trellis").resolve(), self.command.resolve())
        self.assertEqual(set(self.install()), put)  # once more changes nothing
        gone, left = installing.uninstall(self.folders)
        self.assertEqual((set(gone), left), (put, []))
        ours = {path for path in self.all_files() if "keen" in path.name.lower()}
        self.assertEqual(ours, set())

    def test_what_is_somebody_elses_is_left(self):
        theirs = self.home / ".local/bin/keen-trellis"
        theirs.parent.mkdir(parents=True)
        theirs.write_text("mine")
        with self.assertRaises(OutputError) as caught:
            self.install()
        self.assertIn(str(theirs), str(caught.exception))
        self.assertEqual(self.all_files(), {theirs})

    def test_what_was_changed_since_is_left_when_it_is_taken_away(self):
        self.install()
        entry = self.home / f".local/share/applications/{ID}.desktop"
        entry.write_text(entry.read_text() + "# mine\n")
        gone, left = installing.uninstall(self.folders)
        self.assertEqual(left, [entry])
        self.assertTrue(entry.exists())
        self.assertNotIn(entry, gone)

    def test_the_folders_that_the_environment_names_are_used(self):
        found = Folders.of({"HOME": "/h", "XDG_DATA_HOME": "/d", "XDG_CONFIG_HOME": "/c"})
        self.assertEqual(
            (found.data, found.config, found.commands), (Path("/d"), Path("/c"), Path("/h/.local/bin"))
        )

    def test_a_home_that_cannot_be_written_is_said(self):
        (self.home / ".local").write_text("a file where a folder would be")
        with self.assertRaises(OutputError):
            self.install()


def program(name: str) -> str:
    found = shutil.which(name)
    if found is None:
        raise unittest.SkipTest(f"{name} is not installed")
    return found


class Valid(AtHomeCase):
    """Each file is what the validators of its standard say that it should be."""

    def valid(self, *words: str):
        done = subprocess.run(words, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return done.stdout

    def test_the_desktop_entry(self):
        self.install()
        entry = self.home / f".local/share/applications/{ID}.desktop"
        self.assertEqual(self.valid(program("desktop-file-validate"), str(entry)), "")
        lines = dict(line.split("=", 1) for line in entry.read_text().splitlines() if "=" in line)
        self.assertEqual(lines["Exec"], f'"{self.home}/.local/bin/keen-trellis" open %f')

    def test_the_description(self):
        self.install()
        place = self.home / f".local/share/metainfo/{ID}.metainfo.xml"
        self.valid(program("appstreamcli"), "validate", "--no-net", str(place))
        self.assertIn(f'version="{__version__}"', place.read_text())

    def test_a_flow_is_known_by_its_name(self):
        program("update-mime-database")
        self.install()
        globs = (self.home / ".local/share/mime/globs2").read_text()
        self.assertIn("60:application/vnd.keentrellis.flow+json:*.trellis", globs)

    def test_the_icons_are_drawn_from_the_drawing(self):
        make_application()
        drawing = QSvgRenderer(installing.resource("icon.svg"))
        self.assertTrue(drawing.isValid())
        for size in SIZES:
            kept = QImage.fromData(installing.resource(f"icons/{size}.png"))
            drawn = QImage(size, size, QImage.Format.Format_ARGB32)
            drawn.fill(0)
            painter = QPainter(drawn)
            drawing.render(painter, QRectF(0, 0, size, size))
            painter.end()
            self.assertEqual(kept.convertToFormat(drawn.format()), drawn, size)
        self.assertFalse(QGuiApplication.windowIcon().isNull())

    def test_shells_complete_commands(self):
        environment = os.environ | {
            "_KEEN_TRELLIS_COMPLETE": "bash_complete",
            "COMP_WORDS": "keen-trellis unin",
            "COMP_CWORD": "1",
        }
        command = Path(sysconfig.get_path("scripts")) / "keen-trellis"
        done = subprocess.run([command], env=environment, capture_output=True, text=True, check=False)
        self.assertEqual(done.stdout.strip(), "plain,uninstall")
        bash = self.home / "completion"
        bash.write_text(_COMPLETIONS["bash"])
        self.valid("bash", "-n", str(bash))


class SecondStart(WindowCase):
    def setUp(self):
        super().setUp()
        self.socket = str(self.folder / "s.socket")
        self.assertFalse(hand_over(None, self.socket))
        Handing(self.window, self.socket)

    def hand(self, flow: Path | None) -> subprocess.Popen:
        """Another process hands a flow to this window."""
        told = repr(str(flow)) if flow else "None"
        code = (
            "from pathlib import Path; from keen_trellis.desktop.shell.app import make_application;"
            "make_application(); from keen_trellis.desktop.shell.handing import hand_over;"
            f"flow = {told}; raise SystemExit(not hand_over(Path(flow) if flow else None, {self.socket!r}))"
        )
        return subprocess.Popen([sys.executable, "-c", code], stderr=subprocess.DEVNULL)

    def test_its_flow_is_opened_in_the_window_that_is_there(self):
        other = self.hand(demo_data.folder() / "Sets.trellis")
        self.rest(lambda: self.session.name == "Sets")
        self.assertEqual(other.wait(20), 0)

    def test_unsaved_changes_are_asked_about_first(self):
        self.window.sources.type_table()
        self.rest()
        other = self.hand(demo_data.folder() / "Sets.trellis")
        self.rest(lambda: other.poll() is not None)
        self.answer("Cancel")
        self.assertEqual(other.returncode, 0)
        self.assertIsNone(self.session.path)

    def test_what_a_killed_window_left_is_not_in_the_way(self):
        place = str(self.folder / "t.socket")
        Path(place).write_bytes(b"")
        Handing(self.window, place)
        self.assertTrue(Path(place).is_socket())


class AsAWheel(AtHomeCase):
    def test_a_wheel_holds_all_of_it_and_runs_the_demo(self):
        wheels, copy = self.home / "wheels", self.home / "copy"
        copy.mkdir()
        for name in ("pyproject.toml", "README.md"):
            shutil.copy(_HERE / name, copy / name)
        ignored = shutil.ignore_patterns("__pycache__", "*.egg-info")
        shutil.copytree(_HERE / "src", copy / "src", ignore=ignored)
        pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--quiet"]
        build = ["wheel", "--no-deps", "--no-build-isolation", "--wheel-dir", str(wheels), str(copy)]
        done = subprocess.run([*pip, *build], capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        (wheel,) = wheels.glob("*.whl")
        held = set(zipfile.ZipFile(wheel).namelist())
        for name in ("handbook/guide.md", "handbook/news.md", "home/data/icon.svg", "home/data/icons/48.png"):
            self.assertIn(f"keen_trellis/{name}", held)
        environment = self.home / "environment"
        subprocess.run([sys.executable, "-m", "venv", "--without-pip", environment], check=True)
        python = environment / "bin" / "python"
        subprocess.run(
            [*pip, "--python", python, "install", "--no-deps", "--no-index", wheel],
            check=True,
            capture_output=True,
        )
        # The packages that it needs are those that are here; nothing of this checkout is among them.
        (site,) = environment.glob("lib/python*/site-packages")
        (site / "others.pth").write_text(sysconfig.get_path("purelib"))
        command = environment / "bin" / "keen-trellis"
        clean = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"}

        def run(*words: str) -> str:
            done = subprocess.run(
                [command, *words], cwd=self.home, env=clean, capture_output=True, text=True, check=False
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            return done.stdout

        self.assertEqual(run("--version").strip(), f"keen-trellis, version {__version__}")
        run("demo", "--data", "lantern")
        self.assertIn("8,355", run("run", "lantern/Winter loans.trellis", "--to", "out"))
        said = (
            "import keen_trellis as k, keen_trellis.handbook as h; print(k.__file__, h.document('guide.md'))"
        )
        shown = subprocess.run(
            [python, "-c", said], env=clean, cwd=self.home, capture_output=True, text=True, check=True
        )
        self.assertIn(str(environment), shown.stdout)
        self.assertIn("# Guide", shown.stdout)


if __name__ == "__main__":
    unittest.main()
