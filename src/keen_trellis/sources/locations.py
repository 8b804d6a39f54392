"""Tells from where a source lies which reader reads it: a file, a folder, a pattern, or a database's
address.
"""

from __future__ import annotations

import os
import re
from pathlib import Path

from keen_trellis.core.errors import SourceError
from keen_trellis.flow.addresses import is_address, parse
from keen_trellis.flow.patterns import has_signs
from keen_trellis.flow.plain_text import is_sayable
from keen_trellis.flow.remark import Remark
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.sources.recognise import JSON, LINES, is_json_line, recognise

DATABASE, FOLDER, TYPED, CALENDAR = "database", "folder", "typed", "calendar"
_OTHER_ADDRESS = re.compile(r"(https?|ftps?|sftp|ssh|s3|gs|azure|abfss?|webdavs?|smb|file)://", re.IGNORECASE)


def is_pattern(place: str) -> bool:
    """Whether a place is a pattern of file names and no file that is called so."""
    return has_signs(place) and not os.path.exists(place)  # noqa: PTH110 - a name may be too long


def reader_for(place: str) -> tuple[str, str]:
    """The place written out, without a password, and the name of the reader for it.

    SourceError if there is nothing to be read.
    """
    if not is_sayable(place):
        raise SourceError(
            "Its name is not UTF-8, so that no flow could say it.", where=place, remedy="Rename it."
        )
    if _OTHER_ADDRESS.match(place):
        raise SourceError(
            "It is an address of the web or of a store of files, and the program reads local files and "
            "databases.",
            where=place,
            remedy="Download the file, and open it from its folder.",
        )
    if is_address(place):
        address = parse(place)[0]
        if not address.is_file:
            return str(address), DATABASE
        place = address.database
    whole = str(Path(place).expanduser().absolute())
    if is_pattern(whole) or os.path.isdir(whole):  # noqa: PTH112 - a name may be too long
        return whole, FOLDER
    return whole, recognise(Path(whole)).reader


def recognised_as(settings: SourceSettings) -> tuple[Remark, ...]:
    """What is to be said of a file whose name says something else; SourceError if it is of another kind
    than it was.
    """
    found = recognise(Path(settings.path))
    # One object on a single line is a file of JSON lines that has one.
    is_a_line = settings.reader == LINES and found.reader == JSON and is_json_line(Path(settings.path))
    if found.reader != settings.reader and not is_a_line:
        raise SourceError(
            f"It was read as {settings.reader}, but holds a {found.content} now.",
            where=settings.path,
            remedy="Open the file anew.",
        )
    if not found.mislabelled:
        return ()
    said = f"its name says {found.mislabelled}, but it is {found.content}, and read as such"
    return (Remark(said, doubtful=True),)
