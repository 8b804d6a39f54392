"""LibreOffice, which opens workbooks and saves them anew, for the tests that need another program's word."""

import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

_PROGRAM = shutil.which("soffice")
_SECONDS = 120


def saved_by_office(paths: list[Path], folder: Path) -> list[Path]:
    """The workbooks as LibreOffice saves them into `folder`, every formula computed; skips the test, saying
    why, where it is not installed.
    """
    if _PROGRAM is None:
        raise unittest.SkipTest("LibreOffice is not installed (Debian: libreoffice-calc-nogui)")
    with tempfile.TemporaryDirectory(prefix="keen-trellis-tests-") as profile:
        words = [
            *(_PROGRAM, f"-env:UserInstallation=file://{profile}", "--headless", "--convert-to", "xlsx"),
            *("--outdir", str(folder), *map(str, paths)),
        ]
        done = subprocess.run(words, capture_output=True, text=True, timeout=_SECONDS)
    made = [folder / f"{path.stem}.xlsx" for path in paths]
    missing = [path.name for path in made if not path.exists()]
    if missing:
        raise AssertionError(f"LibreOffice did not open {missing}: {done.stdout} {done.stderr}")
    return made
