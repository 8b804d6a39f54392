"""The kinds of step, one module each."""

from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.steps.blend import BlendKind
from keen_trellis.flow.steps.distinct import DistinctKind
from keen_trellis.flow.steps.fill import FillKind
from keen_trellis.flow.steps.filter import FilterKind
from keen_trellis.flow.steps.join import JoinKind
from keen_trellis.flow.steps.output import OutputKind
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.flow.steps.summarise import SummariseKind

KINDS = Kinds(
    [
        SourceKind(),
        FilterKind(),
        FillKind(),
        DistinctKind(),
        JoinKind(),
        BlendKind(),
        SummariseKind(),
        OutputKind(),
    ]
)
