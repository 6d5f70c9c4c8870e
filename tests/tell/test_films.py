"""Animations: what each picture shows, the files that come of it, and going on after a break."""

import json
import os
import re
import subprocess
from dataclasses import replace
from pathlib import Path

import imageio_ffmpeg
import numpy as np
import pytest
from PIL import Image, ImageSequence

from small_series import series
from tidal_lens.errors import CancelledError, StudyError
from tidal_lens.scene.camera import camera_from, first_camera, setting_of
from tidal_lens.study.opened import Opened
from tidal_lens.study.plates import with_plate
from tidal_lens.study.session import key_of, open_session
from tidal_lens.study.telling import FilmSetting
from tidal_lens.tell.film import Film, check_film, film_of, mixed, moment
from tidal_lens.tell.filming import film_to, folder_of, glimpses
from tidal_lens.tell.studio import Look, Studio
from tidal_lens.work import Token

SMALL = Look(160, 100)


@pytest.fixture(scope="module")
def session(tmp_path_factory):
    path, _ = series(tmp_path_factory.mktemp("series"))
    session = open_session(path)
    camera = setting_of(first_camera(*session.flow.bounds, 1.6))
    return replace(session, study=session.study.with_(camera=camera))


@pytest.fixture
def studio(session):
    with Studio(Opened.of(session)) as own:
        yield own


def frames(path):
    """All pictures of a film, decoded by another program."""
    exe = imageio_ffmpeg.get_ffmpeg_exe()
    told = subprocess.run([exe, "-hide_banner", "-i", str(path)], capture_output=True, text=True, check=False).stderr
    wide, tall, rate = re.search(r"Video: .*?, (\d+)x(\d+).*? ([\d.]+) fps", told).groups()
    command = [exe, "-loglevel", "error", "-i", str(path), "-f", "rawvideo", "-pix_fmt", "rgb24", "-"]
    raw = subprocess.run(command, capture_output=True, check=True)
    size = int(wide), int(tall)
    return (size, float(rate)), list(np.frombuffer(raw.stdout, np.uint8).reshape(-1, size[1], size[0], 3).astype(int))


def off(a, b):
    return float(np.abs(a.astype(int) - b.astype(int)).mean())


def test_a_turn_table_is_a_film_that_comes_round(session, studio, tmp_path):
    film = Film("turn", 1.2, 10.0, SMALL)
    told = []
    assert film_to(studio, session.study, film, tmp_path / "turn.mp4", Token(), lambda n, p: told.append((n, p))) == []
    meta, got = frames(tmp_path / "turn.mp4")
    assert (*meta, len(got)) == ((160, 100), 10.0, 12)
    assert [n for n, _ in told] == list(range(12))
    assert max(off(a, p[..., :3]) for a, (_, p) in zip(got, told, strict=True)) < 4.0, "they are the pictures that were drawn"
    between = [off(a, b) for a, b in zip(got, [*got[1:], got[0]], strict=True)]
    assert min(between) > 0.5, "it turns"
    assert between[-1] < 1.5 * max(between[:-1]), "and the last is one before the first"
    eyes = np.array([moment(film, session.study, n, studio.opened.first.store, 3).camera.eye for n in range(12)])
    focus = camera_from(session.study.camera).focus
    assert np.linalg.norm(eyes - focus, axis=1) == pytest.approx(np.linalg.norm(eyes[0] - focus))
    assert np.linalg.norm(np.diff(eyes[:, :2], axis=0), axis=1) == pytest.approx(np.linalg.norm(eyes[0, :2] - eyes[11, :2])), "even steps"


def test_steps_are_shown_in_their_order_in_one_range(session, studio, tmp_path):
    name = "file:Pressure"
    layers = [x.with_(look=x.look.with_(colour_by=name)) for x in session.study.layers if x.look.on == "surface"]
    study = session.study.with_(layers=tuple(layers), outline=False)
    film = Film("steps", 0.6, 10.0, SMALL)
    assert [moment(film, study, n, studio.opened.first.store, 3).study.step for n in range(6)] == [0, 0, 1, 1, 2, 2]
    some = replace(film, first=1, last=1)
    assert {moment(some, study, n, studio.opened.first.store, 3).study.step for n in range(6)} == {1}
    assert film_to(studio, study, film, tmp_path / "steps.png") == []
    files = sorted(tmp_path.glob("steps *.png"))
    assert [p.name for p in files] == [f"steps {n:04d}.png" for n in range(6)]
    own = [np.asarray(Image.open(p)) for p in files]
    assert (own[0] == own[1]).all()
    assert off(own[1], own[2]) > 0.5
    shown = studio.shot(study, SMALL).seen
    later = studio.shot(shown.study.model_copy(update={"step": 2}), SMALL).seen
    assert key_of(later.study, later.evaluator, name)[1:] == key_of(shown.study, shown.evaluator, name)[1:], "the key keeps its range"
    alone = studio.shot(study.model_copy(update={"step": 2}), SMALL).seen
    assert key_of(alone.study, alone.evaluator, name)[1:] != key_of(shown.study, shown.evaluator, name)[1:]


@pytest.mark.parametrize(("way", "places"), [("once", [0.01, 0.255, 0.5, 0.745, 0.99]), ("fro", [0.01, 0.402, 0.794, 0.794, 0.402])])
def test_a_sweep_goes_through_the_flow(session, studio, tmp_path, way, places):
    card = next(x for x in session.study.layers if x.kind == "slice")
    card = card.with_(shape=card.shape.with_(direction=(0.0, 0.0, 1.0)))
    study = session.study.replacing(card)
    film = Film("sweep", 0.5, 10.0, SMALL, card.id, way)
    low, high = session.flow.bounds[0][2], session.flow.bounds[1][2]
    at = [moment(film, study, n, studio.opened.first.store, 3).study.layer(card.id).shape.position for n in range(5)]
    assert [(z - low) / (high - low) for z in at] == pytest.approx(places, abs=1e-9)
    film_to(studio, study, film, tmp_path / "sweep.gif")
    with Image.open(tmp_path / "sweep.gif") as image:
        assert (image.size, image.n_frames) == ((160, 100), 5 if way == "once" else image.n_frames)
        assert image.info["duration"] == 100
        own = [np.asarray(f.convert("RGB")) for f in ImageSequence.Iterator(image)]
    assert off(own[0], own[2]) > 0.5


def test_a_way_through_plates_begins_and_ends_at_them(session, studio, tmp_path):
    study = with_plate(session.study, "first")
    camera = camera_from(study.camera)
    near = camera.orbited(0.8, 0.1, camera.focus).zoomed(0.5, camera.focus)
    lit = tuple(x.with_(shown=n == 0) for n, x in enumerate(study.layers))
    study = with_plate(study.model_copy(update={"camera": setting_of(near), "layers": lit, "step": 2}), "second")
    film = Film("plates", 1.1, 10.0, SMALL)
    store = studio.opened.first.store
    first, middle, last = (moment(film, study, n, store, 3) for n in (0, 5, 10))
    assert first.camera.eye == pytest.approx(camera.eye)
    assert last.camera.eye == pytest.approx(near.eye)
    assert near.distance < middle.camera.distance < camera.distance
    assert middle.camera.distance == pytest.approx(np.sqrt(near.distance * camera.distance)), "half way by shares"
    assert (first.study.step, last.study.step) == (0, 2)
    assert [x.shown for x in last.study.layers] == [n == 0 for n in range(len(study.layers))]
    film_to(studio, study, film, tmp_path / "plates.webp")
    with Image.open(tmp_path / "plates.webp") as image:
        assert image.n_frames <= 11, "pictures that are alike are one"
        assert sum(image.info["duration"] for _ in ImageSequence.Iterator(image) if image.load() is not None) == 1100
    assert mixed(camera, near, 0.0) is camera
    assert mixed(camera, near, 1.0) is near
    behind = replace(camera, eye=2 * camera.focus - camera.eye)
    across = mixed(camera, behind, 0.5)
    assert across.distance == pytest.approx(camera.distance), "straight to the other side it goes round, not through"


def test_a_film_that_was_broken_off_goes_on(session, studio, tmp_path):
    film, token, drawn = Film("turn", 0.8, 10.0, SMALL), Token(), []

    def stop(n, _pixels):
        drawn.append(n)
        if n == 4:
            token.cancel()

    with pytest.raises(CancelledError):
        film_to(studio, session.study, film, tmp_path / "a.mp4", token, stop)
    assert not (tmp_path / "a.mp4").exists()
    folder = folder_of(session.study, film)
    kept = {p.name: p.stat().st_mtime_ns for p in folder.glob("*.png")}
    assert len(kept) == 5
    (folder / "00002.png").unlink()
    again = []
    film_to(studio, session.study, film, tmp_path / "a.mp4", Token(), lambda n, _p: again.append(n))
    assert again == [2, 5, 6, 7], "only what was missing"
    assert len(frames(tmp_path / "a.mp4")[1]) == 8
    assert not folder.exists(), "nothing is left behind"
    assert folder_of(session.study, replace(film, rate=11.0)) != folder
    case = Path(session.study.case)
    os.utime(case, ns=(case.stat().st_atime_ns, case.stat().st_mtime_ns + 10**9))
    assert folder_of(session.study, film) != folder, "a case that was written again is another film"
    assert list(tmp_path.iterdir()) == [tmp_path / "a.mp4"]


def test_what_cannot_be_made_is_told(session, studio, tmp_path):
    study, store = session.study, studio.opened.first.store
    for film, steps, what in (
            (Film("steps"), 1, "no time steps"), (Film("plates"), 1, "two plates"), (Film("sweep", card="none-1"), 1, "no number"),
            (Film("running"), 1, "Nothing runs"), (Film("turn", 1e4, 100.0), 1, "cannot be made")):
        with pytest.raises(StudyError, match=what):
            check_film(film, study, store, steps)
    with pytest.raises(StudyError, match=r"\.avi"):
        film_to(studio, study, Film("turn", 0.2, 10.0, SMALL), tmp_path / "a.avi")
    with pytest.raises(StudyError, match="cannot be written"):
        film_to(studio, study, Film("turn", 0.2, 10.0, SMALL), tmp_path / "none" / "a.mp4")


def test_a_study_keeps_how_its_film_is_made(session):
    study = session.study.with_(film=FilmSetting(what="sweep", seconds=3.0, rate=12.0, wide=320, tall=200, card="slice-2", way="fro"))
    again = type(study).model_validate(json.loads(study.model_dump_json()))
    assert film_of(again, "night") == Film("sweep", 3.0, 12.0, Look(320, 200, "night"), "slice-2", "fro")
    assert film_of(again, "chart").count == 36


def test_a_few_pictures_tell_what_comes(session, studio):
    seen = []
    glimpses(studio, session.study, Film("turn", 2.0, 10.0, Look(1280, 720)), 4, (120, 80), Token(), lambda n, p: seen.append((n, p.shape)))
    assert seen == [(n, (80, 120, 4)) for n in range(4)]


def test_the_encoder_is_at_hand():
    told = subprocess.run([imageio_ffmpeg.get_ffmpeg_exe(), "-hide_banner", "-encoders"], capture_output=True, text=True, check=True).stdout
    assert all(name in told for name in ("libx264", "libwebp_anim", " gif "))
