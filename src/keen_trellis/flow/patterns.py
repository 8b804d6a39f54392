"""Patterns of file names: signs that stand for any name, and braces with names to choose from."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence

from keen_trellis.core.errors import UsageError

_BRACES = re.compile(r"\{([^{}]*,[^{}]*)\}")
_PICKED = re.compile(r"(.*)/\{([^{}*?\[]*,[^{}*?\[]*)\}")
SIGNS = "*?["
_FORBIDDEN = set("{},*?[]")


def has_signs(place: str) -> bool:
    """Whether a place reads like a pattern."""
    return any(sign in place for sign in SIGNS) or _BRACES.search(place) is not None


def alternatives(pattern: str) -> list[str]:
    """A pattern of files without the braces in it: logs/{may,june}.csv is logs/may.csv and logs/june.csv."""
    found = _BRACES.search(pattern)
    if found is None:
        return [pattern]
    before, after = pattern[: found.start()], pattern[found.end() :]
    return [whole for part in found[1].split(",") for whole in alternatives(f"{before}{part}{after}")]


def picked_together(paths: Sequence[str]) -> str:
    """The pattern that means just these files, read as one. UsageError where their names forbid that."""
    if len(paths) < 2:
        return paths[0] if paths else ""
    folder = os.path.commonpath([os.path.dirname(path) for path in paths])  # noqa: PTH120
    names = sorted(os.path.relpath(path, folder) for path in paths)
    odd = next((name for name in names if set(name) & _FORBIDDEN), "")
    if odd:
        raise UsageError(
            f"“{odd}” cannot be picked with others: its name has one of {' '.join(sorted(_FORBIDDEN))}.",
            remedy="Rename it, or put the files into a folder of their own and open that.",
        )
    return f"{folder.rstrip('/')}/{{{','.join(names)}}}"


def shown_name(path: str) -> str:
    """What a file, folder or pattern is called; files that were picked together are counted."""
    name = path.rstrip("/").rpartition("/")[2] or path
    picked = _PICKED.fullmatch(path)
    if picked is None:
        return name
    return f"{picked[2].count(',') + 1:,} files of {picked[1].rpartition('/')[2] or '/'}"
