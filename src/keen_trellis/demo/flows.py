"""The demo's flows, built by the same edits that the window makes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import msgspec
import pyarrow as pa

from keen_trellis.core.filtering import Comparison
from keen_trellis.core.join_type import JoinType
from keen_trellis.core.table import Field
from keen_trellis.core.values import FieldType
from keen_trellis.demo import files, names
from keen_trellis.demo.flow_names import WINTER_LOANS
from keen_trellis.demo.season_report import MONTHS, SEASON_REPORT
from keen_trellis.flow import edits
from keen_trellis.flow.blend_proposal import grain_of
from keen_trellis.flow.file_format import save
from keen_trellis.flow.graph import Flow, Input, RunValue
from keen_trellis.flow.kinds import InputShape
from keen_trellis.flow.reconciling import reconcile
from keen_trellis.flow.shared_filters import Place, add_filter, change_filter
from keen_trellis.flow.source_settings import SourceSettings, TypedTable
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendMeasure, OtherSettings
from keen_trellis.flow.steps.compute import ComputeSettings
from keen_trellis.flow.steps.fill import FillSettings, FillStepSettings
from keen_trellis.flow.steps.filter import ConditionSettings, FilterSettings
from keen_trellis.flow.steps.join import JoinSettings, LikeSettings, LinkSettings, RungSettings
from keen_trellis.flow.steps.output import OutputSettings
from keen_trellis.flow.steps.sort import SortKeySettings, SortSettings
from keen_trellis.flow.steps.summarise import MeasureSettings, SummariseSettings
from keen_trellis.flow.steps.union import UnionSettings
from keen_trellis.flow.steps.walk import WalkSettings
from keen_trellis.flow.trust import accept

LOAN_REPORT = "Loan report.xlsx"


def winter_loans(folder: Path) -> Flow:
    """Every loan with its object and venue where known and the visitors of its month, for a report."""
    flow, loans = _loans_with_venues(folder)
    absent = FillSettings(fields=("title", "maker", "keeper"), of="not in the registry", gaps="no-partner")
    flow, filled = edits.insert_after(flow, Input(loans), "fill", FillStepSettings((absent,)))
    month = ComputeSettings(field="month", expression=grain_of("month", "Out date"))
    flow, dated = edits.insert_after(flow, Input(filled), "compute", month)
    visitors = SourceSettings("workbook", str(folder / files.VISITORS_FILE), "Visitors")
    flow, visits = edits.add_source(flow, visitors, "Visitors")
    links = (
        LinkSettings("Venue", "Venue"),
        LinkSettings("month", grain_of("month", "Month"), right_is_expression=True),
    )
    measures = (BlendMeasure("sum of Visitors", "sum", "Visitors"),)
    flow, blended = edits.add_blend(flow, Input(dated), Input(visits), OtherSettings(links, measures))
    flow, _ = edits.add_output(
        flow, Input(blended), OutputSettings("xlsx", str(folder / LOAN_REPORT), sheet="Loans")
    )
    return edits.add_file(flow, str(folder / files.RETURNS_FILE))


def cost_per_visitor(folder: Path) -> Flow:
    """What couriers cost and how many visitors came for the loans of one region: a blend, a shared filter."""
    flow, loans = _loans_with_venues(folder)
    flow, courier = edits.add_source(
        flow, SourceSettings("folder", str(folder / files.COURIER_FOLDER)), "Couriers"
    )
    visitors = SourceSettings("workbook", str(folder / files.VISITORS_FILE), "Visitors")
    flow, visits = edits.add_source(flow, visitors, "Visitors")

    def by(mine: str, theirs: str, their_date: str) -> tuple[LinkSettings, ...]:
        months = (grain_of("month", "Out date"), grain_of("month", their_date))
        expressions = LinkSettings(*months, left_is_expression=True, right_is_expression=True)
        return LinkSettings(mine, theirs), expressions

    costs = OtherSettings(
        by("Short name", "venue", "date"), (BlendMeasure("sum of cost", "sum", "cost", "spread"),)
    )
    came = OtherSettings(by("Venue", "Venue", "Month"), (BlendMeasure("sum of Visitors", "sum", "Visitors"),))
    flow, blend = edits.add_blend(flow, Input(loans), Input(courier), costs)
    flow, blend = edits.add_blend(flow, Input(blend), Input(visits), came)
    region = Place(loans, Input(loans), "Region", FieldType.TEXT, loans)
    flow, shared = add_filter(flow, "Region", [region], Comparison.ONE_OF)
    flow = change_filter(flow, shared, values=("North",))
    output = OutputSettings("xlsx", str(folder / "Cost per visitor.xlsx"), sheet="North")
    return edits.add_output(flow, Input(blend), output)[0]


def _loans_with_venues(folder: Path) -> tuple[Flow, str]:
    """Every loan with its object and its venue where known; the flow and the last knot."""
    loans_file, registry = str(folder / files.LOANS_FILE), str(folder / files.REGISTRY_FILE)
    flow, loans = edits.add_source(Flow(), SourceSettings("workbook", loans_file, "Loans"), "Loans")
    flow, objects = edits.add_source(flow, SourceSettings("sqlite", registry, "objects"), "Objects")
    flow, knot = edits.add_join(
        flow,
        Input(loans),
        Input(objects),
        JoinSettings(
            links=(LinkSettings("Object no", "accession", ("case", "outer-spaces")),),
            type=JoinType.LEFT_OUTER.value,
            bring=("title", "maker", "keeper", "made"),
        ),
    )
    flow, venues = edits.add_source(flow, SourceSettings("workbook", loans_file, "Venues"), "Venues")
    flow, second = edits.add_join(
        flow,
        Input(knot),
        Input(venues),
        JoinSettings(
            links=(LinkSettings("Venue", "Venue"),),
            type=JoinType.LEFT_OUTER.value,
            bring=("Short name", "Region", "Contact"),
        ),
    )
    return edits.rename(flow, second, "Loans with Objects and Venues"), second


def sets(folder: Path) -> Flow:
    """The registry joined with itself: every part of a set with the whole, and the parts of each set."""
    registry = SourceSettings("sqlite", str(folder / files.REGISTRY_FILE), "objects")
    flow, parts = edits.add_source(Flow(), registry, "Parts")
    flow, whole = edits.add_source(flow, registry, "Sets")
    filled = FilterSettings(conditions=(ConditionSettings("part_of", "filled"),))
    flow, only = edits.insert_after(flow, Input(parts), "filter", filled)
    joined = JoinSettings(
        links=(LinkSettings("part_of", "accession"),),
        type=JoinType.LEFT_OUTER.value,
        keep=("accession", "title", "part_of"),
        bring=("title", "keeper"),
        guards=("all-left-match",),
    )
    flow, knot = edits.add_join(flow, Input(only), Input(whole), joined)
    measures = (
        MeasureSettings("set", "first", "title of Sets"),
        MeasureSettings("parts", "count"),
        MeasureSettings("titles", "listing", "title"),
    )
    summary = SummariseSettings(keys=("part_of",), measures=measures)
    flow, groups = edits.insert_after(flow, Input(knot), "summarise", summary)
    flow, ordered = edits.insert_after(
        flow, Input(groups), "sort", SortSettings((SortKeySettings("parts", descending=True),))
    )
    output = OutputSettings("xlsx", str(folder / "Sets.xlsx"), sheet="Sets", guards=("one-row-per:part_of",))
    return edits.add_output(flow, Input(ordered), output)[0]


def cover(folder: Path) -> Flow:
    """Every loan with its rate, by the band of its value and the period of its date, and its premium."""
    loans_file, rates_file = str(folder / files.LOANS_FILE), str(folder / files.RATES_FILE)
    flow, loans = edits.add_source(Flow(), SourceSettings("workbook", loans_file, "Loans"), "Loans")
    flow, rates = edits.add_source(flow, SourceSettings("text", rates_file), "Rates")
    links = (
        LinkSettings("Agreed value", "value from", operator=">="),
        LinkSettings("Agreed value", "value to", operator="<="),
        LinkSettings("Out date", "valid from", operator=">="),
        LinkSettings("Out date", "valid to", operator="<="),
    )
    joined = JoinSettings(links=links, type=JoinType.LEFT_OUTER.value, bring=("rate per mille",))
    flow, knot = edits.add_join(flow, Input(loans), Input(rates), joined)
    premium = ComputeSettings(field="premium", expression='"Agreed value" * "rate per mille" / 1000')
    flow, priced = edits.insert_after(flow, Input(knot), "compute", premium)
    output = OutputSettings("xlsx", str(folder / "Cover.xlsx"), sheet="Cover")
    return edits.add_output(flow, Input(priced), output)[0]


def all_couriers(folder: Path) -> Flow:
    """The courier logs of a folder and trips that were phoned in, summed up by venue and month."""
    logs = str(folder / files.COURIER_FOLDER)
    flow, courier = edits.add_source(Flow(), SourceSettings("folder", logs), "Couriers")
    phoned = TypedTable(
        ("venue", "date", "crates", "cost"),
        (("Pier", "2026-03-04", "2", "61.50"), ("Ebbrick", "2026-11-19", "1", "38.00")),
    )
    flow, typed = edits.add_source(flow, SourceSettings("typed", typed=phoned), "Phoned in")
    flow, trips = edits.add_union(flow, Input(courier), Input(typed), UnionSettings(rail_field="from"))
    flow = edits.rename(flow, trips, "All trips")
    measures = (
        MeasureSettings("trips", "count"),
        MeasureSettings("crates", "sum", "crates"),
        MeasureSettings("cost", "sum", "cost"),
    )
    month = ComputeSettings(field="month", expression="EXTRACT(MONTH FROM date)")
    flow, dated = edits.insert_after(flow, Input(trips), "compute", month)
    summary = SummariseSettings(keys=("venue", "month"), measures=measures)
    flow, groups = edits.insert_after(flow, Input(dated), "summarise", summary)
    keys = (SortKeySettings("venue"), SortKeySettings("month"))
    flow, ordered = edits.insert_after(flow, Input(groups), "sort", SortSettings(keys))
    output = OutputSettings(
        "xlsx", str(folder / "All couriers.xlsx"), sheet="Trips", guards=("one-row-per:venue, month",)
    )
    return edits.add_output(flow, Input(ordered), output)[0]


def returns_desk(folder: Path) -> Flow:
    """The loans that came back against the returns desk's own list: on one side only, or other dates."""
    loans_file, returns = str(folder / files.LOANS_FILE), str(folder / files.RETURNS_FILE)
    flow, loans = edits.add_source(Flow(), SourceSettings("workbook", loans_file, "Loans"), "Loans")
    flow, desk = edits.add_source(flow, SourceSettings("text", returns), "Returns desk")
    back = FilterSettings(conditions=(ConditionSettings("Back date", "filled"),))
    flow, came_back = edits.insert_after(flow, Input(loans), "filter", back)
    shapes = (
        InputShape("Loans", (Field("Loan no", pa.large_string()), Field("Back date", pa.date32()))),
        InputShape("Returns desk", (Field("loan no", pa.large_string()), Field("returned", pa.date32()))),
    )
    links = (LinkSettings("Loan no", "loan no"),)
    pairs = (("Back date", "returned"),)
    flow, last = reconcile(flow, Input(came_back), Input(desk), shapes, links, pairs)
    output = OutputSettings("xlsx", str(folder / "Returns desk.xlsx"), sheet="What disagrees")
    return edits.add_output(flow, Input(last), output)[0]


def season_report(folder: Path) -> Flow:
    """The loans of each month, put into the table of a workbook that a chart hangs on."""
    source = SourceSettings("workbook", str(folder / files.LOANS_FILE), "Loans")
    flow, loans = edits.add_source(Flow(), source, "Loans")
    month = ComputeSettings(field="month", expression=grain_of("month", "Out date"))
    flow, dated = edits.insert_after(flow, Input(loans), "compute", month)
    measures = (MeasureSettings("loans", "count"), MeasureSettings("agreed value", "sum", "Agreed value"))
    by_month = SummariseSettings(keys=("month",), measures=measures)
    flow, months = edits.add_step(flow, "summarise", "Months", [Input(dated)], by_month)
    order = SortSettings((SortKeySettings("month"),))
    flow, last = edits.insert_after(flow, Input(months), "sort", order)
    output = OutputSettings("xlsx", str(folder / SEASON_REPORT), table=MONTHS)
    return edits.add_output(flow, Input(last), output)[0]


def region_by_region(folder: Path) -> Flow:
    """The loans of one region since a day, in a workbook of its own: each run may say which, since when."""
    flow, loans = _loans_with_venues(folder)
    regions = tuple(names.REGIONS)
    values = (
        RunValue("region", value=regions[0], said="whose loans are wanted", choices=regions),
        RunValue("since", "date", files.RUNS_SINCE[0], "the first day that they went out"),
    )
    flow = msgspec.structs.replace(flow, values=values)
    wanted = FilterSettings(
        conditions=(
            ConditionSettings("Region", Comparison.ONE_OF.value, (":region",)),
            ConditionSettings("Out date", Comparison.AT_LEAST.value, (":since",)),
        )
    )
    flow, chosen = edits.insert_after(flow, Input(loans), "filter", wanted)
    output = OutputSettings("xlsx", str(folder / "Loans of :region.xlsx"), sheet=":region")
    return edits.add_output(flow, Input(chosen), output)[0]


def labels(folder: Path) -> Flow:
    """The makers on labels that were typed by hand: equal names first, those left by how alike they are."""
    typed, registry = str(folder / files.LABELS_FILE), str(folder / files.REGISTRY_FILE)
    flow, shown = edits.add_source(Flow(), SourceSettings("text", typed), "Labels")
    flow, makers = edits.add_source(flow, SourceSettings("sqlite", registry, "makers"), "Makers")
    any_case = LinkSettings("maker", "maker", ("case", "outer-spaces"))
    alike = LinkSettings("maker", "maker", like=LikeSettings(at_least=85, best=True))
    joined = JoinSettings(
        links=(LinkSettings("maker", "maker"),),
        type=JoinType.LEFT_OUTER.value,
        both_links=True,
        rungs=(RungSettings(links=(any_case,)), RungSettings(links=(alike,), review=True)),
        matched_by=True,
        score=True,
    )
    flow, knot = edits.add_join(flow, Input(shown), Input(makers), joined)
    output = OutputSettings("xlsx", str(folder / "Labels.xlsx"), sheet="Labels")
    return edits.add_output(flow, Input(knot), output)[0]


def whole_sets(folder: Path) -> Flow:
    """Every part of a set, and of its parts, with how deep it is in which set and who keeps the whole."""
    registry = SourceSettings("sqlite", str(folder / files.REGISTRY_FILE), "objects")
    flow, objects = edits.add_source(Flow(), registry, "Objects")
    walk = WalkSettings(part="part_of", whole="accession", bring=("title", "keeper"), top_down=True)
    flow, walked = edits.insert_after(flow, Input(objects), "walk", walk)
    parts = FilterSettings(conditions=(ConditionSettings("level", Comparison.AT_LEAST.value, ("1",)),))
    flow, last = edits.insert_after(flow, Input(walked), "filter", parts)
    output = OutputSettings("xlsx", str(folder / "Whole sets.xlsx"), sheet="Parts")
    return edits.add_output(flow, Input(last), output)[0]


def guarded_loans(folder: Path) -> Flow:
    """The winter loans with guards that do not hold: nothing behind them is written."""
    flow = winter_loans(folder)
    knot = next(step for step in flow.steps if step.kind == "join")
    settings = msgspec.structs.replace(
        KINDS.settings(knot), guards=("all-left-match", "right-key-unique", "left-unmatched<=49")
    )
    return edits.change_settings(flow, knot.id, settings)


FLOWS: dict[str, Callable[[Path], Flow]] = {
    WINTER_LOANS: winter_loans,
    "Cost per visitor.trellis": cost_per_visitor,
    "Sets.trellis": sets,
    "Cover.trellis": cover,
    "All couriers.trellis": all_couriers,
    "Returns desk.trellis": returns_desk,
    "Season report.trellis": season_report,
    "Region by region.trellis": region_by_region,
    "Labels.trellis": labels,
    "Whole sets.trellis": whole_sets,
    "Guarded loans.trellis": guarded_loans,
}


def write_flows(folder: Path) -> list[Path]:
    """Save every demo flow beside the data in `folder`; their paths."""
    written = []
    for name, make in FLOWS.items():
        written.append(folder / name)
        flow = make(folder.absolute())
        save(flow, written[-1], KINDS)
        accept(flow, KINDS, folder)
    return written
