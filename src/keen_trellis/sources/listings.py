"""Remembers what was found in files, as long as these stay as they were."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from pathlib import Path
from typing import Any, TypeVar

from keen_trellis.sources.content import is_settled, stamp_of

Found = TypeVar("Found")
Stamps = tuple[tuple[int, ...], ...]


class Listings:
    """Safe between threads: what two look for at once is the same."""

    def __init__(self) -> None:
        self._known: dict[Hashable, tuple[Stamps, Any]] = {}

    def found(self, key: Hashable, files: Sequence[Path] | None, look: Callable[[], Found]) -> Found:
        """What `look` finds in some files, looked for only if they were touched since the last time.

        files: None where they do not tell, as of a server: then it is looked for each time.
        """
        stamps = _stamps(files)
        known = self._known.get(key)
        if known is not None and known[0] == stamps:
            found: Found = known[1]
            return found
        made = look()
        # What was written to a moment ago may be written to again within the same tick of the clock.
        if stamps and stamps == _stamps(files) and all(map(is_settled, stamps)):
            self._known[key] = (stamps, made)
        return made


def _stamps(files: Sequence[Path] | None) -> Stamps | None:
    try:
        return tuple(stamp_of(file) for file in files) if files is not None else None
    except OSError:
        return None
