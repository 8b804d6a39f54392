"""A flow as large as real ones get, over the demo's files: for pictures, for measuring and for tests."""

from pathlib import Path

from keen_trellis.core.join_type import JoinType
from keen_trellis.demo import files
from keen_trellis.flow import edits
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps.choose import ChooseSettings
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.one_input import RailSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.flow.steps.union import UnionSettings

_VENUE_JOIN = JoinSettings(
    links=(LinkSettings("Venue", "Venue"),), type=JoinType.LEFT_OUTER.value, bring=("Region",), name_all=True
)


def large_flow(folder: Path) -> Flow:
    """Fifteen rails: five of loans, each with steps and a join, ten that are joined or stacked to them."""
    loans = SourceSettings("workbook", str(folder / files.LOANS_FILE), "Loans")
    venues = SourceSettings("workbook", str(folder / files.LOANS_FILE), "Venues")
    objects = SourceSettings("sqlite", str(folder / files.REGISTRY_FILE), "objects")
    flow, ends = Flow(), []
    for number in range(5):
        flow, rail = edits.add_source(flow, loans, f"Loans {number + 1}")
        flow, filtered = _step(flow, rail, "filter", FilterSettings(conditions=(_filled("Venue"),)))
        flow, dear = _step(
            flow, filtered, "compute", ComputeSettings(field="dear", expression='"Agreed value" > 1000')
        )
        flow, venue = edits.add_source(flow, venues, f"Venues {number + 1}")
        flow, near = _step(flow, venue, "filter", FilterSettings(conditions=(_filled("Region"),)))
        flow, knot = edits.add_join(flow, Input(dear), Input(near), _VENUE_JOIN)
        flow, sorted_ = _step(flow, knot, "sort", SortSettings((SortKeySettings("Out date"),)))
        flow, thing = edits.add_source(flow, objects, f"Objects {number + 1}")
        flow, lent = _step(flow, thing, "choose", ChooseSettings(dropped=("part_of",)))
        joined = JoinSettings(
            links=(LinkSettings("Object no", "accession", ("case",)),),
            type=JoinType.LEFT_OUTER.value,
            bring=("title",),
        )
        flow, both = edits.add_join(flow, Input(sorted_), Input(lent), joined)
        flow, last = _step(flow, both, "filter", FilterSettings(conditions=(_filled("title"),)))
        ends.append(last)
    union = ends[0]
    for end in ends[1:]:
        flow, union = edits.add_union(flow, Input(union), Input(end), UnionSettings())
    return edits.add_output(flow, Input(union), OutputSettings("xlsx", str(folder / "All.xlsx")))[0]


def _filled(field: str) -> ConditionSettings:
    return ConditionSettings(field, "filled")


def _step(flow: Flow, behind: str, kind: str, settings: RailSettings) -> tuple[Flow, str]:
    return edits.insert_after(flow, Input(behind), kind, settings)
