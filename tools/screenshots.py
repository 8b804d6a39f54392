"""Draws one picture of each main view from the demo data: `./trellis screenshots [FOLDER]`."""

from __future__ import annotations

import datetime as dt
import os
import tempfile
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import click
import msgspec
from PySide6.QtWidgets import QApplication

from keen_trellis.core.insight.reason import Kind, Way
from keen_trellis.demo.files import COURIER_FOLDER, write_data
from keen_trellis.demo.flow_names import WINTER_LOANS
from keen_trellis.demo.large import large_flow
from keen_trellis.demo.scenario import build
from keen_trellis.desktop.pictures import RecentOnly, discard, new_window, picture, settle
from keen_trellis.desktop.shell.window import MainWindow
from keen_trellis.flow import run_log
from keen_trellis.flow.steps import KINDS
from keen_trellis.flow.steps.blend import BlendKind
from keen_trellis.session.selection import Selection


def draw_views(folder: Path) -> list[Path]:
    """Draw each main view into `folder`, from demo data made for the purpose; the paths written."""
    from keen_trellis.demo.setting_up import make

    folder.mkdir(parents=True, exist_ok=True)
    written: list[Path] = []

    def keep(window: MainWindow, name: str) -> None:
        settle(window)
        written.append(folder / f"{name}.png")
        window.status.fall_silent()
        picture(window).save(str(written[-1]))

    with tempfile.TemporaryDirectory(prefix="keen-trellis-") as place:
        data = Path(place) / "lantern"
        make(data)
        discard(_first_page(keep, data, Path(place)))
        window = new_window()
        window.files.open_flow(data / WINTER_LOANS)
        keep(window, "main-window")
        _knot_views(window, keep)
        _looked_back(window, keep, data)
        _step_views(window, keep)
        _source_views(window, keep, data)
        _blend_views(window, keep, data)
        window.files.open_flow(data / "Returns desk.trellis")
        settle(window)
        window.session.select(Selection("stands-is-something-other-than-in-both"))
        keep(window, "returns-desk")
        window.files.open_flow(data / "Guarded loans.trellis")
        settle(window)
        window.bench.attention.show_or_close()
        keep(window, "attention")
        window.bench.attention.view.closed.emit()
        window.files.open_flow(data / WINTER_LOANS)
        settle(window)
        window.files.open_flow(data / "Cost per visitor.trellis")
        settle(window)
        outputs = [step for step in window.session.flow.steps if KINDS.ends_rail(step)]
        window.session.select(Selection(outputs[0].id))
        settle(window)
        window.bench.show_raw()
        window.use_theme("dark")
        keep(window, "dark-theme")
        window.use_theme("light")
        window.files.open_flow(data / WINTER_LOANS)
        settle(window)
        _month_views(window, keep, data)
        discard(window)
    return written


Keep = Callable[[MainWindow, str], None]


def _first_page(keep: Keep, data: Path, folder: Path) -> MainWindow:
    """A window without a flow, after some were used."""
    window = new_window(remembered=RecentOnly(folder))
    for name in ("Sets", "Returns desk", "Cost per visitor", "Winter loans"):
        window.files.open_flow(data / f"{name}.trellis")
        settle(window)
    window.files.new()
    keep(window, "first-page")
    return window


def _knot_views(window: MainWindow, keep: Keep) -> None:
    """What can be opened on a knot."""
    window.selected.ask_question()
    keep(window, "questions")
    popup = QApplication.activePopupWidget()
    assert popup is not None
    popup.close()
    sizes = window.splitter.sizes()
    window.splitter.setSizes([240, 530])
    window.bench.types.show_or_close()
    keep(window, "types-side-by-side")
    window.bench.types.view.closed.emit()
    window.splitter.setSizes(sizes)
    grid = window.bench.grid
    content = grid.content
    assert content is not None
    grid.column = next(n for n, column in enumerate(content.columns) if column.field.name == "Out date")
    window.bench.spread.show()
    settle(window)
    window.bench.spread.view.bars.stand_on(8)
    keep(window, "spread")
    window.bench.spread.view.closed.emit()
    window.bench.mends.show()
    keep(window, "review")
    window.bench.mends.view.closed.emit()
    for guard in ("right-key-unique", "left-unmatched<=49"):
        window.bench.guards.add(guard)
    window.bench.guards.show()
    keep(window, "broken-guard")
    window.bench.guards.view.closed.emit()
    window.session.undo()
    window.session.undo()


def _looked_back(window: MainWindow, keep: Keep, data: Path) -> None:
    """A value followed, and the runs of some months."""
    window.bench.follow.follow("LCM.00388")
    settle(window)
    keep(window, "following")
    window.bench.follow.view.closed.emit()
    scenario, path = build(), data / WINTER_LOANS

    def noted(month: int) -> Callable[[], bool]:
        return lambda: len(run_log.read(path).runs) == month

    for month, loans in enumerate((7_100, 7_380, 7_640, 7_820, 8_090, len(scenario.loans)), 1):
        write_data(msgspec.structs.replace(scenario, loans=scenario.loans[:loans]), data)
        with mock.patch.dict(os.environ, SOURCE_DATE_EPOCH=str(_moment(month))):
            window.session.refresh()
            settle(window, noted(month))
    window.bench.runs.show()
    settle(window)
    keep(window, "runs")
    window.bench.runs.view.closed.emit()


def _moment(month: int) -> int:
    """The first morning of a month, in seconds."""
    return int(dt.datetime(2026, month, 1, 7, tzinfo=dt.UTC).timestamp())


def _step_views(window: MainWindow, keep: Keep) -> None:
    """Steps on a rail, as mends put them there, and the other steps."""
    for kind, way in ((Kind.REPEATED, Way.DISTINCT), (Kind.BLANK, Way.FILTER), (Kind.ABSENT, Way.FILL)):
        settle(window)
        content = window.bench.grid.content
        assert content is not None
        for reason in [part.reason for part in content.parts if part.reason and part.reason.kind is kind]:
            window.bench.mends.mend(reason, next(mend for mend in reason.mends if mend.way is way))
    settle(window)
    window.bench.grid.move_to(150)
    keep(window, "steps-on-a-rail")
    for _ in range(3):
        window.session.undo()


def _source_views(window: MainWindow, keep: Keep, data: Path) -> None:
    """Sources, and what can be opened on them."""
    window.session.select(Selection("venues"))
    keep(window, "source")
    window.files.open_paths([data / COURIER_FOLDER])
    settle(window)
    window.selected.begin_rail()
    settle(window)
    window.bench.fields.show_or_close()
    keep(window, "fields")
    window.session.undo()
    window.session.undo()


def _blend_of(window: MainWindow) -> Selection:
    blend = next(step for step in window.session.flow.steps if step.kind == BlendKind.name)
    return Selection(blend.id)


def _blend_views(window: MainWindow, keep: Keep, data: Path) -> None:
    """A blend, the shared filter before it, and a flow of sixty steps."""
    window.files.open_flow(data / "Cost per visitor.trellis")
    settle(window)
    window.session.select(_blend_of(window))
    keep(window, "blend")
    window.session.select(Selection(slat="region"))
    keep(window, "shared-filter")
    window.session.apply("open", lambda _: (large_flow(data), "loans-3-with-venues-3"))
    settle(window)
    window.share_out_anew()
    settle(window)
    keep(window, "large-flow")
    window.session.undo()
    settle(window)


def _month_views(window: MainWindow, keep: Keep, data: Path) -> None:
    """The next month."""
    from keen_trellis.demo.setting_up import make_next_month

    make_next_month(data)
    window.session.refresh()
    settle(window, lambda: window.session.refreshing.comparison is not None)
    keep(window, "what-changed")


@click.command(name="screenshots")
@click.argument("folder", type=click.Path(path_type=Path), default=Path("docs/screenshots"))
def screenshots(folder: Path) -> None:
    """Draw one picture of each main view into FOLDER, docs/screenshots unless it is said."""
    for path in draw_views(folder):
        click.echo(path)


if __name__ == "__main__":
    screenshots(prog_name="./trellis screenshots")
