"""Controls of a round cut."""

from __future__ import annotations

from tidal_lens.app.controls.base import SurfaceLookControls
from tidal_lens.app.controls.of_blocks import OfBlocks
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, NumbersField, PointField, row
from tidal_lens.errors import StudyError, TidalLensError
from tidal_lens.study.kinds.round import TERMS, RoundShape

_NAMES = ("Sphere", "Cylinder", "Cone", "Quadric")


class RoundControls(SurfaceLookControls[RoundShape]):
    """Its form, where it stands and how large it is."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.of = OfBlocks(document, lambda blocks: self.reshape("Blocks", blocks=blocks))
        self.form = Choice([("sphere", "Sphere", "A sphere about a centre"), ("cylinder", "Pipe", "A cylinder about an axis"),
                            ("cone", "Cone", "A cone from its tip on"), ("quadric", "Quadric", "Any surface of the second degree")])
        self.form.picked.connect(self._form)
        self.centre = PointField("Centre", "Its middle, or the tip of a cone")
        self.centre.pointed.connect(lambda p: self.reshape("Move", centre=p))
        self.axis = PointField("Axis", "Direction of its axis: three numbers of any length")
        self.axis.pointed.connect(self._turn)
        self.radius = NumberField("Radius", "Its radius", low=1e-12)
        self.radius.edited.connect(lambda v: self.reshape("Radius", radius=v))
        self.angle = NumberField("Half angle", "Half the opening of the cone, in degrees", 1.0, 0.5, 89.5)
        self.angle.edited.connect(lambda v: self.reshape("Half angle", angle=v))
        self.terms = NumbersField("Terms", f"Coefficients of {', '.join(TERMS)}: their sum is zero on it")
        self.terms.edited.connect(self._take_terms)
        for field in (self.centre, self.axis, self.terms):
            field.refused.connect(lambda why: document.tell(TidalLensError(why, "", "Type numbers with blanks between them.")))
        for n, one in enumerate((row("Form", self.form, stretch=1), row("Centre", self.centre, stretch=1),
                                 row("Axis", self.axis, stretch=1), row("Radius", self.radius, stretch=1),
                                 row("Angle", self.angle, stretch=1), row("Terms", self.terms, stretch=1))):
            self.body.insertLayout(n, one)
        self.body.insertWidget(0, self.of)

    def _form(self, form: str) -> None:
        layer, shape = self.layer(), self.shape()
        if layer is not None and shape is not None:
            name = form.capitalize() if layer.name in _NAMES else layer.name
            changed = shape.with_(form=form)
            if form == "quadric" and shape.form != "quadric":  # goes on from what is there
                nine, level = shape.quadric()
                changed = changed.with_(terms=(*(float(f"{t:.9g}") for t in nine), float(f"{-level:.9g}")))
            self.document.edit_layer(layer.with_(shape=changed, name=name), "Form")

    def _turn(self, axis: tuple[float, float, float]) -> None:
        if not any(axis):
            self.document.tell(StudyError("An axis needs a length.", "", "Type three numbers that are not all zero."))
        else:
            self.reshape("Turn", axis=axis)

    def _take_terms(self, terms: tuple[float, ...]) -> None:
        if len(terms) != len(TERMS) or not any(terms[:9]):
            self.document.tell(StudyError("Ten coefficients are needed, of which the first nine are not all zero.", "",
                                          f"Type those of {', '.join(TERMS)}."))
        else:
            self.reshape("Coefficients", terms=terms)

    def refresh(self) -> None:
        shape, flow = self.shape(), self.document.flow
        if shape is None or flow is None:
            return
        self.form.show_value(shape.form)
        self.centre.show_values(shape.centre)
        self.axis.show_values(shape.axis)
        self.radius.step = float(f"{0.01 * flow.size:.0e}")
        self.radius.show_value(shape.radius)
        self.angle.show_value(shape.angle)
        self.terms.show_values(shape.terms)
        self.centre.setEnabled(shape.form != "quadric")
        self.axis.setEnabled(shape.form in ("cylinder", "cone"))
        self.radius.setEnabled(shape.form in ("sphere", "cylinder"))
        self.angle.setEnabled(shape.form == "cone")
        self.terms.setEnabled(shape.form == "quadric")
        self.of.show_value(shape.blocks)
        super().refresh()
