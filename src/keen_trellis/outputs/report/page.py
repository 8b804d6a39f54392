"""A report as one page of HTML: nothing is loaded, no script is needed, and what data says is text."""

from __future__ import annotations

import base64
import datetime as dt
from collections.abc import Iterator, Sequence
from importlib.resources import files
from typing import Any

from keen_trellis.core.insight.proposal import percent
from keen_trellis.flow.analysis.value import Analysis, FileRead, JoinTold, OutputTold, TotalTold
from keen_trellis.flow.plain_text import visible
from keen_trellis.flow.runs import Run, share_of
from keen_trellis.flow.wording import rows_called
from keen_trellis.outputs.report import charts
from keen_trellis.outputs.report.charts import Curve, Drawn, Picture

_LONGEST = 40
_FEWEST_RUNS = 2


def page(analysis: Analysis, trellis: Picture | None, drawn: Drawn, most_rows: int) -> str:
    """The report as HTML. trellis: the picture of the flow, if there is one.  most_rows: as was analysed."""
    from markupsafe import Markup

    joins = analysis.joins
    seen: dict[str, FileRead] = {file.path: file for source in analysis.sources for file in source.files}
    made: str = _template().render(
        a=analysis,
        title=analysis.about or analysis.name,
        style=Markup(_resource("page.css")),  # noqa: S704 - our own, not text of data
        trellis=trellis,
        files=list(seen.values()),
        more_files=sum(source.more_files for source in analysis.sources),
        charts={
            join.step: {
                "sides": charts.both_sides(join, drawn),
                "left": charts.reasons(join, "left", drawn),
                "right": charts.reasons(join, "right", drawn),
            }
            for join in joins
        },
        totals=list(_totals(analysis.outputs)),
        curves=list(_curves(analysis, drawn)),
        rates=list(_rates(analysis)),
        unmatched=[
            (join, reason) for join in joins for reason in join.reasons if reason.without_partner is not None
        ],
        most_rows=most_rows,
    )
    return made


def _resource(name: str) -> str:
    return (files("keen_trellis.outputs.report") / name).read_text("utf-8")


def _template() -> Any:
    from jinja2 import Environment, StrictUndefined

    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True, finalize=_shown
    )
    environment.filters |= {
        "number": lambda number: f"{number:,}",
        "moment": moment,
        "counted": lambda number, many: f"{number:,} {many}",
        "rowsof": lambda name: rows_called(name)[1],
        "single": lambda many: rows_called(many)[0],
        "first_upper": _first_upper,
        "found": found_said,
        "without": _without,
        "unmatched": lambda found, side: [
            entry for entry in found if entry.side == side and entry.without_partner is not None
        ],
        "multiplying": lambda found: [entry for entry in found if entry.kind in charts.MULTIPLYING],
        "source": _source,
        "shortened": lambda text: text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…",
    }
    return environment.from_string(_resource("page.html"))


def _shown(value: Any) -> Any:
    """Text of data with its control characters made visible; they would break a page, or hide something."""
    return visible(value) if type(value) is str else value


def _first_upper(text: str) -> str:
    """The text with a capital to begin with, unless it begins with a sign such as n:m."""
    return text if text[1:2] == ":" else text[:1].upper() + text[1:]


def moment(text: str) -> str:
    """A moment in UTC, as people write it."""
    try:
        return f"{dt.datetime.fromisoformat(text):%Y-%m-%d %H:%M} UTC"
    except ValueError:
        return text


def _source(picture: Picture) -> str:
    return f"data:{picture.mime};base64,{base64.b64encode(picture.content).decode()}"


def found_said(join: JoinTold) -> str:
    """8,303 of 8,352 loans found an object (99.4 %); 49 did not."""
    counts = join.counts
    empty = [
        name for name, rows in ((join.left, "left_rows"), (join.right, "right_rows")) if not counts[rows]
    ]
    if empty:
        return f"{join.name}: {' and '.join(empty)} {'has' if len(empty) == 1 else 'have'} no rows."
    share = counts["left_matched"] / counts["left_rows"] if counts["left_rows"] else 0
    left, right = rows_called(join.left), rows_called(join.right)
    many = left[0] if counts["left_rows"] == 1 else left[1]
    unmatched, others = counts["left_unmatched"], counts["right_unmatched"]
    rest = (
        f"{others:,} {right[0] if others == 1 else right[1]} found none"
        if others
        else f"every {right[0]} did"
    )
    return (
        f"{join.name}: {counts['left_matched']:,} of {counts['left_rows']:,} {many} found a partner in "
        f"{join.right} ({percent(share)}); {unmatched:,} did not. Of the other table, {rest}."
    )


def _without(number: int, name: str, other: str) -> str:
    """49 loans have no partner in Objects."""
    one, many = rows_called(name)
    return f"{number:,} {f'{one} has' if number == 1 else f'{many} have'} no partner in {other}"


def _totals(outputs: Sequence[OutputTold]) -> Iterator[tuple[OutputTold, TotalTold]]:
    for output in outputs:
        for total in output.totals:
            yield output, total


def _curves(analysis: Analysis, drawn: Drawn) -> Iterator[Picture]:
    """What moved over the runs: the share of rows that matched, the unmatched rows, and those of outputs."""
    runs = analysis.runs
    if len(runs) < _FEWEST_RUNS:
        return
    joins = [join for join in analysis.joins if any(join.step in run.knots for run in runs)]
    if joins:
        shares = [Curve(join.name, [share_of(run, join.step) for run in runs], True) for join in joins]
        yield charts.over_runs(runs, shares, "Share of rows that found a partner", drawn)
        unmatched = [Curve(join.name, [_unmatched(run, join.step) for run in runs]) for join in joins]
        yield charts.over_runs(runs, unmatched, "Rows without a partner", drawn)
    outputs = [output for output in analysis.outputs if any(output.step in run.outputs for run in runs)]
    if outputs:
        rows = [Curve(output.name, [run.outputs.get(output.step) for run in runs]) for output in outputs]
        yield charts.over_runs(runs, rows, "Rows of the outputs", drawn)


def _unmatched(run: Run, step: str) -> int | None:
    counts = run.knots.get(step)
    return counts.left_unmatched if counts is not None else None


def _rates(analysis: Analysis) -> Iterator[tuple[str, str, str, list[tuple[str, Any, str]]]]:
    """The counts of each knot over the runs, the latest first."""
    for join in analysis.joins:
        lines = []
        for run in reversed(analysis.runs):
            share = share_of(run, join.step)
            if join.step in run.knots:
                lines.append((run.taken, run.knots[join.step], "" if share is None else percent(share)))
        if len(lines) >= _FEWEST_RUNS:
            yield join.name, join.left, join.right, lines
