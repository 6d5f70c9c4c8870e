"""Random real events, short: whatever is done, the picture is a function of the study. The long run is tests/random_use/run.py --same."""

import pytest

from driving import settle
from random_use.run import Use
from same_again import troubles


@pytest.mark.gui
@pytest.mark.parametrize("seed", [3, 11])
def test_a_picture_is_a_function_of_the_study(window, tmp_path, seed):
    first, user = window.document.study, Use(window, seed)
    for _ in range(60):
        user.once()
    settle(window)
    assert troubles(window, first, tmp_path) == []
