"""What long use showed: work that is kept safe, a window that nothing holds, memory within its limit, faults that end nothing."""

import os
import signal
import subprocess
import sys
import threading
import time
from collections import Counter

import numpy as np
import psutil
import pytest
from PyQt6.QtCore import QEvent, QObject, QPointF, Qt, QTimer
from PyQt6.QtWidgets import QApplication, QLabel, QSlider, QWidget
from vtkmodules.vtkCommonDataModel import vtkImageData
from vtkmodules.vtkIOXML import vtkXMLImageDataWriter, vtkXMLStructuredGridWriter

from driving import choose, click, drag, keys, move, settle, spin, wait
from small_series import series
from tidal_lens.app import autosave, faults, theme
from tidal_lens.app.jobs import Jobs, Slot
from tidal_lens.app.notices import Notice
from tidal_lens.app.parts import Check, Words, telling_digits
from tidal_lens.memory import KEEPER, limit, said_limit
from tidal_lens.scratch import clean, own_mark, writing
from tidal_lens.study.files import load_study
from vtk_data import add, structured, write


def slice_of(study):
    return next(x for x in study.layers if x.kind == "slice")


def edit_at(document, position):
    layer = slice_of(document.study)
    document.edit_layer(layer.with_(shape=layer.shape.with_(position=position)), "Move slice")


# -- autosave --------------------------------------------------------------------------------------------------------------


@pytest.mark.alone
def test_edits_that_follow_one_another_are_saved_all_the_same(window):
    """Each edit used to put the saving off: what came every second was never saved."""
    saved, begun, position = [], time.monotonic(), 0.0
    while time.monotonic() - begun < 4.0:
        position += 0.01
        edit_at(window.document, position)
        spin(0.25)
        own = list(autosave.state_folder().glob(f"autosave-{own_mark()}*"))
        if own:
            saved.append(slice_of(load_study(own[0])).shape.position)
    assert len(set(saved)) >= 2, "saved again and again"
    assert position - saved[-1] < 0.25, "and not long before the last edit"


@pytest.mark.alone
def test_busy_threads_do_not_keep_the_study_from_being_saved(window):
    gate = threading.Event()
    for n in range(6):
        window.document.jobs.submit(Slot("busy", str(n)), "Busy", lambda _token: gate.wait(20), lambda _a: None, lambda _e: None)
    edit_at(window.document, 0.123)
    wait(lambda: list(autosave.state_folder().glob(f"autosave-{own_mark()}*")), "the autosave", 5)
    gate.set()
    wait(lambda: not window.document.jobs.is_busy(), "the end")


def test_what_a_kill_left_half_written_is_cleaned_away(tmp_path):
    dead = tmp_path / ".autosave~999999-1~abc.tidal"
    dead.write_text("{")
    own = tmp_path / f".study~{own_mark()}~abc.tidal"
    own.write_text("{")
    other = tmp_path / ".hidden"
    other.write_text("")
    assert clean(tmp_path) == [dead]
    assert own.exists()
    assert other.exists()

    def broken():
        with writing(tmp_path / "a.txt") as scratch:
            scratch.write_text("half")
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        broken()
    assert not list(tmp_path.glob(".a*"))
    with writing(tmp_path / "a.txt") as scratch:
        assert own_mark() in scratch.name
        scratch.write_text("whole")
    assert (tmp_path / "a.txt").read_text() == "whole"
    assert (tmp_path / "a.txt").stat().st_mode & 0o044 == 0o044, "others may read it"


# -- nothing holds the window ----------------------------------------------------------------------------------------------


def deaf(token, seconds=4.0):
    """Work in a library's code, which hears of no cancel."""
    time.sleep(seconds)


@pytest.mark.alone
def test_work_that_does_not_stop_is_let_go_of(qapp):
    jobs, done = Jobs(), []
    jobs.submit(Slot("a"), "deaf", deaf, done.append, done.append)
    spin(0.05)
    began = time.monotonic()
    jobs.cancel(Slot("a"))
    jobs.submit(Slot("a"), "next", lambda _t: "answer", done.append, done.append)
    wait(lambda: done == ["answer"], "the next", 5)
    assert time.monotonic() - began < 1.5, "it did not wait for the deaf one"
    for n in range(4):
        jobs.submit(Slot("other", str(n)), "o", lambda _t, n=n: n, done.append, done.append)
    wait(lambda: len(done) == 5, "all threads are there", 5)
    began = time.monotonic()
    assert not jobs.close(), "a thread is lost, and told so"
    assert time.monotonic() - began < 3.0
    wait(lambda: not [t for t in threading.enumerate() if t.name.startswith("job")], "the deaf one's end", 10)


@pytest.mark.alone
def test_closing_does_not_wait_for_a_deaf_thread(qapp):
    from tidal_lens.app.window import Window

    window = Window()
    window.document.jobs.submit(Slot("case"), "Opening", deaf, lambda _a: None, lambda _e: None)
    spin(0.05)
    began = time.monotonic()
    window.close()
    assert time.monotonic() - began < 3.0
    assert not window.ended_well
    window.deleteLater()
    spin(0.05)
    wait(lambda: not [t for t in threading.enumerate() if t.name.startswith("job")], "the deaf one's end", 10)


@pytest.mark.alone
def test_escape_ends_the_opening_of_a_large_file(empty, tmp_path):
    data = vtkImageData()
    data.SetDimensions(160, 160, 160)
    for name, width in (("Velocity", 3), ("Pressure", 1), ("Density", 1)):
        add(data.GetPointData(), name, np.random.default_rng(1).random((160**3, width)))
    write(vtkXMLImageDataWriter(), data, tmp_path / "large.vti")
    empty.document.open_path(tmp_path / "large.vti")
    spin(0.25)
    assert empty.document.jobs.is_busy(Slot("case"))
    began = time.monotonic()
    empty.act("cancel")
    wait(lambda: not empty.document.jobs.is_busy(Slot("case")), "the end", 5)
    assert time.monotonic() - began < 1.0
    assert empty.document.flow is None


# -- memory ----------------------------------------------------------------------------------------------------------------


def test_the_limit_is_chosen_in_the_status_line_and_the_line_tells_what_is_kept(window, memory_limit):
    status = window.status
    status._show_facts()
    assert "GB" in status.facts.text()
    assert f"of {limit() / 1e9:.1f} GB" in status.facts.toolTip()
    assert "quantities" in status.facts.toolTip()
    assert said_limit() is None
    click(status.facts)
    menu = QApplication.activePopupWidget()
    assert menu is not None
    assert menu.actions()[0].isChecked()
    choose(menu, "2 GB")
    assert limit() == 2_000_000_000
    assert "of 2.0 GB" in status.facts.toolTip()
    window.act("memory")
    menu = QApplication.activePopupWidget()
    choose(menu, menu.actions()[0].text())
    assert said_limit() is None


def test_steps_and_what_rests_on_them_stay_within_the_limit(empty, tmp_path, memory_limit):
    path, _ = series(tmp_path)
    empty.document.open_path(path)
    settle(empty)
    empty.act("add-isosurface", "vorticity-magnitude")
    settle(empty)
    fixed = sum(v for k, v in KEEPER.by_kind().items() if k in ("pictures", "colours"))
    memory_limit(KEEPER.total + 20_000)
    for step in (1, 2, 0, 1, 2, 0):
        empty.document.go_to_step(step)
        wait(lambda s=step: empty.document.flow.step == s, "the step")
        settle(empty)
        assert not empty.document.asking.failures
        assert KEEPER.total <= limit() + fixed
    assert empty.document.asking.results[slice_of(empty.document.study).id].colours is not None


# -- faults ----------------------------------------------------------------------------------------------------------------


@pytest.fixture
def hearing(window):
    old = sys.excepthook
    window.faults.install()
    yield window
    window.faults.remove()
    sys.excepthook = old


def test_an_exception_in_a_slot_is_told_and_work_goes_on(hearing, tmp_path, monkeypatch):
    window = hearing

    def broken():
        raise ZeroDivisionError("a fault of our own")

    edit_at(window.document, 0.2)
    for _ in range(3):  # the same again is told once
        QTimer.singleShot(0, broken)
        spin(0.05)
    told = [s for s in window.strips.live() if "ZeroDivisionError: a fault of our own" in s.notice.text]
    assert len(told) == 1
    assert "kept safe" in told[0].notice.text
    assert faults.log_file().read_text().count("a fault of our own") >= 1
    wait(lambda: list(autosave.state_folder().glob(f"autosave-{own_mark()}*")), "the study", 5)
    text = window.faults.report("the fault")
    assert "the fault" in text
    assert "Cards: wall, slice" in text
    window.faults.save_report("the fault", tmp_path / "report.txt")
    assert "Tidal Lens" in (tmp_path / "report.txt").read_text()
    window.faults.save_report("the fault", tmp_path / "none" / "report.txt")
    spin(0.05)
    assert any("could not be written" in s.notice.text for s in window.strips.live())
    edit_at(window.document, 0.3)
    settle(window)
    assert window.document.asking.results[slice_of(window.document.study).id].layer.shape.position == 0.3


def test_a_crash_of_a_library_is_written_down(tmp_path, monkeypatch):
    """What each thread was at is in the log, and so in a report that is saved at the next start."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    monkeypatch.setenv("TIDAL_LENS_TELL_START", str(time.time()))
    with subprocess.Popen([sys.executable, "-c", "from tidal_lens.app.start import run; run(None)"], stdout=subprocess.PIPE,
                          env={**os.environ, "PYTHONPATH": ":".join(sys.path)}, text=True) as other:
        assert other.stdout.readline().startswith("window")
        other.send_signal(signal.SIGSEGV)
        assert other.wait(30) == -signal.SIGSEGV
    (log,) = tmp_path.rglob("faults.log")
    assert "Fatal Python error: Segmentation fault" in log.read_text()
    assert "start.py" in log.read_text()


def test_where_nothing_went_wrong_a_report_says_so(hearing):
    faults.log_file().parent.mkdir(parents=True, exist_ok=True)
    faults.log_file().write_text("")  # as every start leaves it
    assert hearing.faults.of_late() == "No fault was written down."


@pytest.mark.parametrize("position", [1e12, -1e12])
def test_a_slice_sent_far_away_is_no_fault(hearing, position):
    window = hearing
    window.document.choose(slice_of(window.document.study).id)
    before = faults.log_file().read_text() if faults.log_file().is_file() else ""
    edit_at(window.document, position)
    settle(window)
    window.view.grab()
    assert (faults.log_file().read_text() if faults.log_file().is_file() else "") == before
    assert not any("went wrong inside" in n.text for n in (s.notice for s in window.strips.live()))
    sweep = next(s for s in window.bench.findChildren(QSlider) if s.isVisible() and s.accessibleName() == "Sweep")
    assert sweep.value() == (sweep.maximum() if position > 0 else sweep.minimum())
    keys(window, Qt.Key.Key_Z, modifiers=Qt.KeyboardModifier.ControlModifier)
    settle(window)
    assert window.view.handles.bead_at("slice") is not None


def test_an_exception_while_painting_ends_nothing(hearing, monkeypatch):
    window = hearing
    card = next(iter(window.deck.cards.values()))
    real, broken = card._paint_chip, [True]

    def sometimes(p, layer):
        if broken[0]:
            raise RuntimeError("cannot paint")
        real(p, layer)

    monkeypatch.setattr(card, "_paint_chip", sometimes)
    card.repaint()
    spin(0.05)
    assert any("cannot paint" in s.notice.text for s in window.strips.live())
    broken[0] = False
    card.repaint()
    assert not card.grab().isNull()


# -- the window ------------------------------------------------------------------------------------------------------------

LONG = "run-A.Re1e6_k-omega-SST_aoa12.5deg_restart2_iteration_000000000_and_so_on_without_a_single_blank"


def test_a_long_name_never_widens_the_bench(empty, tmp_path):
    data = vtkImageData()
    data.SetDimensions(4, 4, 4)
    for name in ("Velocity", LONG + "_array"):
        add(data.GetPointData(), name, np.random.default_rng(1).random((64, 3)))
    write(vtkXMLImageDataWriter(), data, tmp_path / f"{LONG}.vti")
    empty.document.open_path(tmp_path / f"{LONG}.vti")
    settle(empty)
    page, room = empty.bench.scroller.widget(), empty.bench.scroller.viewport()
    for station in ("case", "derive", "look", "trace"):
        empty.show_station(station)
        if station == "case":
            click(empty.bench.pages["case"].reading.section.head)
        settle(empty)
        assert page.width() <= room.width(), station
    case = empty.bench.pages["case"]
    empty.show_station("case")
    settle(empty)
    assert LONG in case.facts.text()
    assert LONG in case.facts.toolTip()
    assert LONG not in QLabel.text(case.facts), "what is painted is cut short"
    assert empty.width() == 1280


def test_words_and_checks_are_whole_where_there_is_room(qapp):
    words, box = Words("a name of some length"), Check("another name of some length", "tip", lambda _on: None)
    for one in (words, box):
        one.resize(400, 24)
        one.show()
        spin()
    assert QLabel.text(words) == words.text()
    assert words.toolTip() == ""
    words.resize(60, 24)
    box.resize(90, 24)
    spin()
    assert "…" in QLabel.text(words)
    assert words.text() == "a name of some length" == words.toolTip()
    assert "…" in box.text()
    assert box.toolTip().startswith("another name of some length")
    words.resize(400, 24)
    box.resize(400, 24)
    spin()
    assert QLabel.text(words) == words.text()
    assert box.text() == "another name of some length"


def test_strips_of_an_earlier_file_go_when_another_opens(window, demo_path, tmp_path):
    window.document.open_path(tmp_path / "gone.vtu")
    wait(window.strips.live, "the message")
    window.document.noticed.emit(Notice("note", "of no single file", lasting=True))
    window.document.open_path(demo_path)
    wait(lambda: not any("gone.vtu" in s.notice.text for s in window.strips.live()), "the opening")
    assert [s.notice.text for s in window.strips.live()] == ["of no single file"]


def test_times_have_as_many_digits_as_tell_neighbours_apart(empty, tmp_path):
    assert telling_digits([0.0, 0.5, 1.0], 1) == 4
    assert telling_digits([10.00001, 10.00002, 10.00003], 1) == 7
    assert telling_digits([1.0], 0) == 4
    from small_series import Patch  # noqa: F401  # the module is there

    body = "".join(f'<DataSet timestep="{t}" file="a.vts"/>' for t in ("100.00001", "100.00002", "100.00003"))
    data = structured()
    add(data.GetPointData(), "Velocity", np.ones((64, 3)))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "a.vts")
    (tmp_path / "run.pvd").write_text(f'<VTKFile type="Collection"><Collection>{body}</Collection></VTKFile>')
    empty.document.open_path(tmp_path / "run.pvd")
    settle(empty)
    shown = []
    for step in (0, 1, 2):
        empty.document.go_to_step(step)
        settle(empty)
        shown.append(empty.top.transport.time.text())
    assert [t.split("·")[1].strip() for t in shown] == ["100.00001", "100.00002", "100.00003"]


def test_a_theme_change_is_painted_when_all_of_it_is_there(window):
    window.show_station("case")
    settle(window)

    painted = Counter()

    class Watch(QObject):
        def eventFilter(self, target, event):
            if event.type() == QEvent.Type.Paint and isinstance(target, QWidget):
                painted[target] += 1
            return False

    frame = [w for part in (window.rail, window.bench, window.top) for w in (part, *part.findChildren(QWidget))]
    watch = Watch()
    QApplication.instance().installEventFilter(watch)
    before = theme.current().name
    window.change_theme()
    assert not painted, "nothing is painted before all has changed"
    QApplication.processEvents()
    assert painted[window.rail] == painted[window.bench] == 1
    settle(window)  # a new picture of the flow comes into its own frame
    QApplication.instance().removeEventFilter(watch)
    shown = [w for w in frame if w.isVisible() and not w.visibleRegion().isEmpty()]
    assert len(shown) > 20
    assert {painted[w] for w in shown} == {1}, "then all of it at once"
    assert theme.current().name != before
    window.change_theme()
    settle(window)


def test_pointing_at_lines_works_nothing_out_on_the_windows_thread(window, monkeypatch):
    from tidal_lens.scene.camera import Camera

    window.act("add-streamlines")
    settle(window)
    many = window.document.asking.results[window.document.chosen].geometry
    real, here = Camera.project, []

    def watched(self, points, *size):
        if threading.current_thread() is threading.main_thread() and len(points) > 200:
            here.append(len(points))
        return real(self, points, *size)

    monkeypatch.setattr(Camera, "project", watched)
    told = []
    window.view.pointed.connect(told.append)
    place = real(window.view.shown_camera, many.points[[len(many.points) // 3]], window.view.width(), window.view.height())[0][0]
    for _ in range(4):
        move(window.view, QPointF(*place) + QPointF(0.5, 0))
        settle(window)
        move(window.view, QPointF(*place))
        settle(window)
    assert len(many.points) > 200
    assert here == []
    assert any(text.startswith("Line ") for text in told)


def test_one_layer_of_cells_can_be_taken_as_three_dimensional_and_that_be_undone(empty, tmp_path):
    y, x = (a.ravel() for a in np.meshgrid(np.linspace(0, 1, 9), np.linspace(0, 2, 13), indexing="ij"))
    points = np.concatenate([np.column_stack([x, y, 0 * x]), np.column_stack([x, y, 0 * x + 0.1])])
    data = structured(points, (13, 9, 2))
    add(data.GetPointData(), "Velocity", np.column_stack([4 * points[:, 1] * (1 - points[:, 1]), 0 * points[:, 0], 0 * points[:, 0]]))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "layer.vts")
    empty.document.open_path(tmp_path / "layer.vts")
    settle(empty)
    assert empty.document.flow.normal == (0.0, 0.0, 1.0)
    assert "a plane flow, a layer of cells 0.1 deep" in empty.bench.pages["case"].facts.text()
    strip = next(s for s in empty.strips.live() if "one layer of cells" in s.notice.text)
    click(strip.buttons[0])
    wait(lambda: empty.document.flow.normal is None, "the flow in space")
    settle(empty)
    drag(empty.view, QPointF(500, 300), QPointF(560, 340))
    assert empty.bench.pages["case"].reading.in_space.isChecked()
    empty.act("undo")
    wait(lambda: empty.document.flow.normal is not None, "the plane again")
    settle(empty)


def test_a_part_offers_the_result_it_belongs_to(empty, tmp_path):
    (tmp_path / "run").mkdir()
    data = structured()
    add(data.GetPointData(), "Velocity", np.ones((64, 3)))
    write(vtkXMLStructuredGridWriter(), data, tmp_path / "run" / "inside.vts")
    (tmp_path / "run.vtm").write_text('<VTKFile type="vtkMultiBlockDataSet"><vtkMultiBlockDataSet>'
                                      '<DataSet index="0" name="inside" file="run/inside.vts"/></vtkMultiBlockDataSet></VTKFile>')
    empty.document.open_path(tmp_path / "run" / "inside.vts")
    settle(empty)
    strip = next(s for s in empty.strips.live() if "is a part of run.vtm" in s.notice.text)
    click(strip.buttons[0])
    wait(lambda: empty.document.flow.path.name == "run.vtm", "the whole")
    settle(empty)
    (tmp_path / "run" / "inside.vts").write_text("<VTKFile")
    empty.document.open_path(tmp_path / "run" / "inside.vts")
    wait(lambda: any("Open run.vtm" in [b.text() for b in s.buttons] for s in empty.strips.live()), "the offer beside the message")


def test_the_process_is_told_alive_by_number_and_start():
    from tidal_lens.scratch import is_alive

    number, begun = own_mark().split("-")
    assert is_alive(number, begun)
    assert not is_alive(number, "1")
    assert not is_alive("999999", begun)
    assert not is_alive("x", "y")
    assert psutil.Process().pid == os.getpid() == int(number)
