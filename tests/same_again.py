"""Whether a picture is a function of the study: all edits undone and done again, and the study saved and opened anew."""

import numpy as np

from driving import settle, wait
from tidal_lens.app.window import Window
from tidal_lens.scene.renderer import Listener, Renderer
from tidal_lens.scene.scenery import Scenery
from tidal_lens.study.history import carried


def scene_of(document):
    """All that is drawn of a document."""
    return Scenery().scene(document.asking.table(), "#E9EFEF", "#5B6770")


def unlike(a, b):
    """What of two scenes is not the same, item by item, in words."""
    first, second = ({item.id: item for item in scene.items} for scene in (a, b))
    told = [f"{name} is in one alone" for name in first.keys() ^ second.keys()]
    for name in first.keys() & second.keys():
        for part in ("points", "values", "faces", "offsets"):
            one, other = (getattr(item[name], part, None) for item in (first, second))
            if (one is None) != (other is None) or (one is not None and not np.array_equal(one, other, equal_nan=one.dtype.kind == "f")):
                told.append(f"{part} of {name}")
        ranges = [(i[name].colours.low, i[name].colours.high) if i[name].colours is not None else None for i in (first, second)]
        if ranges[0] != ranges[1]:
            told.append(f"key of {name}: {ranges[0]}, {ranges[1]}")
    return ", ".join(told) or "no item"


def picture(document, size=(480, 320)):
    """What a document shows, in pixels, whatever the window's size."""
    frames = []
    renderer = Renderer(Listener(frames.append, lambda *_: None, lambda *_: None, frames.append))
    scene = scene_of(document)
    renderer.show(scene, document.camera, *size)
    wait(lambda: frames, "the picture")
    renderer.close()
    return frames[-1].pixels[..., :3].astype(int)


def differing(a, b):
    """Share of pixels that are not the same."""
    return float((np.abs(a - b).max(axis=-1) > 2).mean())


def calm(window):
    """Nothing goes on by itself, and what was cancelled on the way is there."""
    if window.top.transport.is_playing:
        window.act("play")
    settle(window)
    window.document.asking.compute_again()
    settle(window)


def troubles(window, first, folder):
    """What is not as it was after undoing and redoing everything, and in a window that opens the saved study; nothing if all is well.

    Parameters
    ----------
    window : Window
        After some edits.
    first : Study
        What they began from.
    folder : Path
        Where to save.
    """
    document, out = window.document, []
    calm(window)
    before, was, study = picture(document), scene_of(document), document.study
    while document.redo_what:
        document.redo()
    last = document.study
    undone = 0
    while document.undo_what:
        document.undo()
        undone += 1
    if undone < 480 and document.study != carried(document.study, first):  # older edits are forgotten
        out.append("undoing everything does not give the first study")
    while document.redo_what:
        document.redo()
    if document.study != carried(document.study, last):
        out.append("doing everything again does not give the last study")
    while document.study != carried(document.study, study) and document.undo_what:
        document.undo()
    settle(window)
    share = differing(before, picture(document))
    if share > 0.0:
        out.append(f"after undo and redo {share:.2%} of the picture differ: {unlike(was, scene_of(document))}")
    return [*out, *opened_anew(document, before, folder)]


def opened_anew(document, before, folder):
    """What is not as it was in a window that opens the saved study."""
    out = []
    document.save(folder / "a.tidal")
    other = Window()
    other.resize(1280, 800)
    other.show()
    other.document.open_path(folder / "a.tidal")
    settle(other)
    share = differing(before, picture(other.document))
    if share > 0.0:
        out.append(f"opened anew {share:.2%} of the picture differ: {unlike(scene_of(document), scene_of(other.document))}")
    if other.document.is_changed:
        out.append("a study that was just opened counts as changed")
    other.hide()
    other.close()
    other.deleteLater()
    return out
