"""A connection that can be cut: what listens here, and hands on to a server what comes, until it is cut."""

import socket
import threading
from contextlib import suppress

_BYTES = 65_536


class Cut:
    """Listens on a port of its own. port: that one.  to: the port of the server."""

    def __init__(self, to):
        self._to = to
        self._left = None  # bytes that still come back before it is cut
        self._open = []
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = self._listening.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def after(self, count):
        """Cut it once so many more bytes came back."""
        self._left = count

    def now(self):
        """Cut it, for good: what connects later is not answered either."""
        for end in (self._listening, *self._open):
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
            end.close()

    def _accept(self):
        with suppress(OSError):
            while True:
                client, _ = self._listening.accept()
                server = socket.create_connection(("127.0.0.1", self._to))
                self._open += [client, server]
                threading.Thread(target=self._hand_on, args=(client, server), daemon=True).start()
                threading.Thread(target=self._hand_back, args=(server, client), daemon=True).start()

    @staticmethod
    def _hand_on(client, server):
        with suppress(OSError):
            while sent := client.recv(_BYTES):
                server.sendall(sent)

    def _hand_back(self, server, client):
        with suppress(OSError):
            while sent := server.recv(_BYTES):
                if self._left is not None:
                    self._left -= len(sent)
                    if self._left < 0:
                        self.now()
                        return
                client.sendall(sent)
