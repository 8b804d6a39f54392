"""The demo's flows, built by the same edits that the window makes."""

from __future__ import annotations

from pathlib import Path

from keen_trellis.core.join_type import JoinType
from keen_trellis.demo import files
from keen_trellis.flow import edits
from keen_trellis.flow.file_format import save
from keen_trellis.flow.graph import Flow, Input
from keen_trellis.flow.source_settings import SourceSettings
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.join import JoinSettings, LinkSettings
from keen_trellis.flow.steps.output import OutputSettings

WINTER_LOANS = "Winter loans.trellis"
LOAN_REPORT = "Loan report.xlsx"


def winter_loans(folder: Path) -> Flow:
    """Every loan with its object and its venue where known, written to a report."""
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
            bring=("Region", "Contact"),
        ),
    )
    flow = edits.rename(flow, second, "Loans with Objects and Venues")
    flow, _ = edits.add_output(
        flow, Input(second), OutputSettings("xlsx", str(folder / LOAN_REPORT), sheet="Loans")
    )
    return edits.add_file(flow, str(folder / files.RETURNS_FILE))


def write_flows(folder: Path) -> list[Path]:
    """Save every demo flow beside the data in `folder`; their paths."""
    path = folder / WINTER_LOANS
    save(winter_loans(folder.absolute()), path, KINDS)
    return [path]
