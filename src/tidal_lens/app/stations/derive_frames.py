"""Blocks that turn otherwise than the rest: each frame with its blocks, axis and rate."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import IconButton, NumberField, column, label, row
from tidal_lens.study.model import FrameOfBlocks


class _OneFrame(QWidget):
    """One frame."""

    def __init__(self, document: Document, number: int) -> None:
        super().__init__()
        self._document, self._number = document, number
        self.blocks = OfBlocks(document, lambda blocks: self._set(blocks=blocks), none="no blocks", lead="Turn")
        self.axis = [NumberField(f"Axis {a} of frame {number + 2}", f"{a} component of the axis of these blocks") for a in "xyz"]
        self.point = [NumberField(f"Axis point {a} of frame {number + 2}", f"{a} of a point of their axis") for a in "xyz"]
        self.rate = NumberField(f"Rate of frame {number + 2}", "Rate of rotation of these blocks [rad/s]", 1.0)
        self.rate.edited.connect(lambda value: self._set(rate=value))
        for name, fields in (("axis", self.axis), ("point", self.point)):
            for at, one in enumerate(fields):
                one.edited.connect(partial(self._set_part, name, at))
        self.away = IconButton("trash-2", "Take the frame away", "These blocks turn as the rest, or stand", self._remove)
        column(self, row(f"Frame {number + 2}", label(""), self.away, stretch=0), self.blocks, row("Axis", *self.axis),
               row("Point", *self.point), row("Rate", self.rate), spacing=4)

    def _frames(self) -> tuple[FrameOfBlocks, ...]:
        return self._document.study.choices.frames

    def _take(self, frames: tuple[FrameOfBlocks, ...]) -> None:
        study = self._document.study
        self._document.edit(study.with_(choices=study.choices.with_(frames=frames)), "Frames that turn")

    def _set(self, **changes: Any) -> None:
        self._take(tuple(f.with_(**changes) if n == self._number else f for n, f in enumerate(self._frames())))

    def _set_part(self, name: str, at: int, value: float) -> None:
        new = tuple(value if n == at else c for n, c in enumerate(getattr(self._frames()[self._number], name)))
        if name == "point" or any(new):
            self._set(**{name: new})
        else:
            self.refresh(self._frames()[self._number])

    def _remove(self) -> None:
        self._take(tuple(f for n, f in enumerate(self._frames()) if n != self._number))

    def refresh(self, frame: FrameOfBlocks) -> None:
        """Show what is said."""
        self.blocks.show_value(frame.blocks)
        for fields, values in ((self.axis, frame.axis), (self.point, frame.point)):
            for one, value in zip(fields, values, strict=True):
                one.show_value(value)
        self.rate.show_value(frame.rate)


class FramesControls(QWidget):
    """All of them, and a button for another; of results of several blocks."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.rows: list[_OneFrame] = []
        self._list = QVBoxLayout()
        self._list.setSpacing(6)
        self.more = QPushButton("Blocks that turn otherwise…")
        self.more.setToolTip("Give some blocks an axis and a rate of their own")
        self.more.clicked.connect(self._add)
        column(self, self._list, self.more, spacing=4)

    def _add(self) -> None:
        study = self._document.study
        like = study.choices
        new = FrameOfBlocks(point=like.axis_point, axis=like.axis, rate=-like.spin)
        self._document.edit(study.with_(choices=like.with_(frames=(*like.frames, new))), "Frames that turn")

    def refresh(self) -> None:
        """Show those that there are."""
        frames, flow = self._document.study.choices.frames, self._document.flow
        self.setVisible(bool(frames) or (flow is not None and len(flow.blocks) > 1))
        while len(self.rows) < len(frames):
            self.rows.append(_OneFrame(self._document, len(self.rows)))
            self._list.addWidget(self.rows[-1])
        for number, one in enumerate(self.rows):
            one.setVisible(number < len(frames))
            if number < len(frames):
                one.refresh(frames[number])
