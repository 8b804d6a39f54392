"""The kinds of step, one module each."""

from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.steps.beside import BesideKind
from keen_trellis.flow.steps.blend import BlendKind
from keen_trellis.flow.steps.choose import ChooseKind
from keen_trellis.flow.steps.columns_to_rows import ColumnsToRowsKind
from keen_trellis.flow.steps.combine import CombineKind
from keen_trellis.flow.steps.compute import ComputeKind
from keen_trellis.flow.steps.correct import CorrectKind
from keen_trellis.flow.steps.distinct import DistinctKind
from keen_trellis.flow.steps.fill import FillKind
from keen_trellis.flow.steps.filter import FilterKind
from keen_trellis.flow.steps.first import FirstKind
from keen_trellis.flow.steps.join import JoinKind
from keen_trellis.flow.steps.mend_text import MendTextKind
from keen_trellis.flow.steps.number_rows import NumberRowsKind
from keen_trellis.flow.steps.output import OutputKind
from keen_trellis.flow.steps.rows_to_columns import RowsToColumnsKind
from keen_trellis.flow.steps.shared_filter import SharedFilterKind
from keen_trellis.flow.steps.sort import SortKind
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.flow.steps.split import SplitKind
from keen_trellis.flow.steps.split_rows import SplitRowsKind
from keen_trellis.flow.steps.summarise import SummariseKind
from keen_trellis.flow.steps.union import UnionKind
from keen_trellis.flow.steps.walk import WalkKind

KINDS = Kinds(
    [
        SourceKind(),
        ChooseKind(),
        FilterKind(),
        ComputeKind(),
        MendTextKind(),
        CorrectKind(),
        SplitKind(),
        SplitRowsKind(),
        ColumnsToRowsKind(),
        RowsToColumnsKind(),
        CombineKind(),
        FillKind(),
        SortKind(),
        DistinctKind(),
        FirstKind(),
        NumberRowsKind(),
        WalkKind(),
        UnionKind(),
        BesideKind(),
        JoinKind(),
        BlendKind(),
        SummariseKind(),
        SharedFilterKind(),
        OutputKind(),
    ]
)
