"""Histories of a run in the ledger, and a run that is followed while it writes."""

import threading

import numpy as np
import pytest

from driving import click, settle, spin, type_into, wait
from tidal_lens.demo.running import simulate_run, state
from tidal_lens.study.follow import look_into


def texts(window):
    return [strip.text.text() for strip in window.strips.live()]


@pytest.mark.gui
def test_a_history_is_drawn_with_a_verdict_and_a_criterion(window, tmp_path):
    rows = ["iteration,continuity,CL", *(f"{n},{10 ** (-n / 100):.6e},{0.5 + np.exp(-n / 20):.6f}" for n in range(1, 401))]
    path = tmp_path / "run.csv"
    path.write_text("\n".join(rows))
    assert not window.ledger.isVisible()
    window.act("history", str(path))
    wait(window.ledger.isVisible, "the ledger")
    entry = window.ledger.history
    assert entry.name.text() == "run.csv"
    assert entry.state.text() == "Converged."
    assert "continuity fell 3." in entry.verdict.text()
    panel = entry.panels["Residuals"]
    x, y = panel.lines["continuity"].getOriginalDataset()
    np.testing.assert_allclose(x, np.arange(1, 401))
    np.testing.assert_allclose(y, 10 ** (-x / 100), rtol=1e-5)
    before = panel._limits["continuity"].value()
    type_into(entry.criterion, "1e-5")
    assert entry.state.text() == "Not converged."
    assert panel._limits["continuity"].value() == pytest.approx(before - 2.0)
    entry.of_curve.setCurrentIndex(0)
    assert entry.of_curve.currentText() == "continuity"
    type_into(entry.own, "1e-2")
    assert entry.state.text() == "Converged.", "by a criterion of its own"
    assert panel._limits["continuity"].value() == pytest.approx(before + 1.0)
    window.act("undo")
    assert entry.state.text() == "Not converged."
    # The view gives way to the ledger and takes the room back.
    width = window.view.width()
    window.act("fold-ledger")
    spin(0.02)
    assert window.view.width() > width
    window.act("fold-ledger")
    window.act("theme")
    window.act("theme")
    settle(window)
    window.act("undo")
    assert entry.state.text() == "Converged."
    window.act("undo")
    wait(lambda: not window.ledger.isVisible(), "the ledger to go")
    window.act("redo")
    wait(window.ledger.isVisible, "the ledger")


@pytest.mark.gui
def test_a_table_that_is_none_is_told(window, tmp_path):
    (tmp_path / "words.csv").write_text("these are,only words\n")
    window.document.open_path(tmp_path / "words.csv")
    wait(lambda: any("no numbers" in t for t in texts(window)), "the message")
    assert window.document.flow is not None


@pytest.mark.gui
def test_a_running_solution_is_followed(empty, tmp_path):
    window, folder = empty, tmp_path / "run"
    folder.mkdir()
    window.act("follow", str(folder))
    spin(0.05)
    assert "no history yet" in window.ledger.history.verdict.text()
    simulate_run(folder, steps=1, iterations=20, pause=0.0)
    window.histories.look()
    wait(lambda: window.document.flow is not None and window.histories.history is not None, "the first step")
    settle(window)
    layers = window.document.study.layers
    solver = threading.Thread(target=lambda: simulate_run(folder, steps=4, iterations=20, pause=0.05))
    solver.start()
    solver.join()
    window.histories.look()
    wait(lambda: len(window.document.clock.times) == 4, "the steps")
    settle(window)
    # Who looks at the newest step goes on to the next; what is on the table stays.
    wait(lambda: window.document.flow.step == 3, "the newest step")
    assert window.document.study.layers == layers
    flow = window.document.flow
    np.testing.assert_allclose(flow.fields["Velocity"].values, state(flow.points, 0.75)["Velocity"], atol=1e-6)
    assert len(window.histories.history.at) == 80
    # Who looks at an earlier step is left there.
    window.document.go_to_step(1)
    wait(lambda: window.document.flow.step == 1, "the second step")
    simulate_run(folder, steps=6, iterations=20, pause=0.0)
    window.histories.look()
    wait(lambda: len(window.document.clock.times) == 6, "more steps")
    assert window.document.flow.step == 1
    click(window.ledger.history.stop)
    assert window.histories.folder is None
    settle(window)


@pytest.mark.gui
def test_a_folder_that_goes_is_told_and_a_step_written_by_half_is_passed_over(empty, tmp_path):
    window, folder = empty, tmp_path / "run"
    simulate_run(folder, steps=3, iterations=5, pause=0.0)
    window.act("follow", str(folder))
    wait(lambda: len(window.document.clock.times) == 3, "the run")
    settle(window)
    whole = (folder / "flow_0003.vts").read_bytes()
    (folder / "flow_0004.vts").write_bytes(whole[: len(whole) // 2])
    window.histories.look()
    wait(lambda: any("passed over" in t for t in texts(window)), "the half-written step")
    (folder / "flow_0004.vts").write_bytes(whole)
    (folder / "flow_0005.vts").write_bytes(whole)
    window.histories.look()
    wait(lambda: len(window.document.clock.times) == 5, "all of them")
    window.document.go_to_step(3)
    wait(lambda: window.document.flow.step == 3, "the step that is whole now")
    for path in folder.iterdir():
        path.unlink()
    folder.rmdir()
    window.histories.look()
    wait(lambda: window.histories.folder is None, "the end of following")
    assert any("followed no longer" in t for t in texts(window))
    settle(window)


def test_what_a_folder_holds(tmp_path):
    assert look_into(tmp_path).result is None
    simulate_run(tmp_path, steps=2, iterations=3, pause=0.0)
    (tmp_path / "notes.md").write_text("nothing")
    run = look_into(tmp_path)
    assert run.history == tmp_path / "history.csv"
    assert [n for n, _ in run.steps] == [1, 2]
    assert look_into(tmp_path).mark == run.mark
    with (tmp_path / "history.csv").open("a") as stream:
        stream.write("7,1,1,1,1,1\n")
    assert look_into(tmp_path).mark != run.mark


def test_a_collection_is_followed_by_its_index(tmp_path):
    simulate_run(tmp_path, steps=3, iterations=2, pause=0.0)
    lines = [f'<DataSet timestep="{0.5 * n}" file="flow_{n + 1:04d}.vts"/>' for n in range(2)]

    def index():
        text = "".join(lines)
        (tmp_path / "run.pvd").write_text(f'<VTKFile type="Collection" version="0.1"><Collection>{text}</Collection></VTKFile>')

    index()
    run = look_into(tmp_path)
    assert run.result == tmp_path / "run.pvd"
    assert run.times == (0.0, 0.5)
    lines.append('<DataSet timestep="1.0" file="flow_0003.vts"/>')
    index()
    assert look_into(tmp_path).times == (0.0, 0.5, 1.0)
    (tmp_path / "run.pvd").write_text("<VTKFile type=")
    assert look_into(tmp_path).times == ()


@pytest.mark.gui
def test_a_collection_that_grows_is_followed(empty, tmp_path):
    window = empty
    simulate_run(tmp_path, steps=3, iterations=2, pause=0.0)
    lines = [f'<DataSet timestep="{0.5 * n}" file="flow_{n + 1:04d}.vts"/>' for n in range(3)]

    def index(count):
        text = "".join(lines[:count])
        (tmp_path / "run.pvd").write_text(f'<VTKFile type="Collection" version="0.1"><Collection>{text}</Collection></VTKFile>')

    index(2)
    window.act("follow", str(tmp_path))
    wait(lambda: len(window.document.clock.times) == 2, "two steps")
    settle(window)
    window.document.go_to_step(1)
    wait(lambda: window.document.flow.step == 1, "the last of them")
    index(3)
    window.histories.look()
    wait(lambda: window.document.clock.times == (0.0, 0.5, 1.0), "the third")
    wait(lambda: window.document.flow.step == 2, "the newest")
    settle(window)
