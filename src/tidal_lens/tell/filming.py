"""Films are drawn picture by picture into a folder, then put together: broken off, they go on where they were."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import imageio_ffmpeg
import numpy as np
from PIL import Image
from platformdirs import user_cache_path

from tidal_lens import __version__
from tidal_lens.errors import StudyError
from tidal_lens.scene.camera import setting_of
from tidal_lens.study.model import Study
from tidal_lens.study.session import stamp_of
from tidal_lens.tell.film import Film, check_film, moment
from tidal_lens.tell.printing import Pixels
from tidal_lens.tell.studio import Studio, camera_of
from tidal_lens.work import Token

ENDINGS = ("mp4", "gif", "webp", "png")
_DRAWN = 0.94  # share of the work that is drawing
_KEPT = 6  # folders of films that were broken off


def folder_of(study: Study, film: Film) -> Path:
    """Where the pictures of a film are kept until it is put together; another for whatever else would be drawn."""
    said = study.model_copy(update={"plates": () if film.what != "plates" else study.plates})
    state = f"{__version__}|{stamp_of(study.case)}|{said.model_dump_json()}|{film!r}"
    digest = hashlib.sha256(state.encode()).hexdigest()[:24]
    return user_cache_path("tidal-lens") / "films" / digest


def film_to(studio: Studio, study: Study, film: Film, path: Path, token: Token | None = None,
            seen: Callable[[int, Pixels], object] = lambda _n, _p: None) -> list[str]:
    """Make a film; the ending says as what: mp4, gif, webp, or png for numbered pictures.

    Parameters
    ----------
    studio, study, film : Studio, Study, Film
        What moves, and who draws it.
    path : Path
        The file; of numbered pictures the beginning of their names.
    token : Token, optional
        Progress and cancel. What was drawn is kept, and not drawn again when the same film is made once more.
    seen : callable
        Given each picture's number and pixels as it is there; not those that were there before.

    Returns
    -------
    list of str
        What could not be shown, each once.

    Raises
    ------
    StudyError
        It cannot be made of this study, or not be written.
    CancelledError
        The token was cancelled.
    """
    token = token or Token()
    kind = path.suffix.lower().lstrip(".")
    if kind not in ENDINGS:
        raise StudyError(f"Animations are not written as {path.suffix or 'files without an ending'}.", str(path),
                         f"Choose {', '.join(ENDINGS[:-1])} or {ENDINGS[-1]} for numbered pictures.")
    if not path.parent.is_dir() or not os.access(path.parent, os.W_OK):
        raise StudyError("The animation cannot be written there.", str(path.parent), "Choose another folder.")
    store, steps = studio.opened.first.store, studio.opened.steps
    if film.what == "sweep" and (layer := study.layer(film.card)) is not None:
        for name, _ in layer.shape.levels():
            store.distribution(name, token)  # it sweeps over its usual range
    check_film(film, study, store, steps)
    study = looked_at(study, studio, film)
    folder = folder_of(study, film)
    troubles: dict[str, None] = {}
    try:
        folder.mkdir(parents=True, exist_ok=True)
        _forget_older(folder)
        for n in range(film.count):
            picture = folder / f"{n:05d}.png"
            if not picture.is_file():
                own = token.part(_DRAWN * n / film.count, _DRAWN * (n + 1) / film.count)
                now = moment(film, study, n, store, steps)
                shot = studio.shot(now.study, film.look, own, camera=now.camera, phase=now.phase)
                study = study.model_copy(update={"ranges": shot.seen.study.ranges})
                names = study.card_names()
                troubles.update(dict.fromkeys(f"{names.get(one, one)}: {why}" for one, why in shot.seen.troubles.items()))
                _keep(shot.pixels, picture, film)
                seen(n, shot.pixels)
            token.check()
            token.report(_DRAWN * (n + 1) / film.count)
        _put_together(folder, film, kind, path, token)
    except OSError as why:
        raise StudyError(f"The animation cannot be written: {why.strerror or why}.", str(path),
                         "Make room, or choose another folder.") from why
    shutil.rmtree(folder, ignore_errors=True)
    return list(troubles)


def looked_at(study: Study, studio: Studio, film: Film) -> Study:
    """The study with a camera: one that frames the flow where it has none, or nothing could turn."""
    if study.camera is not None:
        return study
    return study.model_copy(update={"camera": setting_of(camera_of(study, studio.opened.first.flow, film.look))})


def _keep(pixels: Pixels, path: Path, film: Film) -> None:
    """Write a picture so that it is there whole or not at all."""
    part = path.with_suffix(".part")
    own = pixels if film.look.clear else pixels[..., :3]
    Image.fromarray(np.ascontiguousarray(own)).save(part, "png", compress_level=1)
    part.replace(path)


def _forget_older(folder: Path) -> None:
    """Pictures of films that were broken off long ago go."""
    others = sorted((p for p in folder.parent.iterdir() if p.is_dir() and p != folder), key=lambda p: p.stat().st_mtime)
    for old in others[:-_KEPT]:
        shutil.rmtree(old, ignore_errors=True)


def _put_together(folder: Path, film: Film, kind: str, path: Path, token: Token) -> None:
    if kind == "png":
        digits = max(4, len(str(film.count)))
        for n in range(film.count):
            shutil.copyfile(folder / f"{n:05d}.png", path.with_name(f"{path.stem} {n:0{digits}d}.png"))
        return
    source = ["-framerate", f"{film.rate:g}", "-i", str(folder / "%05d.png")]
    part = path.with_name(f"{path.stem}.part.{kind}")
    try:
        if kind == "gif":
            colours = folder / "colours.bmp"  # in two passes: the second need not hold what the first has seen
            _run([*source, "-vf", "palettegen=stats_mode=full:reserve_transparent=0", str(colours)], token)
            _run([*source, "-i", str(colours), "-lavfi", "paletteuse=dither=sierra2_4a", "-loop", "0", str(part)], token)
        elif kind == "webp":
            _run([*source, "-c:v", "libwebp_anim", "-quality", "85", "-loop", "0", str(part)], token)
        else:
            even = "pad=ceil(iw/2)*2:ceil(ih/2)*2"
            _run([*source, "-vf", f"{even},format=yuv420p", "-c:v", "libx264", "-crf", "18", "-preset", "medium", "-movflags", "+faststart",
                  "-colorspace", "bt709", str(part)], token)
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def _run(arguments: Sequence[str], token: Token) -> None:
    """Let the encoder work, and stop it where its answer is not wanted."""
    command = [imageio_ffmpeg.get_ffmpeg_exe(), "-hide_banner", "-loglevel", "error", "-nostdin", "-y", *arguments]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) as process:
        said = b""
        while process.returncode is None:
            try:
                said = process.communicate(timeout=0.1)[1]
            except subprocess.TimeoutExpired:
                if token.cancelled:
                    process.kill()
                    process.communicate()
                    token.check()
    if process.returncode:
        told = said.decode(errors="replace").strip().splitlines()
        raise StudyError(f"The pictures could not be put together: {told[-1] if told else 'the encoder failed'}.", "",
                         "Make room, or choose another format.")


def glimpses(studio: Studio, study: Study, film: Film, count: int, size: tuple[int, int], token: Token,
             seen: Callable[[int, Pixels], object]) -> None:
    """A few small pictures of a film, evenly over its length, without keys: ``seen`` is given each with its number.

    Raises
    ------
    StudyError
        It cannot be made of this study.
    """
    store, steps = studio.opened.first.store, studio.opened.steps
    if film.what == "sweep" and (layer := study.layer(film.card)) is not None:
        for name, _ in layer.shape.levels():
            store.distribution(name, token)
    check_film(film, study, store, steps)
    study = looked_at(study, studio, film)
    wide = max(16, min(size[0], round(size[1] * film.look.wide / film.look.tall)))
    look = replace(film.look, wide=wide, tall=size[1], keys=False, notes=False)
    for n in range(count):
        now = moment(film, study, round(n * (film.count - 1) / max(count - 1, 1)), store, steps)
        shot = studio.shot(now.study, look, token.part(n / count, (n + 1) / count), camera=now.camera, phase=now.phase)
        seen(n, shot.pixels)
