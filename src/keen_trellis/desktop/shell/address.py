"""Asks for the address of a database, or a pattern of files."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint

from keen_trellis.databases.secrets import take_out_password
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.sources.locations import reader_for


def ask_address(frame: Frame, entered: Callable[[str], None]) -> None:
    """Let one be typed, and hand it on: a password that stands in it is remembered, and taken out."""
    entry = Entry(
        "Address of a database, as postgresql://user@host/database, or a pattern, as /logs/2026-*.csv",
        "",
        frame,
        check=_check,
    )
    entry.entered.connect(lambda text: entered(reader_for(take_out_password(text.strip(), lasting=True))[0]))
    entry.open_under(frame.sentence.view, at=QPoint(240, 4))


def _check(text: str) -> None:
    """An error of ours unless something can be read at what was typed."""
    reader_for(text.strip())
