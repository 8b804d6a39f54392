"""Sheets of xlsx, xls and ods workbooks, read in a child process that can be stopped."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from keen_trellis.core.errors import Cancelled, SourceError
from keen_trellis.core.table import ArrowTable
from keen_trellis.core.task import Task
from keen_trellis.flow.snapshot import Remark
from keen_trellis.sources.reading import Listing, ReadTable
from keen_trellis.sources.recognise import WORKBOOK

_LOOK_EVERY = 0.05


class WorkbookReader:
    """Reads every sheet of a workbook; charts and macros are not sheets."""

    name = WORKBOOK

    def tables(self, path: Path, task: Task) -> Sequence[Listing]:
        outcome = _ask(path, task, "list", str(path))
        return [Listing(name, "sheet") for name in outcome["sheets"]]

    def read(self, path: Path, table: str, task: Task) -> ReadTable:
        if not table:
            table = self.tables(path, task)[0].name
        with tempfile.TemporaryDirectory(prefix="keen-trellis-") as folder:
            target = str(Path(folder) / "sheet.arrow")
            outcome = _ask(path, task, "read", str(path), table, target)
            # The mapped file stays readable after its name is gone.
            data = pa.ipc.open_file(pa.memory_map(target)).read_all()
        numbers = data.column(data.num_columns - 1).to_numpy()
        data = data.remove_column(data.num_columns - 1)
        remarks = tuple(Remark(**entry) for entry in outcome["remarks"])
        return ReadTable(ArrowTable(data, file=path.name, table=table, row_numbers=numbers), remarks)


def _ask(path: Path, task: Task, *words: str) -> dict[str, Any]:
    """What the child process answers; SourceError if it cannot read the file, Cancelled if stopped."""
    command = [sys.executable, "-m", "keen_trellis.sources.workbook_process", *words]
    child = subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
    )
    messages: list[dict[str, Any]] = []
    listener = threading.Thread(target=_listen, args=(child, messages), daemon=True)
    listener.start()
    try:
        while listener.is_alive():
            listener.join(_LOOK_EVERY)
            latest = messages[-1] if messages else {}
            task.checkpoint(latest.get("done", 0), latest.get("total", 0), f"reading {path.name}")
        child.wait()
    except Cancelled:
        child.kill()
        child.wait()
        raise
    answer = messages[-1] if messages else {}
    if "error" in answer:
        raise SourceError(answer["error"], where=str(path), remedy=answer["remedy"])
    if child.returncode != 0:
        raise SourceError(
            "Reading the workbook ended unexpectedly.",
            where=str(path),
            remedy="It may be damaged, or too large for this machine's memory.",
        )
    return answer


def _listen(child: subprocess.Popen[str], messages: list[dict[str, Any]]) -> None:
    assert child.stdout is not None
    with child.stdout:
        messages.extend(map(json.loads, child.stdout))
