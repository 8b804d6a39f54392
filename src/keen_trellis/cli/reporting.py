"""The commands for those who do not have the program: the match report, and the answers that come back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from keen_trellis.cli.arguments import listed
from keen_trellis.cli.group import main
from keen_trellis.cli.saying import cell_shown, say, say_members
from keen_trellis.cli.trusting import settle_reading, trusting

_FILE = click.Path(path_type=Path, dir_okay=False)


@main.command()
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.option("--html", type=_FILE, help="Write it as one page for a browser.")
@click.option("--pdf", type=_FILE, help="Write it on paper.")
@click.option("--xlsx", type=_FILE, help="Write it as a workbook with all rows without a partner.")
@click.option("--step", "step_name", default="", help="Of one step and all before it, by its name.")
@click.option("--without", default="", help="Fields whose values are left out, with commas.")
@click.option("--rows", type=click.IntRange(0), default=None, help="Show so many rows of each reason.")
@click.option("--replace", is_flag=True, help="Replace files that exist.")
@trusting
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def report(
    flow_path: Path,
    step_name: str,
    without: str,
    rows: int | None,
    replace: bool,
    as_json: bool,
    **wanted: Any,
) -> None:
    """Report what FLOW comes to now to people without the program: what matched, what did not, and why.

    Without a file only the main points are printed. Its outputs are not written.
    """
    from keen_trellis.flow.analysis.making import SHOWN_ROWS
    from keen_trellis.flow.file_format import load
    from keen_trellis.flow.naming import step_named
    from keen_trellis.flow.runner import Runner
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.session.reporting import Wanted, told
    from keen_trellis.sources.library import Library

    flow, library = load(flow_path, KINDS), Library()
    settle_reading(flow, flow_path, trust=wanted["trust"], hosts=wanted["hosts"])
    paths = _paths(wanted)
    check_paths(flow, flow_path, library, paths, replace=replace)
    asked = Wanted(
        step_named(flow, step_name) if step_name else "",
        listed(without),
        SHOWN_ROWS if rows is None else rows,
    )
    runner = Runner(KINDS, library)
    analysed = told(flow, flow_path, runner, library, asked)
    write_reports(flow, flow_path, runner, analysed, paths, asked, replace=replace)
    if as_json:
        import msgspec

        members = msgspec.to_builtins(analysed.analysis)
        say_members({**members, "written": [str(path) for path in paths]})
        return
    for line in _lines(analysed.analysis):
        say(cell_shown(line))
    for path in paths:
        say(f"Wrote the report to {path}.")
    if not paths:
        say("Write it with --html FILE, --pdf FILE or --xlsx FILE.")


def _paths(wanted: dict[str, Any]) -> list[Path]:
    """The files to be written; UsageError for one whose ending is another form's."""
    from keen_trellis.core.errors import UsageError

    found = []
    for form in ("html", "pdf", "xlsx"):
        path = wanted[form]
        if path is None:
            continue
        if path.suffix.lower() != f".{form}":
            raise UsageError(f"--{form} names {path.name}.", remedy=f"End its name in .{form}.")
        found.append(path)
    return found


def check_paths(flow: Any, flow_path: Path, library: Any, paths: Sequence[Path], *, replace: bool) -> None:
    """OutputError unless reports may be written to these files, before anything is computed."""
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.outputs.report.writing import check
    from keen_trellis.session.running import never_written

    kept = never_written(flow, KINDS, library, flow_path) if paths else []
    for path in paths:
        check(path, kept, replace=replace)


def write_reports(
    flow: Any,
    flow_path: Path,
    runner: Any,
    analysed: Any,
    paths: Sequence[Path],
    asked: Any,
    *,
    replace: bool,
) -> None:
    """Write a report to files, the trellis as a picture with it."""
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.outputs.report.writing import write_report
    from keen_trellis.session.running import never_written

    if not paths:
        return
    pictured = any(path.suffix.lower() != ".xlsx" for path in paths)
    picture = _trellis(flow, flow_path, runner, analysed.analysis) if pictured else None
    kept = never_written(flow, KINDS, runner.snapshots, flow_path)
    for path in paths:
        write_report(analysed, path, picture, asked.most_rows, kept=kept, replace=replace)


def _trellis(flow: Any, flow_path: Path, runner: Any, analysis: Any) -> Any:
    """The trellis as a picture; None where words in it could tell values that are withheld."""
    if not analysis.may_be_pictured:
        return None
    from keen_trellis.desktop.flow_picture import flow_picture

    return flow_picture(flow, flow_path.absolute(), runner.snapshots, runner.kept, analysis.name)


def _lines(analysis: Any) -> Iterator[str]:
    """The main points."""
    from keen_trellis.outputs.report.page import found_said

    for join in analysis.joins:
        yield found_said(join)
    for output in analysis.outputs:
        held = ", not to be used: a guard at or before it does not hold" if output.held_back else ""
        yield f"{output.name}: {output.rows:,} rows of {len(output.fields)} fields{held}."
    for guard in analysis.guards:
        yield f"Guard {'holds' if guard.holds else 'BROKEN'}: {guard.statement} ({guard.said})."
    if analysis.withheld:
        yield f"Left out: the values of {', '.join(analysis.withheld)}."
    if analysis.since:
        yield from analysis.changes or (f"Nothing differs from the run of {analysis.since}.",)


@main.command()
@click.argument("flow_path", metavar="FLOW", type=click.Path(path_type=Path))
@click.argument("answers_path", metavar="FILE", type=click.Path(path_type=Path))
@click.option("--note", default="", help="Why values are accepted as absent.")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def answer(flow_path: Path, answers_path: Path, note: str, as_json: bool) -> None:
    """Take the answers of a report that came back, FILE, over into FLOW.

    In its sheets of rows the column “answer” has yes, no, the value that is meant, or absent.
    """
    from keen_trellis.flow.answers import with_answers
    from keen_trellis.flow.file_format import load, save
    from keen_trellis.flow.steps import KINDS
    from keen_trellis.session.answering import answers_in

    flow = load(flow_path, KINDS)
    found = with_answers(flow, KINDS, answers_in(answers_path), note or f"answered in {answers_path.name}")
    if found.flow != flow:
        save(found.flow, flow_path, KINDS)
    if as_json:
        counts = {"corrected": found.corrected, "absent": found.absent, "rejected": found.rejected}
        say_members({**counts, "flow": str(flow_path)})
        return
    say(f"{flow_path.name}: {found.said}" if found.flow != flow else "The file has no answer that is new.")
