"""One file for each value of a field: what they are called, and which rows each has."""

from __future__ import annotations

import glob
import re
from pathlib import Path

import msgspec

from keen_trellis.core.parting import rows_by_value
from keen_trellis.core.table import ChosenRows
from keen_trellis.core.task import Task
from keen_trellis.flow.steps.output import OutputSettings, ending_of
from keen_trellis.outputs.writing import Part

_UNSAFE = re.compile(r'[\x00-\x1f\x7f/\\:*?"<>|]+')
_LONGEST = 80  # characters of a value in a name
_BLANK = "blank"


def parted(part: Part, task: Task) -> list[Part]:
    """The output itself, or one for each value of the field that it is split by. DataError if there are too
    many.
    """
    settings = part.settings
    if not settings.split_by:
        return [part]
    made: list[Part] = []
    taken: set[str] = set()
    for value, rows in rows_by_value(part.table, settings.split_by, task):
        name = _free(safe_name(value), taken)
        taken.add(name.casefold())
        before, after = _around(settings)
        path = str(Path(settings.path).with_name(f"{before} {name}{after}"))
        alone = msgspec.structs.replace(settings, path=path, split_by="")
        made.append(Part(ChosenRows(part.table, rows), alone))
    return made


def files_there(settings: OutputSettings) -> list[Path]:
    """Files that are there already and called like those of an output that is split."""
    before, after = _around(settings)
    return sorted(Path(settings.path).parent.glob(f"{glob.escape(before)} *{glob.escape(after)}"))


def safe_name(value: str | None) -> str:
    """A value as it stands in the name of a file."""
    text = _UNSAFE.sub("_", value or "").strip(" .")[:_LONGEST].strip(" .")
    return text or _BLANK


def _around(settings: OutputSettings) -> tuple[str, str]:
    """What stands before and behind a value in the name of its file: the name, and the ending."""
    path = Path(settings.path)
    ending, packing = ending_of(path)
    length = len(ending) + (len(path.suffix) if packing else 0)
    return path.name[: len(path.name) - length], path.name[len(path.name) - length :]


def _free(name: str, taken: set[str]) -> str:
    found, number = name, 2
    while found.casefold() in taken:
        found, number = f"{name} {number}", number + 1
    return found
