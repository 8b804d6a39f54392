"""What is known of a step, a table or a file of the open flow."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from keen_trellis.core.blending import Blended
from keen_trellis.core.derived import DerivedTable
from keen_trellis.core.errors import SourceError, TrellisError
from keen_trellis.core.filling import FilledTable
from keen_trellis.core.match import MatchCounts
from keen_trellis.core.table import Field, Table
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.guarding import Checked
from keen_trellis.flow.kinds import InputShape, StepResult
from keen_trellis.flow.remark import Remark
from keen_trellis.sources.library import FileContent


@dataclass(frozen=True)
class BlendFigures:
    """What is counted of a blend. rows: of the main table; nothing: those of them that found nothing.

    found: for each other table how many rows found some of its groups; unused: how many groups no row uses;
    times: on how many rows each group stands, on average.
    """

    rows: int
    nothing: int
    found: tuple[int, ...]
    unused: tuple[int, ...]
    times: tuple[float, ...]

    @classmethod
    def of(cls, blended: Blended) -> BlendFigures:
        others = blended.others
        return cls(
            blended.whole.rows,
            blended.found_nothing,
            tuple(entry.rows_found for entry in others),
            tuple(len(entry.unused_rows) for entry in others),
            tuple(entry.times for entry in others),
        )


@dataclass(frozen=True)
class Figures:
    """What is counted of a result: it stays known when the rows themselves are let go of.

    rows: by port.  inputs: rows of each input.  still_open: by field the gaps that filling left.  lost: what
    computing made blank, by what was the matter.  passed_on: the rows are those of an input, unchanged.
    """

    rows: Mapping[str, int]
    inputs: tuple[int, ...]
    fields: tuple[Field, ...]
    counts: MatchCounts | None = None
    blend: BlendFigures | None = None
    disagreements: Mapping[str, int] = field(default_factory=dict)
    open_cells: Mapping[str, int] = field(default_factory=dict)
    still_open: Mapping[str, int] = field(default_factory=dict)
    lost: Mapping[str, int] = field(default_factory=dict)
    passed_on: bool = False

    @classmethod
    def of(cls, result: StepResult, tables: Sequence[Table]) -> Figures:
        rows = result.rows
        return cls(
            {port: table.rows for port, table in result.ports.items()},
            tuple(table.rows for table in tables),
            rows.fields,
            result.match.counts if result.match is not None else None,
            BlendFigures.of(result.blended) if result.blended is not None else None,
            result.disagreements,
            result.open_cells,
            rows.still_open if isinstance(rows, FilledTable) else {},
            rows.counts if isinstance(rows, DerivedTable) else {},
            any(rows is table for table in tables),
        )


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


@dataclass
class FileState:
    """What is known of a file in the margin: its content, or why it cannot be read, or neither yet."""

    content: FileContent | None = None
    error: TrellisError | None = None

    @property
    def is_known(self) -> bool:
        return self.content is not None or self.error is not None


def stopped() -> TrellisError:
    """What is said of what the user stopped before it was known."""
    return SourceError("Reading it was stopped.", remedy="Try again.")
