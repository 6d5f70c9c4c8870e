"""What is installed: the wheel in a fresh environment, and entries for the desktop."""

import os
import shutil
import subprocess
import sys
import sysconfig
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest

from tidal_lens import desktop

ROOT = Path(__file__).parents[1]


@pytest.fixture(scope="module")
def installed(tmp_path_factory):
    """The program installed from a wheel that was built, with the libraries that are here."""
    folder = tmp_path_factory.mktemp("wheel")
    source = folder / "source"
    shutil.copytree(ROOT, source, ignore=shutil.ignore_patterns(".git", ".venv", "tests", "bench", "build", "*.egg-info", "__pycache__",
                                                                "kittiwake gust*"))
    quiet = ["-q", "--disable-pip-version-check", "--no-deps"]
    subprocess.run([sys.executable, "-m", "pip", "wheel", *quiet, "--no-build-isolation", "-w", str(folder), str(source)], check=True)
    (wheel,) = folder.glob("*.whl")
    own = folder / "own"
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", str(own)], check=True)
    into = ["--python", str(own / "bin" / "python"), "install", "--force-reinstall"]
    subprocess.run([sys.executable, "-m", "pip", *into, *quiet, "--no-index", str(wheel)], check=True)
    site = next((own / "lib").glob("python*")) / "site-packages"
    (site / "libraries.pth").write_text(sysconfig.get_paths()["purelib"] + "\n")
    return own


def run(installed, *arguments, **environment):
    env = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"} | environment
    return subprocess.run([str(installed / "bin" / "tidal-lens"), *map(str, arguments)], env=env, capture_output=True, text=True,
                          timeout=300, check=False, cwd=installed)


def test_the_wheel_gives_a_working_program(installed, tmp_path):
    assert run(installed, "--version").stdout.startswith("Tidal Lens ")
    told = run(installed, "quantities").stdout
    assert "vorticity" in told
    made = run(installed, installed.parent / "source" / "src" / "tidal_lens" / "assets" / "mooring" / "mooring.vtm",
               "--picture", tmp_path / "a.png", "--size", "900x600")
    assert made.returncode == 0, made.stderr
    assert (tmp_path / "a.png").stat().st_size > 10_000
    page = subprocess.run([str(installed / "bin" / "python"), "-c", "from tidal_lens.app.help_pages import pages; "
                           "print(*[p.name for p in pages([])])"], capture_output=True, text=True, check=True, cwd=installed)
    assert {"look", "trace", "find", "measure", "tell", "formats"} <= set(page.stdout.split()), "the guide comes along"


def test_entries_are_put_and_taken_away(installed, tmp_path):
    put = run(installed, "desktop", "--install", XDG_DATA_HOME=str(tmp_path))
    assert put.returncode == 0, put.stderr
    where = desktop.paths(tmp_path)
    assert sorted(put.stdout.split("\n")[:-1]) == sorted(map(str, where.values()))
    checked = subprocess.run(["desktop-file-validate", str(where["entry"])], capture_output=True, text=True, check=False)
    assert (checked.returncode, checked.stdout) == (0, "")
    entry = dict(line.split("=", 1) for line in where["entry"].read_text().splitlines() if "=" in line)
    started = entry["Exec"].removesuffix(" %f").strip('"')
    assert Path(started).is_file()
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    kinds = {m.get("type"): [g.get("pattern") for g in m.findall(f"{space}glob")] for m in ET.parse(where["kinds"]).getroot()}
    assert kinds["application/x-tidal-lens-study"] == ["*.tidal"]
    assert set(entry["MimeType"].strip(";").split(";")) == set(kinds)
    assert ET.parse(where["icon"]).getroot().tag.endswith("svg")
    assert where["manual"].read_text().startswith(".TH TIDAL-LENS 1")
    gone = run(installed, "desktop", "--remove", XDG_DATA_HOME=str(tmp_path))
    assert gone.returncode == 0
    assert not any(p.exists() for p in where.values())
    assert run(installed, "desktop", "--remove", XDG_DATA_HOME=str(tmp_path)).stdout == "", "nothing is there any more"
    assert run(installed, "desktop").returncode == 2


def test_a_place_that_cannot_be_written_is_told(tmp_path):
    (tmp_path / "applications").write_text("a file where a folder should be")
    with pytest.raises(desktop.FileError):
        desktop.install(tmp_path)


def test_a_command_with_spaces_is_quoted(monkeypatch):
    monkeypatch.setenv(desktop.LAUNCHER, '/opt/my flows/100%/"start"')
    line = next(x for x in desktop.entry().splitlines() if x.startswith("Exec="))
    assert line == 'Exec="/opt/my flows/100%%/\\\\"start\\\\"" %f'


def test_the_manual_is_well_formed():
    text = (ROOT / "src" / "tidal_lens" / "assets" / "man" / "tidal-lens.1").read_text()
    from tidal_lens.cli import _COMMANDS

    assert all(f"B {name}" in text or f"tidal-lens {name}" in text for name in _COMMANDS), "every command is told of"
