"""The kinds of step, one module each."""

from keen_trellis.flow.kinds import Kinds
from keen_trellis.flow.steps.blend import BlendKind
from keen_trellis.flow.steps.join import JoinKind
from keen_trellis.flow.steps.output import OutputKind
from keen_trellis.flow.steps.source import SourceKind
from keen_trellis.flow.steps.summarise import SummariseKind

KINDS = Kinds([SourceKind(), JoinKind(), BlendKind(), SummariseKind(), OutputKind()])
