"""The file of the open flow: as it was when it was opened or saved last, and whether it still is."""

from __future__ import annotations

import hashlib
from contextlib import suppress
from pathlib import Path

import msgspec

from keen_trellis.core.errors import FlowFileError
from keen_trellis.flow.graph import Flow


class FlowChangedError(FlowFileError):
    """The flow's file is not as this session left it."""


class SavedFlow(msgspec.Struct, frozen=True):
    """path: of the file, None if there is none yet.  content: a fingerprint of its bytes."""

    path: Path | None = None
    flow: Flow = msgspec.field(default_factory=Flow)
    content: str = ""

    def check_unchanged(self, path: Path) -> None:
        """FlowChangedError if `path` is this file and somebody else has changed it."""
        if path.absolute() == self.path and fingerprint(path) not in ("", self.content):
            raise FlowChangedError(
                f"{path.name} was changed by somebody else since you opened it.",
                remedy="Overwrite it, or save yours under another name.",
            )


def fingerprint(path: Path) -> str:
    """Of the bytes of a file; "" if it cannot be read."""
    with suppress(OSError):
        return hashlib.blake2b(path.read_bytes(), digest_size=16).hexdigest()
    return ""
