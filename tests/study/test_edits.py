"""Any sequence of edits: undo to the start gives the first study, redo the last, and a file gives back what was saved."""

import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tidal_lens.errors import StudyError
from tidal_lens.study.dressings import Arrows, Contours
from tidal_lens.study.files import load_study, save_study
from tidal_lens.study.formulas import removed, renamed, with_formula
from tidal_lens.study.history import History, carried
from tidal_lens.study.kinds.isosurface import IsoShape
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.points import PointsShape
from tidal_lens.study.kinds.seeds import BallSeeds, CardSeeds, LineSeeds
from tidal_lens.study.kinds.slice import SliceShape
from tidal_lens.study.kinds.streamlines import StreamShape
from tidal_lens.study.kinds.wall import WallShape
from tidal_lens.study.looks import BallLook, LineLook, SurfaceLook
from tidal_lens.study.model import KeySetting, SeenRange, Study
from tidal_lens.study.value import walk

number = st.floats(-1e6, 1e6)
vector = st.tuples(number, number, number)
quantity = st.sampled_from(["mach", "cp", "file:Ω", "formula:mine", "formula:mine.x"])
surface = st.builds(SurfaceLook, colour_by=st.none() | quantity, opacity=st.floats(0.05, 1.0), mesh_lines=st.booleans(),
                    contours=st.none() | st.builds(Contours, of=quantity, low=number, high=number,
                                                   listed=st.lists(number, max_size=3).map(tuple)),
                    arrows=st.none() | st.builds(Arrows, of=quantity, spacing=st.floats(0.004, 0.5), even=st.booleans()))
seeds = st.one_of(st.builds(LineSeeds, start=vector, end=vector, count=st.integers(1, 5000)),
                  st.builds(BallSeeds, centre=vector, radius=st.floats(1e-6, 1e6)))
balls = st.builds(BallLook, colour_by=st.none() | quantity | st.just("own:d"), size_by=quantity,
                  sized=st.sampled_from(["even", "share"]))
begun = st.one_of(
    st.builds(Begun, st.just("Walls"), st.builds(WallShape, boundaries=st.lists(st.text(max_size=5), max_size=3).map(tuple)), surface),
    st.builds(Begun, st.just("Slice"),
              st.builds(SliceShape, direction=st.sampled_from([(1.0, 0.0, 0.0), (0.5, -2.0, 0.1)]), position=number), surface),
    st.builds(Begun, st.just("Iso"), st.builds(IsoShape, quantity=quantity, value=number), surface),
    st.builds(Begun, st.just("Points"), st.builds(PointsShape, points=st.lists(vector, min_size=1, max_size=4).map(tuple)), balls),
    st.builds(Begun, st.just("Lines"), st.builds(StreamShape, seeds=st.lists(seeds, min_size=1, max_size=3).map(tuple)),
              st.builds(LineLook)))
edit = st.one_of(
    st.tuples(st.just("add"), begun), st.tuples(st.just("remove"), st.integers(0, 9)), st.tuples(st.just("move"), st.integers(0, 9)),
    st.tuples(st.just("hide"), st.integers(0, 9)), st.tuples(st.just("alone"), st.integers(0, 9)),
    st.tuples(st.just("key"), st.tuples(quantity, number)), st.tuples(st.just("formula"), st.sampled_from(["1", "x + y", "`mine`"])),
    st.tuples(st.just("rename"), st.sampled_from(["mine", "yours"])), st.tuples(st.just("forget"), st.just("mine")),
    st.tuples(st.just("on"), st.integers(0, 9)), st.tuples(st.just("seen"), quantity),
    st.tuples(st.just("undo"), st.none()), st.tuples(st.just("redo"), st.none()))


def on_another(study, layer):
    """Every line card made from a card, if it may be."""
    for lines in (x for x in study.layers if x.kind == "streamlines"):
        made = lines.with_(shape=lines.shape.with_(seeds=(*lines.shape.seeds[:1], CardSeeds(card=layer.id))))
        if layer in study.subjects_for(lines, ("surface", "lines")):
            study = study.replacing(made)
        else:
            with pytest.raises(StudyError):
                study.replacing(made)
    return study


def after(study, what, how):
    """The study after an edit; itself where there is nothing to edit."""
    layer = study.layers[how % len(study.layers)] if isinstance(how, int) and study.layers else None
    has = any(f.name == "mine" for f in study.formulas)
    makes = {
        "add": lambda: study.adding(study.layer_of(how)),
        "remove": lambda: study.without(layer.id) if layer else study,
        "move": lambda: study.moved(layer.id, 0) if layer else study,
        "hide": lambda: study.replacing(layer.with_(shown=not layer.shown)) if layer else study,
        "alone": lambda: study.with_(alone=layer.id) if layer else study,
        "key": lambda: study.with_key(how[0], KeySetting(low=how[1])),
        "formula": lambda: with_formula(study, "mine", how),
        "rename": lambda: renamed(study, "mine", "yours") if how == "yours" and has and len(study.formulas) == 1 else study,
        "on": lambda: on_another(study, layer) if layer else study,
        "forget": lambda: removed(study, "mine"),
    }
    return makes[what]()


@given(st.lists(edit, max_size=25))
@settings(max_examples=80, deadline=None, database=None, derandomize=True, suppress_health_check=list(HealthCheck))
def test_edits_are_undone_done_again_saved_and_opened(edits):
    first = Study(case="/somewhere/case.vtm")
    history = History(first, clock=iter(range(0, 10_000, 10)).__next__)
    given_ids = set()
    for what, how in edits:
        if what in ("undo", "redo"):
            getattr(history, what)()
        elif what == "seen":
            ranges = {**history.study.ranges, how: (SeenRange(low=0.0, high=1.0, least=-1.0, greatest=2.0),)}
            history.amend(history.study.model_copy(update={"ranges": ranges}))
        else:
            new = after(history.study, what, how)
            fresh = {x.id for x in new.layers} - {x.id for x in history.study.layers}
            if what == "add":
                assert not fresh & given_ids, "an id was given twice"
                given_ids |= fresh
            history.push(new, what)
        assert not any(x.id in history.study.rests_on(x) for x in history.study.layers), "a circle"
        assert len({x.id for x in history.study.layers}) == len(history.study.layers)
    while history.redo():
        pass
    last, steps = history.study, 0
    while history.undo():
        steps += 1
    assert history.study == carried(last, first)
    for _ in range(steps):
        assert history.redo()
    assert history.study == last
    with tempfile.TemporaryDirectory() as folder:
        save_study(last, Path(folder) / "a.tidal")
        assert load_study(Path(folder) / "a.tidal") == last
    if not any(f.name == "yours" for f in last.formulas):
        assert not any("formula:yours" in set(walk(layer, "quantity")) for layer in last.layers)
