"""What a target says that is written out: a file by its ending, and where in a workbook the rows go."""

from __future__ import annotations

from pathlib import Path

import msgspec

from keen_trellis.core.errors import OutputError, UsageError
from keen_trellis.databases import secrets
from keen_trellis.flow.addresses import is_address, shown_address
from keen_trellis.flow.cell_names import read_cell
from keen_trellis.flow.steps.output import TARGETS, OutputSettings, ending_of

_SQLITE = "sqlite:"
_ENDINGS = {
    ending: (writer, delimiter)
    for writer, target in TARGETS.items()
    for ending, delimiter in target.endings.items()
}


def settings_for(path: Path, *, harmless: bool = True) -> OutputSettings:
    """The settings of an output to `path`, by its extension; UsageError for one that is not known."""
    ending, packed = ending_of(path)
    if ending not in _ENDINGS or (packed and not TARGETS[_ENDINGS[ending][0]].packable):
        raise UsageError(
            f"“{path.name}” does not say what to write.",
            remedy=f"End its name in one of: {', '.join(_ENDINGS)}.",
        )
    writer, delimiter = _ENDINGS[ending]
    # Only text can be harmful, so that nothing else is asked whether it is.
    harmless = harmless or not TARGETS[writer].is_text
    return OutputSettings(writer, str(path.absolute()), delimiter=delimiter, harmless=harmless)


def read_target(text: str, *, harmless: bool = True, is_sheet: bool = False) -> OutputSettings:
    """The settings of an output to FILE, FILE#SHEET, FILE#SHEET!B4, or FILE#TABLE, where the workbook has a
    table or a named range of that name; to sqlite:FILE#TABLE, or to a database's ADDRESS#SCHEMA.TABLE.

    is_sheet: whether FILE#NAME can only mean a sheet. UsageError if it says nothing that is known;
    SourceError for an address that is none.
    """
    if is_address(text):
        return _of_server(text)
    if text.lower().startswith(_SQLITE):
        place, _, table = text[len(_SQLITE) :].rpartition("#")
        if not place or not table:
            raise UsageError(f"“{text}” names no table.", remedy=f"Write it like {_SQLITE}FILE#TABLE.")
        return OutputSettings("database", str(Path(place).absolute()), table=table)
    place, within = split_target(text)
    settings = settings_for(Path(place), harmless=harmless)
    if not within:
        return settings
    if settings.writer == "database":
        return msgspec.structs.replace(settings, table=within)
    if not settings.target.has_sheet:
        raise UsageError(
            f"{Path(place).name} has no sheets, so “#{within}” says nothing.", remedy="Leave it out."
        )
    if "cell" not in settings.target.uses:
        return msgspec.structs.replace(settings, sheet=_plain(within))
    sheet, mark, cell = within.rpartition("!")
    if mark and read_cell(cell):
        return msgspec.structs.replace(settings, sheet=_plain(sheet), cell=cell.replace("$", "").upper())
    if is_sheet:
        return msgspec.structs.replace(settings, sheet=_plain(within))
    from keen_trellis.outputs.workbook.writer import table_named

    try:
        known = table_named(Path(place), within)
    except OutputError:
        known = ""  # what is wrong with the workbook is said when it is written
    if known:
        return msgspec.structs.replace(settings, table=known)
    return msgspec.structs.replace(settings, sheet=_plain(within))


def places_in(path: Path) -> tuple[list[str], list[tuple[str, int]]]:
    """The sheets of a workbook that can be written to, and its tables with their rows; none if it is none."""
    from keen_trellis.outputs.workbook.writer import contents_of

    try:
        return contents_of(path)
    except (OSError, OutputError):
        return [], []  # what is wrong with it is said when it is written


def _of_server(text: str) -> OutputSettings:
    """An output to a table of a server; a password in its address is taken out and kept for this run."""
    place, _, table = text.rpartition("#")
    if not place or not table:
        raise UsageError(f"{shown_address(text)} names no table.", remedy="Add #schema.table to the address.")
    secrets.name_place(place)
    return OutputSettings("database", secrets.take_out_password(place), table=table)


def split_target(text: str) -> tuple[str, str]:
    """The file that a target names, and what stands behind its sign of a number; "" where nothing does."""
    place, rest = "", text
    while "#" in rest:
        part, _, rest = rest.partition("#")
        place += part
        if ending_of(Path(place))[0] in _ENDINGS:
            return place, rest
        place += "#"
    return text, ""


def _plain(sheet: str) -> str:
    """The name of a sheet without the quotation that formulas put around it."""
    if len(sheet) > 2 and sheet[0] == sheet[-1] == "'":
        return sheet[1:-1].replace("''", "'")
    return sheet
