"""The part of the Derive station in which formulas are written, tried, renamed and thrown away."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QLineEdit, QMenu, QPushButton, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import column, label, row
from tidal_lens.app.stations.formula_editor import FormulaEdit
from tidal_lens.app.stations.silhouette import Silhouette
from tidal_lens.errors import TidalLensError
from tidal_lens.quantities.formula.functions import FUNCTIONS
from tidal_lens.quantities.formula.tree import Formula, FormulaError
from tidal_lens.quantities.spread import Distribution, distribution_of
from tidal_lens.quantities.store import FORMULA
from tidal_lens.study import formulas as edits
from tidal_lens.study.words import number_text
from tidal_lens.work import Token


class FormulaPanel(QWidget):
    """Name, text, what it comes to, and what can be done with it."""

    def __init__(self, document: Document, choose: Any) -> None:
        super().__init__()
        self.document, self._choose = document, choose
        self.editing: str | None = None
        self.name = QLineEdit()
        self.name.setAccessibleName("Name of the formula")
        self.name.setToolTip("What the formula is called; what uses it follows when it is renamed")
        self.name.setPlaceholderText("name")
        self.name.editingFinished.connect(self._rename)
        self.text = FormulaEdit()
        self.text.typed.connect(self._try)
        self.text.entered.connect(self._take)
        self.text.taken.connect(self._left)
        self.text.left.connect(self._give_up)
        self.told = label("", "soft")
        self.told.setObjectName("formula-told")
        self.told.setTextFormat(Qt.TextFormat.PlainText)  # parts of what was typed stand in it
        self.mend = QPushButton()
        self.mend.setToolTip("Write what was meant")
        self.mend.setAccessibleName("Write what was meant")
        self.mend.clicked.connect(self._put_in)
        self.mend.hide()
        self._slip: FormulaError | None = None
        self.silhouette = Silhouette()
        self.keep = QPushButton("Keep")
        self.keep.setToolTip("Add the formula, or take its new text (Return)")
        self.keep.clicked.connect(self._take)
        self.new = QPushButton("New")
        self.new.setToolTip("Begin another formula")
        self.new.clicked.connect(self.begin)
        self.more = QPushButton("More")
        self.more.setToolTip("Examples, duplicate, delete, import and export")
        self.menu = QMenu(self)
        self.menu.aboutToShow.connect(self._fill_menu)
        self.more.setMenu(self.menu)
        self.question = label("", "warn")
        self.surely = QPushButton("Delete it all the same")
        self.surely.setToolTip("Delete the formula; what uses it will say that it is missing")
        self.surely.clicked.connect(self._delete)
        self.rather_not = QPushButton("Keep it")
        self.rather_not.setToolTip("Leave the formula as it is")
        self.rather_not.clicked.connect(lambda: self._ask_first([]))
        self._asking = QWidget()
        column(self._asking, self.question, row(self.surely, self.rather_not), spacing=4)
        column(self, label("Formula", "head"), row("Name", self.name), self.text, self.told, self.mend, self.silhouette,
               row(self.keep, self.new, self.more), self._asking, spacing=6)
        document.case_changed.connect(self.refresh)
        document.settings_changed.connect(self.refresh)
        self._ask_first([])
        self.silhouette.hide()

    # -- what is shown -----------------------------------------------------------------------------------------

    def begin(self) -> None:
        """An empty formula, to be typed."""
        self.begin_quietly()
        self._ask_first([])
        self.text.setFocus()

    def show_formula(self, name: str) -> None:
        """Edit a formula of the study."""
        if name != self.editing:
            self.editing = name
            self._ask_first([])
            self._show_saved()

    def take_up(self, name: str, text: str) -> None:
        """Begin a formula with a text."""
        self.begin()
        self.name.setText(name)
        self.text.show_text(text)
        self._try()

    def refresh(self) -> None:
        """The study or the flow is another: names and the shown formula follow."""
        evaluator = self.document.evaluator
        self.setEnabled(evaluator is not None)
        if evaluator is None:
            return
        functions = [(name, f"function: {f.about}") for name, f in FUNCTIONS.items()]
        self.text.offer_names([*evaluator.store.names(), *functions])
        if self.editing is not None and edits.text_of(self.document.study, self.editing) is None:
            self.begin_quietly()
        elif self.editing is not None and not self.text.hasFocus():
            self._show_saved()

    def begin_quietly(self) -> None:
        """The shown formula is gone."""
        self.editing = None
        self.name.clear()
        self.text.show_text("")
        self._say("")
        self.silhouette.hide()

    def _show_saved(self) -> None:
        assert self.editing is not None
        self.name.setText(self.editing)
        self.text.show_text(edits.text_of(self.document.study, self.editing) or "")
        self._try()

    def _say(self, text: str, role: str = "soft", slip: FormulaError | None = None) -> None:
        """Tell something about the formula; where it is a slip that can be mended, offer that."""
        self._slip = slip if slip is not None and slip.suggestion else None
        if self._slip is not None:
            words = f"Write {self._slip.suggestion}"
            self.mend.setText((words if len(words) < 36 else "Mend it").replace("&", "&&"))  # a long button would widen the bench
            self.mend.setAccessibleName(words)
            self.mend.setToolTip(f"{words} in the place that is underlined")
        self.mend.setVisible(self._slip is not None)
        if self.told.property("role") != role:
            self.told.setProperty("role", role)
            style = self.told.style()
            if style is not None:
                style.unpolish(self.told)
                style.polish(self.told)
        self.told.setText(text)
        self.told.setVisible(bool(text))

    # -- trying ------------------------------------------------------------------------------------------------

    def _checked(self) -> Formula | None:
        evaluator, text = self.document.evaluator, self.text.toPlainText()
        if evaluator is None or not text.strip():
            self.text.mark(0, 0)
            self._say("")
            self.silhouette.hide()
            return None
        try:
            found = evaluator.store.check(text, self.editing or "")
        except FormulaError as error:
            self.text.mark(error.begin, error.end)
            self._say(f"{error.what} {error.hint}".strip(), "bad", error)
            self.silhouette.hide()
            return None
        self.text.mark(0, 0)
        return found

    def _try(self) -> None:
        """Understand what is typed, and look at some thousand nodes what it comes to."""
        found, evaluator = self._checked(), self.document.evaluator
        if found is None or evaluator is None:
            return
        kind = {"condition": "a condition: 1 where it holds, else 0"}.get(found.root.shape, f"a {found.root.shape}")
        unit = f" [{found.root.unit}]" if found.root.unit is not None and not found.root.unit.is_none else ""
        head = f"{kind}{unit}"
        doubts = "".join(f"\n{d}" for d in found.doubts)
        self._say(f"{head}…{doubts}")
        store = evaluator.store

        def work(token: Token) -> Distribution:
            values = store.evaluate(found, token, sample=True)
            if values.ndim > 1:
                values = np.sqrt((values.reshape(len(values), -1).astype(float) ** 2).sum(axis=1))
            return distribution_of(values, coarse=True)

        def done(spread: Distribution) -> None:
            if self.text.toPlainText() != found.text:
                return
            what = "magnitude " if found.root.shape in ("vector", "tensor") else ""
            holes = ", some not finite" if spread.not_finite else ""
            self._say(f"{head}, {what}{number_text(spread.low)} … {number_text(spread.high)}{holes}{doubts}", "warn" if doubts else "soft")
            self.silhouette.show_distribution(spread)
            # Of a formula that is kept, the list above shows the whole.
            self.silhouette.setVisible(self.editing is None or found.text != edits.text_of(self.document.study, self.editing))

        def failed(error: TidalLensError) -> None:
            self._say(f"{head}. {error}", "warn")
            self.silhouette.hide()

        self.document.jobs.submit(Slot("formula"), "Trying the formula", work, done, failed)

    def _put_in(self) -> None:
        if self._slip is not None:
            self.text.put_in(self._slip.begin, self._slip.end, self._slip.suggestion)
            self._try()

    # -- edits -------------------------------------------------------------------------------------------------

    def _take(self) -> None:
        """Add the formula, or give it the text that is typed."""
        if self._checked() is None:
            return
        study, text = self.document.study, self.text.toPlainText().strip()
        name = self.editing or self.name.text().strip() or edits.free_name(study, "formula_1")
        if self.editing is None and edits.text_of(study, name) is not None:
            self._say(f"There is a formula called {name} already. Choose another name.", "bad")
            return
        self._edit(lambda: edits.with_formula(study, name, text), "Formula")
        if edits.text_of(self.document.study, name) is not None:
            self.editing = name
            self.name.setText(name)
            self._choose(FORMULA + name)

    def _left(self) -> None:
        """The field was left: a saved formula follows at once, a new one waits for Return."""
        if self.editing is not None and self.text.toPlainText().strip() != edits.text_of(self.document.study, self.editing):
            self._take()

    def _give_up(self) -> None:
        if self.editing is not None:
            self._show_saved()
        else:
            self.begin_quietly()

    def _edit(self, make: Any, what: str) -> None:
        try:
            self.document.edit(make(), what)
        except TidalLensError as error:
            self._say(str(error), "bad")

    def _rename(self) -> None:
        new, old = self.name.text().strip(), self.editing
        if old is None or new == old or not self.name.isModified():
            return
        self.name.setModified(False)
        study = self.document.study
        self.editing = new
        self._edit(lambda: edits.renamed(study, old, new), "Rename the formula")
        if edits.text_of(self.document.study, new) is None:
            self.editing = old
            self.name.setText(old)
        else:
            self._choose(FORMULA + new)

    def _duplicate(self) -> None:
        if self.editing is not None:
            self.take_up(edits.free_name(self.document.study, self.editing), self.text.toPlainText())

    def ask_to_delete(self) -> None:
        """Delete the formula; ask first only if something uses it."""
        evaluator = self.document.evaluator
        if self.editing is None or evaluator is None:
            return
        users = edits.used_by(self.document.study, self.editing, evaluator.store.dependants(self.editing))
        if users:
            self._ask_first(users)
        else:
            self._delete()

    def _ask_first(self, users: list[str]) -> None:
        self._asking.setVisible(bool(users))
        self.question.setText(f"{self.editing} is used by {', '.join(users[:6])}." if users else "")

    def _delete(self) -> None:
        name = self.editing
        self._ask_first([])
        if name is not None:
            self._edit(lambda: edits.removed(self.document.study, name), "Delete the formula")

    # -- more --------------------------------------------------------------------------------------------------

    def _fill_menu(self) -> None:
        self.menu.clear()
        shelf = self.menu.addMenu("Examples")
        assert shelf is not None
        for name, text, about in edits.EXAMPLES:
            one = shelf.addAction(f"{about}")
            assert one is not None
            one.triggered.connect(lambda _c=False, n=name, t=text: self.take_up(edits.free_name(self.document.study, n), t))
        self.menu.addSeparator()
        saved = self.editing is not None
        for title, act, able in (("Duplicate", self._duplicate, saved), ("Delete", self.ask_to_delete, saved),
                                 ("Import formulas…", lambda: self.import_from(""), True),
                                 ("Export formulas…", lambda: self.export_to(""), bool(self.document.study.formulas))):
            one = self.menu.addAction(title)
            assert one is not None
            one.setEnabled(able)
            one.triggered.connect(lambda _c=False, a=act: a())

    def import_from(self, name: str) -> None:
        """Add the formulas of a file; without a name ask for one."""
        name = name or QFileDialog.getOpenFileName(self, "Import formulas", "", f"Formulas (*{edits.ENDING})")[0]
        if not name:
            return
        try:
            study, count = edits.import_formulas(self.document.study, Path(name))
        except TidalLensError as error:
            self.document.noticed.emit(Notice("bad", str(error)))
            return
        self.document.edit(study, "Import formulas")
        self.document.noticed.emit(Notice("note", f"{count} formulas were added." if count else "All of its formulas are here already."))

    def export_to(self, name: str) -> None:
        """Write all formulas to a file; without a name ask for one."""
        name = name or QFileDialog.getSaveFileName(self, "Export formulas", f"formulas{edits.ENDING}", f"Formulas (*{edits.ENDING})")[0]
        if not name:
            return
        path = Path(name) if name.endswith(edits.ENDING) else Path(name + edits.ENDING)
        try:
            edits.export_formulas(self.document.study, path)
        except TidalLensError as error:
            self.document.noticed.emit(Notice("bad", str(error)))
            return
        self.document.noticed.emit(Notice("note", f"{len(self.document.study.formulas)} formulas were written to {path.name}."))
