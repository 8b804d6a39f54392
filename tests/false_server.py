"""A server on loopback that speaks just enough of PostgreSQL's protocol to ask for a password in clear."""

import socket
import struct
import threading


class FalseServer:
    """Listens until it is closed. heard: what each connection sent; passwords: those that it was given."""

    def __init__(self):
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        self.heard = []
        self.passwords = []
        threading.Thread(target=self._serve, daemon=True).start()

    def address(self, user="keeper", host="127.0.0.1"):
        return f"postgresql://{user}@{host}:{self.port}/registry"

    def close(self):
        self._socket.close()

    def _serve(self):
        while True:
            try:
                connection, _ = self._socket.accept()
            except OSError:
                return
            with connection:
                connection.settimeout(5)
                try:
                    self._answer(connection)
                except (OSError, struct.error):
                    continue

    def _answer(self, connection):
        while True:
            size, code = struct.unpack("!ii", connection.recv(8))
            words = connection.recv(size - 8) if size > 8 else b""
            if code >> 16 == 3:
                break
            connection.sendall(b"N")  # no encryption here
        self.heard.append(words)
        connection.sendall(b"R" + struct.pack("!ii", 8, 3))
        kind = connection.recv(1)
        if kind == b"p":
            (size,) = struct.unpack("!i", connection.recv(4))
            self.passwords.append(connection.recv(size - 4).rstrip(b"\0").decode())
