"""JSON and plain values to records, whichever thread asks for it.

msgspec finds out how a record is made when the first of its kind is, and two threads that do so at once end
the program (0.22): here one of them waits.
"""

from __future__ import annotations

import threading
from typing import Any, TypeVar

import msgspec

Made = TypeVar("Made")

_DECODERS: dict[Any, msgspec.json.Decoder[Any]] = {}
_FIRST = threading.Lock()


def decoded(content: bytes | bytearray | memoryview | str | msgspec.Raw, kind: type[Made]) -> Made:
    """What JSON says, as a type; msgspec.DecodeError where it is none, or says something else."""
    made: Made = _decoder(kind).decode(content)
    return made


def converted(value: Any, kind: type[Made]) -> Made:
    """Dictionaries, lists and plain values as a type; msgspec.ValidationError where they are not such."""
    _decoder(kind)
    return msgspec.convert(value, kind)


def _decoder(kind: Any) -> msgspec.json.Decoder[Any]:
    found = _DECODERS.get(kind)
    if found is None:
        with _FIRST:
            found = _DECODERS.setdefault(kind, msgspec.json.Decoder(kind))
    return found
