"""What is selected in the trellis."""

from __future__ import annotations

import msgspec

from keen_trellis.flow.graph import ROWS


class Selection(msgspec.Struct, frozen=True):
    """What is selected: a port of a step, a table of a file that no rail begins at (a stump), a slat, or a
    run value by its name.
    """

    step: str = ""
    port: str = ROWS
    path: str = ""
    table: str = ""
    slat: str = ""
    value: str = ""

    @property
    def is_stump(self) -> bool:
        return bool(self.path)

    def __bool__(self) -> bool:
        return bool(self.step or self.path or self.slat or self.value)
