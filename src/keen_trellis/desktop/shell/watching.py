"""Watches the files of the margin, and says when one has changed since it was read."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from keen_trellis.flow.addresses import is_address
from keen_trellis.session.session import Session

# A file that is being written changes many times: one word is enough once it is left alone.
_CALM_MS = 700


class Watching(QObject):
    """changed: the names of files that have changed, once they are left alone."""

    changed = Signal(list)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._watcher = QFileSystemWatcher(self)
        self._waiting: set[str] = set()
        self._calm = QTimer(self, singleShot=True, interval=_CALM_MS)
        self._calm.timeout.connect(self._tell)
        self._watcher.fileChanged.connect(self._note)
        self._watcher.directoryChanged.connect(self._note)
        self.on = False
        session.changed.connect(self._follow)
        session.outcomes_changed.connect(lambda _: self._follow())
        session.refreshing.compared.connect(self.forget)

    def turn(self, on: bool) -> None:
        """Begin or stop watching."""
        self.on = on
        self._follow()

    def forget(self) -> None:
        """Say nothing of what has changed so far: it has been read."""
        self._waiting.clear()
        self._calm.stop()

    def _follow(self) -> None:
        """Watch just the files of the margin, if at all."""
        files = [path for path in self._session.margin.paths() if not is_address(path)]
        wanted = {path for path in files if Path(path).exists()} if self.on else set()
        watched = {*self._watcher.files(), *self._watcher.directories()}
        if watched - wanted:
            self._watcher.removePaths(sorted(watched - wanted))
        if wanted - watched:
            self._watcher.addPaths(sorted(wanted - watched))

    def _note(self, path: str) -> None:
        self._waiting.add(Path(path).name)
        self._calm.start()

    def _tell(self) -> None:
        names, self._waiting = sorted(self._waiting), set()
        # A file that was replaced by a rename is watched no more: begin again.
        self._follow()
        self.changed.emit(names)
