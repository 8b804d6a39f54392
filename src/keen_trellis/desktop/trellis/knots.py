"""What the bar of a knot is cut into, and the stubs that leave it: for joins, blends and unions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from keen_trellis.core.blending import Keep
from keen_trellis.core.errors import TrellisError
from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.insight.reason import rows_said
from keen_trellis.desktop.trellis.shapes import MATCHED_PART, OF_RAIL, Part
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.kinds import BlendFigures
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import FOUND_NOTHING, BlendSettings, unused_port
from keen_trellis.flow.steps.join import UNMATCHED_LEFT, UNMATCHED_RIGHT, JoinSettings
from keen_trellis.flow.steps.union import UnionKind
from keen_trellis.flow.wording import groups_said, listed, question, rows_called
from keen_trellis.session.outcome import Outcome

SMALLEST_PART = 6
_GAP = 2.0


@dataclass(frozen=True)
class Cut:
    """A knot's words, and its parts with their rows from top to bottom, not yet of any size.

    stubs: by part, the words at the end of the stub and their short form.  inputs: by part, the number of the
    input whose hue it has; what has none is ink.
    """

    caption: str
    detail: str
    short_caption: str = ""
    short: str = ""
    parts: tuple[Part, ...] = ()
    stubs: Mapping[str, tuple[str, str]] = ()  # type: ignore[assignment]
    inputs: Mapping[str, int] = ()  # type: ignore[assignment]


def cut(step: Step, outcome: Outcome | None) -> Cut:
    """How a knot is shown that came to this."""
    error = outcome.error if outcome is not None else None
    plain = Cut(step.name, "cannot be computed" if error is not None else "working it out")
    if step.skipped:
        return replace(plain, detail="skipped for now")
    if outcome is None or outcome.step is None or len(outcome.inputs) != len(step.inputs):
        return plain
    try:
        return _known(step, outcome, plain)
    except TrellisError:  # settings that cannot be read: the step says so itself
        return plain


def _known(step: Step, outcome: Outcome, plain: Cut) -> Cut:
    if KINDS.matches(step):
        return _join(step, outcome, plain)
    figures = outcome.figures
    if figures is None:
        return plain
    if figures.blend is not None:
        return _blend(step, outcome, figures.blend, plain)
    rows = figures.rows[ROWS]
    detail = f"{step.kind} · {rows_said(rows)}"
    if step.kind != UnionKind.name or len(figures.inputs) != len(step.inputs):
        return replace(plain, detail=detail)  # another rail is being added
    names = [f"{OF_RAIL}{number}" for number in range(len(step.inputs))]
    parts = [
        Part(name, 0, 0, True, count, f"{rows_said(count)} of {shape.name}")
        for name, count, shape in zip(names, figures.inputs, outcome.inputs, strict=True)
    ]
    return replace(plain, detail=detail, parts=tuple(parts), inputs={name: n for n, name in enumerate(names)})


def _join(step: Step, outcome: Outcome, plain: Cut) -> Cut:
    settings: JoinSettings = KINDS.settings(step)
    left, right = (shape.name for shape in outcome.inputs)
    kind = settings.join_type
    said = replace(plain, caption=question(kind, left, right), short_caption=f"with {right}")
    counts = outcome.figures.counts if outcome.figures is not None else None
    if counts is None:
        return said
    share = counts.left_matched / counts.left_rows if counts.left_rows else 0.0
    short = f"{percent(share)} of {left.split(' with ')[0]} found one"
    parts = (
        _part(UNMATCHED_LEFT, counts.left_unmatched, kind.keeps_unmatched_left, "unmatched left"),
        _part(MATCHED_PART, counts.left_matched, kind.keeps_matched, "matched"),
        _part(UNMATCHED_RIGHT, counts.right_unmatched, kind.keeps_unmatched_right, "unmatched right"),
    )
    stubs = {
        UNMATCHED_LEFT: (
            f"{counts.left_unmatched:,} unmatched {left}",
            f"{counts.left_unmatched:,} unmatched",
        ),
        MATCHED_PART: (
            f"{counts.left_matched:,} matched pairs left out",
            f"{counts.left_matched:,} left out",
        ),
        UNMATCHED_RIGHT: (
            f"{counts.right_unmatched:,} unmatched {right}",
            f"{counts.right_unmatched:,} unmatched",
        ),
    }
    detail = f"{kind.trade_name} · {short}"
    return Cut(
        said.caption, detail, said.short_caption, short, parts, stubs, {UNMATCHED_LEFT: 0, UNMATCHED_RIGHT: 1}
    )


def _part(name: str, rows: int, kept: bool, said: str) -> Part:
    does = "kept; click again to leave it out" if kept else "left out; click again to keep it"
    return Part(name, 0, 0, kept, rows, f"{said}: {rows_said(rows)}, {does}")


def _blend(step: Step, outcome: Outcome, blended: BlendFigures, plain: Cut) -> Cut:
    settings: BlendSettings = KINDS.settings(outcome.step or step)
    main = outcome.inputs[0].name
    one, many = rows_called(main)
    total, nothing = blended.rows, blended.nothing
    shares = [
        f"{percent(found / total if total else 0.0)} found {shape.name}"
        for found, shape in zip(blended.found, outcome.inputs[1:], strict=True)
    ]
    found_keep = settings.kept is Keep.FOUND
    kept = "left out; click again to keep them" if found_keep else "kept; click again to leave them out"
    parts = [
        Part(FOUND_NOTHING, 0, 0, not found_keep, nothing, f"{nothing:,} {many} that found nothing, {kept}"),
        Part(MATCHED_PART, 0, 0, True, total - nothing, f"{total - nothing:,} {many} that found something"),
    ]
    stubs = {FOUND_NOTHING: (f"{nothing:,} {many} that found nothing", f"{nothing:,} left out")}
    inputs = {FOUND_NOTHING: 0}
    for number, (groups, shape) in enumerate(zip(blended.unused, outcome.inputs[1:], strict=True)):
        port = unused_port(number)
        said = f"{groups_said(groups)} of {shape.name} with no {one}"
        parts.append(Part(port, 0, 0, False, groups, said))
        stubs[port], inputs[port] = (said, groups_said(groups)), number + 1
    detail = f"blend · {', '.join(shares)}"
    measures = [measure.name for entry in settings.others for measure in entry.measures]
    each = one if settings.kept in (Keep.EVERY, Keep.FOUND) else f"group of {many}"
    caption = f"{listed(measures, 2)} for each {each}" if measures else plain.caption
    return Cut(caption, detail, listed(measures, 1), shares[0], tuple(parts), stubs, inputs)


def sized(parts: Sequence[Part], top: float, height: float) -> tuple[Part, ...]:
    """The parts from `top` down, in proportion, none that is not empty too small to click."""
    if not parts:
        return ()
    room = height - _GAP * (len(parts) - 1)
    least = min(SMALLEST_PART + 4.0, room / len(parts))
    total = sum(part.rows for part in parts)
    sizes = [room * part.rows / total if total else 0.0 for part in parts]
    small = [size < (least if part.rows else SMALLEST_PART) for size, part in zip(sizes, parts, strict=True)]
    sizes = [
        (least if part.rows else SMALLEST_PART / 2) if is_small else size
        for size, part, is_small in zip(sizes, parts, small, strict=True)
    ]
    left = room - sum(size for size, is_small in zip(sizes, small, strict=True) if is_small)
    weight = sum(part.rows for part, is_small in zip(parts, small, strict=True) if not is_small)
    placed, y = [], top
    for part, size, is_small in zip(parts, sizes, small, strict=True):
        tall = size if is_small else left * part.rows / weight
        placed.append(replace(part, top=y, bottom=y + tall))
        y += tall + _GAP
    return tuple(placed)
