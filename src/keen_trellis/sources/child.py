"""Reads files by libraries that are not ours in a process of its own, whose memory and time are limited.

The child says one message a line: progress, and last either the outcome or an error. Rows are written to a
file, which the parent maps. Children are begun by another process (`starter.py`). Loads nothing large: that
one and every child start with it.
"""

from __future__ import annotations

import atexit
import ctypes
import gc
import os
import resource
import signal
import socket
import subprocess
import sys
import threading
import zipfile
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec

from keen_trellis.core.errors import SourceError
from keen_trellis.core.task import Task
from keen_trellis.flow.decoding import decoded
from keen_trellis.flow.environment import whole_number
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.temporary import is_disk_full
from keen_trellis.sources.about import About, Listing

# What a child may use: so much and a multiple of the file's size, or of its unpacked size where it is an
# archive. More means that the file is not what it seems. The environment may say otherwise.
MEMORY_NAME = "KEEN_TRELLIS_READER_BYTES"
_MEMORY = 1 * 2**30
_A_BYTE, _A_PACKED_BYTE, _AN_UNPACKED_BYTE = 80, 400, 12
_SHARE_OF_MEMORY = 0.6
# How many seconds of computing may pass without progress; and for each megabyte of the file.
SECONDS_NAME = "KEEN_TRELLIS_READER_SECONDS"
_SECONDS = 6
_SECONDS_A_MEGABYTE = 1.0
_LOOK_EVERY = 0.05
_TOO_MUCH_MEMORY = "too much memory"
# Arrow's allocator would take a gigabyte at once where the system gives it, and leave none of the limit.
_SPARING = {"MIMALLOC_ARENA_EAGER_COMMIT": "0"}
_TRIES = 3
_END_WITH_PARENT = 1  # PR_SET_PDEATHSIG


class Order(msgspec.Struct, frozen=True):
    """What a child is to do: the words for a module’s `answer`. memory: how many bytes it may take."""

    module: str
    words: tuple[str, ...]
    memory: int


class Message(msgspec.Struct, frozen=True, omit_defaults=True):
    """What the child says: how far it is, or last what it found, or why it cannot.

    process: its number, said first.  ended: its exit code, or minus a signal, which its starter says.
    """

    done: int = 0
    total: int = 0
    last: bool = False
    tables: tuple[Listing, ...] = ()
    about: About | None = None
    error: str = ""
    remedy: str = ""
    process: int = 0
    ended: int | None = None


# --- in the child ---


def say(message: Message) -> None:
    """Hand one message to the parent."""
    sys.stdout.buffer.write(msgspec.json.encode(message) + b"\n")
    sys.stdout.buffer.flush()


def serve(answer: Callable[..., Message], words: Sequence[str]) -> int:
    """Do what `words` ask; 0 if it could be done."""
    limit_memory()
    # Millions of cells live until the end: looking for garbage among them only takes time.
    gc.disable()
    try:
        say(answer(*words))
    except SourceError as error:
        say(Message(error=error.what, remedy=error.remedy))
        return error.exit_code
    except MemoryError:
        say(Message(error=_TOO_MUCH_MEMORY))
        return SourceError.exit_code
    except OSError as error:
        if is_disk_full(error):
            say(Message(error=f"Its rows cannot be kept: {error.strerror}.", remedy="Make room on the disk."))
        else:
            say(Message(error=f"It cannot be read: {error.strerror or error}."))
        return SourceError.exit_code
    return 0


def end_with_parent() -> None:
    """Let the system end this process when its parent is gone: nobody reads what it finds then."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_END_WITH_PARENT, signal.SIGKILL)


def progress() -> Task:
    """A task that tells the parent how far it is."""
    return Task(lambda done, total, _: say(Message(done=done, total=total)))


def limit_memory() -> None:
    """Let this process use no more memory than its parent says."""
    most = int(os.environ[MEMORY_NAME])
    # What is written to counts, and not the large stretches of addresses that libraries reserve.
    resource.setrlimit(resource.RLIMIT_DATA, (most, most))


# --- in the parent ---


def ask(module: str, path: str, task: Task, *words: str) -> Message:
    """What the child answers that runs `module`. SourceError if it cannot read the file, Cancelled if
    stopped.
    """
    try:
        size = Path(path).stat().st_size
    except OSError as error:
        raise SourceError(f"It cannot be read: {error.strerror}.", where=path) from error
    limit = memory_limit(path, size)
    messages = _answers(Order(module, (words[0], path, *words[1:]), limit), _Watch(path, size), task)
    ended = messages[-1].ended if messages else None
    answer = next((message for message in reversed(messages) if message.last or message.error), Message())
    most = f"{limit / 2**30:.1f} GiB of memory"
    if answer.error == _TOO_MUCH_MEMORY:
        raise SourceError(
            f"Reading it takes more than {most}, too much for a file of {size:,} bytes.",
            where=path,
            remedy="It may be damaged, or have a cell far from the others. Save the part that is needed as "
            f"CSV, or set {MEMORY_NAME} to more bytes.",
        )
    if answer.error:
        raise SourceError(answer.error, where=path, remedy=answer.remedy)
    if ended != 0 or not answer.last:
        raise SourceError(
            f"Reading it ended unexpectedly: it is damaged, or takes more than {most}.",
            where=path,
            remedy=f"Copy or export it again. If it is well, set {MEMORY_NAME} to more bytes.",
        )
    return answer


def _answers(order: Order, watch: _Watch, task: Task) -> list[Message]:
    """All that a child says, once it has ended; it is ended where it is stopped or takes too long."""
    for _ in range(_TRIES):
        messages: list[Message] = []
        channel = _STARTER.begin(order)
        listener = threading.Thread(target=_listen, args=(channel, messages), daemon=True)
        listener.start()
        try:
            while listener.is_alive():
                listener.join(_LOOK_EVERY)
                latest = messages[-1] if messages else Message()
                if latest.ended is None:
                    task.checkpoint(latest.done, latest.total, f"reading {watch.name}")
                    watch.check(messages)
        finally:
            # Also where the reading was stopped or took too long.
            _end(messages, listener)
        if messages:
            return (
                messages  # otherwise the starter had ended, for want of work or otherwise: there was no child
            )
    return []


def _end(messages: Sequence[Message], listener: threading.Thread) -> None:
    """End the child that says these, unless it has ended, and wait for that."""
    while not messages and listener.is_alive():
        listener.join(_LOOK_EVERY)  # until it has begun
    if messages and messages[-1].ended is None:
        with suppress(ProcessLookupError):
            os.kill(messages[0].process, signal.SIGKILL)
    listener.join()


class _Starter:
    """The process that begins children, itself begun when the first one is wanted."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._line: socket.socket | None = None

    def begin(self, order: Order) -> socket.socket:
        """The channel over which a new child says its messages: none where the starter had ended, which the
        next call begins anew.
        """
        ours, theirs = socket.socketpair()
        with theirs, self._lock:
            try:
                socket.send_fds(self._begun(), [b"c"], [theirs.fileno()])
            except OSError:
                self._end()
        with suppress(OSError):  # if there is no child after all, nothing comes back
            ours.sendall(msgspec.json.encode(order) + b"\n")
        return ours

    def _begun(self) -> socket.socket:
        if self._line is None:
            self._line, theirs = socket.socketpair()
            with theirs:
                self._process = subprocess.Popen(
                    [sys.executable, "-m", "keen_trellis.sources.starter"],
                    stdin=theirs.fileno(),
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    env=_without_secrets() | _SPARING,
                )
            atexit.register(self._end)
        return self._line

    def _end(self) -> None:
        atexit.unregister(self._end)
        if self._line is not None and self._process is not None:
            self._line.close()
            self._process.wait()
            self._line = self._process = None


_STARTER = _Starter()


def _without_secrets() -> dict[str, str]:
    """The environment, without the passwords in it: a library that reads a stranger's file needs none."""
    return {name: value for name, value in os.environ.items() if "PASSWORD" not in name}


def memory_limit(path: str, size: int) -> int:
    """The bytes of memory that reading a file of `size` bytes may take."""
    needed = _A_BYTE * size
    with (
        suppress(zipfile.BadZipFile, OSError, ValueError, NotImplementedError),
        zipfile.ZipFile(path) as archive,
    ):
        unpacked = sum(entry.file_size for entry in archive.infolist())
        needed = min(_AN_UNPACKED_BYTE * unpacked, _A_PACKED_BYTE * size)
    whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    return whole_number(MEMORY_NAME, min(_MEMORY + needed, int(whole * _SHARE_OF_MEMORY)))


class _Watch:
    """How much a child computed since it said something last. Waiting for a busy machine does not count."""

    def __init__(self, path: str, size: int) -> None:
        self._path = path
        self._limit = whole_number(SECONDS_NAME, _SECONDS + round(_SECONDS_A_MEGABYTE * size / 2**20))
        self._said = -1
        self._then = 0.0

    @property
    def name(self) -> str:
        return Path(self._path).name

    def check(self, messages: Sequence[Message]) -> None:
        """SourceError if the child has said nothing for too long; `messages`: what it has said."""
        used = self._used(messages[0].process) if messages else 0.0
        if len(messages) != self._said:
            self._said, self._then = len(messages), used
        if used - self._then > self._limit:
            raise SourceError(
                f"Reading it made no progress in {self._limit:,} seconds of computing.",
                where=self._path,
                remedy="It may be damaged: copy or export it again. If it is well, set "
                f"{SECONDS_NAME} to more seconds.",
            )

    def _used(self, process: int) -> float:
        with suppress(OSError, IndexError, ValueError):
            words = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
            return (int(words[11]) + int(words[12])) / os.sysconf("SC_CLK_TCK")
        return self._then


def _listen(channel: socket.socket, messages: list[Message]) -> None:
    with channel, channel.makefile("rb") as file, suppress(OSError):
        for line in file:
            with suppress(msgspec.DecodeError):  # cut off in the middle: how it ended says the rest
                messages.append(decoded(line, Message))


def settings_word(settings: SourceSettings) -> str:
    """The settings of a source as a word for a child."""
    return msgspec.json.encode(settings).decode()
