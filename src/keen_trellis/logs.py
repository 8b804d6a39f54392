"""What the window did, written to a file that is kept small, so that a fault can be understood later.

No cell of a table is written to it.
"""

from __future__ import annotations

import logging
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

_LARGEST, _KEPT = 500_000, 2
_LAST = 400
log = logging.getLogger("keen_trellis")


def log_file() -> Path:
    """Where the log is."""
    return Path(platformdirs.user_log_dir("keen-trellis")) / "keen-trellis.log"


def begin_log(file: Path | None = None) -> None:
    """Write what is logged to a file from now on; where that cannot be, to nowhere."""
    file = file or log_file()
    log.setLevel(logging.INFO)
    log.propagate = False
    for handler in list(log.handlers):
        log.removeHandler(handler)
        handler.close()
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        handler = RotatingFileHandler(
            file, maxBytes=_LARGEST, backupCount=_KEPT, encoding="utf-8", delay=True
        )
    except OSError:
        log.addHandler(logging.NullHandler())
        return
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    log.addHandler(handler)


def last_lines(file: Path | None = None) -> str:
    """The end of the log."""
    file = file or log_file()
    try:
        return "\n".join(file.read_text("utf-8", "replace").splitlines()[-_LAST:])
    except OSError:
        return "There is no log."
