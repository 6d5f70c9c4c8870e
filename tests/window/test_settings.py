"""Settings that are kept, an error report on wish, and another result with the same study."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt

import tidal_lens
from driving import click, differing, keys, pixels, settle, type_into, wait
from tidal_lens.app import theme
from tidal_lens.app.preferences import note_recent, recent, settings
from tidal_lens.demo.shipped import demo_path
from tidal_lens.memory import said_limit, say_limit

pytestmark = pytest.mark.gui


@pytest.fixture
def sheet(window):
    kept = {name: settings().value(name) for name in ("theme", "memory", "threads")}
    window.act("settings")
    yield window._settings
    for name, value in kept.items():
        settings().remove(name) if value is None else settings().setValue(name, value)
    say_limit(None)
    theme.use("chart")


def test_settings_act_at_once_and_are_kept(window, sheet, tmp_path):
    assert sheet.isVisible()
    click(sheet.theme.button("night"))
    assert theme.current().name == "night"
    assert settings().value("theme") == "night"
    click(sheet.theme.button("chart"))
    sheet.memory.activated.emit(1)
    assert said_limit() == 1_000_000_000
    assert str(settings().value("memory")) == "1000000000"
    type_into(sheet.threads, "3")
    assert str(settings().value("threads")) == "3"
    assert "next start" in sheet.note.text()
    (tmp_path / "a.cgns").write_text("")
    note_recent(tmp_path / "a.cgns")
    click(sheet.forget)
    assert recent() == []
    keys(sheet, Qt.Key.Key_Escape)
    assert not sheet.isVisible()
    window.act("settings")
    assert sheet.isVisible()
    assert sheet.threads.value() == 3.0


@pytest.mark.parametrize(("said", "count"), [("threads=3", "3"), ("threads=", "none"), ("threads=-1", "none"), ("[broken", "none")])
def test_threads_are_taken_at_the_start(tmp_path, said, count):
    folder = tmp_path / "tidal-lens"
    folder.mkdir()
    (folder / "preferences.ini").write_text(f"[General]\n{said}\n", encoding="utf-8")
    code = "from tidal_lens.cli import _take_threads; _take_threads(); import os; print(os.environ.get('TIDAL_LENS_THREADS', 'none'))"
    env = {k: v for k, v in os.environ.items() if k != "TIDAL_LENS_THREADS"} | {
        "XDG_CONFIG_HOME": str(tmp_path), "PYTHONPATH": str(Path(tidal_lens.__file__).parent.parent)}
    assert subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True).stdout.strip() == count


def test_a_report_on_wish_tells_versions_and_no_data(window, tmp_path):
    window.act("error-report", str(tmp_path / "report.txt"))
    text = (tmp_path / "report.txt").read_text()
    assert "Tidal Lens" in text
    assert "Qt" in text
    assert f"{window.document.flow.n_cells:,} cells" in text
    assert str(window.document.flow.path) not in text


def test_another_result_is_looked_at_with_the_same_study(empty, tmp_path):
    empty.open_demo("kittiwake coarse.vtm")
    settle(empty)
    document = empty.document
    empty.act("plate-add", "One")
    document.save(tmp_path / "s.tidal")
    layers, before = document.study.layers, pixels(empty.view)
    empty.act("open-same", str(demo_path("kittiwake.vtm")))
    wait(lambda: document.flow.path.name == "kittiwake.vtm", "the other")
    settle(empty)
    assert document.study.layers == layers
    assert [p.name for p in document.study.plates] == ["One"]
    assert document.file is None, "the study of the first is left as it was"
    assert 0.001 < differing(pixels(empty.view), before) < 0.6, "the same view of another mesh"
    assert document.flow.n_cells > 500_000
    empty.act("plate-go", document.study.plates[0].id)
    settle(empty)
    assert not document.asking.failures
