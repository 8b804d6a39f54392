"""How the bar of a blend is cut, and what is said of the rows behind it."""

from __future__ import annotations

import msgspec

from keen_trellis.core.blending import Keep
from keen_trellis.core.insight.proposal import percent
from keen_trellis.desktop.trellis.knots import Cut, Cutting
from keen_trellis.desktop.trellis.shapes import MATCHED_PART, Part
from keen_trellis.flow.graph import ROWS, Step
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import FOUND_NOTHING, BlendSettings, unused_port
from keen_trellis.flow.wording import groups_said, listed, rows_called
from keen_trellis.session.outcome import Outcome


def cut_blend(step: Step, outcome: Outcome, plain: Cut) -> Cut:
    """The bar of a blend: the rows that found nothing, those that did, and groups that no row uses."""
    figures = outcome.figures
    if figures is None or figures.blend is None:
        return plain
    blended = figures.blend
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
        Part(
            FOUND_NOTHING,
            0,
            0,
            not found_keep,
            nothing,
            f"{nothing:,} {many} that found nothing, {kept}",
            False,
        ),
        Part(
            MATCHED_PART,
            0,
            0,
            True,
            total - nothing,
            f"{total - nothing:,} {many} that found something",
            False,
        ),
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
    same = figures.inputs and figures.rows[ROWS] == figures.inputs[0]
    return msgspec.structs.replace(
        plain,
        caption=caption,
        detail=detail,
        short_caption=listed(measures, 1),
        short=shares[0],
        parts=tuple(parts),
        stubs=stubs,
        inputs=inputs,
        counted=f"{plain.counted}, none added" if same else plain.counted,
    )


BLEND_CUTTING = Cutting(cut_blend, FOUND_NOTHING)
