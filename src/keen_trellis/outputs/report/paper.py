"""A report on paper: its page of HTML set on A4 by WeasyPrint, and nothing fetched for it."""

from __future__ import annotations

from keen_trellis.core.errors import OutputError
from keen_trellis.core.task import Task
from keen_trellis.flow.kinds import digest


def pdf(html: str, task: Task) -> bytes:
    """The report as a PDF file; the same page gives the same bytes. OutputError without Pango; Cancelled."""
    task.checkpoint(0, 0, "setting the pages")
    try:
        from weasyprint import HTML
        from weasyprint.urls import URLFetcher
    except OSError as error:  # it loads Pango, which the system has or has not
        raise OutputError(
            f"A PDF file needs the system's library Pango, which cannot be loaded ({error}).",
            remedy="Install it (Debian: libpango-1.0-0 libpangoft2-1.0-0), or write HTML and print that.",
        ) from error
    pages = HTML(string=html, url_fetcher=URLFetcher(allowed_protocols=("data",))).render()
    task.checkpoint(0, 0, "writing the pages")
    made: bytes = pages.write_pdf(pdf_identifier=digest(html).encode())
    return made
