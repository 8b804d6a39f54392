"""What the window does about lists of corrections: which is looked through, a file for one, another pair."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, QPoint

from keen_trellis.core.errors import SourceError, UsageError
from keen_trellis.desktop.dialogs import ask_to_open, ask_to_save
from keen_trellis.desktop.sentence.chooser import Choice, Chooser
from keen_trellis.desktop.sentence.entry import Entry
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.flow import corrections
from keen_trellis.flow.corrections import LIST_ENDING, called, said_now
from keen_trellis.flow.plain_text import cut, visible

_FILTERS = ["Lists of corrections (*.csv)"]
_OTHER = object()
_LONGEST = 32


class CorrectionListActions(QObject):
    """The commands that are about lists of corrections."""

    def __init__(self, frame: Frame) -> None:
        super().__init__(frame)
        self._frame = frame
        self._page = frame.bench.correction_list
        self._page.new_wanted.connect(self.add)
        frame.sentence.list_wanted.connect(self._page.show_list)
        frame.sentence.list_file_wanted.connect(self.ask_file)

    def show(self) -> None:
        """Ask which list is to be looked through."""
        known = self._frame.session.lists.known()
        if not known:
            self._open_other()
            return
        choices = [Choice(path, called(path), str(Path(path).parent)) for path in known]
        choices.append(Choice(_OTHER, "another list …", "a file"))
        chooser = Chooser(choices, self._frame, title="Which list of corrections?")

        def chosen(path: object) -> None:
            if isinstance(path, str):
                self._page.show_list(path)
            else:
                self._open_other()

        chooser.chosen.connect(chosen)
        chooser.open_under(self._frame.sentence.view, at=QPoint(240, 4))

    def _open_other(self) -> None:
        def chosen(paths: list[Path]) -> None:
            self._page.show_list(str(paths[0].absolute()))

        place = self._frame.session.place
        ask_to_open(self._frame, "Look through a list of corrections", place, _FILTERS, chosen)

    def ask_file(self, step: str, number: int, keep: bool) -> None:
        """Ask for the file of a list that a link is to use, or in which its corrections are to be kept."""
        lists, place = self._frame.session.lists, self._frame.session.place
        if keep:
            ask_to_save(
                self._frame,
                "Keep the corrections in a list",
                place / f"names{LIST_ENDING}",
                _FILTERS,
                lambda path: lists.keep(step, number, str(path.absolute())),
                asks=False,
            )
        else:
            ask_to_open(
                self._frame,
                "Use a list of corrections",
                place,
                _FILTERS,
                lambda paths: lists.use(step, number, str(paths[0].absolute())),
            )

    def add(self, path: str) -> None:
        """Ask for another pair of a list: how a value is written, then what it stands for."""

        def written(read: str) -> None:
            title = f"“{visible(cut(read, _LONGEST))}” stands for"
            self._ask(title, lambda meant: check(read, meant), lambda meant: put(read, meant))

        def check(read: str, meant: str) -> None:
            if not meant.strip() or meant == read:
                raise UsageError("It has to stand for another value.")

        def put(read: str, meant: str) -> None:
            try:
                corrections.add(path, said_now([(read, meant)]))
            except SourceError as error:
                self._frame.session.failed.emit(error)
                return
            self._frame.session.lists.reread([path])
            self._page.fill()

        self._ask(f"Another pair of {called(path)}: the value as it is written", _check_given, written)

    def _ask(self, title: str, check: Callable[[str], object], entered: Callable[[str], None]) -> None:
        entry = Entry(title, "", self._frame, check=check)
        entry.entered.connect(entered)
        entry.open_under(self._frame.sentence.view, at=QPoint(240, 4))


def _check_given(text: str) -> None:
    if not text.strip():
        raise UsageError("Write the value as it stands in the data.")
