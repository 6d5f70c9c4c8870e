"""Findings as such: names, order, trust, what is said of them, and which is which from step to step."""

import numpy as np
import pytest

from tidal_lens.features.finding import Finding, Number, Reason, between, over, ranked, sounding_numbers, under
from tidal_lens.features.following import gap_between, matched, names_kept
from tidal_lens.study.said import Said, Sieve, Sifting, findings_table, listing, saying


def finding(sort="vortex", x=0.0, score=0.8, strength=1.0, size=1.0, reach=0.1, line=True):
    points = np.column_stack([np.linspace(0, size, 9), np.full(9, x), np.zeros(9)]) if line else np.empty((0, 3))
    return Finding(sort, np.array([0.0, x, 0.0]), reach, score, size, strength, (Number("circulation", strength, "m²/s"),), line=points)


def test_measures_are_a_half_at_their_thresholds():
    assert over(3.0, 3.0) == under(3.0, 3.0) == 0.5
    assert over(6.0, 3.0) > 0.5 > under(6.0, 3.0)
    assert over(float("nan"), 1.0) == under(float("nan"), 1.0) == 0.0
    assert (between(1.0, 1.0, 3.0), between(2.0, 1.0, 3.0), between(9.0, 1.0, 3.0)) == (0.0, 0.5, 1.0)


def test_what_passes_comes_first_and_then_the_strongest():
    some = [finding(strength=1, score=0.9), finding(strength=9, score=0.4), finding(strength=5, score=0.6)]
    assert ranked(some) == [2, 0, 1]
    assert sounding_numbers([finding(), finding("shock"), finding(), finding("saddle")]) == ("V1", "K1", "V2", "P1")


def test_one_poor_reason_weighs_on_trust():
    good = Finding("vortex", np.zeros(3), 1, 1, 1, 1, (), reasons=(Reason(1.0, "a"), Reason(1.0, "b")))
    poor = Finding("vortex", np.zeros(3), 1, 1, 1, 1, (), reasons=(Reason(1.0, "a"), Reason(0.04, "b")))
    assert good.trust == 1.0
    assert poor.trust == pytest.approx(0.2)


def test_a_sieve_and_what_was_said_decide_what_is_shown():
    some = (finding(x=0, score=0.9, size=2), finding(x=1, score=0.6, size=0.5), finding(x=2, score=0.2))
    assert [x.shown for x in listing(some, Sifting(sieve=Sieve()))] == [True, True, False]
    assert [x.shown for x in listing(some, Sifting(sieve=Sieve(strictness=0.7)))] == [True, False, False]
    assert [x.shown for x in listing(some, Sifting(sieve=Sieve(least=1.0)))] == [True, False, False]
    said = saying((), some[2], some, verdict="keep")
    said = saying(said, some[0], some, verdict="dismiss")
    said = saying(said, some[1], some, name="mine")
    listed = listing(some, Sifting(sieve=Sieve(strictness=0.7), said=said))
    assert [(x.name, x.shown) for x in listed] == [("V1", False), ("mine", False), ("V3", True)]
    table = findings_table(listed, "a")
    assert [row[0] for row in table.rows] == ["V3"]
    assert table.heads[5] == "circulation [m²/s]"


def test_a_saying_holds_by_place_for_the_nearest_within_reach_only():
    some = (finding(x=0.0), finding(x=1.0))
    said = saying((), some[0], some, name="left")
    moved = (finding(x=1.02), finding(x=0.05))
    assert [x.name for x in listing(moved, Sifting(sieve=Sieve(), said=said))] == ["V1", "left"]
    gone = (finding(x=1.0), finding(x=3.0))
    assert [x.name for x in listing(gone, Sifting(sieve=Sieve(), said=said))] == ["V1", "V2"]
    other = (finding("separation line", 0.0),)
    assert listing(other, Sifting(sieve=Sieve(), said=said))[0].name == "S1", "another sort is another thing"
    assert saying(said, some[0], some, name="") == ()


def test_sayings_without_content_go():
    some = (finding(),)
    said = saying((), some[0], some, verdict="dismiss")
    assert said == (Said(sort="vortex", place=(0.0, 0.0, 0.0), reach=0.1, verdict="dismiss"),)
    assert saying(said, some[0], some, verdict="") == ()


def test_names_go_with_what_they_name():
    old = (finding(x=0.0), finding(x=1.0))
    new = (finding(x=1.04, strength=9), finding(x=5.0), finding(x=0.02))
    assert matched(old, new) == {0: 1, 2: 0}
    assert names_kept(old, ("V1", "V2"), new) == ("V2", "V3", "V1")
    assert gap_between(finding(), finding("shock")) == float("inf")
    assert gap_between(finding(size=0.5), finding(x=0.2, size=2)) == pytest.approx(0.2, abs=0.02)
