"""A second start hands its flow to the window that is open, which asks about changes that are not saved."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec
from PySide6.QtCore import QObject, QStandardPaths, Qt
from PySide6.QtNetwork import QLocalServer, QLocalSocket

from keen_trellis.desktop.shell.window import MainWindow
from keen_trellis.flow.decoding import decoded

_PATIENCE = 2_000  # milliseconds that somebody who listens may take
_TAKEN = b"taken\n"


def place() -> str:
    """Where the window listens: in the user's own folder for what runs, so that nobody else reaches it."""
    folder = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.RuntimeLocation)
    return str(Path(folder) / f"keen-trellis-{os.getuid()}.socket")


def hand_over(flow: Path | None, where: str = "") -> bool:
    """Hand a flow, or nothing but the wish to be seen, to the window that is open; whether there was one."""
    socket = QLocalSocket()
    socket.connectToServer(where or place())
    if not socket.waitForConnected(_PATIENCE):
        return False
    socket.write(msgspec.json.encode(str(flow.absolute()) if flow is not None else "") + b"\n")
    socket.flush()
    heard = socket.waitForReadyRead(_PATIENCE) and bytes(socket.readLine().data()) == _TAKEN
    socket.disconnectFromServer()
    return heard


class Handing(QObject):
    """Listens for as long as a window is open."""

    def __init__(self, window: MainWindow, where: str = "") -> None:
        super().__init__(window)
        self._window = window
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(self._heard)
        if not self._server.listen(where or place()):
            # What a window that was killed has left is in the way, and nobody listens there: that was asked.
            QLocalServer.removeServer(where or place())
            self._server.listen(where or place())

    def _heard(self) -> None:
        socket = self._server.nextPendingConnection()
        while socket is not None:
            socket.readyRead.connect(lambda one=socket: self._read(one))
            socket.disconnected.connect(socket.deleteLater)
            if socket.canReadLine():
                self._read(socket)
            socket = self._server.nextPendingConnection()

    def _read(self, socket: QLocalSocket) -> None:
        if not socket.canReadLine():
            return
        try:
            told = decoded(bytes(socket.readLine().data()), str)
        except (msgspec.DecodeError, msgspec.ValidationError):
            socket.disconnectFromServer()
            return
        socket.write(_TAKEN)
        socket.flush()
        window = self._window
        window.setWindowState(window.windowState() & ~Qt.WindowState.WindowMinimized)
        window.raise_()
        window.activateWindow()
        if told:
            window.files.open_paths([Path(told)])
