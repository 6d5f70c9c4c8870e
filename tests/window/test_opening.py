"""Opening: by field, by drop, by command; and files that are not what they should be."""

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QApplication, QFileDialog

from driving import click, fill_in, keys, settle, spin, wait
from making import cube_points
from tidal_lens.formats.vtk_write import StructuredPiece, write_structured
from vortex_tank import demo_file

N = 6


def small_case(path: Path, **changes):
    points = cube_points(N, 0.05)
    fields = {"Velocity": np.tile([1.0, 0, 0], (N**3, 1)), "p": np.arange(N**3) / 1.0, "rho": np.ones(N**3)} | changes
    write_structured(path, StructuredPiece("b", (N, N, N), points, {k: v for k, v in fields.items() if v is not None}), {})
    return path


def strips(window):
    return [s.text.text() for s in window.strips.live()]


def test_a_file_dropped_on_the_window_opens(empty, tmp_path):
    path = small_case(tmp_path / "small.vts")
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path))])
    none = Qt.KeyboardModifier.NoModifier
    enter = QDragEnterEvent(QPointF(600, 400).toPoint(), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, none)
    QApplication.sendEvent(empty, enter)
    assert enter.isAccepted()
    drop = QDropEvent(QPointF(600, 400), Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    QApplication.sendEvent(empty, drop)
    settle(empty)
    assert empty.document.flow.title == "small"
    assert [layer.kind for layer in empty.document.study.layers] == ["slice"], "there is no wall to show"
    assert empty.document.study.layers[0].look.colour_by == "mach"


def test_the_command_field_opens_a_path(empty, tmp_path):
    path = small_case(tmp_path / "small.vts")
    keys(empty.view, Qt.Key.Key_K, modifiers=Qt.KeyboardModifier.ControlModifier)
    assert empty.command.hasFocus()
    keys(empty.command, str(path), Qt.Key.Key_Return)
    settle(empty)
    assert empty.document.flow.path == path
    assert not empty.command.popup.isVisible()


def test_the_button_opens_a_dialog(empty, tmp_path):
    path = small_case(tmp_path / "small.vts")
    empty.act("open")
    wait(lambda: empty.findChildren(QFileDialog), "the dialog", 5)
    dialog = empty.findChildren(QFileDialog)[0]
    fill_in(dialog, path)
    settle(empty)
    assert empty.document.flow.path == path


@pytest.mark.parametrize(("name", "content", "words"), [
    ("missing.vtu", None, "does not exist"),
    ("empty.vtu", b"", "empty"),
    ("text.vtu", b"not a result", "not a kind of file"),
    ("other.vtp", b'<VTKFile type="Table" version="1.0"></VTKFile>', "are not opened"),
    ("study.tidal", b"{", "not a study file"),
    ("newer.tidal", b'{"schema_version": 99}', "newer version"),
])
def test_bad_files_are_told_and_what_was_open_stays(window, tmp_path, name, content, words):
    before, picture = window.document.flow, window.document.study
    if content is not None:
        (tmp_path / name).write_bytes(content)
    window.document.open_path(tmp_path / name)
    wait(lambda: strips(window), "a strip", 10)
    settle(window)
    assert words in strips(window)[0]
    assert name in strips(window)[0]
    assert window.document.flow is before
    assert window.document.study == picture
    window.strips.live()[0].dismiss()
    spin()
    assert not window.strips.isVisible()


def test_truncated_result(window, tmp_path):
    path = small_case(tmp_path / "small.vts")
    path.write_bytes(path.read_bytes()[:-200])
    before = window.document.flow
    window.document.open_path(path)
    wait(lambda: strips(window), "a strip", 10)
    assert "cut off" in strips(window)[0]
    assert window.document.flow is before


@pytest.mark.parametrize(("changes", "words"), [
    ({"Velocity": None}, "No velocity was recognised among its arrays: p (1), rho (1)"),
    ({"p": np.where(np.arange(N**3) == 9, np.nan, 1.0)}, "p has 1 values that are not finite, the first at node 9"),
])
def test_doubtful_results_stay_out_until_they_are_wanted(window, tmp_path, changes, words):
    path = small_case(tmp_path / "doubtful.vts", **changes)
    before = window.document.flow
    window.document.open_path(path)
    wait(lambda: strips(window), "a strip", 10)
    settle(window)
    assert words in strips(window)[0]
    assert window.document.flow is before
    button = window.strips.live()[0].buttons[0]
    assert button.text() == "Open it anyway"
    click(button)
    wait(lambda: window.document.flow is not before, "the case", 20)
    settle(window)
    assert window.document.flow.title == "doubtful"
    assert not window.document.asking.failures
    assert words.split(",")[0] in strips(window)[0], "it is told again that something is amiss"
    window.act("add-streamlines")
    settle(window)
    traced = [layer.kind for layer in window.document.study.layers].count("streamlines")
    assert traced == (1 if "Velocity" not in changes else 0)


def test_cell_data_are_prepared_and_marked(window, tmp_path):
    from vtkmodules.util.numpy_support import numpy_to_vtk
    from vtkmodules.vtkIOXML import vtkXMLUnstructuredGridWriter

    from making import cube_flow
    from vtk_data import to_unstructured

    flow = cube_flow(9, "hexahedra")
    grid = to_unstructured(flow.points, flow.blocks[0].grid)
    middles = flow.points[flow.blocks[0].grid.corners].mean(axis=1)
    for name, values in (("U", np.column_stack([middles[:, 1], 0 * middles[:, 0], 0 * middles[:, 0]])), ("p", middles[:, 0])):
        array = numpy_to_vtk(np.ascontiguousarray(values), deep=1)
        array.SetName(name)
        grid.GetCellData().AddArray(array)
    writer = vtkXMLUnstructuredGridWriter()
    writer.SetFileName(str(tmp_path / "cells.vtu"))
    writer.SetInputData(grid)
    writer.Write()
    window.document.open_path(tmp_path / "cells.vtu")
    wait(lambda: window.document.flow.title == "cells", "the case", 20)
    settle(window)
    key = window.view.keys.keys()[0]
    assert key.quantity.place == "cell"
    assert "cell values, plain mean" in window.bench.card.controls["slice"].key.title.text()
    speed = window.document.evaluator.store.values("speed")
    inner = np.all((flow.points > 0.2) & (flow.points < 0.8), axis=1)
    assert np.abs(speed - flow.points[:, 1])[inner].max() < 1e-6
    window.act("add-streamlines")
    settle(window)
    assert window.document.asking.results[window.document.chosen].geometry.n_lines > 5


def test_another_case_takes_the_place_of_the_first(window, tmp_path):
    window.act("add-isosurface", "q")
    spin(0.05)
    window.document.open_path(small_case(tmp_path / "small.vts"))
    wait(lambda: window.document.flow.title == "small", "the case", 20)
    settle(window)
    assert all(layer.id in window.document.asking.results for layer in window.document.study.layers if layer.kind == "slice")
    assert window.document.undo_what == "" or "isosurface" in window.document.undo_what
    assert window.top.title.text().startswith("small")


def test_a_study_finds_its_case_from_another_place(window, tmp_path):
    own = demo_file(tmp_path / "a")
    window.document.open_path(own)
    wait(lambda: window.document.flow.path == own, "the case", 20)
    settle(window)
    (tmp_path / "a" / "studies").mkdir()
    study = tmp_path / "a" / "studies" / "my view.tidal"
    assert window.document.save(study)
    assert '"case": "../demo/' in study.read_text()
    (tmp_path / "a").rename(tmp_path / "b")
    moved = tmp_path / "b" / "studies" / "my view.tidal"
    window.document.open_path(moved)
    wait(lambda: window.document.file == moved, "the study", 20)
    settle(window)
    assert window.document.flow.path.is_relative_to(tmp_path / "b")
    assert not strips(window)
