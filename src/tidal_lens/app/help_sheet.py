"""The help: pages at the left, one of them at the right, and a field that searches all."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QDesktopServices, QImage, QKeySequence, QShortcut, QTextCursor, QTextDocument
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QListWidgetItem, QTextBrowser, QVBoxLayout, QWidget

from tidal_lens.app.help_pages import Hit, Page, pages, search
from tidal_lens.app.sheet import Sheet

_WIDE, _EDGE = 260, 24


class _Reader(QTextBrowser):
    """Shows pictures no wider than itself."""

    def loadResource(self, kind: int, name: QUrl) -> Any:
        found = super().loadResource(kind, name)
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return found
        image = found if isinstance(found, QImage) else QImage.fromData(found) if found is not None else QImage()
        viewport = self.viewport()
        room = (viewport.width() if viewport is not None else self.width()) - _EDGE
        if image.isNull() or image.width() <= room:
            return image
        return image.scaledToWidth(max(room, 100), Qt.TransformationMode.SmoothTransformation)


class HelpSheet(Sheet):
    """A window of its own.

    Parameters
    ----------
    window : QWidget
        Before which it stands.
    commands : sequence
        Titles, keys and what each command does.
    """

    def __init__(self, window: QWidget, commands: Sequence[tuple[str, str, str]]) -> None:
        super().__init__(window, "Help")
        self.resize(980, 700)
        self.pages = {page.name: page for page in pages(commands)}
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search all pages")
        self.search.setAccessibleName("Search all pages")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._look)
        self.list = QListWidget()
        self.list.setAccessibleName("Pages of the help")
        self.list.setFixedWidth(_WIDE)
        self.list.setWordWrap(True)
        self.list.currentItemChanged.connect(lambda item, _old: self._open(item))
        self.reader = _Reader()
        self.reader.setAccessibleName("Page")
        self.reader.setOpenLinks(False)
        self.reader.anchorClicked.connect(self._follow)
        left, whole = QVBoxLayout(), QHBoxLayout(self)
        left.addWidget(self.search)
        left.addWidget(self.list, 1)
        whole.setContentsMargins(10, 10, 10, 10)
        whole.addLayout(left)
        whole.addWidget(self.reader, 1)
        QShortcut(QKeySequence("Ctrl+F"), self, self.search.setFocus)
        self.shown = ""
        self._look("")

    def _look(self, text: str) -> None:
        """List what was searched for; all pages where nothing is."""
        hits = search(tuple(self.pages.values()), text)
        self.list.blockSignals(True)
        self.list.clear()
        entries = [(f"{self.pages[h.page].title} · {h.heading}\n{h.words}", h) for h in hits] if text.strip() else [
            (page.title, Hit(page.name, "", "")) for page in self.pages.values()]
        for told, hit in entries:
            item = QListWidgetItem(told)
            item.setData(Qt.ItemDataRole.UserRole, hit)
            self.list.addItem(item)
        if not entries:
            item = QListWidgetItem("Nothing was found. Try fewer words.")
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.blockSignals(False)
        if entries and (text.strip() or not self.shown):
            self.list.setCurrentRow(0)

    def _open(self, item: QListWidgetItem | None) -> None:
        hit = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if isinstance(hit, Hit):
            self.show_page(hit.page)
            if hit.words:
                self._mark(self.search.text())

    def show_page(self, name: str) -> None:
        """Show a page."""
        page: Page | None = self.pages.get(name)
        if page is None:
            return
        if name != self.shown:
            self.reader.setSearchPaths([str(page.folder)] if page.folder is not None else [])
            self.reader.setMarkdown(page.text)
            self.shown = name
        at = list(self.pages).index(name)
        if not self.search.text().strip() and self.list.currentRow() != at:
            self.list.blockSignals(True)
            self.list.setCurrentRow(at)
            self.list.blockSignals(False)

    def _mark(self, text: str) -> None:
        """Go to the first of the words, and mark it."""
        self.reader.moveCursor(QTextCursor.MoveOperation.Start)
        words = text.split()
        if not self.reader.find(text.strip()) and words:
            self.reader.find(words[0])

    def _follow(self, url: QUrl) -> None:
        """Another page of the help, or, of the web, whatever the desktop opens it with."""
        name = url.path().rpartition("/")[2].removesuffix(".md")
        if url.scheme() in ("http", "https"):
            QDesktopServices.openUrl(url)
        elif name in self.pages:
            self.show_page(name)
        elif url.fragment():
            self.reader.scrollToAnchor(url.fragment())
