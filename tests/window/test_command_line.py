"""The program as started from a shell."""

import os
import subprocess
import sys

import pytest
from PyQt6.QtGui import QImage

from tidal_lens.cli import main, parser


def run(*arguments, **environment):
    env = {**os.environ, "PYTHONPATH": ":".join(sys.path), **environment}
    command = [sys.executable, "-m", "tidal_lens", *arguments]
    return subprocess.run(command, env=env, capture_output=True, text=True, timeout=240, check=False)


def test_a_picture_without_a_display(tmp_path):
    out = tmp_path / "a folder" / "shot.png"
    out.parent.mkdir()
    done = run("--picture", str(out), "--size", "1000x700", DISPLAY="")
    assert done.returncode == 0, done.stderr
    image = QImage(str(out))
    assert (image.width(), image.height()) == (1000, 700)
    middle = {image.pixel(x, 330) for x in range(400, 990, 3)}
    assert len(middle) > 40, "the view is empty"


def test_a_picture_at_a_fine_pixel_ratio(tmp_path):
    out = tmp_path / "fine.png"
    done = run("--picture", str(out), "--theme", "night", QT_SCALE_FACTOR="2")
    assert done.returncode == 0, done.stderr
    assert QImage(str(out)).width() == 2560


def test_what_cannot_be_shown_ends_with_a_message(tmp_path):
    done = run(str(tmp_path / "none.vtu"), "--picture", str(tmp_path / "x.png"))
    assert done.returncode == 1
    assert "does not exist" in done.stderr
    assert not (tmp_path / "x.png").exists()
    done = run("--picture", str(tmp_path / "no" / "folder.png"))
    assert done.returncode == 1
    assert "could not be written" in done.stderr


def test_no_display_is_said(monkeypatch, capsys):
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    assert main([]) == 2
    assert "--picture" in capsys.readouterr().err


@pytest.mark.parametrize("size", ["12", "axb", "10x10", "99999x99999"])
def test_sizes_are_checked(size, capsys):
    with pytest.raises(SystemExit):
        parser().parse_args(["--picture", "a.png", "--size", size])
    assert "size" in capsys.readouterr().err
