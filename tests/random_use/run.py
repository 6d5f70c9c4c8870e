"""Drives the window at random and watches for errors and memory.

    python tests/random_use/run.py --minutes 10 --seed 1
    python tests/random_use/run.py --same 10 --events 3000

Real mouse and key events: clicks, drags and wheels in the view, on cards, keys, tiles and controls; commands; undo and redo; stations;
themes; steps of a series, played and dragged; other cases opened in the middle of it all. Every exception and every strip that tells
of a fault is printed; every half a minute the memory is, with what is kept. What a case needs just after it was opened is compared from
round to round: that is the same state each time, so what it grows by is lost. With ``--same`` so many windows are each driven for some
events on one case; then everything is undone and done again, the study saved and opened anew: the picture must be the same.
"""

import argparse
import faulthandler
import gc
import os
import random
import sys
import tempfile
import time
import traceback
from pathlib import Path

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE.parent))
sys.path.insert(0, str(HERE.parent.parent / "src"))
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np  # noqa: E402
import psutil  # noqa: E402
from PyQt6.QtCore import QEvent, QObject, QPointF, Qt  # noqa: E402
from PyQt6.QtTest import QTest  # noqa: E402
from PyQt6.QtWidgets import QAbstractButton, QColorDialog, QComboBox, QDialog, QFileDialog, QLineEdit, QSlider  # noqa: E402

from driving import click, drag, move, settle, spin  # noqa: E402
from same_again import troubles  # noqa: E402
from tidal_lens.app.commands import COMMANDS  # noqa: E402
from tidal_lens.app.start import application  # noqa: E402
from tidal_lens.app.window import Window  # noqa: E402
from tidal_lens.memory import KEEPER, give_memory_back, limit, say_limit  # noqa: E402

CASES = ("kittiwake gust.cgns", "kittiwake.vtm", "kittiwake coarse.vtm")
NOT_AT_RANDOM = {"open", "save", "save-as", "save-flow", "save-card", "save-table",
                 "add-body", "add-cloud", "history", "follow", "quit", "help", "memory", "save-picture", "save-film", "save-sweep",
                 "save-report", "save-script", "run", "run-case", "note-picture", "open-same", "recent", "error-report", "about",
                 "settings"}
KEYS = (Qt.Key.Key_F, Qt.Key.Key_Left, Qt.Key.Key_Up, Qt.Key.Key_Plus, Qt.Key.Key_Minus, Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight,
        Qt.Key.Key_Escape, Qt.Key.Key_Comma, Qt.Key.Key_Slash, Qt.Key.Key_Period, Qt.Key.Key_F5)


HELD = {}  # to the very end: widgets must not outlive it


class Count(QObject):
    """How many mouse and key events came to any part of the window."""

    KINDS = frozenset({QEvent.Type.MouseButtonPress, QEvent.Type.MouseButtonRelease, QEvent.Type.MouseMove, QEvent.Type.MouseButtonDblClick,
             QEvent.Type.KeyPress, QEvent.Type.KeyRelease, QEvent.Type.Wheel})

    def __init__(self, app):
        super().__init__()
        self.events = 0
        app.installEventFilter(self)

    def eventFilter(self, target, event):
        self.events += target.isWidgetType() and event.type() in self.KINDS
        return False


class Use:
    """A user without a plan."""

    def __init__(self, window, seed):
        self.window, self.random = window, random.Random(seed)

    def place(self):
        view = self.window.view
        return QPointF(self.random.uniform(2, view.width() - 2), self.random.uniform(2, view.height() - 2))

    def in_view(self):
        view = self.window.view
        what = self.random.choice(("drag", "drag", "pan", "wheel", "click", "double", "hover", "key", "handle"))
        if what == "drag":
            drag(view, self.place(), self.place(), steps=self.random.randint(1, 8))
        elif what == "pan":
            drag(view, self.place(), self.place(), Qt.KeyboardModifier.ShiftModifier, steps=4)
        elif what == "wheel":
            view.eye.zoom(self.random.choice((0.8, 1.25)), self.place())
        elif what == "click":
            click(view, self.place())
        elif what == "double":
            QTest.mouseDClick(view, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.place().toPoint())
        elif what == "hover":
            for _ in range(5):
                move(view, self.place())
        elif what == "key":
            QTest.keyClick(self.window, self.random.choice(KEYS))
        else:
            beads = list(view.handles.beads().values())
            begin = self.place()
            if beads and view.shown_camera is not None:
                x, y = view.shown_camera.project(np.array([self.random.choice(beads)]), view.width(), view.height())[0][0]
                begin = QPointF(float(np.clip(x, 0, view.width())), float(np.clip(y, 0, view.height())))
            drag(view, begin, begin + QPointF(self.random.uniform(-60, 60), self.random.uniform(-60, 60)))

    def command(self):
        action = self.random.choice([a for a in COMMANDS if a.id not in NOT_AT_RANDOM and not a.id.startswith("demo")])
        self.window.act(action.id)

    def control(self):
        kinds = (QAbstractButton, QComboBox, QLineEdit, QSlider)
        page = self.window.bench.scroller.widget()
        there = [w for w in page.findChildren(kinds) if w.isVisible() and w.isEnabled() and "…" not in getattr(w, "text", str)()]
        if not there:
            return
        one = self.random.choice(there)
        if isinstance(one, QComboBox):
            if one.count():
                one.setCurrentIndex(self.random.randrange(one.count()))
                one.activated.emit(one.currentIndex())
        elif isinstance(one, QLineEdit):
            one.selectAll()
            QTest.keyClicks(one, self.random.choice(("0", "1", "-1", "0.5", "1e9", "x", "", "speed")))
            QTest.keyClick(one, Qt.Key.Key_Return)
        elif isinstance(one, QSlider):
            one.setValue(self.random.randint(one.minimum(), one.maximum()))
        else:
            click(one)

    def cards(self):
        cards = list(self.window.deck.cards.values())
        if cards:
            card = self.random.choice(cards)
            if card.isVisible():
                click(card, QPointF(self.random.uniform(3, card.width() - 3), self.random.uniform(3, card.height() - 3)))

    def undo(self):
        for _ in range(self.random.randint(1, 6)):
            self.window.act(self.random.choice(("undo", "undo", "redo")))

    def steps(self):
        document = self.window.document
        if len(document.clock.times) > 1:
            document.go_to_step(self.random.randrange(len(document.clock.times)))

    def tidy(self):
        """As a user would before it gets too full."""
        layers = self.window.document.study.layers
        if len(layers) > 9:
            self.window.document.edit(self.window.document.study.without(self.random.choice(layers).id), "Remove")

    def once(self):
        what = self.random.choices((self.in_view, self.command, self.control, self.cards, self.undo, self.steps, self.tidy),
                                   (8, 3, 4, 2, 2, 5, 2))[0]
        what()
        spin(self.random.choice((0.0, 0.0, 0.02, 0.1, 0.3)))
        for dialog in self.window.findChildren(QDialog):
            if isinstance(dialog, QFileDialog | QColorDialog):
                dialog.close()  # as a user would: those left open are no leak


def same(chosen):
    """Windows driven at random one after another; exit status 1 where a picture is not a function of its study."""
    app = HELD["app"] = application("chart")
    count, faults = Count(app), []

    def hear(notice):
        if "went wrong inside" in notice.text:
            faults.append(notice.text)

    for seed in range(chosen.seed, chosen.seed + chosen.same):
        window = Window()
        window.document.noticed.connect(hear)
        window.faults.install()
        window.resize(1280, 800)
        window.show()
        window.open_demo(CASES[seed % 3])
        settle(window)
        first, user, before = window.document.study, Use(window, seed), count.events
        while count.events - before < chosen.events:
            user.once()
        done = count.events - before
        with tempfile.TemporaryDirectory() as folder:
            found = troubles(window, first, Path(folder))
        print(f"seed {seed}: {done} events, {len(window.document.study.layers)} layers; {'; '.join(found) or 'the same'}", flush=True)
        faults += found
        window.hide()
        window.close()
        window.deleteLater()
        app.processEvents()
    print(f"{len(faults)} faults", *dict.fromkeys(faults), sep="\n")
    return 1 if faults else 0


def at_rest(window, case, process):
    """Memory [MB] when a case was opened and its first picture is there, with nothing kept of what was before."""
    window.open_demo(case)
    spin(0.5)
    settle(window)
    most = limit()
    say_limit(1)
    KEEPER.trim()
    say_limit(most)
    gc.collect()
    spin(1.0)
    give_memory_back()
    return process.memory_info().rss / 1e6


def main():
    """Run from the command line; exit status 1 where there was an error."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--minutes", type=float, default=10.0)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--limit", type=float, default=0.0, help="GB that may be kept; a third of the machine's if none is said")
    options.add_argument("--rounds", type=int, default=2, help="how often each of the cases is opened")
    options.add_argument("--same", type=int, default=0, help="windows whose picture must be the same when their study is opened anew")
    options.add_argument("--events", type=int, default=900, help="mouse and key events in each of them, at least")
    chosen = options.parse_args()
    if chosen.same:
        return same(chosen)
    faults = []
    faulthandler.enable()
    app = HELD["app"] = application("chart")
    window = Window()
    window.document.noticed.connect(lambda n: faults.append(n.text) if "went wrong inside" in n.text else None)
    window.faults.install()
    window.resize(1280, 800)
    window.show()
    if chosen.limit:
        say_limit(int(chosen.limit * 1e9))
    process, user, rests = psutil.Process(), Use(window, chosen.seed), {case: [] for case in CASES}
    begun, told, turn, actions = time.monotonic(), -30.0, 0, 0
    while (now := time.monotonic() - begun) < 60 * chosen.minutes:
        if now >= turn * 60 * chosen.minutes / (chosen.rounds * len(CASES)):
            case = CASES[turn % len(CASES)]
            turn += 1
            try:
                rests[case].append(at_rest(window, case, process))
            except AssertionError:
                faults.append(f"{case} did not open: {traceback.format_exc()}")
            print(f"{now:5.0f} s: {case} opened, {rests[case][-1:]} MB at rest", flush=True)
        if now - told >= 30:
            told = now
            kinds = ", ".join(f"{k} {v / 1e6:.0f}" for k, v in KEEPER.by_kind().items())
            print(f"{now:5.0f} s: {actions} actions, {process.memory_info().rss / 1e6:.0f} MB; kept {KEEPER.total / 1e6:.0f} of "
                  f"{limit() / 1e6:.0f} MB ({kinds})", flush=True)
        try:
            user.once()
        except Exception:  # noqa: BLE001  # that is what is looked for
            faults.append(traceback.format_exc())
            print(faults[-1], flush=True)
        actions += 1
    window.document._saved = window.document.study
    app.processEvents()
    window.hide()
    window.close()
    for case, megabytes in rests.items():
        grown = f"; {100 * (megabytes[-1] / megabytes[1] - 1):+.1f} % from the second to the last" if len(megabytes) > 2 else ""
        print(f"{case} at rest: {', '.join(f'{m:.0f}' for m in megabytes)} MB{grown}")
    print(f"{actions} actions, {len(faults)} faults", *dict.fromkeys(faults), sep="\n")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
