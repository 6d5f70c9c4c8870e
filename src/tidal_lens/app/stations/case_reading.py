"""What is read of the case: blocks, quantities, every n-th point, a region, steps. It takes effect when the case is read again."""

from __future__ import annotations

from functools import partial

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.parts import Check, NumberField, column, label, row
from tidal_lens.app.stations.rows import Section
from tidal_lens.flow.case import Flow
from tidal_lens.study.model import ReadingSetting
from tidal_lens.study.partly import reading_of


class ReadingControls(QWidget):
    """Choices that wait for the button."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.document = document
        self.section = Section("What is read", folded=True)
        self.wanted = ReadingSetting()
        self.blocks: dict[str, Check] = {}
        self.quantities: dict[str, Check] = {}
        self._offered: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
        self._blocks, self._quantities = QVBoxLayout(), QVBoxLayout()
        self._blocks_head, self._quantities_head = label("Parts of the file", "soft"), label("Quantities", "soft")
        self.every = NumberField("Every n-th point", "Read every n-th point of structured blocks along each index: a quick look",
                                 1, 1, 1000)
        self.every.whole = True
        self.every.edited.connect(lambda v: self._want(every=int(v)))
        self.corners = {end: [NumberField(f"Region {end} {axis}", f"{axis} of the region's {end} corner") for axis in "xyz"]
                        for end in ("low", "high")}
        for end, fields in self.corners.items():
            for axis, one in enumerate(fields):
                one.edited.connect(partial(self._corner, end, axis))
        self.region = Check("Only a region", "Read only cells that reach into a box", self._toggle_region)
        self.in_space = Check("One layer of cells stays in space", "Do not take one layer of three-dimensional cells for a plane flow",
                              lambda on: self._want(in_space=on))
        self.first = NumberField("First step", "Leave out earlier steps of the series", 1, 1, 1_000_001)
        self.last = NumberField("Last step", "Leave out later steps of the series", 1, 1, 1_000_001)
        self.each = NumberField("Every n-th step", "Read every n-th step of the series", 1, 1, 100_000)
        for one, name, less in ((self.first, "first_step", 1), (self.last, "last_step", 1), (self.each, "every_step", 0)):
            one.whole = True
            one.edited.connect(partial(self._choose_steps, name, less))
        self.steps = QWidget()
        column(self.steps, row("Steps", self.first, "to", self.last), row("every", self.each, "th step"), spacing=4)
        self.state = label("", "soft")
        self.again = QPushButton("Read again")
        self.again.setToolTip("Read the case again as chosen here; what is on the table stays")
        self.again.clicked.connect(lambda: self._read(self.wanted))
        self.everything = QPushButton("Everything")
        self.everything.setToolTip("Read the whole case again")
        self.everything.clicked.connect(lambda: self._read(ReadingSetting()))
        inside = QWidget()
        column(inside, self._blocks_head, self._blocks, self._quantities_head, self._quantities, row("Every", self.every, "th point"),
               self.region, row("From", *self.corners["low"]), row("to", *self.corners["high"]), self.in_space, self.steps, self.state,
               row(self.again, self.everything), spacing=4)
        self.section.add(inside)
        column(self, self.section)

    def _want(self, **changes: object) -> None:
        self.wanted = self.wanted.with_(**changes)
        self._tell()

    def _read(self, reading: ReadingSetting) -> None:
        """Take a choice; the step that is shown stays, or the nearest chosen one before it is."""
        study = self.document.study
        step = reading_of(reading).step_chosen(reading_of(study.reading).step_of_file(study.step))
        self.document.edit(study.with_(reading=reading, step=step), "What is read")

    def _choose_steps(self, name: str, less: int, value: float) -> None:
        count = len(self.document.flow.all_times) if self.document.flow is not None else 0
        number = int(value) - less
        self._want(**{name: None if name == "last_step" and number >= count - 1 else number})

    def _choose(self, which: str, name: str, on: bool) -> None:
        left = [n for n in getattr(self.wanted, which) if n != name] + ([] if on else [name])
        self._want(**{which: tuple(left)})

    def _toggle_region(self, on: bool) -> None:
        flow = self.document.flow
        if flow is None:
            return
        low, high = (tuple(float(f"{c:.6g}") for c in corner) for corner in flow.bounds)
        self._want(low=low if on else None, high=high if on else None)
        self._show_region(flow)

    def _corner(self, end: str, axis: int, value: float) -> None:
        now = getattr(self.wanted, end)
        if now is not None:
            self._want(**{end: tuple(value if a == axis else c for a, c in enumerate(now))})

    def _tell(self) -> None:
        changed = self.wanted != self.document.study.reading
        self.again.setEnabled(changed)
        self.everything.setEnabled(self.document.study.reading != ReadingSetting())
        self.state.setText("Changed: read the case again to see it." if changed else "")
        self.state.setVisible(changed)

    def _show_region(self, flow: Flow) -> None:
        on = self.wanted.low is not None
        self.region.setChecked(on)
        for end, fields in self.corners.items():
            now = getattr(self.wanted, end)
            for axis, one in enumerate(fields):
                one.setEnabled(on)
                one.step = float(f"{flow.size / 100:.0e}")
                if now is not None:
                    one.show_value(now[axis])

    def refresh(self, flow: Flow) -> None:
        """Show what was read, and what there is besides."""
        self.wanted = self.document.study.reading
        if flow.offered != self._offered:
            self._offered = flow.offered
            for boxes, place, names, which in ((self.blocks, self._blocks, flow.offered[0], "without_blocks"),
                                               (self.quantities, self._quantities, flow.offered[1], "without_quantities")):
                for box in boxes.values():
                    box.deleteLater()
                boxes.clear()
                for name in names[:200]:
                    boxes[name] = Check(name, "Read it", partial(self._choose, which, name))
                    place.addWidget(boxes[name])
        self._blocks_head.setVisible(bool(self.blocks))
        self._quantities_head.setVisible(bool(self.quantities))
        for boxes, left in ((self.blocks, self.wanted.without_blocks), (self.quantities, self.wanted.without_quantities)):
            for name, box in boxes.items():
                box.setChecked(name not in left)
        self.in_space.setChecked(self.wanted.in_space)
        self.in_space.setVisible(flow.layer_found or self.wanted.in_space)
        self.every.show_value(self.wanted.every)
        self._show_region(flow)
        self.steps.setVisible(len(flow.all_times) > 1)
        self.first.show_value(self.wanted.first_step + 1)
        self.last.show_value(len(flow.all_times) if self.wanted.last_step is None else self.wanted.last_step + 1)
        self.each.show_value(self.wanted.every_step)
        self.section.title = "What is read" + ("" if self.wanted == ReadingSetting() else ": a part")
        self.section.rename()
        self._tell()
