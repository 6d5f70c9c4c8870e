"""Start the window, or make a picture of it without a display."""

from __future__ import annotations

import gc
import os
import signal
import sys
import time
from pathlib import Path

from PyQt6.QtCore import QSize, Qt, QTimer, qInstallMessageHandler
from PyQt6.QtGui import QGuiApplication, QPixmap
from PyQt6.QtWidgets import QApplication

from tidal_lens.app import theme
from tidal_lens.app.jobs import Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.preferences import settings
from tidal_lens.app.sweeping import Sweeping
from tidal_lens.app.window import Window
from tidal_lens.memory import share_arenas
from tidal_lens.scene.renderer import prefer_headless
from tidal_lens.work import Token


def _hear_qt(_kind: object, _context: object, text: str | None) -> None:
    # The off-screen platform says this of every window; everything else is worth reading.
    if text and "propagateSizeHints" not in text:
        sys.stderr.write(f"{text}\n")


def application(chosen_theme: str | None = None) -> QApplication:
    """The application with fonts and theme."""
    prefer_headless()
    share_arenas()
    sys.setswitchinterval(1e-4)  # threads that drive kernels hand over often: for each of many short turns they would wait for the longer
    qInstallMessageHandler(_hear_qt)
    QGuiApplication.setHighDpiScaleFactorRoundingPolicy(Qt.HighDpiScaleFactorRoundingPolicy.PassThrough)
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        app = QApplication(sys.argv[:1])
        Sweeping(app)
    app.setApplicationName("Tidal Lens")
    app.setDesktopFileName("tidal-lens")
    theme.setup(app, chosen_theme or str(settings().value("theme", "chart")))
    return app


def warm(window: Window) -> None:
    """Load the kernels that a user will soon need in the background; at the very first start, compile them in processes beside it."""
    from tidal_lens.compiling import prepare_kernels

    jobs, slot = window.document.jobs, Slot("warm")

    def work(token: Token) -> None:
        def tell(done: int, total: int) -> None:
            jobs.retitle(slot, f"Compiling once, {done} of {total}")
            token.report(done / total)

        prepare_kernels(token, tell)

    jobs.submit(slot, "Preparing kernels", work, lambda _a: None, lambda _e: None)


def run(path: Path | None) -> int:
    """Open the window and wait until it is closed; exit status."""
    app = application()
    window = Window()
    window.faults.install()
    window.faults.hear_of_crashes()
    window.show()
    gc.freeze()  # what was loaded stays: it need not be looked at again
    signal.signal(signal.SIGINT, lambda *_: app.quit())
    pulse = QTimer()
    pulse.start(500)
    pulse.timeout.connect(lambda: None)  # lets Python see signals
    QTimer.singleShot(0, lambda: _begin(window, path))
    if os.environ.get("TIDAL_LENS_TELL_START"):
        began = float(os.environ["TIDAL_LENS_TELL_START"])
        window.view.frame_shown.connect(lambda: print(f"first picture {time.time() - began:.2f} s", flush=True))  # noqa: T201
        QTimer.singleShot(0, lambda: print(f"window {time.time() - began:.2f} s", flush=True))  # noqa: T201
    status = app.exec()
    window.close()
    if not window.ended_well:  # a thread is lost in a library's code: nobody waits for it
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)
    return status


def _begin(window: Window, path: Path | None) -> None:
    window.autosave.offer_leftovers()
    if path is None:
        window.open_demo()
        window.welcome()
    else:
        window.document.open_path(path)
    QTimer.singleShot(1500, lambda: warm(window))


def picture(path: Path | None, out: Path, size: tuple[int, int], chosen_theme: str | None, station: str | None,
            patience: float = 240.0) -> int:
    """Write a picture of the window, complete, without a display.

    Returns
    -------
    int
        0, or 1 with a message where it could not be made.
    """
    app = application(chosen_theme or "chart")
    window = Window()
    troubles: list[str] = []

    def hear(notice: Notice) -> None:
        if notice.grade == "bad":
            troubles.append(notice.text)

    window.document.noticed.connect(hear)
    window.faults.install()
    window.view.failed.connect(troubles.append)
    window.resize(QSize(*size))
    window.show()
    if station is not None:
        window.show_station(station)
    if path is None:
        window.open_demo()
    else:
        window.document.open_path(path)
    end = time.monotonic() + patience
    while not (complete(window) or (troubles and not window.document.jobs.is_busy())) and time.monotonic() < end:
        app.processEvents()
        time.sleep(0.01)
    troubles.extend(window.document.asking.failures.values())
    done = complete(window)
    saved = done and grab(window).save(str(out))
    if not done:
        troubles.append(f"The picture was not complete after {patience:.0f} s.")
    elif not saved:
        troubles.append(f"{out} could not be written: is it a .png in a folder that exists?")
    window.hide()
    window.close()
    if saved and not window.document.asking.failures and not troubles:
        return 0
    sys.stderr.write("\n".join(dict.fromkeys(troubles)) + "\n")
    return 1


def complete(window: Window) -> bool:
    """Whether the window shows everything that was asked for."""
    return window.document.flow is not None and not window.document.jobs.is_busy() and window.views.are_complete


def grab(window: Window) -> QPixmap:
    """The window as a picture."""
    return window.grab()
