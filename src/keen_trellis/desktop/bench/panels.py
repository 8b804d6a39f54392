"""What takes the place of the rows on the bench: one panel at a time, each made when it is first wanted."""

from __future__ import annotations

from functools import cached_property
from typing import ClassVar, Generic, TypeVar

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QStackedLayout, QWidget

from keen_trellis.handbook import Chapter
from keen_trellis.session.outcome import Outcome
from keen_trellis.session.selection import Selection
from keen_trellis.session.session import Session

View_co = TypeVar("View_co", bound=QWidget, covariant=True)


class Panels(QObject):
    """Which panel is open, and for which selection.

    opened: one took the place of what was there.  closed: the rows are wanted again.
    rows_wanted: some rows of a table, to be shown by themselves, and what leads back from them.
    """

    opened = Signal()
    closed = Signal()
    rows_wanted = Signal(object, object)

    def __init__(self, session: Session, stack: QStackedLayout) -> None:
        super().__init__(stack)
        self._session, self._stack = session, stack
        self._open: Opener[QWidget] | None = None
        self._open_for: Selection | None = None

    def add(self, view: QWidget) -> None:
        """Let a panel be one of those that can be opened."""
        self._stack.addWidget(view)

    def open(self, opener: Opener[QWidget], *, focus: bool = True) -> None:
        """Let a panel have the bench until it is closed or something else is selected."""
        self._open, self._open_for = opener, self._session.selection
        self._stack.setCurrentWidget(opener.view)
        if focus:
            opener.view.setFocus()
        self.opened.emit()

    @property
    def shown(self) -> Opener[QWidget] | None:
        """What opened the panel that is seen, None while rows or a message are."""
        found = self._open
        return found if found is not None and self._stack.currentWidget() is found.view else None

    def stays(self, outcome: Outcome | None) -> bool:
        """Whether a panel is open for this selection and stays, brought up to date."""
        shown = self.shown
        return shown is not None and self._session.selection == self._open_for and shown.stays(outcome)

    def close(self) -> None:
        """Give the bench back to the rows."""
        self._open, self._open_for = None, None
        self.closed.emit()

    def leave_for(self, selection: Selection) -> None:
        """Go from a panel to the rows of something else."""
        self.close()
        self._session.select(selection)


class Opener(QObject, Generic[View_co]):
    """Fills one panel and opens it; a base class. view: the panel, made when it is first asked for.

    chapter: of the guide, that speaks of it.
    """

    chapter: ClassVar = Chapter.COUNTS

    def __init__(self, session: Session, panels: Panels) -> None:
        super().__init__(panels)
        self._session, self._panels = session, panels

    def made(self) -> View_co:
        """A new panel, with what it says led to where it is heard."""
        raise NotImplementedError

    def show(self) -> None:
        """Fill the panel and open it, or say why that cannot be."""
        raise NotImplementedError

    def stays(self, outcome: Outcome | None) -> bool:
        """Whether the panel stays, brought up to date, now that something is known of what it was opened for.

        outcome: what the selected step came to, as far as that is known.
        """
        del outcome
        return True

    @cached_property
    def view(self) -> View_co:
        view = self.made()
        self._panels.add(view)
        view.closed.connect(self._panels.close)  # type: ignore[attr-defined]
        return view

    @property
    def is_shown(self) -> bool:
        return self._panels.shown is self

    def show_or_close(self) -> None:
        """Open the panel; where it is open: go back to the rows."""
        if self.is_shown:
            self._panels.close()
        else:
            self.show()
