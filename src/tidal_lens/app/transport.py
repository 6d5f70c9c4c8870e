"""Moves through the steps of a time series; there only when there is more than one."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, Qt, QTimer
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QSlider, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.holder import PLAYING
from tidal_lens.app.parts import IconButton, parse_number, telling_digits
from tidal_lens.study.words import number_text

_BEAT = 90  # least time between two steps when playing [ms]


class StepSlider(QSlider):
    """A slider over steps; those that could not be read are marked."""

    def __init__(self, document: Document) -> None:
        super().__init__(Qt.Orientation.Horizontal)
        self._document = document

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        broken, last = self._document.clock.broken_steps, self.maximum()
        if not broken or last < 1:
            return
        with QPainter(self) as painter:
            painter.setPen(QPen(theme.colour("red"), 2))
            for step in broken:
                x = 6 + (self.width() - 12) * step / last
                painter.drawLine(QPointF(x, 2), QPointF(x, 7))


class Transport(QWidget):
    """Back, play, on, a slider over all steps, and the time."""

    def __init__(self, document: Document, over_time: Callable[[], object]) -> None:
        super().__init__()
        self._document = document
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(2)
        self.back = IconButton("step-back", "Step back", "One step back in time (,)", lambda: document.go_to_step(-1, relative=True))
        self.play = IconButton("play", "Play", "Play through all steps (.)", self.toggle)
        self.on = IconButton("step-on", "Step on", "One step on in time (/)", lambda: document.go_to_step(1, relative=True))
        self.slider = StepSlider(document)
        self.slider.setAccessibleName("Time")
        self.slider.setToolTip("Drag to another time")
        self.slider.setFixedWidth(130)
        self.time = QLineEdit()
        self.time.setObjectName("steptime")
        self.time.setAccessibleName("Step and time")
        self.time.setToolTip("Type the number of a step, or t = and a time")
        self.time.setFixedWidth(150)
        self.time.returnPressed.connect(self._jump)
        self.time.editingFinished.connect(self.refresh)
        self.strip = IconButton("over-time", "The card over time", "Show the chosen card at several steps side by side (T)", over_time)
        for widget in (self.back, self.play, self.on, self.slider, self.time, self.strip):
            line.addWidget(widget)
        self._silent = False
        self.slider.valueChanged.connect(self._slid)
        self.slider.sliderReleased.connect(document.release)
        self._beat = QTimer(self)
        self._beat.setInterval(_BEAT)
        self._beat.timeout.connect(self._go_on)
        document.case_changed.connect(self._new_case)
        document.study_changed.connect(self.refresh)
        document.step_changed.connect(self.refresh)
        self._new_case()

    @property
    def is_playing(self) -> bool:
        """Whether steps follow one another by themselves."""
        return self._beat.isActive()

    def toggle(self) -> None:
        """Begin to play, or stop."""
        if self._beat.isActive():
            self._beat.stop()
            self._document.release()
        elif len(self._document.clock.times) > 1:
            self._beat.start()
        self.play.set_icon("pause" if self._beat.isActive() else "play")
        self.play.setAccessibleName("Pause" if self._beat.isActive() else "Play")

    def _new_case(self) -> None:
        if self._beat.isActive():
            self.toggle()
        self.refresh()

    def refresh(self) -> None:
        """Show the step asked for and its time, with dots while it is being read."""
        times = self._document.clock.times
        self.setVisible(len(times) > 1)
        if len(times) < 2:
            return
        step = min(self._document.study.step, len(times) - 1)  # while other steps are being chosen they are not there yet
        self._silent = True
        self.slider.setRange(0, len(times) - 1)
        self.slider.setValue(step)
        self.slider.update()
        self._silent = False
        flow = self._document.flow
        unit = " s" if flow is not None and flow.si_units else ""
        waiting = " …" if flow is not None and flow.step != step else ""
        if not (self.time.hasFocus() and self.time.isModified()):
            self.time.setText(f"{step + 1} of {len(times)}  ·  {number_text(times[step], telling_digits(times, step))}{unit}{waiting}")
        self.time.setToolTip(f"Step {step + 1} of {len(times)} at time {times[step]:.9g}{unit}. "
                             "Type the number of a step, or t = and a time")

    def _jump(self) -> None:
        """Go to the step whose number was typed, or after "t" or "=" to the one nearest to a time."""
        text, times = self.time.text().strip().lower(), self._document.clock.times
        try:
            if text[:1] in ("t", "="):
                wanted = parse_number(text.lstrip("t= "))
                step = min(range(len(times)), key=lambda n: abs(times[n] - wanted))
            else:
                step = int(parse_number(text.split("of")[0])) - 1
        except ValueError:
            self.time.setModified(False)
            self.refresh()
            return
        self.time.clearFocus()
        self._document.go_to_step(step)
        self.refresh()

    def _slid(self, step: int) -> None:
        if not self._silent:
            self._document.go_to_step(step, grip="time")

    def _go_on(self) -> None:
        if not self._document.jobs.is_busy():  # the last one is shown: no step is left out for want of speed
            self._document.go_to_step(1, relative=True, grip=PLAYING)
