"""Tasks of telling, by real events; an action is a click, a drag, or a number typed. Files' names in dialogs are not counted."""

import csv
import re
import subprocess

import imageio_ffmpeg
import pytest
from PyQt6.QtCore import QPointF, Qt

from driving import settle, wait
from hands import Hands
from tasks.test_measure import name_it
from tidal_lens.app.play_button import PlayButton
from tidal_lens.demo.shipped import demo_path

pytestmark = pytest.mark.gui


@pytest.fixture
def opened(window):
    settle(window)
    return window


def heard(window):
    told = []
    window.document.noticed.connect(lambda n: told.append(n.text))
    return told


def test_three_plates_and_a_report_of_them_take_eight_actions(opened, tmp_path):
    hands, told = Hands(), heard(opened)
    hands.click(opened.rail.buttons["tell"])
    page = opened.bench.pages["tell"]
    hands.click(page.tiles["plate-add"])
    settle(opened)
    for key in (Qt.Key.Key_X, Qt.Key.Key_Y):
        hands.drag(opened.view, QPointF(420, 330), QPointF(420 + (120 if key == Qt.Key.Key_X else -200), 360))
        settle(opened)
        hands.click(page.tiles["plate-add"])
        settle(opened)
    hands.click(page.tiles["save-report"])
    name_it(opened, tmp_path / "report.html", 300.0)
    wait(lambda: any("report.html" in text for text in told), "the report", 120)
    body = (tmp_path / "report.html").read_text()
    assert re.findall(r"<h3>(Plate \d)</h3>", body) == ["Plate 1", "Plate 2", "Plate 3"]
    pictures = re.findall(r'<img src="(data:image/png;base64,[^"]+)"', body)
    assert len(set(pictures)) == 4, "the model's and three that differ"
    assert hands.actions <= 8


def test_a_sweep_as_a_film_takes_three_actions(opened, tmp_path):
    """The film is set short here, as no user would: that is not counted."""
    hands, told = Hands(), heard(opened)
    study = opened.document.study
    opened.document.edit(study.with_(film=study.film.with_(rate=0.4, wide=240, tall=160)), "Short")
    opened.document.choose(next(x.id for x in study.layers if x.kind == "slice"))
    settle(opened)
    (play,) = (b for b in opened.bench.findChildren(PlayButton) if b.isVisible())
    hands.menu(play, "Save as an animation")
    name_it(opened, tmp_path / "sweep.mp4")
    film = opened.document.study.film
    assert (film.what, film.card, film.way, film.seconds) == ("sweep", opened.document.chosen, "fro", 10.0), "as it is played"
    wait(lambda: any("sweep.mp4: 4 pictures" in text for text in told), "the film", 120)
    shown = subprocess.run([imageio_ffmpeg.get_ffmpeg_exe(), "-loglevel", "error", "-i", str(tmp_path / "sweep.mp4"), "-f", "rawvideo",
                            "-pix_fmt", "rgb24", "-"], capture_output=True, check=True).stdout
    size = 240 * 160 * 3
    assert len(shown) == 4 * size
    assert len({shown[n * size:(n + 1) * size] for n in range(4)}) == 4
    assert hands.actions <= 3


def test_the_same_study_on_all_steps_of_a_series_as_pictures_takes_four_actions(empty, tmp_path):
    empty.document.open_path(demo_path("kittiwake gust.cgns"))
    settle(empty)
    study = empty.document.study
    empty.document.edit(study.with_(picture=study.picture.with_(wide=160, tall=100)), "Small")
    hands, told = Hands(), heard(empty)
    hands.click(empty.rail.buttons["tell"])
    page = empty.bench.pages["tell"]
    hands.click(page.tiles["run"])
    (tmp_path / "out").mkdir()
    name_it(empty, tmp_path / "out", 300.0)
    wait(lambda: any("summary.csv" in text for text in told), "the run", 300)
    count = len(empty.document.clock.times)
    assert count == 24
    (folder,) = (p for p in (tmp_path / "out").iterdir() if p.is_dir() and p.name != ".done")
    pictures = sorted(folder.glob("*.png"))
    assert len(pictures) == 24
    assert len({p.read_bytes() for p in pictures}) == 24
    with (tmp_path / "out" / "summary.csv").open() as file:
        assert [int(row["step"]) for row in csv.DictReader(file)] == list(range(24))
    assert hands.actions <= 4
