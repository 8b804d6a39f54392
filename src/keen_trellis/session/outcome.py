"""What is known of a step, a table or a file of the open flow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import msgspec

from keen_trellis.core.errors import SourceError, TrellisError
from keen_trellis.core.table import Table
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.guarding import Checked
from keen_trellis.flow.kinds import Figures, InputShape, StepResult
from keen_trellis.flow.remark import Remark
from keen_trellis.sources.library import FileContent


def _nothing() -> None:
    """Nothing is known."""


@dataclass(frozen=True)
class Outcome:
    """What a step came to: its figures, or an error.

    step: the step as it was then; while a newer one is being computed, this is the latest there is.
    fingerprint: what tells its result apart, inputs_told those of its inputs.  partial: only the first rows;
    the others are being read.
    """

    figures: Figures | None = None
    error: TrellisError | None = None
    step: Step | None = None
    fingerprint: str = ""
    inputs_told: tuple[str, ...] = ()
    inputs: tuple[InputShape, ...] = ()
    remarks: tuple[Remark, ...] = ()
    seconds: float = field(default=0.0, compare=False)
    guards: tuple[Checked, ...] = ()
    partial: bool = False
    _result: Callable[[], StepResult | None] = _nothing
    _tables: tuple[Callable[[], Table | None], ...] = ()

    @property
    def result(self) -> StepResult | None:
        """The result, as long as it is held by whoever made it: of what is selected it is."""
        return self._result()

    @property
    def tables(self) -> tuple[Table, ...]:
        """The rows of each input, as long as they are held; none where they could not be found out."""
        found = tuple(table for entry in self._tables if (table := entry()) is not None)
        return found if len(found) == len(self._tables) else ()

    @property
    def is_held(self) -> bool:
        """Whether its rows, and those of its inputs, are still there."""
        has_result = self.figures is None or self.result is not None
        return has_result and len(self.tables) == len(self._tables)

    @classmethod
    def of_table(cls, table: Table, remarks: tuple[Remark, ...], **more: object) -> Outcome:
        """Of a table that is looked at without a step; the outcome holds it."""
        result = StepResult({ROWS: table})
        return cls(Figures.of(result, ()), remarks=remarks, _result=lambda: result, **more)  # type: ignore[arg-type]


class FileState(msgspec.Struct):
    """What is known of a file in the margin: its content, or why it cannot be read, or neither yet."""

    content: FileContent | None = None
    error: TrellisError | None = None

    @property
    def is_known(self) -> bool:
        return self.content is not None or self.error is not None


def stopped() -> TrellisError:
    """What is said of what the user stopped before it was known."""
    return SourceError("Reading it was stopped.", remedy="Try again.")
