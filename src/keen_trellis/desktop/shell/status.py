"""The status line: what is shown, work under way with its cancel, and where the current row stands."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QSizePolicy, QWidget

from keen_trellis.desktop.plain import PlainLabel, elided, tip
from keen_trellis.desktop.theme import font, theme
from keen_trellis.session.jobs import Job, Jobs

_SHOW_AFTER_MS = 500
_SAID_FOR_MS = 15_000


class ElidedLabel(PlainLabel):
    """A label whose text is shortened in the middle where it does not fit."""

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.setFont(self.font())
        text = elided(QFontMetrics(self.font()), self.text(), Qt.TextElideMode.ElideMiddle, self.width())
        painter.drawText(self.rect(), self.alignment() | Qt.AlignmentFlag.AlignVCenter, text)


class StatusLine(QWidget):
    """One line at the window's foot."""

    def __init__(self, jobs: Jobs, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._jobs = jobs
        self._watched: list[Job] = []
        self._shown = ""
        self.shown = ElidedLabel()
        self.origin = ElidedLabel()
        self.origin.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.doing = PlainLabel()
        self.progress = QProgressBar()
        self.progress.setFixedWidth(120)
        self.progress.setFixedHeight(8)
        self.progress.setTextVisible(False)
        self.cancel = QPushButton("Cancel")
        self.cancel.setFixedHeight(20)
        self.cancel.setStyleSheet("padding: 0 8px;")
        self.cancel.clicked.connect(jobs.cancel_all)
        for label in (self.shown, self.origin, self.doing, self.cancel):
            label.setFont(font(11.5))
        for label in (self.shown, self.origin):
            label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 0, 14, 0)
        layout.setSpacing(10)
        for widget, stretch in (
            (self.shown, 5),
            (self.doing, 0),
            (self.progress, 0),
            (self.cancel, 0),
            (self.origin, 6),
        ):
            layout.addWidget(widget, stretch)
        self.setFixedHeight(26)
        self._back = QTimer(self, singleShot=True, interval=_SAID_FOR_MS)
        self._back.timeout.connect(lambda: self._put(self._shown))
        self._late = QTimer(self, singleShot=True, interval=_SHOW_AFTER_MS)
        self._late.timeout.connect(lambda: self._show_progress(bool(self._watched)))
        jobs.progressed.connect(self._progressed)
        jobs.ended.connect(self._ended)
        self._show_progress(False)

    def show_text(self, text: str) -> None:
        """Say what is shown; a message that is being said stays until its time is over."""
        self._shown = text
        if not self._back.isActive():
            self._put(text)

    def use_theme(self) -> None:
        """Say what is said in the colours of the theme in use now."""
        self._put(self.shown.text())

    def say(self, text: str, *, alarm: bool = False) -> None:
        """Say something for a while."""
        self._put(text, alarm=alarm)
        self._back.start()

    def fall_silent(self) -> None:
        """Say what is shown, whatever was being said."""
        self._back.stop()
        self._put(self._shown)

    def _put(self, text: str, *, alarm: bool = False) -> None:
        self.shown.setText(text)
        self.shown.setToolTip(tip(text))
        self.shown.setStyleSheet(f"color: {(theme().alarm if alarm else theme().soft).name()};")

    def _progressed(self, job: Job, done: int, total: int, what: str) -> None:
        if job not in self._watched:
            self._watched.append(job)
            if not self._late.isActive():
                self._late.start()
        counted = f" {done:,} of {total:,}" if total > 1 else ""
        self.doing.setText(f"{what}{counted}")
        self.progress.setRange(0, 100 if total > 1 else 0)
        self.progress.setValue(100 * done // total if total > 1 else 0)

    def _ended(self, job: Job) -> None:
        if job in self._watched:
            self._watched.remove(job)
        if not self._watched:
            self._show_progress(False)

    def _show_progress(self, shown: bool) -> None:
        for widget in (self.doing, self.progress, self.cancel):
            widget.setVisible(shown)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme().ground)
        painter.setPen(QPen(theme().line, 1))
        painter.drawLine(0, 0, self.width(), 0)
