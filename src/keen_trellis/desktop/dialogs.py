"""Dialogs that ask for files: they begin where the flow's files are, and suggest a name."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

_LONGEST = 80


def file_name(name: str) -> str:
    """What a thing called so is suggested as a file's name: without what no file system takes."""
    kept = re.sub(r'[\x00-\x1f/\\:*?"<>|]+', " ", name).strip(" .")
    return kept[:_LONGEST] or "Untitled"


def ask_to_save(
    parent: QWidget,
    title: str,
    place: Path,
    filters: Sequence[str],
    chosen: Callable[[Path], object],
    *,
    asks: bool = True,
) -> QFileDialog:
    """Ask where to write. place: the file that is suggested.  asks: whether about one that is there."""
    dialog = QFileDialog(parent, title, str(place.parent))
    dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
    dialog.setOption(QFileDialog.Option.DontConfirmOverwrite, not asks)
    dialog.setNameFilters(list(filters))
    dialog.setDefaultSuffix(place.suffix.lstrip("."))
    dialog.selectFile(place.name)
    dialog.fileSelected.connect(lambda name: chosen(Path(name)))
    dialog.open()
    return dialog


def ask_to_open(
    parent: QWidget,
    title: str,
    folder: Path,
    filters: Sequence[str],
    chosen: Callable[[list[Path]], object],
    *,
    several: bool = False,
) -> QFileDialog:
    """Ask for a file that is there, or for several; without filters for a folder."""
    dialog = QFileDialog(parent, title, str(folder))
    modes = QFileDialog.FileMode
    if filters:
        dialog.setFileMode(modes.ExistingFiles if several else modes.ExistingFile)
        dialog.setNameFilters(list(filters))
    else:
        dialog.setFileMode(modes.Directory)
        dialog.setOption(QFileDialog.Option.ShowDirsOnly)
    dialog.filesSelected.connect(lambda names: chosen([Path(name) for name in names]))
    dialog.open()
    return dialog
