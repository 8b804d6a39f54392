"""Small pictures of the trellises of flows, kept in the user's cache, for the first page."""

from __future__ import annotations

import hashlib
from pathlib import Path

from PySide6.QtGui import QImage, QPainter

from keen_trellis.desktop.theme import THEMES, theme
from keen_trellis.desktop.trellis.view import TrellisView
from keen_trellis.flow.whole_file import whole_file

_WIDTH, _HEIGHT = 252, 92
_SHARP = 2.0  # pixels of a picture for each of the screen's
_MOST = 60


class FlowPictures:
    """folder: where they are kept; None for nowhere."""

    def __init__(self, folder: Path | None) -> None:
        self._folder = folder

    def _file(self, flow: Path, look: str) -> Path | None:
        told = hashlib.sha256(str(flow.absolute()).encode("utf-8", "surrogateescape")).hexdigest()[:24]
        return self._folder / f"{told}-{look}.png" if self._folder is not None else None

    def of(self, flow: Path) -> Path | None:
        """The picture of a flow, rather in the theme in use; None if there is none."""
        looks = sorted(THEMES, key=lambda name: name != theme().name)
        files = (self._file(flow, look) for look in looks)
        return next((file for file in files if file is not None and file.exists()), None)

    def keep(self, flow: Path, view: TrellisView) -> None:
        """Keep a picture of what a view shows of a flow; what keeps it from that is of no matter."""
        file, shown = self._file(flow, theme().name), view.shown
        if file is None or not shown.rails:
            return
        image = QImage(int(_WIDTH * _SHARP), int(_HEIGHT * _SHARP), QImage.Format.Format_ARGB32)
        image.fill(theme().ground)
        painter = QPainter(image)
        view.draw_small(painter, image.width(), image.height())
        painter.end()
        image.setDevicePixelRatio(_SHARP)
        try:
            file.parent.mkdir(parents=True, exist_ok=True)
            with whole_file(file) as draft:
                image.save(str(draft), "PNG")  # type: ignore[call-overload]
            self._let_go_of_old(file.parent)
        except OSError:
            return

    @staticmethod
    def _let_go_of_old(folder: Path) -> None:
        files = sorted(folder.glob("*.png"), key=lambda file: file.stat().st_mtime, reverse=True)
        for file in files[_MOST:]:
            file.unlink(missing_ok=True)
