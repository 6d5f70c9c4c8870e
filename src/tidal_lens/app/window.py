"""The main window: puts the parts together and carries out the commands."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QMainWindow,
    QMessageBox,
    QVBoxLayout,
    QWidget,
)

from tidal_lens.app import theme
from tidal_lens.app.autosave import Autosave
from tidal_lens.app.bars import Rail, StatusLine, Strips, TopBar
from tidal_lens.app.bench import Bench
from tidal_lens.app.cards import Cards
from tidal_lens.app.command_field import CommandField
from tidal_lens.app.commands import BY_ID, COMMANDS
from tidal_lens.app.deck import Deck
from tidal_lens.app.document import Document
from tidal_lens.app.faults import Faults
from tidal_lens.app.file_dialogs import FileDialogs
from tidal_lens.app.help_sheet import HelpSheet
from tidal_lens.app.histories import Histories
from tidal_lens.app.imports import Imports
from tidal_lens.app.ledger import Ledger
from tidal_lens.app.lifted import Lifted
from tidal_lens.app.notices import Notice
from tidal_lens.app.over_time import OverTime
from tidal_lens.app.plates_strip import PlatesStrip
from tidal_lens.app.preferences import note_recent, settings
from tidal_lens.app.settings_sheet import SettingsSheet
from tidal_lens.app.stations.tell import TellStation
from tidal_lens.app.view import FlowView
from tidal_lens.app.views import Views
from tidal_lens.app.welcome import Welcome
from tidal_lens.demo.shipped import demo_path
from tidal_lens.formats.bodies import SUFFIXES
from tidal_lens.formats.clouds import TABLES
from tidal_lens.memory import say_limit
from tidal_lens.study.kinds.kind import Kind


def _take_memory() -> None:
    """As much may be kept as the user said."""
    said = settings().value("memory", "")
    say_limit(int(said) if str(said).isdecimal() else None)


class Window(QMainWindow):
    """The window."""

    document: Document
    cards: Cards
    command: CommandField
    files: FileDialogs
    view: FlowView
    histories: Histories
    imports: Imports
    ledger: Ledger
    plates: PlatesStrip
    status: StatusLine

    def __init__(self) -> None:
        super().__init__()
        self.ended_well = True
        self.document = Document(self)
        self.autosave = Autosave(self.document)
        self.faults = Faults(self, self.document, self.autosave)
        self.setAcceptDrops(True)
        self.setWindowTitle("Tidal Lens")
        self.setWindowIcon(theme.icon("mark", "sea", 64))
        self.resize(1280, 800)
        self.view = FlowView(self.document)
        self.views = Views(self.document, self.view)
        self.imports = Imports(self.document)
        self.imports.names_of = self.view.findings.names_of
        self.document.offered.connect(self._take_offer)
        self.document.noted_changed.connect(self._noted)
        self.document.case_opened.connect(self._opened)
        self.document.file_changed.connect(self._opened)
        self.document.film_wanted.connect(lambda: self.act("save-sweep"))
        self.histories = Histories(self.document)
        self.ledger = Ledger(self.document, self.histories, self.view.findings, self.act)
        self.lifted = Lifted(self.ledger.measure)
        for charts in (self.ledger.measure, self.ledger.found.detail.chart):
            charts.pointed.connect(self.view.spot.show)
        self.view.seen.connect(self.ledger.measure.mark_place)
        self.command = CommandField(self, self)
        self.strips = Strips(self.document)
        self.deck = Deck(self.document, self.act)
        self.over_time = OverTime(self.document, self.view)
        self.plates = PlatesStrip(self.document, self.view)
        self.cards = Cards(self.document, self.deck)
        self.files = FileDialogs(self, self.document, self.imports, self.histories)
        self.bench = Bench(self.document, self.act)
        self.rail = Rail(self)
        self.top: TopBar = TopBar(self, self.command)
        self.top.titled.connect(self.setWindowTitle)
        self.status = StatusLine(self.document)
        self.status.limit_chosen.connect(self.keep_memory)
        _take_memory()
        self._help: HelpSheet | None = None
        self._settings: SettingsSheet | None = None
        self._compose()
        self._shortcuts: dict[str, QShortcut] = {}
        for command in COMMANDS:
            if command.keys:
                shortcut = QShortcut(QKeySequence(command.keys), self)
                shortcut.activated.connect(lambda i=command.id: self.act(i))
                self._shortcuts[command.id] = shortcut
        self.views.pointed.connect(self.status.pointer.setText)
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
        right.addWidget(self.views, 1)
        right.addWidget(self.lifted, 1)
        right.addWidget(self.over_time)
        right.addWidget(self.plates)
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

    # -- commands --------------------------------------------------------------------------------------------

    def act(self, command: str, *given: object) -> None:
        """Carry out a command if it makes sense now; ``given`` as it takes."""
        BY_ID[command].carry_out(self, *given)

    def show_station(self, name: str) -> None:
        """Go to a station; the bench unfolds."""
        self.bench.show()
        self.bench.show_station(name)
        self.rail.buttons[name].setChecked(True)
        self.ledger.look(name)
        self.plates.look(at_station=name == "tell")

    def show_quantity(self, name: str) -> None:
        """Show a quantity in the Derive station."""
        self.show_station("derive")
        self.document.asked_for.emit(name)

    def fold_bench(self) -> None:
        """Hide or show the bench."""
        self.bench.setVisible(not self.bench.isVisible())

    def change_theme(self) -> None:
        """Change between the themes, for good."""
        name = "chart" if theme.current().name == "night" else "night"
        theme.use(name)
        settings().setValue("theme", name)

    def look_up(self) -> None:
        """Give the keyboard to the command field."""
        self.command.begin()

    def play(self) -> None:
        """Play through the steps of a series, or pause."""
        self.top.transport.toggle()

    def show_notes(self) -> None:
        """Show the notes in the Tell station."""
        page = self.bench.pages["tell"]
        assert isinstance(page, TellStation)
        self.show_station("tell")
        page.show_section("notes")

    def lift_charts(self) -> None:
        """Lift the chosen measure's charts to half of the view, or lay them back."""
        self.lifted.toggle()

    def show_over_time(self) -> None:
        """Show the chosen card at several steps, or put them away."""
        self.over_time.toggle()

    def choose_memory(self) -> None:
        """Offer how much may be kept that can be worked out again."""
        self.status.choose_limit()

    def keep_memory(self, nbytes: int | None) -> None:
        """So much may be kept, for good; None for a third of the machine's memory."""
        say_limit(nbytes)
        settings().setValue("memory", nbytes or "")
        self.status._show_facts()

    def _small_picture(self, layer_id: str, pixels: Any) -> None:
        card = self.deck.cards.get(layer_id)
        if card is not None:
            card.set_picture(pixels)

    # -- layers ----------------------------------------------------------------------------------------------

    def _opened(self) -> None:
        """What is open is remembered, but for what comes along."""
        document = self.document
        path = document.file or (document.flow.path if document.flow is not None else None)
        if path is not None and not path.resolve().is_relative_to(demo_path("x").parent.parent):
            note_recent(path)

    def welcome(self) -> None:
        """At the very first start: a card with three choices."""
        if settings().value("welcomed", "") == "yes":
            return
        settings().setValue("welcomed", "yes")
        self.welcome_card = Welcome(self.view, (
            ("folder-open", "Open a result", "Open a result, or a study", lambda: self.act("open")),
            ("station-look", "Look at the demo", "Turn it, drag the bead on the slice", self.view.setFocus),
            ("circle-question-mark", "The first hour", "What there is, station by station", lambda: self.act("help", "first-hour"))))

    def _noted(self, typing: bool) -> None:
        """A note was chosen: to be typed, or its row to be seen if the station is."""
        self.view.update()
        if typing and self.rail.buttons["tell"].isChecked() is False:
            self.show_notes()
            self.document.noted_changed.emit(True)

    def add(self, kind: Kind, argument: str = "") -> None:
        """Begin a layer; of what begins from a file, an argument is its path."""
        if kind.files:
            self.files.lay(kind, argument)
        else:
            self.document.begin(kind, argument)
        if kind.station and not self.bench.station.cards:
            self.show_station(kind.station)

    def find_all(self) -> None:
        """Look for all features, and list them."""
        self.view.findings.find_all()
        self.ledger.unfold()
        self.show_station("find")

    # -- files -----------------------------------------------------------------------------------------------

    def _take_offer(self, path: Path) -> None:
        if path.suffix.lower() in SUFFIXES:
            self.imports.open_body(path)
        elif path.suffix.lower() not in TABLES:
            self.imports.open_cloud(path)
        else:
            self.imports.open_table(path)

    def open_demo(self, name: str = "kittiwake.vtm") -> None:
        """Open a case that comes along."""
        self.document.open_path(demo_path(name))

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

    def show_help(self, page: str = "") -> None:
        """Show the help, or a page of it; again: put it away."""
        if self._help is not None and self._help.isVisible() and not page:
            self._help.close()
            return
        if self._help is None:
            self._help = HelpSheet(self, [(a.title, a.keys, a.help) for a in COMMANDS if a.listed or a.keys])
        if page:
            self._help.show_page(page)
        self._help.show()

    def show_settings(self) -> None:
        """Show the settings; again: put them away."""
        if self._settings is None:
            self._settings = SettingsSheet(self, self, self.document)
        self._settings.refresh()
        self._settings.setVisible(not self._settings.isVisible())

    def save_report(self, path: str = "") -> None:
        """Save a report for whoever looks into a fault, asking for a name where none is given."""
        self.faults.save_report(self.faults.of_late(), Path(path) if path else None)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Ask about unsaved work, the one place where it could be lost."""
        if event is None:
            return
        if self.isVisible() and self.document.flow is not None and (self.document.is_changed or self.document.makers.under_way) \
                and not self._may_close():
            event.ignore()
            return
        for sheet in (self._help, self._settings):
            if sheet is not None:
                sheet.close()
        self.autosave.end()
        self.ended_well = self.document.close()
        self.faults.remove()
        self.views.close_renderers()
        event.accept()

    def _may_close(self) -> bool:
        """Ask once, about all that would be lost."""
        changed, making = self.document.is_changed, self.document.makers.under_way
        box = QMessageBox(self)
        box.setWindowTitle("Tidal Lens")
        told = ["The study has changes that are not saved."] if changed else []
        told += [f"{title} is not done yet; it is given up." for title in making]
        box.setText("\n".join(told))
        keep = box.addButton("Save…", QMessageBox.ButtonRole.AcceptRole) if changed else None
        drop = box.addButton("Do not save" if changed else "Close", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Go back", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        if keep is not None and box.clickedButton() is keep:
            return self.files.save()
        return box.clickedButton() is drop
