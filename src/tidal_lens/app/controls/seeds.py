"""Controls of the sets of seeds of a card of lines."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QWidget

from tidal_lens.app.card_chooser import CardChooser
from tidal_lens.app.clicks import Wish
from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, Choice, IconButton, NumberField, Picker, QuantityChooser, column, label, row
from tidal_lens.distinct import distinct
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.sampling.mesh import ready_mesh
from tidal_lens.study.kinds.seeds import SETS, FillSeeds, PointSeeds, SeedSet
from tidal_lens.study.kinds.streamlines import first_set

Edit = Callable[[str, str, tuple[SeedSet, ...]], None]
_WORDS = {"start": "Start", "end": "End", "centre": "Centre", "direction": "Across", "width": "Width", "height": "Height",
          "radius": "Radius", "inner": "Inner", "count": "Seeds", "off": "Off it", "every": "Every",
          "rear": "Rear share", "spacing": "Spacing",
          "first": "From i j k", "last": "To i j k"}
_TIPS = {"inner": "Where a ring begins, as a share of the radius: 0 is a disc, 1 a circle",
         "off": "How far off the surface, along its normals",
         "spacing": "How far apart lines are: each cell of this size is passed through by one; 0 lets the data choose",
         "rear": "Only on so much of their length along the wind, from the rear; 1 is all",
         "every": "Every so many nodes of each index", "direction": "The direction that it faces",
         "count": "How many seeds, from 1 to 10,000"}
_LIMITS: dict[str, tuple[float, float]] = {"count": (1, 10_000), "inner": (0.0, 1.0), "rear": (1e-3, 1.0),
                                           "every": (1, 1e6), "width": (1e-12, 1e12),
                                           "height": (1e-12, 1e12), "radius": (1e-12, 1e12), "spacing": (0.0, 1e12)}
_IN_L = "; 2 L is twice the body's length"
_LENGTHS = {"start", "end", "centre", "width", "height", "radius", "off", "spacing"}
_WHOLE = {"count", "every", "first", "last"}
_NEARER = (1e-4, 3e-4, 1e-3, 3e-3)  # of the flow's size: tried one after another


class SeedsControls(QWidget):
    """Which set is shown, its form and its numbers; sets are added and taken away.

    Parameters
    ----------
    document : Document
        Whose chosen card's seeds they are.
    edit : callable
        Given what is done, its grip, and all sets as they are then.
    """

    def __init__(self, document: Document, edit: Edit) -> None:
        super().__init__()
        self._document, self._edit = document, edit
        self.at = 0
        self._sets: tuple[SeedSet, ...] = ()
        self.which = Picker("Set of seeds", "Which set of seeds is shown below")
        self.which.activated.connect(self._show)
        self.more = QPushButton("+")
        self.more.setAccessibleName("Add a set of seeds")
        self.more.setToolTip("Add a set of seeds to this card")
        self.more.setFixedWidth(34)
        forms = QMenu(self.more)
        for one in SETS:
            action = forms.addAction(one.title)
            if action is not None:
                action.triggered.connect(partial(self._add, str(one.model_fields["form"].default)))
        self.more.setMenu(forms)
        self.less = IconButton("trash-2", "Remove this set", "Take this set of seeds away", self._remove, size=16)
        self.fields: dict[str, list[NumberField]] = {}
        self._rows: dict[str, QWidget] = {}
        self._lines: list[QWidget] = []
        for name in _WORDS:
            self._number_row(name, 3 if name in ("start", "end", "centre", "direction", "first", "last") else 1)
        self.card = CardChooser("Seeds on", "The card over which the seeds lie, evenly by area", "no card")
        self.card.picked.connect(lambda card: self._set("Where seeds lie", card=card))
        self.block = Picker("Block", "The structured block whose nodes are seeds")
        self.block.activated.connect(lambda at: self._set("Block", block=self.block.itemText(at)))
        self.click = QPushButton("Click or drag in the view")
        self.click.setToolTip("Each click on anything in the view adds a seed there, a drag a row of them, until Esc")
        self.click.clicked.connect(lambda _checked=False: self.ask())
        self.clear = QPushButton("Remove all")
        self.clear.setToolTip("Take all listed seeds away but the first")
        self.clear.clicked.connect(lambda _checked=False: self._thin(1))
        self.thin = NumberField("Thin out to", "Keep so many of the listed seeds, evenly chosen", 1, 1, 10_000)
        self.thin.whole = True
        self.thin.edited.connect(lambda v: self._thin(int(v)))
        self.listed = label("", "soft")
        self.boundaries = QWidget()
        self._ticks = column(self.boundaries, spacing=4)
        self.ticks: dict[str, Check] = {}
        self.where = QuantityChooser("Where", "Only where this quantity is above or below a number", plain=True, none="everywhere")
        self.where.picked.connect(lambda name: self._set("Where it is filled", quantity=name or ""))
        self.keep = Choice([("below", "≤", "Where it is at most so much"), ("above", "≥", "Where it is at least so much")])
        self.keep.picked.connect(lambda keep: self._set("Where it is filled", keep=keep))
        self.value = NumberField("Value", "The number")
        self.value.edited.connect(lambda v: self._set("Where it is filled", value=v))
        self._special = {"card": _held(row("On", self.card, stretch=1)), "block": _held(row("Block", self.block, stretch=1)),
                         "points": _held(row(self.click, self.clear), row("Thin to", self.thin, stretch=1)), "boundaries": self.boundaries,
                         "where": _held(row("Where", self.where, stretch=1), row("", self.keep, self.value, stretch=1))}
        column(self, row("Seeds", self.which, self.more, self.less, stretch=1), *self._special.values(), *self._lines, self.listed,
               spacing=6)

    def _number_row(self, name: str, count: int) -> None:
        axes = [""] if count == 1 else list("ijk" if name in ("first", "last") else "xyz")
        more = _IN_L if name in _LENGTHS else ""
        fields = [NumberField(f"{name.capitalize()} {axis}".strip(), _TIPS.get(name, f"{_WORDS[name]} {axis}".strip()) + more, 1,
                              *_LIMITS.get(name, ())) for axis in axes]
        for at, field in enumerate(fields):
            field.whole = name in _WHOLE
            if name in _LENGTHS:
                field.length = lambda: self._document.flow.length if self._document.flow is not None else None
            field.edited.connect(partial(self._typed, name, at))
        self.fields[name] = fields
        self._rows[name] = _held(row(_WORDS[name], *fields, stretch=1 if count == 1 else None))
        self._lines.append(self._rows[name])

    # -- edits -----------------------------------------------------------------------------------------------

    def _now(self) -> SeedSet | None:
        return self._sets[min(self.at, len(self._sets) - 1)] if self._sets else None

    def _put(self, what: str, new: SeedSet, grip: str = "") -> None:
        self._edit(what, grip, tuple(new if n == self.at else part for n, part in enumerate(self._sets)))

    def _set(self, what: str, **changes: Any) -> None:
        now = self._now()
        if now is not None:
            self._put(what, now.with_(**changes))

    def _typed(self, name: str, at: int, value: float) -> None:
        now = self._now()
        if now is None or name not in now.fields:
            return
        old = getattr(now, name)
        new = int(value) if name in _WHOLE else value
        self._set("Seeds", **{name: tuple(new if n == at else v for n, v in enumerate(old)) if isinstance(old, tuple) else new})

    def _add(self, form: str) -> None:
        evaluator, document = self._document.evaluator, self._document
        if evaluator is None:
            return
        argument = document.on_a_card() if form == "card" else form
        self.at = len(self._sets)
        self._edit("Add seeds", "", (*self._sets, first_set(evaluator.store, argument)))

    def _remove(self) -> None:
        if len(self._sets) > 1:
            left = tuple(part for n, part in enumerate(self._sets) if n != self.at)
            self.at = min(self.at, len(left) - 1)
            self._edit("Remove seeds", "", left)

    def _show(self, at: int) -> None:
        self.at = at
        self.show_value(self._sets)

    def ask(self) -> None:
        """Let each click in the view add a seed, until it is given up."""
        asked = self._document.chosen

        def take(places: NDArray[np.float64]) -> None:
            now = self._now()
            if isinstance(now, PointSeeds) and self._document.chosen == asked:
                more = tuple((float(f"{x:.9g}"), float(f"{y:.9g}"), float(f"{z:.9g}")) for x, y, z in self._off_walls(places))
                self._put("Add a seed" if len(more) == 1 else f"Add {len(more)} seeds", now.with_(points=(*now.points, *more)))
                self.ask()

        self._document.clicks.ask(Wish(1, "Click where a line is to begin, or drag over walls and cards.", take, stroke=True))

    def _off_walls(self, places: NDArray[np.float64]) -> NDArray[np.float64]:
        """Places (n, 3), those outside the flow brought a little towards the viewer: on walls they are as exact as the depth seen."""
        flow, camera = self._document.flow, self._document.camera
        mesh = ready_mesh(flow) if flow is not None else None
        if flow is None or camera is None or mesh is None:
            return places
        found, towards = places.copy(), -camera.basis()[2] if camera.span else camera.eye - places
        towards = np.broadcast_to(towards, places.shape) / np.linalg.norm(towards, axis=-1, keepdims=True)
        for step in _NEARER:
            out = ~mesh.locate(found)[1]
            found[out] = places[out] + step * flow.size * towards[out]
        return np.where(mesh.locate(found)[1][:, None], found, places)

    def _thin(self, count: int) -> None:
        now = self._now()
        if isinstance(now, PointSeeds) and now.points and count < len(now.points):
            kept = distinct(np.linspace(0, len(now.points) - 1, count).round().astype(int))
            self._put("Thin out seeds", now.with_(points=tuple(now.points[n] for n in kept)))

    def _tick(self, name: str, on: bool) -> None:
        now = self._now()
        if now is not None and "boundaries" in now.fields:
            old: tuple[str, ...] = getattr(now, "boundaries", ())
            self._set("Boundaries of seeds", boundaries=tuple(b for b in old if b != name) + ((name,) if on else ()))

    # -- what is there ---------------------------------------------------------------------------------------

    def show_value(self, sets: Sequence[SeedSet]) -> None:
        """Show the sets of the chosen card."""
        self._sets = tuple(sets)
        self.at = min(self.at, len(self._sets) - 1)
        now, flow, layer = self._now(), self._document.flow, self._document.chosen_layer
        if now is None or flow is None or layer is None:
            return
        self.which.offer([f"{n + 1}: {part.title.lower()}" for n, part in enumerate(self._sets)], self.at)
        self.less.setVisible(len(self._sets) > 1)
        step = float(f"{flow.size / 200:.0e}")
        for name, fields in self.fields.items():
            self._rows[name].setVisible(name in now.fields)
            if name in now.fields:
                value = getattr(now, name)
                for field, number in zip(fields, value if isinstance(value, tuple) else (value,), strict=True):
                    field.step = 1 if name in _WHOLE else 0.05 if name in ("inner", "direction", "rear") else step
                    field.show_value(number)
        for name, widget in self._special.items():
            widget.setVisible(name in now.fields)
        self._show_special(now, layer)

    def _show_special(self, now: SeedSet, layer: Any) -> None:
        flow = self._document.flow
        if flow is None:
            return
        if "card" in now.fields:
            self.card.offer(self._document.study.subjects_for(layer, ("surface",)), getattr(now, "card", ""))
        if "block" in now.fields:
            names = [b.name for b in flow.blocks if isinstance(b.grid, StructuredGrid)]
            chosen = getattr(now, "block", "")
            self.block.offer(names, names.index(chosen) if chosen in names else -1)
        evaluator = self._document.evaluator
        if isinstance(now, FillSeeds) and evaluator is not None:
            self.where.offer(evaluator.store.quantities(), now.quantity or None)
            self.keep.show_value(now.keep)
            self.value.show_in(self._document.units.of_name(now.quantity))
            self.value.show_value(now.value)
            self.keep.setEnabled(bool(now.quantity))
            self.value.setEnabled(bool(now.quantity))
        if isinstance(now, PointSeeds):
            self.listed.setText(f"{len(now.points)} seeds listed in {now.source}" if now.source else f"{len(now.points)} seeds")
            self.thin.show_value(len(now.points))
        self.listed.setVisible(isinstance(now, PointSeeds))
        if "boundaries" in now.fields:
            self._show_boundaries(getattr(now, "boundaries", ()))

    def _show_boundaries(self, chosen: tuple[str, ...]) -> None:
        flow, groups = self._document.flow, self._document.study.groups
        names = [b.name for b in flow.boundaries] if flow is not None else []
        if list(self.ticks) != [*groups, *names]:
            for box in self.ticks.values():
                box.deleteLater()
            self.ticks = {}
            for name, members in groups.items():
                self.ticks[name] = Check(f"{name}  ·  group of {len(members)}", "Seeds on all boundaries of this group",
                                         partial(self._tick_group, members))
            for name in names:
                self.ticks[name] = Check(name, "Seeds on this boundary", partial(self._tick, name))
            for box in self.ticks.values():
                self._ticks.addWidget(box)
        for name, box in self.ticks.items():
            box.setChecked(set(groups[name]) <= set(chosen) if name in groups else name in chosen)

    def _tick_group(self, members: tuple[str, ...], on: bool) -> None:
        now = self._now()
        if now is not None and "boundaries" in now.fields:
            rest = tuple(b for b in getattr(now, "boundaries", ()) if b not in members)
            self._set("Boundaries of seeds", boundaries=(*rest, *members) if on else rest)


def _held(*rows: QHBoxLayout) -> QWidget:
    """A widget about some rows, to be shown and hidden."""
    out = QWidget()
    column(out, *rows, spacing=6)
    return out
