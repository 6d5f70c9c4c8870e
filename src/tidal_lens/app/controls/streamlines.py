"""Controls of streamlines."""

from __future__ import annotations

from PyQt6.QtWidgets import QPushButton, QWidget

from tidal_lens.app.card_chooser import CardChooser
from tidal_lens.app.controls.arrows import VELOCITY
from tidal_lens.app.controls.base import Coloured
from tidal_lens.app.controls.frozen import freeze_chosen
from tidal_lens.app.controls.line_look import LineLookControls
from tidal_lens.app.controls.particles import ParticleControls
from tidal_lens.app.controls.seeds import SeedsControls
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Choice, NumberField, QuantityChooser, column, label, row, rule
from tidal_lens.study.kinds.streamlines import StreamShape
from tidal_lens.tracing.streamlines import Lines

_NAMES = {"moment": "Streamlines", "pathlines": "Pathlines", "streaklines": "Streaklines", "timelines": "Timelines"}


class StreamControls(Coloured[StreamShape]):
    """Seeds, how lines are followed, how they look, and what became of them."""

    def __init__(self, document: Document) -> None:
        super().__init__(document)
        self.seeds = SeedsControls(document, lambda what, grip, sets: self.reshape(what, grip, seeds=sets))
        self.body.addWidget(self.seeds)
        self.inside = label("", "soft")
        self.body.addWidget(self.inside)
        self.of = QuantityChooser("Follow", "The vector along which lines are followed", plain=False)
        self.of.picked.connect(lambda name: self.reshape("Lines of", of=name))
        self.particle = ParticleControls(lambda what, now: self.reshape(what, particle=now))
        self.body.addWidget(self.particle)
        self._steered = QWidget()  # what lines have, and particles have not
        self.body.addWidget(self._steered)
        self.where = Choice([("space", "Space", "Lines go through the flow"), ("walls", "Walls", "Lines stay on the walls"),
                             ("card", "A card", "Lines stay on the surface of another card")])
        self.where.picked.connect(self._bind)
        self.bound = CardChooser("Along which card", "The card on whose surface lines stay", "no card")
        self.bound.picked.connect(lambda card: self.reshape("Where lines go", on_card=card))
        self.in_time = Choice([("moment", "Now", "Lines of the moment on the table"),
                               ("pathlines", "Path", "Pathlines: ways of particles that are at the seeds now, through the series"),
                               ("streaklines", "Streak", "Streaklines: particles released at the seeds one after another, as smoke"),
                               ("timelines", "Time", "Timelines: rows of seeds released together, again and again")])
        self.in_time.picked.connect(self._through_time)
        self.every = NumberField("Release every", "Time from one release to the next; 0 to have it chosen", 1.0, 0.0, 1e12)
        self.every.edited.connect(lambda v: self.reshape("Releases", every=v))
        self._timed = QWidget()
        column(self._timed, row("In time", self.in_time, stretch=1), row("Released", "every", self.every, stretch=2))
        self.direction = Choice([("backward", "Backward", "Follow the flow upstream"), ("both", "Both", "Follow it both ways"),
                                 ("forward", "Forward", "Follow the flow downstream")])
        self.direction.picked.connect(lambda d: self.reshape("Direction", direction=d))
        column(self._steered, row("Along", self.of, stretch=1), row("Through", self.where, stretch=1), self.bound, self._timed,
               row("Follow", self.direction, stretch=1))
        self.length = NumberField("Greatest length", "Where a line is cut off, each way", 1.0, 1e-12, 1e12)
        self.length.edited.connect(lambda v: self.reshape("Length limit", max_length=v))
        self.tolerance = NumberField("Tolerance", "Error allowed a step, in cell widths; smaller is truer and slower", 1e-4, 1e-8, 0.1)
        self.tolerance.edited.connect(lambda v: self.reshape("Tolerance", tolerance=v))
        self.time = NumberField("Greatest time", "Where a line is cut off, each way; 0 for no limit", 1.0, 0.0, 1e12)
        self.time.edited.connect(lambda v: self.reshape("Time limit", max_time=v))
        self.steps = NumberField("Most steps", "How many points a line may have, each way", 100, 10, 100_000)
        self.steps.whole = True
        self.steps.edited.connect(lambda v: self.reshape("Step limit", max_steps=int(v)))
        self.body.addLayout(row("Length ≤", self.length, "tolerance", self.tolerance, stretch=1))
        self.body.addLayout(row("Time ≤", self.time, "steps ≤", self.steps, stretch=1))
        self.body.addWidget(rule())
        self.drawn = LineLookControls(document, self.relook)
        self.body.addLayout(row("Colour by", self.chooser, self.chip, stretch=1))
        self.body.addWidget(self.drawn)
        self.body.addWidget(self.key)
        self.body.addWidget(rule())
        self._end(document)
        document.result_changed.connect(self._tell_fate)

    def _end(self, document: Document) -> None:
        """What became of the lines, and what can be done about it."""
        self.fate = label("", "soft")
        self.body.addWidget(self.fate)
        self.tighter = QPushButton("Follow doubtful lines tighter")
        self.tighter.setToolTip("Follow those again, with a tenth of the tolerance, whose error estimate is more than a hundredth of their "
                                "length")
        self.tighter.clicked.connect(self._tighten)
        self.body.addWidget(self.tighter)
        self.freeze = QPushButton("Keep a frozen copy")
        self.freeze.setToolTip("Put a copy on the table that stays as the lines are now, whatever becomes of seeds, steps or formulas")
        self.freeze.clicked.connect(lambda: freeze_chosen(document))
        self.body.addWidget(self.freeze)

    def _bind(self, follow: str) -> None:
        layer, shape = self.layer(), self.shape()
        if layer is None or shape is None:
            return
        cards = self.document.study.subjects_for(layer, ("surface",))
        card = shape.on_card or (cards[-1].id if cards else "")
        self.reshape("Where lines go", follow=follow, on_card=card if follow == "card" else "")

    def _through_time(self, way: str) -> None:
        """Another kind of lines, by whose name the card goes unless it was given one of its own."""
        layer, shape = self.layer(), self.shape()
        if layer is None or shape is None:
            return
        word = layer.name.rstrip(" 0123456789")
        name = _NAMES[way] + layer.name[len(word):] if word in _NAMES.values() else layer.name
        self.document.edit_layer(layer.with_(name=name, shape=shape.with_(in_time=way)), "Lines in time")

    def _tighten(self) -> None:
        shape = self.shape()
        if shape is not None and shape.may_be_tighter:
            self.reshape("Tighter", tighter=shape.tighter + 1)

    def _tell_fate(self, layer_id: str) -> None:
        layer = self.layer()
        if layer is None or layer.id != layer_id or self.shape() is None:
            return
        result = self.document.asking.results.get(layer_id)
        self.freeze.setEnabled(result is not None)
        if result is None or not isinstance(result.unmasked.geometry, Lines):
            self.inside.setText("")
            self.fate.setText("")
            return
        lines = result.unmasked.geometry
        self.inside.setText(inside_text(lines))
        worst = float(lines.error.max()) if lines.n_lines else 0.0
        told = [f"{n} {words}" for words, n in lines.census]
        for fates in result.unmasked.tables[1:]:  # of particles, with the boundaries that they came to
            told = [f"{n:.0f} {end}" + (f" at {name}" if name else "") for end, name, n, _ in fates.rows]
        doubtful, shape = len(lines.doubtful), self.shape()
        self.tighter.setVisible(doubtful > 0 and shape is not None and shape.may_be_tighter)
        if doubtful:
            told.append(f"{doubtful} doubtful, dashed")
        nothing = "" if lines.n_lines else "No line: all seeds are outside the flow."
        self.fate.setText("How the lines ended: " + "; ".join(told) + f".\nLargest error estimate {worst:.1e}. "
                          "Point at a line to read its own story." if told else nothing)

    def refresh(self) -> None:
        layer, shape, evaluator, flow = self.layer(), self.shape(), self.document.evaluator, self.document.flow
        if layer is None or shape is None or evaluator is None or flow is None or layer.look.on != "lines":
            return
        self.seeds.show_value(shape.seeds)
        velocity = (VELOCITY,) if flow.roles.has_velocity else ()
        self.of.offer((*velocity, *evaluator.store.quantities()), shape.of, components=3, walls=shape.follow == "walls")
        self.particle.setVisible(shape.particle is not None)
        self._steered.setVisible(shape.particle is None)
        if shape.particle is not None:
            self.particle.show_value(shape.particle)
        self.where.show_value(shape.follow)
        self._timed.setVisible(len(flow.times) > 1 and shape.follow == "space")
        self.in_time.show_value(shape.in_time)
        self.every.setEnabled(shape.in_time in ("streaklines", "timelines"))
        self.every.step = float(f"{(max(flow.times, default=1.0) - min(flow.times, default=0.0)) / 50 or 1.0:.0e}")
        self.every.show_value(shape.every)
        self.direction.setEnabled(shape.in_time in ("moment", "pathlines") or not shape.unsteady)
        self.bound.setVisible(shape.follow == "card")
        self.bound.offer(self.document.study.subjects_for(layer, ("surface",)), shape.on_card)
        for field in (self.time, self.tolerance):
            field.setEnabled(not shape.lying)
        self.length.setEnabled(not shape.unsteady)  # those through time end by time
        self.steps.setEnabled(not shape.unsteady or shape.in_time == "pathlines")
        self.time.step = float(f"{shape.max_length / 100:.0e}")
        self.time.show_value(shape.max_time)
        self.steps.show_value(shape.max_steps)
        self.direction.show_value(shape.direction)
        self.length.step = float(f"{flow.size / 10:.0e}")
        self.length.show_value(shape.max_length)
        self.tolerance.show_value(shape.tolerance)
        self.show_colour(layer, evaluator)
        self.drawn.show_value(layer.look)
        self._tell_fate(layer.id)


def inside_text(lines: Lines) -> str:
    """How many seeds are inside, in words."""
    inside = len(lines.begun)
    if inside == lines.n_seeds:
        return f"all {lines.n_seeds} are inside" if lines.n_seeds > 1 else "the seed is inside"
    return f"{inside} of {lines.n_seeds} seeds are inside"
