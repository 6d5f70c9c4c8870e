"""The bars round the window: top bar, rail, status line, and the strip that tells what went wrong."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import psutil
from PyQt6.QtCore import QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QMenu,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from tidal_lens.app import theme
from tidal_lens.app.bench import STATIONS
from tidal_lens.app.desk import Desk
from tidal_lens.app.document import Document
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import IconButton, label, pop_up
from tidal_lens.app.transport import Transport
from tidal_lens.memory import KEEPER, limit, said_limit


class TopBar(QWidget):
    """Mark, case title, command field, undo, redo, theme, help.

    Signals
    -------
    titled(str)
        What is open has another name.
    """

    titled = pyqtSignal(str)

    def __init__(self, desk: Desk, command: QWidget) -> None:
        super().__init__()
        self.setObjectName("topbar")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(40)
        self._document = desk.document
        line = QHBoxLayout(self)
        line.setContentsMargins(12, 0, 8, 0)
        line.setSpacing(4)
        self._mark = QLabel()
        self._mark.setFixedSize(24, 24)
        self.title = QLabel("Tidal Lens")
        self.title.setProperty("role", "head")
        self.title.setMinimumWidth(60)
        self.title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.undo = IconButton("undo-2", "Undo", "Undo (Ctrl+Z)", lambda: desk.act("undo"))
        self.redo = IconButton("redo-2", "Redo", "Redo (Ctrl+Shift+Z)", lambda: desk.act("redo"))
        self.theme = IconButton("moon", "Theme", "Change between the chart and night themes (F8)", lambda: desk.act("theme"))
        self.help = IconButton("circle-question-mark", "Help", "Help (F1)", lambda: desk.act("help"))
        line.addWidget(self._mark)
        line.addSpacing(6)
        line.addWidget(self.title, 2)
        self.open = IconButton("folder-open", "Open", "Open a result or a study (Ctrl+O); right-click: recent files",
                               lambda: desk.act("open"))
        self.open.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.open.customContextMenuRequested.connect(lambda at: pop_up(desk.files.recent_menu(), self.open.mapToGlobal(at)))
        line.addWidget(self.open)
        line.addWidget(IconButton("save", "Save", "Save the study (Ctrl+S)", lambda: desk.act("save")))
        line.addSpacing(8)
        line.addWidget(command, 3)
        self.finder = IconButton("station-find", "Find all four", "Find vortices, separation, shocks and recirculation (Ctrl+L)",
                               lambda: desk.act("find-all"))
        line.addWidget(self.finder)
        line.addSpacing(8)
        self.transport = Transport(desk.document, desk.show_over_time)
        line.addWidget(self.transport)
        line.addStretch(2)
        for button in (self.undo, self.redo, self.theme, self.help):
            line.addWidget(button)
        theme.hub().changed.connect(self.refresh)
        desk.document.study_changed.connect(self.refresh)
        desk.document.case_changed.connect(self.refresh)
        desk.document.file_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the title and what can be undone."""
        document = self._document
        self._mark.setPixmap(theme.pixmap("mark", "sea", 24))
        self.finder.setEnabled(document.flow is not None)
        name = document.flow.title if document.flow is not None else "Tidal Lens"
        study = f"  ·  {document.file.name}" if document.file is not None else ""
        changed = " *" if document.flow is not None and document.is_changed else ""
        self.title.setText(f"{name}{study}{changed}")
        self.title.setToolTip(f"{document.flow.path}" if document.flow is not None else "")
        self.titled.emit(f"{name}{study}{changed} — Tidal Lens" if document.flow is not None else "Tidal Lens")
        for button, what, word, key in ((self.undo, document.undo_what, "Undo", "Ctrl+Z"),
                                        (self.redo, document.redo_what, "Redo", "Ctrl+Shift+Z")):
            button.setEnabled(bool(what))
            button.setToolTip(f"{word}: {what} ({key})" if what else f"{word} ({key})")
        self.theme.set_icon("sun" if theme.current().name == "night" else "moon")


class Rail(QWidget):
    """The stations in the order of work."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(64)
        line = QVBoxLayout(self)
        line.setContentsMargins(4, 8, 5, 8)
        line.setSpacing(4)
        self.buttons: dict[str, QToolButton] = {}
        group = QButtonGroup(self)
        for number, station in enumerate(STATIONS):
            button = IconButton(f"station-{station.name}", station.title, f"{station.help} (Alt+{number + 1})",
                                partial(desk.show_station, station.name), size=22)
            button.setText(station.title)
            button.setProperty("role", "station")
            button.setCheckable(True)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            group.addButton(button)
            self.buttons[station.name] = button
            line.addWidget(button)
        line.addStretch(1)


class StatusLine(QWidget):
    """Position and value under the pointer, the running job, cells and memory.

    Signals
    -------
    limit_chosen(object)
        Bytes that may be kept, None for the usual.
    """

    limit_chosen = pyqtSignal(object)

    def __init__(self, document: Document) -> None:
        super().__init__()
        self.setObjectName("statusline")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(24)
        self._document = document
        self._process = psutil.Process()
        line = QHBoxLayout(self)
        line.setContentsMargins(12, 0, 12, 0)
        line.setSpacing(8)
        self.pointer = QLabel()
        self.pointer.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.job = QLabel()
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(110)
        self.cancel = IconButton("x", "Cancel", "Cancel the running work (Esc)", document.asking.cancel_work, size=14)
        self.cancel.setFixedSize(QSize(20, 20))
        self.facts = QToolButton()
        self.facts.setAccessibleName("Memory")
        self.facts.setProperty("role", "fact")
        self.facts.clicked.connect(self.choose_limit)
        line.addWidget(self.pointer, 1)
        for widget in (self.job, self.progress, self.cancel):
            widget.hide()
            line.addWidget(widget)
        line.addSpacing(12)
        line.addWidget(self.facts)
        document.jobs.changed.connect(self._show_job)
        document.jobs.progressed.connect(self._show_job)
        document.case_changed.connect(self._show_facts)
        document.study_changed.connect(lambda: None if document.dragging else self._show_facts())
        # Jobs that are over at once do not flicker here: only what lasts is shown.
        self._patience = QTimer(self)
        self._patience.setSingleShot(True)
        self._patience.setInterval(200)
        self._patience.timeout.connect(lambda: self._show_job(now=True))
        self._pulse = QTimer(self)
        self._pulse.setInterval(2000)
        self._pulse.timeout.connect(self._show_facts)
        self._pulse.start()

    def _show_job(self, *, now: bool = False) -> None:
        job = self._document.jobs.foremost()
        if job is None:
            self._patience.stop()
        elif not now and not self.job.isVisible():
            if not self._patience.isActive():
                self._patience.start()
            return
        for widget in (self.job, self.progress, self.cancel):
            widget.setVisible(job is not None)
        if job is not None:
            aside = self._document.jobs.aside()
            compiling = f" · {aside.title[0].lower()}{aside.title[1:]}" if aside is not None and aside is not job else ""
            self.job.setText(f"{job.title}{compiling}")
            self.progress.setRange(0, 0 if job.fraction == 0 else 100)
            self.progress.setValue(round(100 * job.fraction))

    def _show_facts(self) -> None:
        flow = self._document.flow
        memory = self._process.memory_info().rss / 1e9
        cells = f"{flow.n_cells:,} cells  ·  " if flow is not None else ""
        masks = [layer.name for layer in self._document.study.masks()] if flow is not None else []
        hidden = f"some is hidden by {', '.join(masks)}  ·  " if masks else ""
        self.facts.setText(f"{hidden}{cells}{memory:.2f} GB")
        kinds = KEEPER.by_kind()
        listed = ", ".join(f"{kind} {nbytes / 1e9:.2f}" for kind, nbytes in sorted(kinds.items(), key=lambda k: -k[1])) or "nothing"
        self.facts.setToolTip(f"Memory that Tidal Lens takes. What can be worked out again takes {KEEPER.total / 1e9:.2f} of "
                              f"{limit() / 1e9:.1f} GB that it may: {listed}. Click to choose how much it may take.")

    def choose_limit(self) -> None:
        """Offer how much may be kept."""
        whole = psutil.virtual_memory().total
        menu = QMenu(self)
        usual = menu.addAction(f"A third of the machine's memory ({whole / 3e9:.1f} GB)")
        sizes = [gb for gb in (1, 2, 4, 8, 16, 32, 64) if gb * 1e9 < whole]
        choices = [(usual, None), *((menu.addAction(f"{gb} GB"), gb * 1_000_000_000) for gb in sizes)]
        for action, nbytes in choices:
            if action is not None:
                action.setCheckable(True)
                action.setChecked(nbytes == said_limit())
                action.triggered.connect(lambda _on=False, n=nbytes: self.limit_chosen.emit(n))
        pop_up(menu, self.facts.mapToGlobal(self.facts.rect().topLeft()))


class Strip(QWidget):
    """Tells one thing, with what can be done about it; never blocks."""

    gone = pyqtSignal()

    def __init__(self, notice: Notice) -> None:
        super().__init__()
        self.setObjectName("strip")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setProperty("grade", notice.grade)
        self.notice = notice
        line = QHBoxLayout(self)
        line.setContentsMargins(10, 6, 6, 6)
        line.setSpacing(6)
        self.text = label(notice.text)
        self.text.setWordWrap(True)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        line.addWidget(self.text, 1)
        self.buttons: list[QPushButton] = []
        for title, run in notice.actions:
            button = QPushButton(title)
            button.clicked.connect(partial(self._carry_out, run))
            self.buttons.append(button)
            line.addWidget(button)
        line.addWidget(IconButton("x", "Dismiss", "Dismiss", self.dismiss, size=16))

    def _carry_out(self, run: Callable[[], None], _checked: bool = False) -> None:
        self.dismiss()
        run()

    def dismiss(self) -> None:
        """Go away."""
        self.hide()
        self.deleteLater()
        self.gone.emit()


class Strips(QWidget):
    """The strips above the view, the newest on top."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._line = QVBoxLayout(self)
        self._line.setContentsMargins(8, 8, 8, 8)
        self._line.setSpacing(6)
        self.hide()
        document.noticed.connect(self.tell)
        document.case_opened.connect(self._new_file)

    def tell(self, notice: Notice) -> None:
        """Show a notice; the same is not shown twice."""
        live = self.live()
        if any(s.notice.text == notice.text for s in live):
            return
        for old in live[3:]:
            old.dismiss()
        strip = Strip(notice)
        strip.gone.connect(lambda: self.setVisible(bool(self.live())))
        self._line.insertWidget(0, strip)
        self.show()

    def _new_file(self) -> None:
        """What was told of an earlier file is over."""
        for strip in self.live():
            if not strip.notice.lasting:
                strip.dismiss()

    def live(self) -> list[Strip]:
        """Strips that are up."""
        found = [self._line.itemAt(n) for n in range(self._line.count())]
        widgets = [item.widget() for item in found if item is not None]
        return [w for w in widgets if isinstance(w, Strip) and not w.isHidden()]

    def clear(self) -> None:
        """Take all away."""
        for strip in self.live():
            strip.dismiss()
