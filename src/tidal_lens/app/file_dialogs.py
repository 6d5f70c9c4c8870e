"""Names of files are asked for: results and studies, data, histories, folders of runs."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QWidget

from tidal_lens.app.document import Document
from tidal_lens.app.histories import Histories
from tidal_lens.app.imports import Imports
from tidal_lens.formats.registry import FORMATS
from tidal_lens.formats.written import ENDINGS
from tidal_lens.study.files import SUFFIX


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

    def open_dialog(self, path: str = "") -> None:
        """Open a file, asking for it where none is given."""
        if path:
            self._document.open_path(Path(path))
            return
        patterns = " ".join(f"*{s}" for f in FORMATS for s in f.suffixes)
        dialog = QFileDialog(self._window, "Open a result or a study")
        dialog.setNameFilters([f"Results and studies ({patterns} *{SUFFIX})",
                               "Bodies, points and histories (*.stl *.ply *.obj *.csv *.dat *.txt)", "All files (*)"])
        dialog.setFileMode(QFileDialog.FileMode.ExistingFile)
        dialog.fileSelected.connect(lambda chosen: self._document.open_path(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def save_data(self, path: str, *, card: bool) -> None:
        """Save the flow, or the chosen card, as data, asking for a name where none is given."""
        layer = self._document.chosen_layer
        kinds: tuple[str, ...]
        if card and layer is not None:
            kinds = ENDINGS.get(layer.shape.geometry, ("vtp",))
            title, name = "Save the card's geometry", layer.name
        else:
            kinds, title = ("vtm", "cgns", "vtkhdf", "vtu", "vts"), "Save the flow's data"
            name = f"{self._document.flow.title} with quantities" if self._document.flow is not None else ""

        def take(chosen: str) -> None:
            target = Path(chosen)
            target = target if target.suffix else target.with_suffix(f".{kinds[0]}")
            if card and layer is not None:
                self._imports.save_card(layer.id, target)
            else:
                self._imports.save_flow(target)

        if path:
            take(path)
            return
        dialog = QFileDialog(self._window, title)
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setNameFilters([f"{kind.upper()} (*.{kind})" for kind in kinds])
        dialog.setDefaultSuffix(kinds[0])
        dialog.filterSelected.connect(lambda text: dialog.setDefaultSuffix(text[text.index("*.") + 2:-1]))
        dialog.selectFile(name)
        dialog.fileSelected.connect(take)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def open_history(self, path: str = "") -> None:
        """Open the history of a run, asking for it where none is given."""
        if path:
            self._document.open_path(Path(path))
            return
        dialog = QFileDialog(self._window, "Open the history of a run")
        dialog.setNameFilters(["Tables (*.csv *.dat *.txt)", "All files (*)"])
        dialog.setFileMode(QFileDialog.FileMode.ExistingFile)
        dialog.fileSelected.connect(lambda chosen: self._document.open_path(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def follow_run(self, folder: str = "") -> None:
        """Watch the folder of a running solution, asking for it where none is given."""
        if folder:
            self._histories.follow(Path(folder))
            return
        dialog = QFileDialog(self._window, "Follow a running solution: choose its folder")
        dialog.setFileMode(QFileDialog.FileMode.Directory)
        dialog.setOption(QFileDialog.Option.ShowDirsOnly)
        dialog.fileSelected.connect(lambda chosen: self._histories.follow(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def save(self) -> bool:
        """Save the study, asking for a name the first time."""
        if self._document.file is None:
            self.save_as()
            return False
        return self._document.save(self._document.file)

    def save_as(self) -> None:
        """Save the study under a name to be asked for."""
        dialog = QFileDialog(self._window, "Save the study")
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setNameFilters([f"Studies (*{SUFFIX})"])
        dialog.setDefaultSuffix(SUFFIX[1:])
        if self._document.flow is not None:
            dialog.selectFile(self._document.flow.title + SUFFIX)
        dialog.fileSelected.connect(lambda chosen: self._document.save(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()
