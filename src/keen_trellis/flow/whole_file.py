"""Writes a file whole or not at all: a draft beside it, synced, then renamed over it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from keen_trellis.flow.temporary import clear_left, own_name

_PREFIX = ".keen-trellis-"


@contextmanager
def whole_file(path: Path, *, synced: bool = False) -> Iterator[Path]:
    """The draft to write in place of `path`. It takes the file's place when the block ends without error.

    synced: whether the block itself sees to it that all of it is on the disk.

    On any error the draft is removed and `path` is as it was. OSError if that cannot be done. Drafts that
    processes left in the folder which were killed are removed.
    """
    clear_left(path.parent, prefix=_PREFIX)
    # Not called after the file, whose name may be as long as a name can be.
    draft = path.parent / f"{own_name(_PREFIX)}.part"
    try:
        draft.touch(mode=0o600, exist_ok=False)
        yield draft
        if not synced:
            sync(draft)
        draft.chmod(_rights(path))
        draft.replace(path)
    except BaseException:
        draft.unlink(missing_ok=True)
        raise


def sync(draft: Path) -> None:
    """Let all of a draft be on the disk; OSError where that is full."""
    with draft.open("rb+") as file:
        os.fsync(file.fileno())


def _rights(path: Path) -> int:
    """The rights of the file that is replaced, or those that a new file gets here."""
    if path.exists():
        return path.stat().st_mode & 0o777
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask
