"""What the right button opens: for each thing in the trellis and on the bench the commands that are about it.

The thing that is pointed at is selected first, so that a command means the same from a menu, the finder and
its keys.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QObject, QPoint
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QMenu, QWidgetAction

from keen_trellis.core.join_type import QUESTION_TYPES
from keen_trellis.core.values import FieldType
from keen_trellis.desktop.bench.bars import Sketch
from keen_trellis.desktop.bench.grid import Spot
from keen_trellis.desktop.kinds import COMMANDS
from keen_trellis.desktop.sentence.view import ChipButton
from keen_trellis.desktop.shell.commands import Commands, Entry
from keen_trellis.desktop.shell.frame import Frame
from keen_trellis.desktop.shell.selected import SelectedCommands
from keen_trellis.desktop.trellis.items import Item
from keen_trellis.flow.graph import ROWS
from keen_trellis.flow.plain_text import cut
from keen_trellis.flow.steps import KINDS
from keen_trellis.session.selection import Selection
from keen_trellis.sources.locations import TYPED

_STEPS = ("Add a step", [f"step_{kind}" for kind in COMMANDS])
_TYPES = ("Join type", [f"type_{number}" for number in range(1, len(QUESTION_TYPES) + 1)])
_ON: tuple[Entry, ...] = (
    _STEPS,
    "join",
    "blend",
    "union",
    "beside",
    "branch",
    "output",
    "output_table",
    "share",
)
_SELF: tuple[Entry, ...] = ("rename", "note", "skip", "remove")
_GROUND: tuple[Entry, ...] = (
    *(
        "open",
        "open_folder",
        "open_together",
        "open_address",
        "type_table",
        "calendar",
        "values",
        "paste",
        None,
    ),
    *("larger", "smaller", "own_size", "fit", None, "match_report", "picture", "print"),
)
_TABLE: tuple[Entry, ...] = (
    "begin",
    None,
    "join",
    "blend",
    "union",
    "beside",
    "reconcile",
    None,
    "fields",
    "remove",
)
_SOURCE: tuple[Entry, ...] = (
    *(*_ON, "reconcile", None, "fields", "raw", "refresh_one", "elsewhere", None, "rename", "note", "remove"),
)
_STEP: tuple[Entry, ...] = (*_ON, None, "fields", None, "earlier", "later", "copy", "cut", "paste", *_SELF)
_JOIN: tuple[Entry, ...] = (
    *("question", _TYPES, "types", "swap", None, "review", "guards", "fields", "report_step", None),
    *(*_ON, None, *_SELF),
)
_KNOT: tuple[Entry, ...] = ("guards", "fields", "report_step", None, *_ON, None, *_SELF)
_STUB: tuple[Entry, ...] = (*_ON, None, "fields")
_OUTPUT: tuple[Entry, ...] = ("raw", "write", "guards", "report_step", None, *_SELF)
_SLAT: tuple[Entry, ...] = ("remove",)
_FIELD: tuple[Entry, ...] = (
    "sort",
    "find",
    None,
    "spread",
    "fields",
    "clusters",
    "remedies",
    None,
    "confidential",
)
_ROW: tuple[Entry, ...] = (
    *(
        "only_like",
        "all_but",
        "read_as",
        "pair",
        None,
        "copy_value",
        "copy",
        "choose_all",
        None,
        "record",
        "trace",
        "follow",
        None,
    ),
    *("sort", "find"),
)
_REASON: tuple[Entry, ...] = ("mend", "mends", "review", "clusters", None, "next_band", "last_band")
_BAND: tuple[Entry, ...] = ("next_band", "last_band", None, "types", "question", "guards")


class Pointing(QObject):
    """Opens the menus of the trellis and of the bench's grid."""

    def __init__(self, frame: Frame, commands: Commands, selected: SelectedCommands) -> None:
        super().__init__(frame)
        self._frame, self._commands, self._selected = frame, commands, selected
        frame.trellis.menu_wanted.connect(self._on_trellis)
        frame.bench.grid.menu_wanted.connect(self._on_bench)
        frame.sentence.view.menu_wanted.connect(self._on_sentence)

    def _on_trellis(self, item: Item | None, place: QPoint) -> None:
        session = self._frame.session
        if item is not None and item.selection.step not in session.chosen:
            session.select(item.selection)
        self._commands.menu(self._frame, self.of_item(item)).popup(place)

    def of_item(self, item: Item | None) -> Sequence[Entry]:
        """What can be done with something in the trellis; None: with its ground."""
        if item is None:
            return _GROUND
        if item.role == "open ring":
            tie = self._frame.trellis.tie_wanted
            return (("Tie the filter to this rail", lambda: tie.emit(item.selection.slat, item.part)), *_SLAT)
        if item.selection.slat:
            return _SLAT
        if item.selection.value:
            return ("values", "rename", "remove")
        if item.selection.is_stump:
            return _TABLE if item.selection.table else self._of_file(item.selection.path)
        return (*self._part(item), *self._of_step(item.selection))

    def _of_file(self, path: str) -> Sequence[Entry]:
        margin = self._frame.session.margin
        unused, listed = margin.unused(path), margin.listed(path)
        if not unused:
            return ("remove",)
        said = "Fold its unused tables away" if len(listed) == len(unused) else "List its unused tables"
        return ((said, lambda: margin.list_or_fold(path)), None, "remove")

    def _part(self, item: Item) -> Sequence[Entry]:
        """What can be done with a part of a knot."""
        if item.role != "knot" or item.part == "whole":
            return ()
        clicked, step = self._frame.trellis.part_clicked, item.selection.step
        return ((f"Keep or leave out: {item.text}", lambda: clicked.emit(step, item.part)), None)

    def _of_step(self, selection: Selection) -> Sequence[Entry]:
        step = self._frame.session.flow.find(selection.step)
        if step is None:
            return _GROUND
        if selection.port != ROWS:
            return _STUB
        if KINDS.ends_rail(step):
            return _OUTPUT
        if KINDS.begins_rail(step):
            return _SOURCE if KINDS.settings(step).reader != TYPED else ("typing", None, *_SOURCE)
        if KINDS.matches(step):
            return _JOIN
        return _STEP if len(step.inputs) == 1 else _KNOT

    def _on_bench(self, spot: Spot, place: QPoint) -> None:
        grid = self._frame.bench.grid
        entries = {Spot.FIELD: _FIELD, Spot.ROW: _ROW, Spot.REASON: _REASON, Spot.BAND: _BAND}[spot]
        opened: list[Entry] = self._field_steps() if spot is Spot.FIELD else []
        if spot is Spot.BAND and grid.current_line is not None and grid.content and grid.content.is_knot:
            band = grid.current_line.band
            opened.append(("Where these rows go…", lambda: grid.open_destinations(band)))
        if spot in (Spot.BAND, Spot.REASON):
            opened.append(("Open or close", lambda: grid.toggle(grid.current)))
        menu = self._commands.menu(self._frame, [*opened, *([None] if opened else []), *entries])
        if spot is Spot.FIELD:
            self._picture(menu)
        menu.popup(place)

    def _picture(self, menu: QMenu) -> None:
        """Let the menu of a field's head begin with a small picture of how the field spreads."""
        spread = self._frame.bench.spread.small()
        if spread is None:
            return
        action = QWidgetAction(menu)
        action.setDefaultWidget(Sketch(spread))
        action.setText(f"How {spread.field} spreads")
        action.triggered.connect(self._frame.bench.spread.show)
        menu.insertAction(menu.actions()[0], action)

    def _field_steps(self) -> list[Entry]:
        """The steps that can be put there for the current field."""
        field = self._frame.bench.field_here()
        if field is None or self._commands.why_not("field_steps"):
            return []
        # What takes the field away comes last.
        leaves_out, *steps = [
            (command.about, partial(self._selected.begin_step, kind, command, field.name))
            for kind, command in COMMANDS.items()
            if command.about and (field.type is FieldType.TEXT or not command.of_text)
        ]
        return [
            *steps,
            ("Rename it…", partial(self._selected.rename_field, field)),
            ("Read it as another type…", partial(self._selected.retype, field)),
            leaves_out,
        ]

    def _on_sentence(self, chip: ChipButton | None, place: QPoint) -> None:
        """What can be done with a chip, with the sentence, and with the step that it reads."""
        session, view = self._frame.session, self._frame.sentence.view
        entries: list[Entry] = []
        if chip is not None:
            entries += [
                (f"Change: {chip.chip.label.lower()}", chip.click),
                (f"Copy “{cut(chip.chip.text, 40)}”", partial(_copy, chip.chip.text)),
            ]
        entries += [("Copy the sentence", partial(_copy, view.text)), "guide"]
        if session.selection.step:
            entries += [None, *self._of_step(session.selection)]
        self._commands.menu(self._frame, entries).popup(place)

    def open_field_steps(self) -> None:
        """Open the menu of steps for the current field, under its head."""
        grid = self._frame.bench.grid
        place = QPoint(grid.column_left(grid.column), grid.header_height)
        self._commands.menu(self._frame, self._field_steps()).popup(grid.viewport().mapToGlobal(place))


def _copy(text: str) -> None:
    QGuiApplication.clipboard().setText(text)
