"""Folders for what is needed for a moment, and the clearing away of what processes that died left there."""

from __future__ import annotations

import errno
import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

_PREFIX = "keen-trellis-"
_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
# The process that works in it, and when that was started: numbers of processes are used again.
_OWNED = re.compile(r"(?P<process>\d+)\.(?P<started>\d*)\.")


@contextmanager
def temporary_folder(*, prefix: str = _PREFIX, within: Path | None = None) -> Iterator[Path]:
    """An empty folder, gone afterwards with what is in it. OSError if there is no room for one."""
    folder = Path(tempfile.mkdtemp(prefix=f"{prefix}{mark()}", dir=within))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def is_disk_full(error: OSError) -> bool:
    """Whether an error says that there is no room for what was written, and nothing of what was read."""
    return error.errno in _FULL


def mark() -> str:
    """What a name begins with that belongs to this process: its number and when it was started."""
    return f"{os.getpid()}.{started(os.getpid())}."


def is_left(name: str, prefix: str) -> bool:
    """Whether what is called so belongs to a process that is gone."""
    found = _OWNED.match(name, len(prefix)) if name.startswith(prefix) else None
    return found is not None and started(int(found["process"])) != found["started"]


def started(process: int) -> str:
    """When a process was started, as the system counts it; "" if it is not there."""
    with suppress(OSError):
        # The name in brackets may hold anything; the start is the twentieth word behind it.
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19]
    return ""


def clear_left(folder: Path | None = None, *, prefix: str = _PREFIX) -> None:
    """Remove what processes that died left in the folder for temporary files, or in another."""
    with suppress(OSError):
        for path in (folder or Path(tempfile.gettempdir())).glob(f"{prefix}*"):
            if not is_left(path.name, prefix) or path.is_symlink():
                continue
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)
