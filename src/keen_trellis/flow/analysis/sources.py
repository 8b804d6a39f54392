"""On which files a flow ran: path, size, time and content of each."""

from __future__ import annotations

import datetime as dt
import hashlib
import os
from pathlib import Path

from keen_trellis.core.task import Task
from keen_trellis.flow.addresses import is_address, shown_place
from keen_trellis.flow.analysis.value import FileRead, SourceTold
from keen_trellis.flow.analysis.withheld import Withheld
from keen_trellis.flow.graph import Step
from keen_trellis.flow.snapshot import Snapshot, Snapshots
from keen_trellis.flow.source_settings import SourceSettings

_MOST_FILES = 60
_PIECE = 2**20


def source_told(
    step: Step,
    settings: SourceSettings,
    snapshot: Snapshot,
    snapshots: Snapshots,
    folder: Path,
    withheld: Withheld,
    task: Task,
) -> SourceTold:
    """A source as it was read. folder: of the flow, from which paths are told. Cancelled."""
    found = [path for path in snapshots.files(settings) if path.is_file()]
    files = [_file_read(path, folder, task) for path in dict.fromkeys(found[:_MOST_FILES])]
    hidden = withheld.of(snapshot.table)
    place = shown_place(settings.path) if is_address(settings.path) else _told(Path(settings.path), folder)
    return SourceTold(
        step=step.id,
        name=step.name,
        where=f"{settings.table} of {place}" if settings.table else place,
        note=step.note,
        rows=snapshot.table.rows,
        fields=len(snapshot.table.fields),
        content=snapshot.content,
        files=tuple(files),
        more_files=max(len(dict.fromkeys(found)) - _MOST_FILES, 0),
        old=snapshot.old,
        doubts=tuple(
            str(remark)
            for remark in snapshot.remarks
            if remark.doubtful and not any(name == remark.field or name in remark.text for name in hidden)
        ),
    )


def _file_read(path: Path, folder: Path, task: Task) -> FileRead:
    found = path.stat()
    digest, done = hashlib.sha256(), 0
    with path.open("rb") as file:
        while piece := file.read(_PIECE):
            digest.update(piece)
            done += len(piece)
            task.checkpoint(done, found.st_size, f"telling the content of {path.name}")
    changed = dt.datetime.fromtimestamp(found.st_mtime, dt.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return FileRead(_told(path, folder), found.st_size, changed, digest.hexdigest())


def _told(path: Path, folder: Path) -> str:
    """A path as it is told to others: from the flow's folder, if it lies below that."""
    absolute = os.path.abspath(path)  # noqa: PTH100 - a link is told by its own name
    below = os.path.relpath(absolute, folder)
    return absolute if below.startswith("..") else below
