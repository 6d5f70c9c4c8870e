"""Names of files are asked for: results and studies, data, histories, folders of runs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QMenu, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.histories import Histories
from tidal_lens.app.imports import Imports
from tidal_lens.app.measure_entry import MeasureEntry
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import pop_up
from tidal_lens.app.preferences import forget_recent, recent
from tidal_lens.errors import TidalLensError
from tidal_lens.formats.pictures import ENDINGS as PICTURES
from tidal_lens.formats.pictures import read_picture
from tidal_lens.formats.registry import FORMATS
from tidal_lens.formats.written import ENDINGS
from tidal_lens.study.files import SUFFIX
from tidal_lens.study.kinds.kind import Kind
from tidal_lens.study.tables import Table


class FileDialogs:
    """Opens and saves, asking where no name is given.

    Parameters
    ----------
    window : QWidget
        Before which dialogs stand.
    document, imports, histories
        Who does it.
    """

    def __init__(self, window: QWidget, document: Document, imports: Imports, histories: Histories) -> None:
        self._window, self._document, self._imports, self._histories = window, document, imports, histories

    def _ask(self, title: str, take: Callable[[Path], object], given: str, *, filters: Sequence[str] = (), kinds: Sequence[str] = (),
             name: str = "", folder: bool = False) -> None:
        """Have a name chosen, unless one is given; with ``kinds``, the endings that it may get, for a file that is to be written."""
        def end(chosen: str) -> Path:
            target = Path(chosen)
            return target.with_suffix(f".{kinds[0]}") if kinds and not target.suffix else target

        if given:
            take(end(given))
            return
        dialog = QFileDialog(self._window, title)
        if folder:
            dialog.setFileMode(QFileDialog.FileMode.Directory)
            dialog.setOption(QFileDialog.Option.ShowDirsOnly)
        elif kinds:
            dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
            dialog.setNameFilters(filters or [f"{kind.upper()} (*.{kind})" for kind in kinds])
            dialog.setDefaultSuffix(kinds[0])
            dialog.filterSelected.connect(lambda text: dialog.setDefaultSuffix(text[text.index("*.") + 2:-1]))
            dialog.selectFile(name)
        else:
            dialog.setNameFilters(filters)
            dialog.setFileMode(QFileDialog.FileMode.ExistingFile)
        dialog.fileSelected.connect(lambda chosen: take(end(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def open_dialog(self, path: str = "") -> None:
        """Open a file, asking for it where none is given."""
        patterns = " ".join(f"*{s}" for f in FORMATS for s in f.suffixes)
        self._ask("Open a result or a study", self._document.open_path, path, filters=[
            f"Results and studies ({patterns} *{SUFFIX})", "Bodies, points and histories (*.stl *.ply *.obj *.csv *.dat *.txt)",
            "All files (*)"])

    def open_recent(self, path: str = "") -> None:
        """Open a file that was open before, offering what there is where none is named."""
        if path:
            self._document.open_path(Path(path))
            return
        pop_up(self.recent_menu(), self._window.mapToGlobal(self._window.rect().center()))

    def open_same(self, path: str = "") -> None:
        """Open another result with what is on the table, asking for it where none is given."""
        patterns = " ".join(f"*{s}" for f in FORMATS for s in f.suffixes)
        self._ask("Open another result with this study", self._document.openings.open_same, path,
                  filters=[f"Results ({patterns})", "All files (*)"])

    def recent_menu(self) -> QMenu:
        """Files that were opened or saved last."""
        menu = QMenu(self._window)
        menu.setAccessibleName("Recent files")
        menu.setToolTipsVisible(True)
        for one in recent():
            action = menu.addAction(f"{one.name}   {one.parent.name}")
            if action is not None:
                action.setToolTip(str(one))
                action.triggered.connect(lambda _on=False, p=one: self._document.open_path(p))
        if menu.isEmpty():
            none = menu.addAction("Nothing was opened before")
            if none is not None:
                none.setEnabled(False)
        else:
            menu.addSeparator()
            forget = menu.addAction("Forget them")
            if forget is not None:
                forget.triggered.connect(forget_recent)
        return menu

    def lay(self, kind: Kind, path: str = "") -> None:
        """Lay something from a file into the flow, asking for it where none is given."""
        take = {"body": self._imports.open_body, "cloud": self._imports.open_cloud}[kind.name]
        self._ask(f"Lay into the flow: {kind.tiles[0].name.lower()}", take, path, filters=[*kind.files, "All files (*)"])

    def save_flow(self, path: str = "") -> None:
        """Save the flow as data, asking for a name where none is given."""
        flow = self._document.flow
        if flow is not None:
            self._ask("Save the flow's data", self._imports.save_flow, path, kinds=("vtm", "cgns", "vtkhdf", "vtu", "vts"),
                      name=f"{flow.title} with quantities")

    def save_card(self, path: str = "") -> None:
        """Save the chosen card's geometry, asking for a name where none is given."""
        layer = self._document.chosen_layer
        if layer is not None:
            self._ask("Save the card's geometry", lambda target: self._imports.save_card(layer.id, target), path,
                      kinds=ENDINGS.get(layer.shape.geometry, ("vtp",)), name=layer.name)

    def save_table(self, path: str = "") -> None:
        """Save what the chosen card tells in rows and columns, asking for a name where none is given."""
        layer = self._document.chosen_layer
        if layer is not None:
            self._ask("Save the card's table", lambda target: self._imports.save_table(layer.id, target), path, kinds=("csv",),
                      name=layer.name)

    def save_charts(self, entry: MeasureEntry, path: str = "") -> None:
        """Save all charts of the chosen measure, numbered where there are several, asking for a name where none is given."""
        def take(target: Path) -> None:
            try:
                for n, view in enumerate(v for v in entry.charts if not v.isHidden()):
                    view.save(target if n == 0 else target.with_stem(f"{target.stem} {n + 1}"))
            except OSError as error:
                self._document.noticed.emit(Notice("bad", f"The chart cannot be saved. {error}. Choose another folder."))

        self._ask("Save the charts", take, path, kinds=("png", "svg"), name=entry.name.text())

    def lay_taps(self, path: str = "") -> None:
        """Lay an experiment over the chosen section, asking for its table where none is given."""
        layer = self._document.chosen_layer
        if layer is not None:
            def take(chosen: str | Path) -> None:
                own = self._document.study.layer(layer.id)
                if own is not None:
                    self._document.edit_layer(own.with_(shape=own.shape.with_(taps=str(Path(chosen).resolve()))), "Experiment")

            self._ask("Lay an experiment over the section", take, path, filters=["Tables (*.csv *.dat *.txt)", "All files (*)"])

    def save_rows(self, table: Table | None, path: str = "") -> None:
        """Save a table that is at hand, asking for a name where none is given."""
        if table is not None:
            self._ask("Save the table", lambda target: self._imports.save_rows(table.whole, target), path, kinds=("csv",), name=table.title)

    def save_several(self, tables: Sequence[Table], path: str = "") -> None:
        """Save tables that are at hand, the first under the name, to be asked for where none is given, others beside it."""
        if tables:
            self._ask("Save the tables", lambda target: self._imports.save_several(tables, target), path, kinds=("csv",),
                      name=tables[0].title)

    def add_picture(self, path: str = "") -> None:
        """Lay a picture over the view, asking for it where none is given."""
        def take(chosen: str | Path) -> None:
            try:
                read_picture(Path(chosen))
            except TidalLensError as error:
                self._document.tell(error)
                return
            self._document.add_note(sort="picture", path=str(Path(chosen).resolve()), frame=False, wide=0.18, place=(0.78, 0.04))

        patterns = " ".join(f"*.{ending}" for ending in PICTURES)
        self._ask("Lay a picture over the view", take, path, filters=[f"Pictures ({patterns})", "All files (*)"])

    def save_picture(self, path: str = "") -> None:
        """Save a picture of what is seen, asking for a name where none is given."""
        flow = self._document.flow
        if flow is not None:
            self._ask("Save a picture", self._document.makers.picture, path, kinds=("png", "svg", "pdf"), name=flow.title)

    def save_report(self, path: str = "") -> None:
        """Write a report, asking for a name where none is given."""
        flow = self._document.flow
        if flow is not None:
            self._ask("Write a report", self._document.makers.report, path, kinds=("html", "docx"), name=f"{flow.title} report")

    def run(self, folder: str = "") -> None:
        """Run the study into a folder, asking for it where none is given."""
        self._ask("Run the study: choose a folder for what is made", self._document.makers.run, folder, folder=True)

    def add_run_case(self, path: str = "") -> None:
        """Take another case into the run, asking for it where none is given."""
        def take(chosen: str | Path) -> None:
            study = self._document.study
            cases = tuple(dict.fromkeys((*study.run.cases, str(Path(chosen).resolve()))))
            self._document.edit(study.with_(run=study.run.with_(cases=cases)), "Run")

        patterns = " ".join(f"*{s}" for f in FORMATS for s in f.suffixes)
        self._ask("Run the study over another case", take, path, filters=[f"Results ({patterns})", "All files (*)"])

    def save_script(self, path: str = "") -> None:
        """Write the study as a script, asking for a name where none is given."""
        flow = self._document.flow
        if flow is not None:
            self._ask("Save as a script", self._document.makers.script, path, kinds=("py",), name=flow.title,
                      filters=("Python (*.py)",))

    def save_film(self, path: str = "") -> None:
        """Save an animation, asking for a name where none is given."""
        flow = self._document.flow
        if flow is not None:
            self._ask("Save an animation", self._document.makers.film, path, kinds=("mp4", "gif", "webp", "png"), name=flow.title,
                      filters=("Film (*.mp4)", "Moving picture (*.gif)", "Moving picture (*.webp)", "Numbered pictures (*.png)"))

    def open_beside(self, path: str = "") -> None:
        """Open another case beside the first, asking for it where none is given."""
        patterns = " ".join(f"*{s}" for f in FORMATS for s in f.suffixes)
        self._ask("Open a case beside this one", self._document.open_beside, path, filters=[f"Results ({patterns})", "All files (*)"])

    def open_history(self, path: str = "") -> None:
        """Open the history of a run, asking for it where none is given."""
        self._ask("Open the history of a run", self._document.open_path, path, filters=["Tables (*.csv *.dat *.txt)", "All files (*)"])

    def follow_run(self, folder: str = "") -> None:
        """Watch the folder of a running solution, asking for it where none is given."""
        self._ask("Follow a running solution: choose its folder", self._histories.follow, folder, folder=True)

    def save(self) -> bool:
        """Save the study, asking for a name the first time."""
        if self._document.file is None:
            self.save_as()
            return False
        return self._document.save(self._document.file)

    def save_as(self, path: str = "") -> None:
        """Save the study under a name, to be asked for where none is given."""
        flow = self._document.flow
        self._ask("Save the study", self._document.save, path, filters=[f"Studies (*{SUFFIX})"], kinds=(SUFFIX[1:],),
                  name=flow.title + SUFFIX if flow is not None else "")
