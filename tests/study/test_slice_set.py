"""Slices one behind another: where they stand."""

import pytest

from tidal_lens.study.kinds.slice_set import SliceSetShape


@pytest.mark.parametrize(("last", "spacing", "places"), [
    (1.0, 0.25, [0.0, 0.25, 0.5, 0.75, 1.0]),
    (-1.0, 0.5, [0.0, -0.5, -1.0]),
    (0.9, 0.4, [0.0, 0.4, 0.8]),
])
def test_slices_a_spacing_apart_stand_between_first_and_last(last: float, spacing: float, places: list[float]) -> None:
    shape = SliceSetShape(direction=(1.0, 0.0, 0.0), first=0.0, last=last, by="spacing", spacing=spacing)
    assert shape.places == pytest.approx(places)


def test_a_spacing_too_small_to_count_by_gives_no_more_than_two_hundred() -> None:
    shape = SliceSetShape(direction=(1.0, 0.0, 0.0), first=0.0, last=1e10, by="spacing", spacing=5e-324)
    assert len(shape.places) == 200
