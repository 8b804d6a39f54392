"""Charts of a report, in the program's ink: what matched is solid, what found no partner is hatched."""

from __future__ import annotations

import io
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cache
from typing import Any

import msgspec
import platformdirs

from keen_trellis.core.insight.proposal import percent
from keen_trellis.core.insight.reason import Kind
from keen_trellis.flow.analysis.value import JoinTold
from keen_trellis.flow.runs import Run
from keen_trellis.flow.wording import rows_called
from keen_trellis.ink import LIGHT, Ink

# matplotlib keeps what it finds out about typefaces; without a word it would lie among the user's settings.
os.environ.setdefault("MPLCONFIGDIR", platformdirs.user_cache_dir("keen-trellis/matplotlib"))

SVG, PNG = "svg", "png"
_HATCH = "/////"


class Picture(msgspec.Struct, frozen=True):
    """content: in the format that mime names.  width: of the page, in pixels of a screen.  alt: in words."""

    content: bytes
    mime: str
    width: int
    height: int
    alt: str


class Drawn(msgspec.Struct, frozen=True):
    """How charts are drawn. form: SVG or PNG.  width: in pixels.  ground: behind them, "" for none.

    small: whether they are among others, so that little room is left for words.
    """

    form: str = SVG
    width: int = 720
    ink: Ink = LIGHT
    ground: str = ""
    small: bool = False
    dots: int = 240  # an inch, of a PNG


@cache
def _typeface() -> str:
    """Inter where it is present, else what comes with the library."""
    from matplotlib import font_manager

    try:
        font_manager.findfont("Inter", fallback_to_default=False)
    except ValueError:
        return "DejaVu Sans"
    return "Inter"


@contextmanager
def _figure(drawn: Drawn, height: int) -> Iterator[Any]:
    import matplotlib as mpl
    from matplotlib.figure import Figure

    ink = drawn.ink
    settings: Mapping[str, Any] = {
        "font.family": [_typeface()],
        "font.size": 8.5,
        "text.parse_math": False,
        "svg.fonttype": "path",
        "svg.hashsalt": "keen-trellis",
        "hatch.linewidth": 0.9,
        "hatch.color": ink.hatch,
        "text.color": ink.ink,
        "axes.labelcolor": ink.soft,
        "axes.edgecolor": ink.line,
        "axes.facecolor": "none",
        "xtick.color": ink.soft,
        "ytick.color": ink.soft,
    }
    with mpl.rc_context(settings):  # type: ignore[arg-type]
        figure = Figure(figsize=(drawn.width / 96, height / 96), layout="constrained")
        figure.patch.set_facecolor(drawn.ground or "none")
        yield figure


def _saved(figure: Any, drawn: Drawn, height: int, alt: str) -> Picture:
    buffer = io.BytesIO()
    if drawn.form == SVG:
        figure.savefig(buffer, format=SVG, metadata={"Date": None, "Creator": None})
        return Picture(buffer.getvalue(), "image/svg+xml", drawn.width, height, alt)
    figure.savefig(buffer, format=PNG, dpi=drawn.dots, metadata={"Software": None})
    return Picture(buffer.getvalue(), "image/png", drawn.width, height, alt)


def both_sides(join: JoinTold, drawn: Drawn) -> Picture:
    """Of both tables of a knot which rows found a partner, which did not, and which were passed over."""
    counts, ink = join.counts, drawn.ink
    sides = [
        (name, counts[f"{side}_matched"], counts[f"{side}_unmatched"], counts[f"{side}_passed_over"])
        for name, side in ((join.left, "left"), (join.right, "right"))
    ]
    most = max(1, *(matched + unmatched for _, matched, unmatched, _ in sides))
    height = 96
    with _figure(drawn, height) as figure:
        axes = figure.add_subplot()
        for place, (_, matched, unmatched, passed) in enumerate(sides):
            start = 0
            for number, style in (
                (matched - passed, {"facecolor": ink.hues[place][0]}),
                (passed, {"facecolor": ink.band}),
                (unmatched, {"facecolor": ink.paper, "hatch": _HATCH}),
            ):
                axes.barh(place, number, left=start, height=0.62, edgecolor=ink.soft, linewidth=0.6, **style)
                start += number
            words = [f"{matched:,} matched", f"{unmatched:,} without a partner"]
            words += [f"{passed:,} passed over"] if passed else []
            axes.text(start + most * 0.012, place, ", ".join(words), va="center", color=ink.ink)
        axes.set_yticks(range(2), [rows_called(name)[1] for name, *_ in sides])
        axes.tick_params(left=False, bottom=False, labelbottom=False, colors=ink.ink)
        axes.set_xlim(0, most * 1.45)
        axes.invert_yaxis()
        axes.spines[:].set_visible(False)
        said = "; ".join(
            f"{rows_called(name)[1]}: {matched:,} matched, {unmatched:,} without a partner"
            for name, matched, unmatched, _ in sides
        )
        return _saved(figure, drawn, height, said)


def reasons(join: JoinTold, side: str, drawn: Drawn) -> Picture | None:
    """The rows of one side that have no partner, by reason; None where there is only one."""
    found = [entry for entry in join.reasons if entry.side == side and entry.without_partner is not None]
    if len(found) < 2:
        return None
    ink = drawn.ink
    height = 34 + 22 * len(found)
    most = max(entry.rows for entry in found)
    with _figure(drawn, height) as figure:
        axes = figure.add_subplot()
        places = range(len(found))
        axes.barh(
            places,
            [entry.rows for entry in found],
            height=0.6,
            facecolor=ink.paper,
            edgecolor=ink.soft,
            hatch=_HATCH,
            linewidth=0.6,
        )
        for place, entry in zip(places, found, strict=True):
            axes.text(entry.rows + most * 0.012, place, f"{entry.rows:,}", va="center")
        axes.set_yticks(places, [_short(entry.said) for entry in found])
        axes.tick_params(left=False, bottom=False, labelbottom=False, colors=ink.ink)
        axes.set_xlim(0, most * 1.12)
        axes.invert_yaxis()
        axes.spines[:].set_visible(False)
        said = "; ".join(f"{entry.said}: {entry.rows:,} rows" for entry in found)
        return _saved(figure, drawn, height, said)


MULTIPLYING = frozenset(kind.value for kind in Kind if kind.multiplies)


def _short(said: str, most: int = 52) -> str:
    return said if len(said) <= most else f"{said[: most - 1].rstrip()}…"


class Curve(msgspec.Struct, frozen=True):
    """One figure over the runs: None where a run does not have it. shares: between 0 and 1."""

    name: str
    values: Sequence[float | None]
    shares: bool = False


def over_runs(runs: Sequence[Run], curves: Sequence[Curve], title: str, drawn: Drawn) -> Picture:
    """Figures over the runs, one curve each."""
    ink, height = drawn.ink, 150 if drawn.small else 168
    with _figure(drawn, height) as figure:
        axes = figure.add_subplot()
        for number, curve in enumerate(curves):
            places = [place for place, value in enumerate(curve.values) if value is not None]
            axes.plot(
                places,
                [curve.values[place] for place in places],
                color=ink.hues[number % len(ink.hues)][1],
                linestyle=_LINES[number % len(_LINES)],
                marker=_MARKS[number % len(_MARKS)],
                markersize=3.6,
                linewidth=1.4,
                label=curve.name,
            )
        _axes_of_runs(axes, runs, curves, drawn)
        axes.set_title(title, loc="left", fontsize=9, color=ink.ink, fontweight="semibold")
        if len(curves) > 1 and drawn.small:
            figure.legend(
                frameon=False,
                fontsize=7,
                loc="outside lower left",
                ncols=len(curves),
                handlelength=1.8,
                columnspacing=1.0,
            )
        elif len(curves) > 1:
            axes.legend(frameon=False, fontsize=8, loc="center left", bbox_to_anchor=(1.0, 0.5))
        return _saved(figure, drawn, height, f"{title}: {'; '.join(map(_curve_said, curves))}")


_NEAR = 0.005
_LINES = ("-", "--", "-.", ":")
_MARKS = ("o", "s", "^", "D", "v", "P")


def _axes_of_runs(axes: Any, runs: Sequence[Run], curves: Sequence[Curve], drawn: Drawn) -> None:
    from matplotlib.ticker import FuncFormatter, MaxNLocator

    shares = any(curve.shares for curve in curves)
    known = [value for curve in curves for value in curve.values if value is not None]
    # Where all are nearly the same, a place more tells the lines of the grid apart.
    places_said = 2 if shares and known and max(known) - min(known) < _NEAR else 1
    say = FuncFormatter(lambda value, _: f"{100 * value:.{places_said}f} %" if shares else f"{value:,.10g}")
    axes.yaxis.set_major_formatter(say)
    # No steps of a quarter: what is written of one would be rounded.
    axes.yaxis.set_major_locator(MaxNLocator(4, steps=[1, 2, 5, 10], integer=not shares))
    places = sorted({round(at) for at in _spread(len(runs), 2 if drawn.small else 6)})
    axes.set_xticks(places, [runs[place].taken[:10] for place in places])
    axes.set_xlim(-0.3, max(len(runs) - 0.7, 0.3))
    axes.margins(y=0.18)
    axes.grid(axis="y", color=drawn.ink.line, linewidth=0.6)
    axes.set_axisbelow(True)
    axes.spines[["top", "right", "left"]].set_visible(False)
    axes.tick_params(length=0)


def _spread(count: int, most: int) -> list[float]:
    if count <= most:
        return [float(place) for place in range(count)]
    return [place * (count - 1) / (most - 1) for place in range(most)]


def _curve_said(curve: Curve) -> str:
    known = [value for value in curve.values if value is not None]
    if not known:
        return f"{curve.name} is not known"
    say = percent if curve.shares else lambda value: f"{value:,.10g}"
    return f"{curve.name} from {say(known[0])} to {say(known[-1])}"
