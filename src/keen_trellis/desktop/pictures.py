"""Pictures of the window, drawn without a display."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QCoreApplication, QEvent, QEventLoop, QPoint, QTimer
from PySide6.QtGui import QPainter, QPixmap
from PySide6.QtWidgets import QApplication, QWidget

from keen_trellis.core.insight.reason import Kind, Way
from keen_trellis.demo.files import COURIER_FOLDER, REGISTRY_FILE
from keen_trellis.demo.flows import WINTER_LOANS
from keen_trellis.demo.large import large_flow
from keen_trellis.desktop.app import make_application
from keen_trellis.desktop.settings import Remembered
from keen_trellis.desktop.window import MainWindow
from keen_trellis.flow.runner import Kept
from keen_trellis.flow.steps.blend import BlendKind
from keen_trellis.session.selection import Selection
from keen_trellis.sources.library import Library

SIZE = (1280, 800)
_PATIENCE = 60.0


class _Forgetful(Remembered):
    """Remembers nothing: pictures look the same on every machine."""

    def __init__(self) -> None:
        self._kept: dict[str, Any] = {}

    @property
    def drafts(self) -> Path | None:
        return None

    def value(self, name: str) -> Any:
        return self._kept.get(name)

    def remember(self, name: str, value: Any) -> None:
        self._kept[name] = value

    @property
    def recent(self) -> list[Path]:
        return []

    def add_recent(self, path: Path) -> None:
        return


def pause(milliseconds: int = 4) -> None:
    """Let the window do what there is to do for a moment, and leave the cores to its threads otherwise."""
    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


def settle(window: MainWindow, until: Callable[[], bool] | None = None) -> None:
    """Let the window work until nothing is under way and `until` holds."""
    end = time.monotonic() + _PATIENCE
    while time.monotonic() < end:
        pause()
        if not window.jobs.under_way and (until is None or until()):
            QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
            QCoreApplication.processEvents()
            return
    raise TimeoutError("the window did not come to rest")


def new_window(
    size: tuple[int, int] = SIZE, library: Library | None = None, kept: Kept | None = None
) -> MainWindow:
    """A window that remembers nothing, shown without a display."""
    make_application()
    window = MainWindow(_Forgetful(), library, kept)
    window.resize(*size)
    window.show()
    QCoreApplication.processEvents()
    return window


def picture(window: MainWindow) -> QPixmap:
    """The window as it looks now, with the list that is open over it."""
    shown = window.grab()
    popup: QWidget | None = QApplication.activePopupWidget()
    if popup is not None:
        painter = QPainter(shown)
        painter.drawPixmap(window.mapFromGlobal(popup.mapToGlobal(QPoint(0, 0))), popup.grab())
        painter.end()
    return shown


def draw_window(flow: Path, target: Path) -> None:
    """Draw the window on a flow to a PNG file."""
    window = new_window()
    window.open_flow(flow)
    settle(window)
    picture(window).save(str(target))
    _discard(window)


def _discard(window: MainWindow) -> None:
    window.jobs.close()
    window.hide()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


def _another(window: MainWindow) -> MainWindow:
    _discard(window)
    return new_window()


def draw_views(folder: Path) -> list[Path]:
    """Draw each main view into `folder`, from demo data made for the purpose; the paths written."""
    from keen_trellis.demo.setting_up import make

    folder.mkdir(parents=True, exist_ok=True)
    written: list[Path] = []

    def keep(window: MainWindow, name: str) -> None:
        settle(window)
        written.append(folder / f"{name}.png")
        picture(window).save(str(written[-1]))

    with tempfile.TemporaryDirectory(prefix="keen-trellis-") as place:
        data = Path(place)
        make(data)
        window = new_window()
        keep(window, "empty-flow")
        window.open_flow(data / WINTER_LOANS)
        keep(window, "main-window")
        _knot_views(window, keep)
        _step_views(window, keep)
        _source_views(window, keep, data)
        _blend_views(window, keep, data)
        window.open_flow(data / "Returns desk.trellis")
        settle(window)
        window.session.select(Selection("stands-is-something-other-than-in-both"))
        keep(window, "returns-desk")
        window.open_flow(data / "Guarded loans.trellis")
        settle(window)
        window.bench.show_attention()
        keep(window, "attention")
        window.bench.attention.closed.emit()
        window.open_flow(data / WINTER_LOANS)
        settle(window)
        window.open_flow(data / "Cost per visitor.trellis")
        settle(window)
        window.session.select(_blend_of(window))
        window.use_theme("dark")
        keep(window, "dark-theme")
        window.use_theme("light")
        window.open_flow(data / WINTER_LOANS)
        settle(window)
        _discard(_month_views(window, keep, data))
    return written


Keep = Callable[[MainWindow, str], None]


def _knot_views(window: MainWindow, keep: Keep) -> None:
    """What can be opened on a knot."""
    window.ask_question()
    keep(window, "questions")
    popup = QApplication.activePopupWidget()
    assert popup is not None
    popup.close()
    sizes = window.splitter.sizes()
    window.splitter.setSizes([240, 530])
    window.bench.show_types()
    keep(window, "types-side-by-side")
    window.bench.types.closed.emit()
    window.splitter.setSizes(sizes)
    window.bench.mending.review()
    keep(window, "review")
    window.bench.review.closed.emit()
    for guard in ("right-key-unique", "left-unmatched<=49"):
        window.bench.guarding.add(guard)
    window.bench.guarding.show()
    keep(window, "broken-guard")
    window.bench.guards.closed.emit()
    window.session.undo()
    window.session.undo()


def _step_views(window: MainWindow, keep: Keep) -> None:
    """Steps on a rail, as mends put them there, and the other steps."""
    for kind, way in ((Kind.REPEATED, Way.DISTINCT), (Kind.BLANK, Way.FILTER), (Kind.ABSENT, Way.FILL)):
        settle(window)
        content = window.bench.grid.content
        assert content is not None
        for reason in [part.reason for part in content.parts if part.reason and part.reason.kind is kind]:
            window.bench.mending.mend(reason, next(mend for mend in reason.mends if mend.way is way))
    settle(window)
    window.bench.grid.move_to(150)
    keep(window, "steps-on-a-rail")
    for _ in range(3):
        window.session.undo()


def _source_views(window: MainWindow, keep: Keep, data: Path) -> None:
    """Sources, and what can be opened on them."""
    window.session.select(Selection("venues"))
    keep(window, "source")
    window.bench.show_raw()
    keep(window, "raw-cells")
    window.bench.raw.closed.emit()
    window.open_paths([data / COURIER_FOLDER])
    settle(window)
    window.begin_rail()
    keep(window, "folder")
    window.bench.show_fields()
    keep(window, "fields")
    window.session.undo()
    window.session.undo()


def _blend_of(window: MainWindow) -> Selection:
    blend = next(step for step in window.session.flow.steps if step.kind == BlendKind.name)
    return Selection(blend.id)


def _blend_views(window: MainWindow, keep: Keep, data: Path) -> None:
    """A blend, the shared filter before it, and a flow of sixty steps."""
    window.open_flow(data / "Cost per visitor.trellis")
    settle(window)
    window.session.select(_blend_of(window))
    keep(window, "blend")
    window.session.select(Selection(slat="region"))
    keep(window, "shared-filter")
    window.session.apply("open", lambda _: (large_flow(data), "loans-3-with-venues-3"))
    settle(window)
    keep(window, "large-flow")
    window.session.undo()
    settle(window)


def _month_views(window: MainWindow, keep: Keep, data: Path) -> MainWindow:
    """The next month, and a file that is gone; the window that is open then."""
    from keen_trellis.demo.setting_up import make_next_month

    make_next_month(data)
    window.session.refresh()
    settle(window, lambda: window.session.refreshing.comparison is not None)
    keep(window, "what-changed")
    (data / REGISTRY_FILE).unlink()
    window = _another(window)
    window.open_flow(data / WINTER_LOANS)
    settle(window)
    window.session.select(Selection("objects"))
    keep(window, "lost-source")
    return window
