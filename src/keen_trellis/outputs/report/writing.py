"""Writes a report: which form it has is said by the ending of its file."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from keen_trellis.core.errors import OutputError
from keen_trellis.core.task import Task
from keen_trellis.flow.analysis import Analysed
from keen_trellis.flow.temporary import temporary_folder
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.outputs import staged
from keen_trellis.outputs.files import check_new
from keen_trellis.outputs.report.charts import Drawn, Picture
from keen_trellis.outputs.report.page import page
from keen_trellis.outputs.report.paper import pdf
from keen_trellis.outputs.report.sheets import parts_of

HTML, PDF, XLSX = ".html", ".pdf", ".xlsx"
FORMS = (HTML, PDF, XLSX)


def check(path: Path, kept: Collection[str | Path], *, replace: bool) -> None:
    """OutputError unless a report may be written there. kept: what must not be written to."""
    if path.suffix.lower() not in FORMS:
        raise OutputError(
            "A report is a page, a paper or a workbook.",
            where=str(path),
            remedy=f"End its name in {', '.join(FORMS[:-1])} or {FORMS[-1]}.",
        )
    check_new(path, kept, replace=replace)


def write_report(
    analysed: Analysed,
    path: Path,
    trellis: Picture | None,
    most_rows: int,
    *,
    kept: Collection[str | Path],
    replace: bool,
    task: Task | None = None,
) -> None:
    """Write a report to a file, whole or not at all. trellis: the picture of the flow, if there is one.

    OutputError if it cannot be written; Cancelled.
    """
    task = task or Task()
    check(path, kept, replace=replace)
    content = _content(analysed, path.suffix.lower(), trellis, most_rows, task)
    try:
        with whole_file(path) as draft:
            draft.write_bytes(content)
    except OSError as error:
        raise OutputError(
            f"It cannot be written: {error.strerror}.", where=str(path), remedy="Choose another folder."
        ) from error


def _content(analysed: Analysed, form: str, trellis: Picture | None, most_rows: int, task: Task) -> bytes:
    if form == XLSX:
        # Beside what may be there: into that its sheets would be put, and the others of it would stay.
        with temporary_folder() as folder:
            book = folder / f"report{XLSX}"
            with staged(parts_of(analysed, book), task=task):
                pass
            return book.read_bytes()
    task.checkpoint(0, 0, "drawing the charts")
    html = page(analysed.analysis, trellis, Drawn(), most_rows)
    return pdf(html, task) if form == PDF else html.encode("utf-8", "replace")
