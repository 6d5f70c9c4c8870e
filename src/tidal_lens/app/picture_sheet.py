"""A picture of what is seen, at any size: drawn anew for it, with keys, labels and names, without anything to be held."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QRectF, QSize
from PyQt6.QtGui import QImage, QPainter

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.notices import Notice
from tidal_lens.app.overlays.base import Overlay
from tidal_lens.app.overlays.keys import KeysOverlay
from tidal_lens.app.overlays.labels import LabelsOverlay
from tidal_lens.app.pictures import Pictures
from tidal_lens.app.stage import Stage
from tidal_lens.scene.camera import Camera
from tidal_lens.scene.scene import Frame

LARGEST = 12_000  # pixels a side
_TALL = 640.0  # height of the view that letters and lines are sized for


class PictureSheet(Stage):
    """A view that is never shown: it draws once, and is done.

    Parameters
    ----------
    document : Document
        What is seen.
    size : tuple of int
        Pixels across and up.
    done : callable
        Given the picture, or None where it cannot be drawn.
    """

    def __init__(self, document: Document, size: tuple[int, int], done: Callable[[QImage | None], object]) -> None:
        super().__init__(document, document)
        self._pixels, self._done = QSize(*size), done
        self._ratio = size[1] / _TALL
        self.resize(max(1, round(size[0] / self._ratio)), round(_TALL))
        self._overlays: tuple[Overlay, ...] = (LabelsOverlay(self), KeysOverlay(self))
        self._pictures = Pictures(document, document, self, lambda: False, tuple, self)
        self._pictures.shown.connect(self._take)
        self._pictures.failed.connect(lambda _why: self._end(None))

    def devicePixelRatioF(self) -> float:
        return self._ratio

    def begin(self) -> None:
        """Have it drawn."""
        self._pictures.redraw(draft=False)

    def _take(self, frame: Frame, camera: Camera | None) -> None:
        self.show_frame(frame, camera)
        picture = QImage(self._pixels, QImage.Format.Format_RGB32)
        with QPainter(picture) as p:
            p.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
            p.fillRect(picture.rect(), theme.colour("ground"))
            if self.image is not None:
                p.drawImage(QRectF(picture.rect()), self.image)
            p.scale(picture.width() / self.width(), picture.height() / self.height())
            for overlay in self._overlays:
                overlay.paint(p)
        self._end(picture)

    def _end(self, picture: QImage | None) -> None:
        done, self._done = self._done, lambda _picture: None
        self._pictures.close()
        self.deleteLater()
        done(picture)


def save_picture(document: Document, path: Path, size: tuple[int, int]) -> None:
    """Save a picture of what is seen as PNG, and say that it is there, or why it is not."""
    if not all(16 <= n <= LARGEST for n in size):
        told_why = f"A picture of {size[0]} × {size[1]} pixels cannot be drawn. Choose 16 to {LARGEST:,} each way."
        document.noticed.emit(Notice("bad", told_why))
        return

    def done(picture: QImage | None) -> None:
        if picture is None or not picture.save(str(path)):
            document.noticed.emit(Notice("bad", f"{path.name} cannot be written. Choose another folder, or a smaller picture."))
        else:
            document.noticed.emit(Notice("note", f"{path.name}: {size[0]} × {size[1]} pixels."))

    PictureSheet(document, size, done).begin()
