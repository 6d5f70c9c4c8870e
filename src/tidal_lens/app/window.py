"""The main window: puts the parts together and carries out the actions."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import platformdirs
from PyQt6.QtCore import QSettings, QSize, Qt
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QMainWindow,
    QMessageBox,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from tidal_lens.app import theme
from tidal_lens.app.actions import ACTIONS, BY_ID
from tidal_lens.app.autosave import Autosave
from tidal_lens.app.bars import Rail, StatusLine, Strips, TopBar
from tidal_lens.app.bench import LAYER_STATIONS, Bench
from tidal_lens.app.command_field import CommandField
from tidal_lens.app.deck import Deck
from tidal_lens.app.document import Document
from tidal_lens.app.faults import Faults
from tidal_lens.app.histories import Histories
from tidal_lens.app.imports import Imports
from tidal_lens.app.ledger import Ledger
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import label
from tidal_lens.app.view import FlowView
from tidal_lens.demo.kittiwake import ASSETS
from tidal_lens.formats.bodies import SUFFIXES
from tidal_lens.formats.registry import FORMATS
from tidal_lens.formats.written import ENDINGS
from tidal_lens.memory import say_limit
from tidal_lens.study.files import SUFFIX
from tidal_lens.study.kinds.kind import Kind
from tidal_lens.study.model import Layer


def settings() -> QSettings:
    """The user's preferences."""
    path = Path(platformdirs.user_config_dir("tidal-lens")) / "preferences.ini"
    return QSettings(str(path), QSettings.Format.IniFormat)


class Window(QMainWindow):
    """The window."""

    document: Document
    command: CommandField
    view: FlowView
    histories: Histories
    imports: Imports
    ledger: Ledger
    status: StatusLine

    def __init__(self) -> None:
        super().__init__()
        self.ended_well = True
        self.document = Document(self)
        self.autosave = Autosave(self.document)
        self.faults = Faults(self)
        self.setAcceptDrops(True)
        self.setWindowTitle("Tidal Lens")
        self.setWindowIcon(theme.icon("mark", "sea", 64))
        self.resize(1280, 800)
        self.view = FlowView(self.document)
        self.imports = Imports(self.document)
        self.document.offered.connect(self._take_offer)
        self.histories = Histories(self.document)
        self.ledger = Ledger(self.document, self.histories)
        self.command = CommandField(self)
        self.strips = Strips(self.document)
        self.deck = Deck(self.document, self.act)
        self.bench = Bench(self.document, self.act)
        self.rail = Rail(self)
        self.top: TopBar = TopBar(self)
        self.status = StatusLine(self.document)
        self.status.limit_chosen.connect(self.choose_memory)
        said = settings().value("memory", "")
        say_limit(int(said) if str(said).isdecimal() else None)
        self._help: QWidget | None = None
        self._compose()
        self._shortcuts: dict[str, QShortcut] = {}
        for action in ACTIONS:
            if action.keys:
                shortcut = QShortcut(QKeySequence(action.keys), self)
                shortcut.activated.connect(lambda i=action.id: self.act(i))
                self._shortcuts[action.id] = shortcut
        self.view.pointed.connect(self.status.pointer.setText)
        self.view.small_ready.connect(self._small_picture)
        self.view.failed.connect(lambda text: self.document.noticed.emit(Notice("bad", f"{text} Is a graphics library "
                                                                                "(EGL, Mesa) installed? ./start installs it.")))
        self.show_station("look")
        self.view.setFocus()

    def _compose(self) -> None:
        root = QWidget()
        root.setObjectName("root")
        outer = QVBoxLayout(root)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        middle, right = QHBoxLayout(), QVBoxLayout()
        for line in (middle, right):
            line.setContentsMargins(0, 0, 0, 0)
            line.setSpacing(0)
        right.addWidget(self.strips)
        right.addWidget(self.view, 1)
        right.addWidget(self.deck)
        middle.addWidget(self.rail)
        middle.addWidget(self.bench)
        middle.addLayout(right, 1)
        middle.addWidget(self.ledger)
        outer.addWidget(self.top)
        outer.addLayout(middle, 1)
        outer.addWidget(self.status)
        self.setCentralWidget(root)

    def sizeHint(self) -> QSize:
        return QSize(1280, 800)

    # -- actions ---------------------------------------------------------------------------------------------

    def act(self, action_id: str, argument: str | None = None) -> None:
        """Carry out an action if it makes sense now."""
        action = BY_ID[action_id]
        if action.enabled(self):
            action.run(self, argument or "")

    def show_station(self, name: str) -> None:
        """Go to a station; the bench unfolds."""
        self.bench.show()
        self.bench.show_station(name)
        self.rail.buttons[name].setChecked(True)

    def show_quantity(self, name: str) -> None:
        """Show a quantity in the Derive station."""
        self.show_station("derive")
        self.bench.derive.show_quantity(name)

    def fold_bench(self) -> None:
        """Hide or show the bench."""
        self.bench.setVisible(not self.bench.isVisible())

    def change_theme(self) -> None:
        """Change between the themes, for good."""
        name = "chart" if theme.current().name == "night" else "night"
        theme.use(name)
        settings().setValue("theme", name)

    def choose_memory(self, nbytes: int | None) -> None:
        """Choose how much may be kept that can be worked out again, for good; None for a third of the machine's memory."""
        say_limit(nbytes)
        settings().setValue("memory", nbytes or "")
        self.status._show_facts()

    def _small_picture(self, layer_id: str, pixels: Any) -> None:
        card = self.deck.cards.get(layer_id)
        if card is not None:
            card.set_picture(pixels)

    # -- layers ----------------------------------------------------------------------------------------------

    def add(self, kind: Kind, argument: str = "") -> None:
        """Begin a layer."""
        self.document.begin(kind, argument)
        if kind.station and self.bench.station not in LAYER_STATIONS:
            self.show_station(kind.station)

    def _card(self, layer_id: str) -> Layer | None:
        return self.document.study.layer(layer_id) if layer_id else self.document.chosen_layer

    def colour_by(self, name: str) -> None:
        """Colour the chosen card by a quantity."""
        layer = self.document.chosen_layer
        if layer is not None and name and layer.look.on != "none":
            self.document.edit_layer(layer.with_(look=layer.look.with_(colour_by=name)), "Colour")

    def toggle_lamp(self, layer_id: str) -> None:
        """Show or hide a card's layer."""
        layer = self._card(layer_id)
        study = self.document.study
        if layer is not None:
            shown = not study.is_drawn(layer)
            self.document.edit(study.with_(alone=None).replacing(layer.with_(shown=shown)), "Show" if shown else "Hide",
                               f"lamp {layer.id}")

    def show_alone(self, layer_id: str) -> None:
        """Show a card's layer alone; again: all."""
        layer = self._card(layer_id)
        if layer is not None:
            alone = None if self.document.study.alone == layer.id else layer.id
            self.document.edit(self.document.study.with_(alone=alone), "Show alone" if alone else "Show all")

    def rename(self) -> None:
        """Type another name on the chosen card."""
        card = self.deck.cards.get(self.document.chosen or "")
        if card is not None:
            card.rename()

    def duplicate(self) -> None:
        """Add a copy of the chosen card after it."""
        layer, study = self.document.chosen_layer, self.document.study
        if layer is not None:
            copy = layer.with_(id=study.new_id(layer.kind), name=study.new_name(layer.name))
            self.document.edit(study.adding(copy, layer.id), f"Duplicate {layer.name}")
            self.document.choose(copy.id)

    def remove(self) -> None:
        """Remove the chosen card."""
        layer = self.document.chosen_layer
        if layer is not None:
            self.document.edit(self.document.study.without(layer.id), f"Remove {layer.name}")

    def focus_card(self, layer_id: str) -> None:
        """Give a card the keyboard."""
        if layer_id in self.deck.cards:
            self.deck.cards[layer_id].setFocus()

    def step(self, steps: float) -> None:
        """Move the chosen card by steps of its own."""
        layer, flow = self.document.chosen_layer, self.document.flow
        shape = layer.shape.stepped(steps, flow) if layer is not None and flow is not None else None
        if layer is not None and shape is not None:
            self.document.edit_layer(layer.with_(shape=shape), f"Move {layer.kind}")

    def toggle_outline(self) -> None:
        """Draw or hide the outline."""
        study = self.document.study
        self.document.edit(study.with_(outline=not study.outline), "Outline")

    # -- files -----------------------------------------------------------------------------------------------

    def open_dialog(self, path: str = "") -> None:
        """Open a file, asking for it where none is given."""
        if path:
            self.document.open_path(Path(path))
            return
        patterns = " ".join(f"*{s}" for f in FORMATS for s in f.suffixes)
        dialog = QFileDialog(self, "Open a result or a study")
        dialog.setNameFilters([f"Results and studies ({patterns} *{SUFFIX})",
                               "Bodies, points and histories (*.stl *.ply *.obj *.csv *.dat *.txt)", "All files (*)"])
        dialog.setFileMode(QFileDialog.FileMode.ExistingFile)
        dialog.fileSelected.connect(lambda chosen: self.document.open_path(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def _take_offer(self, path: Path) -> None:
        if path.suffix.lower() in SUFFIXES:
            self.imports.open_body(path)
        else:
            self.imports.open_table(path)

    def save_data(self, path: str, *, card: bool) -> None:
        """Save the flow, or the chosen card, as data, asking for a name where none is given."""
        layer = self.document.chosen_layer
        kinds: tuple[str, ...]
        if card and layer is not None:
            kinds = ENDINGS.get(layer.shape.geometry, ("vtp",))
            title, name = "Save the card's geometry", layer.name
        else:
            kinds, title = ("vtm", "cgns", "vtkhdf", "vtu", "vts"), "Save the flow's data"
            name = f"{self.document.flow.title} with quantities" if self.document.flow is not None else ""

        def take(chosen: str) -> None:
            target = Path(chosen)
            target = target if target.suffix else target.with_suffix(f".{kinds[0]}")
            if card and layer is not None:
                self.imports.save_card(layer.id, target)
            else:
                self.imports.save_flow(target)

        if path:
            take(path)
            return
        dialog = QFileDialog(self, title)
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
            self.document.open_path(Path(path))
            return
        dialog = QFileDialog(self, "Open the history of a run")
        dialog.setNameFilters(["Tables (*.csv *.dat *.txt)", "All files (*)"])
        dialog.setFileMode(QFileDialog.FileMode.ExistingFile)
        dialog.fileSelected.connect(lambda chosen: self.document.open_path(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def follow_run(self, folder: str = "") -> None:
        """Watch the folder of a running solution, asking for it where none is given."""
        if folder:
            self.histories.follow(Path(folder))
            return
        dialog = QFileDialog(self, "Follow a running solution: choose its folder")
        dialog.setFileMode(QFileDialog.FileMode.Directory)
        dialog.setOption(QFileDialog.Option.ShowDirsOnly)
        dialog.fileSelected.connect(lambda chosen: self.histories.follow(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def open_demo(self, name: str = "kittiwake.vtm") -> None:
        """Open a case that comes along."""
        self.document.open_path(ASSETS / name)

    def save(self) -> bool:
        """Save the study, asking for a name the first time."""
        if self.document.file is None:
            self.save_as()
            return False
        return self.document.save(self.document.file)

    def save_as(self) -> None:
        """Save the study under a name to be asked for."""
        dialog = QFileDialog(self, "Save the study")
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setNameFilters([f"Studies (*{SUFFIX})"])
        dialog.setDefaultSuffix(SUFFIX[1:])
        if self.document.flow is not None:
            dialog.selectFile(self.document.flow.title + SUFFIX)
        dialog.fileSelected.connect(lambda chosen: self.document.save(Path(chosen)))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        mime = event.mimeData() if event is not None else None
        if event is not None and mime is not None and any(u.isLocalFile() for u in mime.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        mime = event.mimeData() if event is not None else None
        if event is None or mime is None:
            return
        files = [u.toLocalFile() for u in mime.urls() if u.isLocalFile()]
        if files:
            event.acceptProposedAction()
            self.document.open_path(Path(files[0]))

    # -- help and the end ------------------------------------------------------------------------------------

    def show_help(self) -> None:
        """List all commands and keys."""
        if self._help is not None:
            self._help.close()
            self._help = None
            return
        sheet = QWidget(self, Qt.WindowType.Tool)
        sheet.setObjectName("help")
        sheet.setWindowTitle("Keys and commands")
        sheet.resize(640, 560)
        inside = QWidget()
        inside.setObjectName("benchpage")
        grid = QGridLayout(inside)
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(4)
        rows = [(a.title, a.keys, a.help) for a in ACTIONS if a.listed or a.keys]
        rows += [("Turn the view", "left drag, arrows", "Double-click sets the point that it turns about."),
                 ("Move the view", "middle drag, Shift+left", ""), ("Zoom", "wheel, + −", "Zooms to the pointer.")]
        for at, (title, keys, text) in enumerate(rows):
            grid.addWidget(label(title), at, 0)
            grid.addWidget(label(keys, "head"), at, 1)
            grid.addWidget(label(text, "soft"), at, 2)
        grid.setColumnStretch(2, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inside)
        line = QVBoxLayout(sheet)
        line.setContentsMargins(1, 1, 1, 1)
        line.addWidget(scroll)
        self._help = sheet
        sheet.show()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Ask about unsaved work, the one place where it could be lost."""
        if event is None:
            return
        if self.document.is_changed and self.document.flow is not None and self.isVisible() and not self._may_close():
            event.ignore()
            return
        if self._help is not None:
            self._help.close()
        self.autosave.end()
        self.ended_well = self.document.close()
        self.faults.remove()
        self.view.close_renderer()
        event.accept()

    def _may_close(self) -> bool:
        box = QMessageBox(self)
        box.setWindowTitle("Tidal Lens")
        box.setText("The study has changes that are not saved.")
        keep = box.addButton("Save…", QMessageBox.ButtonRole.AcceptRole)
        drop = box.addButton("Do not save", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Go back", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if box.clickedButton() is keep:
            return self.save()
        return box.clickedButton() is drop
