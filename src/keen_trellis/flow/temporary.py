"""Folders for what is needed for a moment, and the clearing away of what processes that died left there."""

from __future__ import annotations

import errno
import hashlib
import os
import re
import secrets
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path

_PREFIX = "keen-trellis-"
_FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
# The machine and process that work in it, and when that was started: numbers of processes are used again.
_OWNED = re.compile(r"(?P<machine>[0-9a-f]{8})\.(?P<process>\d+)\.(?P<started>\d*)\.")
_OLD = 7 * 24 * 3600  # seconds


@contextmanager
def temporary_folder(*, prefix: str = _PREFIX, within: Path | None = None) -> Iterator[Path]:
    """An empty folder, gone afterwards with what is in it. OSError if there is no room for one."""
    folder = Path(within or tempfile.gettempdir()) / own_name(prefix)
    # Made where it is also removed: a signal may come as soon as it is there.
    try:
        folder.mkdir(mode=0o700)
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def is_disk_full(error: OSError) -> bool:
    """Whether an error says that there is no room for what was written, and nothing of what was read."""
    return error.errno in _FULL


def mark() -> str:
    """What a name begins with that belongs to this process."""
    return f"{_machine()}.{os.getpid()}.{started(os.getpid())}."


def own_name(prefix: str) -> str:
    """A name that nobody else has, by which what is called so is told to be of this process."""
    return f"{prefix}{mark()}{secrets.token_hex(8)}"


@cache
def _machine() -> str:
    """What tells processes apart that have the same number: the machine, and the container in it."""
    parts = [os.uname().nodename]
    with suppress(OSError):
        parts.append(Path("/etc/machine-id").read_text())
    with suppress(OSError):
        parts.append(str(Path("/proc/self/ns/pid").readlink()))
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:8]


def _is_left(path: Path, prefix: str) -> bool:
    """Whether a file or folder belongs to a process that is gone. Of processes of other machines, which may
    use the same disk, nobody here knows: what is old is left.
    """
    found = _OWNED.match(path.name, len(prefix))
    if found is None:
        return False
    if found["machine"] != _machine():
        return time.time() - path.lstat().st_mtime > _OLD
    return started(int(found["process"])) != found["started"]


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
            if path.is_symlink() or not _is_left(path, prefix):
                continue
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)
