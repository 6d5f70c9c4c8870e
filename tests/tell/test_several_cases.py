"""Pictures of several cases: each beside the other as in the window's views, or one upon the other with a divider; through steps too."""

from dataclasses import replace

import numpy as np
import pytest

from making import cube_flow
from small_series import series
from tidal_lens import api
from tidal_lens.formats.export import save_flow
from tidal_lens.formats.written import FlowData
from tidal_lens.scene.camera import first_camera, setting_of
from tidal_lens.scene.marks import Dot, Path, Picture, Plate, Tint, Words, moved
from tidal_lens.tell.studio import Look, Studio
from tidal_lens.work import Token


def written(path, more):
    flow = cube_flow(9, velocity=lambda p: np.column_stack([1 + 0 * p[:, 0], 0 * p[:, 0], 0 * p[:, 0]]),
                     Pressure=lambda p: p[:, 0] + more * p[:, 2], Density=lambda p: 1 + 0 * p[:, 0])
    save_flow(path, FlowData(flow, {name: f.values for name, f in flow.fields.items()}, {}))
    return path


@pytest.fixture
def both(tmp_path):
    """Two flows, a slice through each that is coloured by the pressure, and the second on its own."""
    one, two = written(tmp_path / "one.cgns", 0.0), written(tmp_path / "two.cgns", 3.0)
    with api.open(one) as case, api.open(two) as alone:
        camera = setting_of(first_camera(*case.flow.stage, 1.0, None))
        for own in (case, alone):
            for card in own.cards:
                own.remove(card)
            own.add("slice", {"direction": (0, 1, 0), "position": 0.5}, look={"colour_by": "file:Pressure"}, id="slice-1")
            own.set(camera=camera, outline=False, keys={"file:Pressure": {"low": 0.0, "high": 4.0}})
        case.set(others=({"path": str(two)},))
        yield case, alone


def shots(case, alone, look):
    """Of all together, and of each alone, as large as its part."""
    return (case._own_studio().shot(case.study, look), Studio(replace(case._opened, others={})).shot(case.study, look),
            alone._own_studio().shot(alone.study, look))


def test_side_by_side_each_is_what_it_is_alone(both):
    case, alone = both
    look = Look(642, 320)
    whole = case._own_studio().shot(case.study, look)
    part = replace(look, wide=320, scale=look.ratio)
    _, one, two = shots(case, alone, part)
    assert whole.raster.shape[:2] == (320, 642)
    assert (whole.raster[:, :320, :3] == one.raster[..., :3]).all()
    assert (whole.raster[:, 321:641, :3] == two.raster[..., :3]).all()
    assert (one.raster != two.raster).mean() > 0.05
    words = {m.text: m.at for m in whole.marks if isinstance(m, Words)}
    assert words["one"][0] < 320.0 / look.ratio < words["two"][0]
    assert sum(m.text == "Pressure" for m in whole.marks if isinstance(m, Words)) == 1, "one key for all"


def test_the_divider_parts_two_pictures_of_full_size(both):
    case, alone = both
    look = Look(400, 250)
    case.set(beside="wipe", divider=0.25)
    whole, one, two = shots(case, alone, look)
    assert (whole.raster[:, :100] == one.raster[:, :100]).all()
    assert (whole.raster[:, 100:] == two.raster[:, 100:]).all()
    assert any(isinstance(m, Path) and m.places[0][0] == pytest.approx(100.0 / look.ratio) for m in whole.marks)


def test_the_first_alone_where_it_is_asked_for_and_cards_of_one_case(both):
    case, alone = both
    look = Look(400, 250)
    case.set(beside="first")
    whole, one, _ = shots(case, alone, look)
    assert (whole.pixels == one.pixels).all()
    case.set(beside="split")
    case.change("slice-1", case=1)
    part = case._own_studio().shot(case.study, look)
    ground = part.raster[4, 4, :3]
    assert (part.raster[:, :190, :3] == ground).all(), "the card is of the second case alone"
    assert (part.raster[:, 210:, :3] != ground).any(axis=-1).mean() > 0.05


def test_four_cases_stand_in_two_rows(both, tmp_path):
    case, _ = both
    more = [{"path": str(written(tmp_path / f"{n}.cgns", float(n)))} for n in (2, 3)]
    case.set(others=(*case.study.others, *more))
    whole = case._own_studio().shot(case.study, Look(402, 402, notes=False, keys=False))
    ground = whole.raster[2, 2, :3]
    quarters = [whole.raster[a:a + 200, b:b + 200, :3] for a in (0, 202) for b in (0, 202)]
    assert all((q != ground).any(axis=-1).mean() > 0.05 for q in quarters)
    case.set(others=case.study.others[:2])
    three = case._own_studio().shot(case.study, Look(402, 402, notes=False, keys=False))
    assert (three.raster[204:, 204:, :3] == ground).all(), "nothing stands in the fourth place"


def test_a_case_that_cannot_be_opened_is_told_and_the_others_keep_their_names(both, tmp_path):
    case, _ = both
    case.set(others=({"path": str(tmp_path / "gone.cgns")}, *case.study.others))
    shot = case._own_studio().shot(case.study, Look(642, 320))
    assert shot.seen.troubles == {"gone": "It could not be opened."}
    titles = [m.text for m in shot.marks if isinstance(m, Words) and m.text in ("one", "gone", "two")]
    assert titles == ["one", "two"]
    case.set(beside="wipe")
    alone = case._own_studio().shot(case.study, Look(200, 100))
    assert alone.seen.troubles == {"gone": "It could not be opened."}
    assert alone.raster.shape[:2] == (100, 200)


def test_what_cannot_be_had_of_a_case_is_told_with_its_name(both, tmp_path):
    case, _ = both
    flow = cube_flow(9, velocity=lambda p: np.column_stack([1 + 0 * p[:, 0], 0 * p[:, 0], 0 * p[:, 0]]), Density=lambda p: 1 + 0 * p[:, 0])
    save_flow(tmp_path / "less.cgns", FlowData(flow, {name: f.values for name, f in flow.fields.items()}, {}))
    case.set(others=({"path": str(tmp_path / "less.cgns")},))
    shot = case._own_studio().shot(case.study, Look(200, 100))
    assert list(shot.seen.troubles) == [f"less: {case.study.layers[0].name}"]


def test_steps_go_together(tmp_path):
    paths = []
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        paths.append(series(tmp_path / name, (0.0, 0.5, 1.0, 1.5))[0])
    with api.open(paths[0]) as case:
        case.set(others=({"path": str(paths[1]), "by": "number", "shift": 1},), step=1)
        one, own = case._opened.beside(1, case.study, case._evaluator().flow)
        assert own.step == 2
        assert one.evaluator(own, Token()).flow.step == 2


def test_marks_are_moved_whole():
    ink = Tint("ink")
    marks = (Words((1.0, 2.0), "a", 9.0, ink), Plate((1.0, 2.0, 3.0, 4.0)), Path(((1.0, 2.0), (3.0, 4.0))), Dot((1.0, 2.0), 3.0, ink),
             Picture((1.0, 2.0, 3.0, 4.0), np.zeros((1, 1, 4), np.uint8)))
    places = [m.at if isinstance(m, Words | Dot) else m.places[0] if isinstance(m, Path) else m.box[:2]
              for m in (moved(m, 10.0, 20.0) for m in marks)]
    assert places == [(11.0, 22.0)] * 5
