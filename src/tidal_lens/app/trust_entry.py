"""How a measure's numbers were got, and how much they change on half the mesh or from a step before."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton, QWidget

from tidal_lens.app import theme
from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.parts import column, label, row
from tidal_lens.errors import TidalLensError
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.model import Study
from tidal_lens.study.trust import Doubt, a_step_before, on_half_the_mesh
from tidal_lens.study.words import number_text
from tidal_lens.work import Token

_Try = Callable[[Evaluator, Study, str, Token], Doubt]


class TrustEntry(QWidget):
    """Words below the numbers, and two trials.

    Parameters
    ----------
    document : Document
        Whose chosen card it is of.
    """

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self.how = label("", "soft")
        self.how.setWordWrap(True)
        self.mesh = QPushButton("On half the mesh")
        self.mesh.setToolTip("Read the case again without every other point of its structured blocks: how much the numbers change")
        self.mesh.clicked.connect(partial(self._try, on_half_the_mesh))
        self.step = QPushButton("A step before")
        self.step.setToolTip("See how much the numbers changed since the step before")
        self.step.clicked.connect(partial(self._try, a_step_before))
        self.told = label("")
        self.told.setTextFormat(Qt.TextFormat.RichText)
        self.told.setWordWrap(True)
        self.told.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.doubt: tuple[object, Doubt] | None = None
        column(self, self.how, row(self.mesh, self.step, stretch=0), self.told, spacing=4)
        for signal in (document.study_changed, document.chosen_changed, document.step_changed):
            signal.connect(self.refresh)
        document.result_changed.connect(lambda _id: self.refresh())

    def _try(self, how: _Try, *_clicked: object) -> None:
        document, layer = self._document, self._document.chosen_layer
        result = document.asking.results.get(document.chosen or "")
        evaluator, study = document.evaluator, document.study
        if layer is None or evaluator is None or result is None:
            return

        def done(doubt: Doubt) -> None:
            self.doubt = result.unmasked, doubt
            self.refresh()

        def failed(error: TidalLensError) -> None:
            self.told.setText(str(error))
            self.told.show()

        document.jobs.submit(Slot("trust"), f"{layer.name} otherwise", lambda token: how(evaluator, study, layer.id, token), done, failed)

    def refresh(self) -> None:
        """Show the chosen card's."""
        document, layer = self._document, self._document.chosen_layer
        result = document.asking.results.get(document.chosen or "")
        self.setVisible(layer is not None and layer.shape.measures and result is not None)
        if layer is None or result is None:
            return
        self.how.setText(layer.shape.reckoned)
        self.how.setVisible(bool(layer.shape.reckoned))
        for button in (self.mesh, self.step):
            button.setVisible(not layer.shape.of_series)
        self.step.setEnabled(document.flow is not None and document.flow.step > 0)
        fits = self.doubt is not None and self.doubt[0] is result.unmasked
        self.told.setText(_words(self.doubt[1]) if self.doubt is not None and fits else "")
        self.told.setVisible(fits)


def _words(doubt: Doubt) -> str:
    """A small table."""
    soft = theme.colour("soft").name()
    rows = []
    for name, now, then in doubt.pairs:
        share = f"{100.0 * (then - now) / abs(now):+.2g} %".replace("-", "−") if now else number_text(then - now)
        rows.append(f'<tr><td style="color:{soft}">{name}&nbsp;</td><td align="right">{number_text(then)}</td>'
                    f'<td align="right">&nbsp;{share if then == then and now == now else "—"}</td></tr>')
    return (f'<table cellspacing="0" cellpadding="1"><tr><td></td><td align="right" style="color:{soft}">{doubt.against}</td>'
            f'<td align="right" style="color:{soft}">&nbsp;change</td></tr>{"".join(rows)}</table>')
