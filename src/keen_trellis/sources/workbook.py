"""Sheets, blocks of cells, named tables and ranges of workbooks, read in a child process that can be
stopped.
"""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Sequence
from pathlib import Path

import msgspec
import pyarrow as pa

from keen_trellis.core.errors import Cancelled, SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.about import ROWS_FILE, Listing
from keen_trellis.sources.reading import Reader, ReadTable
from keen_trellis.sources.recognise import WORKBOOK
from keen_trellis.sources.workbook_process import Message

_LOOK_EVERY = 0.05


class WorkbookReader(Reader):
    """Reads whatever a workbook holds in cells; charts and macros are not read."""

    name = WORKBOOK

    def tables(self, path: str, task: Task) -> Sequence[Listing]:
        return _ask(path, task, "list", path).tables

    def further_tables(self, path: str, task: Task) -> Sequence[Listing]:
        """Tables that stand beside or below another one in a sheet: found only by reading the sheets."""
        return _ask(path, task, "further", path).tables

    def read(self, settings: SourceSettings, room: Path, task: Task) -> ReadTable:
        target = room / ROWS_FILE
        answer = _ask(
            settings.path, task, "read", settings.path, msgspec.json.encode(settings).decode(), str(target)
        )
        assert answer.about is not None
        return ReadTable(pa.ipc.open_file(pa.memory_map(str(target))).read_all(), answer.about)

    def files(self, settings: SourceSettings) -> list[Path] | None:
        return [Path(settings.path)]


def _ask(path: str, task: Task, *words: str) -> Message:
    """What the child process answers; SourceError if it cannot read the file, Cancelled if stopped."""
    command = [sys.executable, "-m", "keen_trellis.sources.workbook_process", *words]
    child = subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    )
    messages: list[Message] = []
    listener = threading.Thread(target=_listen, args=(child, messages), daemon=True)
    listener.start()
    try:
        while listener.is_alive():
            listener.join(_LOOK_EVERY)
            latest = messages[-1] if messages else Message()
            task.checkpoint(latest.done, latest.total, f"reading {Path(path).name}")
        child.wait()
    except Cancelled:
        child.kill()
        child.wait()
        raise
    answer = messages[-1] if messages else Message()
    if answer.error:
        raise SourceError(answer.error, where=path, remedy=answer.remedy)
    if child.returncode != 0 or not answer.last:
        raise SourceError(
            "Reading the workbook ended unexpectedly.",
            where=path,
            remedy="It may be damaged, or too large for this machine's memory.",
        )
    return answer


def _listen(child: subprocess.Popen[bytes], messages: list[Message]) -> None:
    assert child.stdout is not None
    decoder = msgspec.json.Decoder(Message)
    with child.stdout:
        for line in child.stdout:
            try:
                messages.append(decoder.decode(line))
            except msgspec.DecodeError:
                return  # cut off in the middle: the return code says the rest
