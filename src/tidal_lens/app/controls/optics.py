"""Controls of pictures along the line of sight."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QPushButton, QWidget

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import NumberField, Picker, PointField, QuantityChooser, Slider, column, label, row
from tidal_lens.quantities.names import OWN
from tidal_lens.study.kinds.optics import OF_LIGHT, TITLES, OpticsShape

_SHOWS = tuple(TITLES)


class OpticsControls(SurfaceLookControls[OpticsShape]):
    """What is shown, along which way, and how the light is looked at."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.shows = Picker("Shows", "What the picture is: light, or a sum along the sight")
        self.shows.offer([t[:1].upper() + t[1:] for t in TITLES.values()], 0)
        self.shows.activated.connect(lambda at: self._show(_SHOWS[at]))
        self.quantity = QuantityChooser("Of", "What is added up along the sight", plain=False)
        self.quantity.picked.connect(lambda name: self.reshape("Quantity", quantity=name))
        self.direction = PointField("Looks along", "The direction in which one looks: three numbers; its bead in the view can be dragged")
        self.direction.pointed.connect(self._turn)
        self.as_i_look = QPushButton("As I look")
        self.as_i_look.setToolTip("Look through the flow as the view does now")
        self.as_i_look.clicked.connect(self._as_i_look)
        self.fill = QPushButton("Fill the view")
        self.fill.setToolTip("Look along it with parallel rays and show it alone: the picture over the whole view; again: back")
        self.fill.clicked.connect(document.fill_view)
        self.knife = Slider("Knife edge", "Direction across the knife edge, from the right anticlockwise", -180.0, 180.0)
        self.knife.moved.connect(lambda v: self.reshape("Knife edge", "knife", knife=v))
        self.strength = NumberField("Strength", "Deflection that the edge shows as full light or dark, in radians; 0: by the data", 1e-5,
                                    0.0, 1e6)
        self.strength.edited.connect(lambda v: self.reshape("Strength", strength=v))
        self.distance = NumberField("Distance", "From the flow to the screen", 0.1, 0.0, 1e9)
        self.distance.edited.connect(lambda v: self.reshape("Distance of the screen", distance=v))
        self.wavelength = NumberField("Wavelength", "Of the light, in the flow's unit of length", 1e-8, 1e-12, 1.0)
        self.wavelength.edited.connect(lambda v: self.reshape("Wavelength", wavelength=v))
        self.gladstone = NumberField("Gladstone", "K of Gladstone and Dale, n − 1 = K ρ; of air in m³/kg", 1e-6, 1e-12, 1e6)
        self.gladstone.edited.connect(lambda v: self.reshape("Gladstone and Dale's K", gladstone=v))
        self.columns = NumberField("Columns", "How many columns the picture has", 40, 20, 2000)
        self.columns.whole = True
        self.columns.edited.connect(lambda v: self.reshape("Columns of the picture", columns=int(v)))
        self.told = label("Through the whole flow. The local quantities of the same names are in Derive.", "soft")
        self._rows: dict[str, QWidget] = {}
        for name, rows in (("of", [row("Of", self.quantity, stretch=1)]),
                           ("knife", [row("Knife edge", self.knife, stretch=1), row("Strength", self.strength, stretch=1)]),
                           ("screen", [row("Distance", self.distance, stretch=1)]),
                           ("fringes", [row("Wavelength", self.wavelength, stretch=1)]),
                           ("light", [row("Gladstone", self.gladstone, stretch=1)])):
            self._rows[name] = QWidget()
            column(self._rows[name], *rows, spacing=6)
        for n, part in enumerate((row("Shows", self.shows, stretch=1), row("Along", self.direction, stretch=1),
                                  row(self.as_i_look, self.fill, stretch=0))):
            self.body.insertLayout(n, part)
        for n, widget in enumerate(self._rows.values()):
            self.body.insertWidget(3 + n, widget)
        self.body.insertLayout(3 + len(self._rows), row("Columns", self.columns, stretch=1))
        self.body.insertWidget(4 + len(self._rows), self.told)

    def _show(self, shows: str) -> None:
        layer, shape = self.layer(), self.shape()
        if layer is None or shape is None or layer.look.on != "surface":
            return
        new = shape.with_(shows=shows)
        name = layer.name if layer.name != shape.title.capitalize() else self.document.study.new_name(new.title.capitalize())
        by = layer.look.colour_by
        look = layer.look.with_(colour_by=OWN + new.title) if by == OWN + shape.title else layer.look
        self.document.edit_layer(layer.with_(shape=new, look=look, name=name), "What is shown")

    def _turn(self, value: tuple[float, float, float]) -> None:
        if any(value):
            self.reshape("Direction of the sight", direction=value)

    def _as_i_look(self) -> None:
        camera = self.document.camera
        if camera is not None:
            way = camera.focus - camera.eye
            size = float(np.linalg.norm(way))
            self.reshape("Direction of the sight", direction=tuple(round(float(c) / size, 4) for c in way))

    def refresh(self) -> None:
        layer, shape, evaluator = self.layer(), self.shape(), self.document.evaluator
        if layer is None or shape is None or evaluator is None:
            return
        self.shows.offer([t[:1].upper() + t[1:] for t in TITLES.values()], _SHOWS.index(shape.shows))
        self.quantity.offer(evaluator.store.quantities(), shape.quantity)
        self.direction.show_values(shape.direction)
        self.knife.show_value(shape.knife)
        for field, value in ((self.strength, shape.strength), (self.distance, shape.distance), (self.wavelength, shape.wavelength),
                             (self.gladstone, shape.gladstone), (self.columns, shape.columns)):
            field.show_value(value)
        self._rows["of"].setVisible(shape.shows not in OF_LIGHT)
        self._rows["knife"].setVisible(shape.shows in ("schlieren", "dark"))
        self._rows["screen"].setVisible(shape.shows == "screen")
        self._rows["fringes"].setVisible(shape.shows == "interferogram")
        self._rows["light"].setVisible(shape.shows in OF_LIGHT and shape.shows != "bending")
        super().refresh()
