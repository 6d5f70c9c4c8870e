"""How derived quantities are worked out, where there is a choice."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtWidgets import QWidget

from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, NumberField, Picker, column, label, row
from tidal_lens.app.stations.derive_frames import FramesControls
from tidal_lens.app.stations.rows import Section
from tidal_lens.quantities.methods import AVERAGING


class ChoiceControls(QWidget):
    """Averaging, order of differences, axis of rotation, knife edge."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.section = Section("How it is worked out", folded=True)
        self.averaging = Picker("Cell values to nodes", "How the values of the cells round a node are averaged")
        self.averaging.offer([text[0].upper() + text[1:] for text in AVERAGING.values()], 0)
        self.averaging.activated.connect(lambda at: self._set(averaging=list(AVERAGING)[at]))
        self.fourth = Check("Fourth order on structured blocks", "Differences of fourth order where blocks are structured: truer on smooth "
                            "grids, but they ring at shocks and on rough ones", lambda on: self._set(fourth_order=on))
        self.on_cells = Check("Derivatives between cells", "Take derivatives of cell values between the cells themselves, not of the "
                              "values brought to nodes", lambda on: self._set(on_cells=on))
        self.fourth_note = label("It rings at shocks and on rough grids.", "warn")
        self.axis = [NumberField(f"Axis {a}", f"{a} component of the axis of rotation") for a in "xyz"]
        self.point = [NumberField(f"Axis point {a}", f"{a} of a point of the axis of rotation") for a in "xyz"]
        self.knife = [NumberField(f"Knife edge {a}", f"{a} of the direction along which the knife edge shows the density gradient")
                      for a in "xyz"]
        for name, fields in (("axis", self.axis), ("axis_point", self.point), ("knife", self.knife)):
            for at, one in enumerate(fields):
                one.edited.connect(partial(self._set_part, name, at))
        self.spin = NumberField("Rate of rotation", "Rate of rotation about the axis [rad/s]: for relative velocity", 1.0)
        self.spin.edited.connect(lambda v: self._set(spin=v))
        self.turning = OfBlocks(document, lambda blocks: self._set(turning=blocks), none="all blocks", lead="Turn")
        self.frames = FramesControls(document)
        self.shading = NumberField("Shading", "How dark schlieren shading is", 1.0, 1e-6, 1000.0)
        self.shading.edited.connect(lambda v: self._set(shading=v))
        inside = QWidget()
        column(inside, label("Cell values to nodes", "soft"), self.averaging, self.on_cells, self.fourth, self.fourth_note,
               label("Axis of rotation, a point of it, and the rate about it [rad/s]", "soft"), row("Axis", *self.axis),
               row("Point", *self.point), row("Rate", self.spin), self.turning, self.frames,
               label("Knife edge and shading of schlieren pictures", "soft"),
               row("Along", *self.knife), row("Shading", self.shading), spacing=4)
        self.section.add(inside)
        column(self, self.section)
        document.settings_changed.connect(self.refresh)
        document.case_changed.connect(self.refresh)
        self.refresh()

    def _set(self, **changes: Any) -> None:
        study = self.document.study
        self.document.edit(study.with_(choices=study.choices.with_(**changes)), "How it is worked out")

    def _set_part(self, name: str, at: int, value: float) -> None:
        now = getattr(self.document.study.choices, name)
        new = tuple(value if n == at else c for n, c in enumerate(now))
        if name == "axis_point" or any(new):
            self._set(**{name: new})
        else:
            self.refresh()

    def refresh(self) -> None:
        """Show the choices in force."""
        now = self.document.study.choices
        self.averaging.setCurrentIndex(list(AVERAGING).index(now.averaging))
        self.fourth.setChecked(now.fourth_order)
        self.on_cells.setChecked(now.on_cells)
        self.fourth_note.setVisible(now.fourth_order)
        for fields, values in ((self.axis, now.axis), (self.point, now.axis_point), (self.knife, now.knife)):
            for one, value in zip(fields, values, strict=True):
                one.show_value(value)
        self.spin.show_value(now.spin)
        self.turning.show_value(now.turning)
        self.frames.refresh()
        self.shading.show_value(now.shading)
