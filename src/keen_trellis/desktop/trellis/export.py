"""Draws the whole trellis to a file or on paper."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QBuffer, QIODevice, QRectF, QSize, Qt
from PySide6.QtGui import QImage, QPageLayout, QPainter
from PySide6.QtWidgets import QDialog, QWidget

from keen_trellis.core.errors import OutputError
from keen_trellis.desktop.theme import LIGHT, drawn_in
from keen_trellis.desktop.trellis.view import TrellisView
from keen_trellis.flow.whole_file import whole_file
from keen_trellis.outputs.report.charts import Picture

_PIXELS = 2.0  # of a picture for each of the screen's, so that it is sharp in a document


def save(view: TrellisView, path: Path, title: str) -> None:
    """Draw the trellis to an SVG or PNG file, whole or not at all; OutputError if it cannot be."""
    kinds = {".svg": svg, ".png": png}
    draw = kinds.get(path.suffix.lower())
    if draw is None:
        raise OutputError(f"{path.name} is neither .svg nor .png.", remedy="Choose one of the two.")
    try:
        with whole_file(path) as draft:
            draft.write_bytes(draw(view, title))
    except OSError as error:
        remedy = "Choose another folder."
        raise OutputError(
            f"It cannot be written: {error.strerror}.", where=str(path), remedy=remedy
        ) from error


def for_report(view: TrellisView, name: str) -> Picture:
    """The trellis as a report of the flow called so has it, in the light theme."""
    said = f"The flow {name}, from its tables to its outputs"
    with drawn_in(LIGHT):
        content, size = svg(view, said), _size(view)
    return Picture(content, "image/svg+xml", size.width(), size.height(), said)


def _size(view: TrellisView) -> QSize:
    return QSize(round(view.shown.width), round(view.shown.height))


def svg(view: TrellisView, title: str) -> bytes:
    """The whole trellis as an SVG file."""
    from PySide6.QtSvg import QSvgGenerator

    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    generator = QSvgGenerator()
    generator.setOutputDevice(buffer)
    size = _size(view)
    generator.setSize(size)
    generator.setViewBox(QRectF(0, 0, size.width(), size.height()))
    generator.setTitle(title)
    painter = QPainter(generator)
    view.draw_whole(painter)
    painter.end()
    return bytes(buffer.data().data())


def png(view: TrellisView, _: str) -> bytes:
    """The whole trellis as a PNG file, sharp on paper."""
    image = QImage(_size(view) * _PIXELS, QImage.Format.Format_ARGB32)
    image.fill(Qt.GlobalColor.white)
    painter = QPainter(image)
    painter.scale(_PIXELS, _PIXELS)
    view.draw_whole(painter)
    painter.end()
    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")  # type: ignore[call-overload]
    return bytes(buffer.data().data())


def open_print(parent: QWidget, view: TrellisView, title: str) -> QWidget:
    """Ask for a printer, and print the trellis on one page across; the dialog that asks."""
    from PySide6.QtPrintSupport import QPrintDialog, QPrinter

    printer = QPrinter(QPrinter.PrinterMode.HighResolution)
    printer.setPageOrientation(QPageLayout.Orientation.Landscape)
    printer.setDocName(title)
    dialog = QPrintDialog(printer, parent)
    dialog.accepted.connect(lambda: print_on(printer, view))
    QDialog.open(dialog)
    return dialog


def print_on(printer: object, view: TrellisView) -> None:
    """Print the trellis as large as one page allows."""
    painter = QPainter(printer)  # type: ignore[call-overload]
    page, size = QRectF(painter.viewport()), _size(view)
    scale = min(page.width() / max(size.width(), 1), page.height() / max(size.height(), 1))
    painter.scale(scale, scale)
    view.draw_whole(painter)
    painter.end()
