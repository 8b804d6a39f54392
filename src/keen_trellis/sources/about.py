"""What is known of a table besides its rows. Loads nothing large: the workbook's child process starts with
it.
"""

from __future__ import annotations

import msgspec

from keen_trellis.flow.remark import ForeignKey, Raw, Remark
from keen_trellis.flow.source_settings import Settled

# A name that no source gives to a field: the column with the number of each row.
ROW_NUMBERS = "\0row number"
ROWS_FILE = "rows.arrow"


class Listing(msgspec.Struct, frozen=True):
    """One table that a source holds.

    sort: sheet, block, named range, table, view, file or files.  hidden: its sheet is.  title: what people
    call it, where that is not its name: the title above a block, the folder of a sheet in many workbooks.
    """

    name: str
    sort: str
    hidden: bool = False
    title: str = ""

    @property
    def called(self) -> str:
        """What to call it."""
        return self.title or self.name


class About(msgspec.Struct, frozen=True, omit_defaults=True):
    """What is known of the rows of a table besides the rows. Kept beside them in the cache.

    first_row: the number of the first row, if no column has the number of each.  stretches: where the rows of
    each file of several begin.  digits: how many digits decimal fields need.  unread: fields that are in the
    source and were not read, since they are left out.
    """

    file: str = ""
    table: str = ""
    first_row: int = 1
    digits: dict[str, int] = {}
    stretches: tuple[tuple[int, str], ...] = ()
    remarks: tuple[Remark, ...] = ()
    raw: Raw = Raw()
    key: tuple[str, ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    settled: Settled = Settled()
    unread: tuple[str, ...] = ()
