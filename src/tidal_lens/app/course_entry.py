"""What a series does over its steps, told in the ledger at the Measure station without being asked for."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QLabel, QPushButton, QWidget

from tidal_lens.app import theme
from tidal_lens.app.chart_view import ChartView
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import column, label
from tidal_lens.errors import TidalLensError
from tidal_lens.study.evaluate import Evaluated, Wish
from tidal_lens.study.kinds.kind import Made
from tidal_lens.study.kinds.over_time import KIND, lacks_steps, new_over_time
from tidal_lens.study.value import walk

_SLOT = Slot("course")
_LOW = 130  # pixels that a chart is high


class CourseEntry(QWidget):
    """Greatest speed, pressure drop and mass flows over the steps; worked out once a case, when its numbers are first looked for.

    Parameters
    ----------
    document : Document
        Whose flow it is of.
    """

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._at_station = False
        self._wish: Wish | None = None
        self.made: Made | None = None
        self._failed = False
        self.name = label("The flow over time", "head")
        self.told = label("", "soft")
        self.told.setWordWrap(True)
        self.keep = QPushButton("As a card")
        self.keep.setToolTip("Keep the curves in the study: with mean, amplitude, period and spectra, saved and lifted")
        self.keep.clicked.connect(lambda: document.begin(KIND, ""))
        self.charts: list[ChartView] = []
        self._captions: list[QLabel] = []
        self._column = column(self, self.name, self.told, self.keep, spacing=6)
        document.case_changed.connect(self._ask)
        for signal in (document.study_changed, document.chosen_changed, document.step_changed):
            signal.connect(self._ask)
        theme.hub().changed.connect(self._draw)
        self.refresh()

    @property
    def is_wanted(self) -> bool:
        """Whether there are steps, and no card tells the same, at the station of numbers, and no measure is chosen."""
        flow, layer = self._document.flow, self._document.chosen_layer
        told = any(x.shape.of_series and not [*walk(x.shape, "layer")] for x in self._document.study.layers)
        measured = layer is not None and layer.shape.measures
        return self._at_station and flow is not None and not lacks_steps(flow) and not told and not measured

    def look(self, *, at_station: bool) -> None:
        """Numbers are looked for, or something else."""
        self._at_station = at_station
        self._ask()

    def _ask(self) -> None:
        evaluator, document = self._document.evaluator, self._document
        if self.is_wanted and evaluator is not None:
            layer = document.study.layer_of(new_over_time(evaluator.store, ""))
            study = document.study.adding(layer)
            wish = evaluator.wish(layer, study)
            # What it rests on is the same at every step; what was given up is asked for anew when it is looked for again.
            if wish == self._wish and (self.made is not None or self._failed or document.jobs.is_busy(_SLOT)):
                self.refresh()
                return
            self._wish, self.made, self._failed = wish, None, False
            self.told.setText("Its steps are read …")

            def done(found: Evaluated) -> None:
                if self._wish == wish:
                    self.made = found.made
                    self._draw()
                    self.refresh()

            def failed(error: TidalLensError) -> None:
                if self._wish == wish:
                    self._failed = True
                    self.told.setText(str(error))

            document.jobs.submit(_SLOT, "The flow over time", lambda token: evaluator.evaluate(layer, token, study), done, failed)
        self.refresh()

    def _draw(self) -> None:
        made = self.made
        charts = made.charts if made is not None else ()
        while len(self.charts) < len(charts):
            self.charts.append(ChartView())
            self._captions.append(label("", "soft"))
            for box in (self.charts[-1].log_across, self.charts[-1].log_up):
                box.hide()
            for part in (self._captions[-1], self.charts[-1]):
                self._column.insertWidget(self._column.count() - 1, part)
        for n, (caption, view) in enumerate(zip(self._captions, self.charts, strict=True)):
            for part in (caption, view):
                part.setVisible(n < len(charts))
            if n < len(charts):
                caption.setText(charts[n].up)  # no room beside so low a chart
                view.show_chart(replace(charts[n], up=""))
                view.plot.setFixedHeight(_LOW)
        if made is not None:
            self.told.setText(made.told_in(self._document.units))

    def refresh(self) -> None:
        """Show what there is."""
        self.setVisible(self.is_wanted)
        self.keep.setVisible(self.made is not None)
