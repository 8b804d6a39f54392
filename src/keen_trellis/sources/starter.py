"""A process that becomes a new one for each file that is to be read.

Loading the reader libraries takes longer than reading most files, so that it is done once, here, and not in
every child; before the second one, since whoever reads a single file would wait for more than that one needs.
This process opens no file of the user's, and each child has read nothing but its own.

On the socket that is its standard input it is sent one channel for each child, over which that takes its
order and answers (`child.py`). How a child ended stands last on its channel. This process ends with its
parent, and when no child was wanted for a while.
"""

from __future__ import annotations

import gc
import os
import select
import signal
import socket
import sys
from contextlib import suppress
from importlib import import_module

import msgspec

from keen_trellis.flow.decoding import decoded
from keen_trellis.sources.child import MEMORY_NAME, Message, Order, end_with_parent, say, serve

_LOADED = (
    "pyarrow.feather",
    "pyarrow.parquet",
    "keen_trellis.sources.columns_process",
    "keen_trellis.sources.workbook_process",
    "keen_trellis.sources.blocks",
    "keen_trellis.sources.cell_columns",
    "keen_trellis.sources.headers",
    "keen_trellis.sources.inference",
)
_IDLE = 120.0  # seconds
_LINE = 0


def main() -> int:
    """Begin children until the parent is gone, or until none was wanted for a while."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent hears it too, and ends what it began
    woken, wake = os.pipe2(os.O_NONBLOCK | os.O_CLOEXEC)
    signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    line = socket.socket(fileno=os.dup(_LINE))
    channels: dict[int, socket.socket] = {}
    begun = 0
    while True:
        ready = select.select([line.fileno(), woken], [], [], None if channels else _IDLE)[0]
        if not ready:
            return 0
        if woken in ready:
            os.read(woken, 4096)
            _tell_ended(channels)
        if line.fileno() in ready:
            found = socket.recv_fds(line, 1, 1)[1]
            if not found:
                break
            begun += 1
            if begun == 2:
                _load()
            _begin(found[0], line, channels)
    for process in channels:
        os.kill(process, signal.SIGKILL)
    return 0


def _load() -> None:
    for name in _LOADED:
        import_module(name)
    gc.freeze()


def _begin(descriptor: int, line: socket.socket, channels: dict[int, socket.socket]) -> None:
    """Begin a child that answers over a channel."""
    channel = socket.socket(fileno=descriptor)
    process = os.fork()
    if process:
        channels[process] = channel
        return
    code = 1
    try:
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        end_with_parent()
        for other in (line, *channels.values()):
            other.close()
        code = _answer(channel)
    finally:
        # Nothing of what this process shares with its parent is tidied up here.
        os._exit(code)


def _answer(channel: socket.socket) -> int:
    os.dup2(channel.fileno(), sys.stdout.fileno())
    say(Message(process=os.getpid()))
    with channel, channel.makefile("rb") as file:
        order = decoded(file.readline(), Order)
        os.environ[MEMORY_NAME] = str(order.memory)
        return serve(import_module(order.module).answer, order.words)


def _tell_ended(channels: dict[int, socket.socket]) -> None:
    for process in list(channels):
        ended, status = os.waitpid(process, os.WNOHANG)
        if not ended:
            continue
        with channels.pop(process) as channel, suppress(OSError):
            # The last line that it began may have been cut off.
            code = os.waitstatus_to_exitcode(status)
            channel.sendall(b"\n" + msgspec.json.encode(Message(ended=code)) + b"\n")


if __name__ == "__main__":
    sys.exit(main())
