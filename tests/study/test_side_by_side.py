"""Several cases without a window: numbers, curves and findings beside one another, and the batch that writes them."""

import csv

import numpy as np
import pytest

from making import cube_flow
from tidal_lens.errors import StudyError, UnitsError
from tidal_lens.features.finding import Finding, Number
from tidal_lens.formats.export import save_flow
from tidal_lens.formats.written import FlowData
from tidal_lens.study.charts import Chart, Curve
from tidal_lens.study.differences import with_difference
from tidal_lens.study.files import save_study
from tidal_lens.study.kinds.kind import Begun
from tidal_lens.study.kinds.volume import VolumeShape
from tidal_lens.study.looks import BallLook
from tidal_lens.study.measuring import write_measures
from tidal_lens.study.model import OtherCase, Study
from tidal_lens.study.others import compare_units, open_other, step_beside
from tidal_lens.study.side_by_side import charts_beside, findings_beside, numbers_beside
from tidal_lens.study.tables import Table


def written(path, n, more):
    flow = cube_flow(n, Pressure=lambda p: p[:, 0] + more * p[:, 0] ** 2)
    save_flow(path, FlowData(flow, {name: f.values for name, f in flow.fields.items()}, {}))
    return path


def finding(x, strength, line=(), sort="vortex"):
    line = np.array(line, float).reshape(-1, 3)
    return Finding(sort=sort, place=np.array([x, 0.0, 0.0]), reach=0.1, score=1.0, size=0.5, strength=strength,
                   numbers=(Number("circulation", strength, "m²/s"),), curves={}, line=line, reasons=())


def test_numbers_have_differences_and_what_one_case_lacks_is_no_number():
    tables = [[Table("t", ("what", "value"), (("a", 2.0), ("b", 4.0)))], [Table("t", ("what", "value"), (("a", 3.0),))]]
    table = numbers_beside(tables, ["one", "two"])
    assert table.heads == ("what", "one", "two", "two less one", "two [%]")
    assert table.rows[0] == ("a", 2.0, 3.0, 1.0, 50.0)
    assert table.rows[1][1] == 4.0
    assert np.isnan(table.rows[1][2])
    assert numbers_beside([[], []], ["one", "two"]) is None
    several = numbers_beside([*tables, tables[0]], ["one", "two", "three"])
    assert several.heads[4:] == ("two less one", "two [%]", "three less one", "three [%]")


def test_curves_of_all_cases_lie_over_one_another_and_points_of_an_experiment_stand_once():
    def chart(height):
        return [Chart("x", "p", (Curve("upper", np.arange(3.0), np.full(3, height)), Curve("taps", np.zeros(1), np.ones(1), dots=True)))]

    (both,) = charts_beside([chart(1.0), chart(2.0)], ["fine", "coarse"])
    assert [c.name for c in both.curves] == ["upper, fine", "taps", "upper, coarse"]
    assert both.curves[2].values[0] == 2.0


def test_findings_are_paired_by_nearness_and_likeness():
    long = [[0.1 * k, 0.0, 0.0] for k in range(20)]
    near = [[0.1 * k, 0.02, 0.0] for k in range(10)]
    first = [("V1", finding(0.0, 10.0, long)), ("V2", finding(5.0, 1.0)), ("S1", finding(0.0, 1.0, sort="saddle"))]
    other = [("V1", finding(5.05, 1.2)), ("V2", finding(1.5, 9.0, near)), ("V3", finding(9.0, 1.0))]
    table = findings_beside(first, other, ["a", "b"])
    rows = {row[0]: row for row in table.rows}
    assert rows["V1"][2] == "V2", "by their lines, though their strongest places are far apart"
    assert rows["V1"][6] == pytest.approx(-10.0)
    assert rows["V1"][7] == pytest.approx(0.02)
    assert rows["V2"][2] == "V1"
    assert rows["V2"][7] == pytest.approx(0.05)
    assert rows["S1"][2] == "", "another sort is no partner"
    assert [row[2] for row in table.rows if row[0] == ""] == ["V3"]


def test_units_must_be_known_to_be_the_same():
    si, unknown = cube_flow(3), cube_flow(3)
    object.__setattr__(si, "si_units", True)
    with pytest.raises(UnitsError, match="SI units"):
        compare_units(si, unknown, OtherCase(path="b"))
    compare_units(si, unknown, OtherCase(path="b", anyway=True))
    compare_units(unknown, cube_flow(3), OtherCase(path="b"))


def test_the_step_that_goes_along(tmp_path):
    here = cube_flow(3)
    object.__setattr__(here, "times", (0.0, 1.0, 2.0, 3.0))
    object.__setattr__(here, "step", 2)
    there = (10.0, 10.5, 11.0, 11.5, 12.0, 12.5, 13.0, 13.5)

    def step(**how):
        return step_beside(OtherCase(path="b", **how), here, there)

    assert step(by="time") == 0, "the nearest that there is"
    assert step(by="time", shift=10.2) == 4
    assert step(by="number") == 2
    assert step(by="number", shift=99) == 7
    assert step(by="phase") == 4, "half of the way round"
    assert step(by="phase", shift=0.25) == 6
    assert step(by="phase", shift=0.5) == 0, "once round"
    assert step_beside(OtherCase(path="b"), here, ()) == 0


def test_a_study_without_a_case_and_cards_apart():
    study = Study(case="/a.cgns", others=(OtherCase(path="/x/a.cgns"), OtherCase(path="/b.cgns", name="new")))
    assert study.case_titles == ("a (1)", "a (2)", "new")
    layer = study.layer_of(Begun("Volume", VolumeShape(quantity="file:Pressure"), BallLook()))
    apart = study.adding(layer).apart(layer)
    assert [(x.name, x.case) for x in apart.layers] == [("Volume", 0), ("Volume, a (2)", 1), ("Volume, new", 2)]
    left = apart.without_case(1)
    assert [(x.name, x.case) for x in left.layers] == [("Volume", 0), ("Volume, new", 1)]
    assert [o.title for o in left.others] == ["new"]


def test_a_difference_of_a_cards_own_values_is_refused():
    with pytest.raises(StudyError, match="of the card"):
        with_difference(Study(), "own:open share")
    study, name = with_difference(Study(), "velocity.x")
    assert study.formulas[0].text == "in_second(velocity.x) - velocity.x"
    again, same = with_difference(study, "velocity.x")
    assert (again, same) == (study, name)
    assert with_difference(study, "velocity.x", 2)[1] != name


def test_the_batch_writes_numbers_of_all_cases(tmp_path):
    written(tmp_path / "fine.cgns", 9, 0.0)
    written(tmp_path / "coarse.cgns", 5, 1.0)
    study = Study(case=str(tmp_path / "fine.cgns"), others=(OtherCase(path=str(tmp_path / "coarse.cgns")),
                                                            OtherCase(path=str(tmp_path / "gone.cgns"))))
    study, name = with_difference(study, "file:Pressure")
    for title, quantity in (("Pressure", "file:Pressure"), ("Difference", name)):
        study = study.adding(study.layer_of(Begun(title, VolumeShape(quantity=quantity), BallLook())))
    save_study(study, tmp_path / "both.tidal")
    out = tmp_path / "out"
    out.mkdir()
    told = []
    lost = write_measures(tmp_path / "both.tidal", out, told.append)
    assert lost == 1, "the difference is of the first only"
    assert any("gone" in line for line in told)
    with (out / "Pressure, side by side.csv").open(encoding="utf-8-sig") as file:
        rows = {row[0]: row[1:] for row in csv.reader(file)}
    assert rows["what"][:2] == ["fine", "coarse"]
    assert float(rows["mean by volume"][0]) == pytest.approx(0.5)
    assert float(rows["mean by volume"][1]) == pytest.approx(0.5 + 1 / 3, abs=0.02)
    with next(out.glob("Difference, in a volume*")).open(encoding="utf-8-sig") as file:
        numbers = dict(row[:2] for row in csv.reader(file))
    assert float(numbers["greatest"]) == pytest.approx(1.0)


def test_a_second_case_is_opened_at_the_step_that_goes_along(tmp_path):
    written(tmp_path / "a.cgns", 5, 0.0)
    written(tmp_path / "b.cgns", 6, 0.0)
    study = Study(case=str(tmp_path / "a.cgns"), others=(OtherCase(path=str(tmp_path / "b.cgns")),))
    session = open_other(study, 1, cube_flow(5))
    assert session.flow.n_points == 216
    assert session.evaluator.answers.case == 1
