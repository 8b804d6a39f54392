"""The kinds of step that can be put on a rail: their sentences, beginnings, commands and keys."""

from __future__ import annotations

from dataclasses import dataclass

from keen_trellis.desktop.sentence.choose import ChooseSentence
from keen_trellis.desktop.sentence.compute import ComputeSentence
from keen_trellis.desktop.sentence.distinct import DistinctSentence
from keen_trellis.desktop.sentence.fill import FillSentence
from keen_trellis.desktop.sentence.filter import FilterSentence
from keen_trellis.desktop.sentence.mend_text import (
    CombineSentence,
    CorrectSentence,
    MendTextSentence,
    SplitSentence,
)
from keen_trellis.desktop.sentence.on_rail import RailSentence
from keen_trellis.desktop.sentence.sort import SortSentence
from keen_trellis.desktop.sentence.summarise import SummariseSentence
from keen_trellis.flow.steps.choose import ChooseKind, ChooseSettings
from keen_trellis.flow.steps.combine import CombineKind, CombineSettings
from keen_trellis.flow.steps.compute import ComputeKind, ComputeSettings
from keen_trellis.flow.steps.correct import CorrectKind, CorrectSettings
from keen_trellis.flow.steps.distinct import DistinctKind, DistinctSettings
from keen_trellis.flow.steps.fill import FillKind, FillStepSettings
from keen_trellis.flow.steps.filter import FilterKind, FilterSettings
from keen_trellis.flow.steps.mend_text import MendTextKind, MendTextSettings
from keen_trellis.flow.steps.one_input import RailSettings
from keen_trellis.flow.steps.sort import SortKind, SortSettings
from keen_trellis.flow.steps.split import SplitKind, SplitSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseKind, SummariseSettings


@dataclass(frozen=True)
class RailStep:
    """One kind. begins: its settings when it is put there, without effect as far as that can be.

    said: the name of that edit.  text, keys: of the command.
    """

    kind: str
    sentence: type[RailSentence]
    begins: RailSettings
    said: str
    text: str
    keys: str


_ROWS = MeasureSettings("rows", "count")
RAIL_STEPS = (
    RailStep(ChooseKind.name, ChooseSentence, ChooseSettings(), "Choose fields", "&Choose fields", "C"),
    RailStep(FilterKind.name, FilterSentence, FilterSettings(), "Filter rows", "&Filter the rows", "F"),
    RailStep(
        ComputeKind.name,
        ComputeSentence,
        ComputeSettings(field="computed", expression="NULL"),
        "Compute a field",
        "Comp&ute a field",
        "U",
    ),
    RailStep(MendTextKind.name, MendTextSentence, MendTextSettings(), "Mend text", "&Mend text", "M"),
    RailStep(CorrectKind.name, CorrectSentence, CorrectSettings(), "Correct values", "Co&rrect values", "R"),
    RailStep(
        SplitKind.name,
        SplitSentence,
        SplitSettings(of="", between=" ", into=("part",)),
        "Split a text",
        "S&plit a text",
        "P",
    ),
    RailStep(
        CombineKind.name,
        CombineSentence,
        CombineSettings(of=(), into="combined"),
        "Combine fields",
        "Com&bine fields",
        "B",
    ),
    RailStep(FillKind.name, FillSentence, FillStepSettings(), "Fill gaps", "Fill &gaps", "G"),
    RailStep(SortKind.name, SortSentence, SortSettings(), "Sort rows", "&Sort the rows", "S"),
    RailStep(
        DistinctKind.name,
        DistinctSentence,
        DistinctSettings(),
        "Keep distinct rows",
        "Keep &distinct rows",
        "D",
    ),
    RailStep(
        SummariseKind.name,
        SummariseSentence,
        SummariseSettings(measures=(_ROWS,)),
        "Summarise",
        "Summarise by &keys",
        "K",
    ),
)
