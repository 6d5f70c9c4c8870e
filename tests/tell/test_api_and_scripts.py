"""What scripts use; and scripts that a study is written as: run in another process, they make the same."""

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageSequence

import tidal_lens
from small_series import series
from tidal_lens import api
from tidal_lens.study.files import load_study
from tidal_lens.study.plates import with_plate
from tidal_lens.tell.script import script_of


@pytest.fixture
def case():
    with api.demo("mooring") as own:
        yield own


def test_cards_are_laid_changed_worked_out_and_taken_away(case):
    first = case.cards
    cut = case.add("slice", {"direction": (0, 0, 1), "position": 0.0}, look={"colour_by": "speed"}, name="Across")
    result = case.evaluate(cut)
    assert result.points.shape[1] == 3
    assert result.faces.max() < len(result.points)
    assert np.abs(result.points[:, 2]).max() < 1e-9
    assert result.values.shape == (len(result.points),)
    assert result.values == pytest.approx(np.interp(result.values, [-1, 1e9], [-1, 1e9]))
    case.change(cut, {"limit": "disc", "width": 4.0}, name="Disc")
    assert len(case.evaluate(cut).points) < len(result.points)
    assert case.study.layer(cut).name == "Disc"
    lines = case.add("streamlines")
    traced = case.evaluate(lines)
    assert traced.faces is None
    assert traced.offsets[-1] == len(traced.points)
    case.remove(lines)
    assert case.cards == (*first, cut)
    assert case.values("speed").shape == (case.flow.n_points,)
    assert {"speed", "vorticity"} <= set(case.quantities)
    assert case.times == ()


def test_the_forces_of_the_published_cylinder_come_out_of_a_table(case, tmp_path):
    """Dennis and Chang 1970, J. Fluid Mech. 42: CD 1.522 at Reynolds number 40 (from memory); the literature gives 1.48 to 1.62."""
    card = case.add("forces")
    tables = case.table(card, tmp_path / "forces.csv")
    assert (tmp_path / "forces.csv").read_text().splitlines()[0].startswith("what")
    found = {str(row[0]): row[-1] for table in tables for row in table.rows}
    drag = next(value for what, value in found.items() if "CD" in what or "drag coefficient" in what.lower())
    assert 1.45 < float(drag) < 1.65


def test_pictures_animations_and_data_are_written(case, tmp_path):
    own = case.picture(tmp_path / "a.png", size=(320, 200))
    with Image.open(tmp_path / "a.png") as image:
        assert (np.asarray(image) == own[..., :3]).all()
    case.picture(tmp_path / "a.svg", size=(320, 200), clear=True)
    assert case.study.camera is None
    case.animation(tmp_path / "a.gif", what="turn", seconds=0.3, rate=10, wide=120, tall=80)
    with Image.open(tmp_path / "a.gif") as image:
        frames = [np.asarray(f.convert("RGB")).astype(int) for f in ImageSequence.Iterator(image)]
    assert len(frames) == 3
    assert np.abs(frames[1] - frames[0]).mean() > 0.5, "it turns, though no camera was said"
    case.save(tmp_path / "a.tidal")
    case.save(tmp_path / "walls.vtp", case.cards[0])
    case.save(tmp_path / "flow.vtm")
    assert all((tmp_path / name).exists() for name in ("walls.vtp", "flow.vtm"))
    with api.open(tmp_path / "a.tidal") as again:
        assert again.study.layers == case.study.layers
        assert (again.picture(size=(320, 200)) == own).all()


@pytest.mark.parametrize(("wrong", "told"), [
    (lambda c: c.add("sliced"), "no kind of card called 'sliced'"), (lambda c: c.add("slice", {"width": -1}), "width"),
    (lambda c: c.change("slice-99"), "no card 'slice-99'"), (lambda c: c.change(c.cards[0], {"colour": 3}), "colour"),
    (lambda c: c.set(ground="green"), "ground"), (lambda c: c.picture(plate="none"), "no plate 'none'"),
    (lambda c: c.animation("a.mp4", what="fly"), "what"), (lambda c: c.table(c.cards[0], "a.csv"), "tells nothing"),
    (lambda c: c.save("a.xyz"), r"\.xyz"), (lambda c: c.values("nothing"), "no quantity"), (lambda _c: api.demo("none"), "no demo"),
    (lambda _c: api.open("nowhere.cgns"), "does not exist")])
def test_what_is_wrong_is_told(case, wrong, told):
    before = case.study
    with pytest.raises(api.TidalLensError, match=told):
        wrong(case)
    assert case.study == before


def run(script, folder):
    env = {**os.environ, "PYTHONPATH": str(Path(tidal_lens.__file__).parent.parent)}
    done = subprocess.run([sys.executable, str(script)], cwd=folder, env=env, capture_output=True, text=True, timeout=300, check=False)
    assert done.returncode == 0, done.stderr[-2000:]


def test_a_script_makes_the_same_pictures_and_tables(case, tmp_path):
    case.set(formulas=({"name": "twice", "text": "2 * speed"},), ground="paper")
    look = {"colour_by": "formula:twice", "contours": {"of": "speed", "low": 0.0, "high": 1.2, "number": 7}}
    case.add("slice", {"direction": (0, 0, 1), "position": 0.0}, look=look, name='The "cut"')
    case.add("streamlines")
    case.add("forces")
    case.set(keys={"formula:twice": {"low": 0.0, "high": 2.0, "bands": 6}}, picture={"wide": 400, "tall": 260})
    own = case.picture(tmp_path / "window.png")
    case.table(case.cards[-1], tmp_path / "window.csv")
    script = tmp_path / "made.py"
    script.write_text(script_of(case.study) + f"    case.save({str(tmp_path / 'again.tidal')!r})\n")
    assert "PyQt" not in script.read_text()
    run(script, tmp_path)
    with Image.open(tmp_path / "mooring.png") as image:
        assert (np.asarray(image) == own[..., :3]).all(), "bit for bit"
    assert (tmp_path / "Forces.csv").read_text() == (tmp_path / "window.csv").read_text()
    assert load_study(tmp_path / "again.tidal").model_copy(update={"counter": case.study.counter}) == case.study


def test_a_script_of_plates_and_steps(tmp_path):
    path, _ = series(tmp_path)
    with api.open(path) as case:
        case.set(step=1, picture={"wide": 200, "tall": 120})
        study = with_plate(case.study, "early")
        study = with_plate(study.model_copy(update={"step": 2, "outline": False}), "late")
        case.study = study
        own = [case.picture(plate=name) for name in ("early", "late")]
        assert (own[0] != own[1]).any()
        (tmp_path / "made.py").write_text(script_of(case.study))
    run(tmp_path / "made.py", tmp_path)
    for name, pixels in zip(("early", "late"), own, strict=True):
        with Image.open(tmp_path / f"{name}.png") as image:
            assert (np.asarray(image) == pixels[..., :3]).all()


def test_no_interface_is_loaded():
    code = """import sys
from tidal_lens import api
api.demo('mooring').picture(size=(64, 48))
sys.exit(any('PyQt' in m for m in sys.modules))"""
    env = {**os.environ, "PYTHONPATH": str(Path(tidal_lens.__file__).parent.parent)}
    assert subprocess.run([sys.executable, "-c", code], env=env, check=False, timeout=300).returncode == 0


def test_the_page_on_scripts_is_that_of_the_code_and_its_example_runs(tmp_path, monkeypatch):
    from tidal_lens.api_page import page

    text = page()
    assert (Path(__file__).resolve().parents[2] / "docs" / "api.md").read_text(encoding="utf-8") == text, "tidal-lens api > docs/api.md"
    for name in vars(api.Case):
        assert name.startswith("_") or name in text
    code = text.split("```python\n")[1].split("```")[0]
    monkeypatch.chdir(tmp_path)
    exec(compile(code, "example", "exec"), {})
    with Image.open(tmp_path / "wake.png") as image:
        assert image.size == (1600, 900)
