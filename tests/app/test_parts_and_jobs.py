"""Small parts of the window, and work in the background."""

import threading
import time

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication

from driving import keys, pick, type_into, wait
from tidal_lens.app.command_field import rank
from tidal_lens.app.jobs import Jobs, Slot
from tidal_lens.app.parts import Choice, NumberField, QuantityChooser, Slider, parse_number
from tidal_lens.app.start import application
from tidal_lens.errors import FileError
from tidal_lens.quantities.store import Quantity
from tidal_lens.study.words import number_text


@pytest.fixture(scope="session")
def qapp():
    return application("chart")


@pytest.mark.parametrize(("value", "text"), [
    (0.0, "0"), (-0.25, "−0.25"), (1234.5, "1234"), (1.5e-7, "1.5e−7"), (-2.0e9, "−2e9"), (1815000.0, "1.815e6"),
    (float("nan"), "—"), (float("inf"), "—"), (101325.0, "1.013e5"), (0.1 + 0.2, "0.3"),
])
def test_numbers_as_they_are_shown(value, text):
    assert number_text(value) == text


@pytest.mark.parametrize(("text", "value"), [("1.5", 1.5), ("1,5", 1.5), ("−2", -2.0), (" 1e3 ", 1000.0), ("1 000", 1000.0)])
def test_numbers_as_they_are_typed(text, value):
    assert parse_number(text) == value


@pytest.mark.parametrize("text", ["", "x", "1;2", "nan", "inf", "1e999", "0x10"])
def test_what_is_no_number(text):
    with pytest.raises(ValueError):  # noqa: PT011  (float's own words differ)
        parse_number(text)


def test_what_is_shown_can_be_typed_again():
    for value in (0.0, -1.25, 3.1e-9, 12345.678, -9.99e12):
        assert parse_number(number_text(value, 8)) == pytest.approx(value, rel=1e-6)


def field(qapp, **limits):
    one = NumberField("N", "A number", 0.5, **limits)
    one.show()
    told = []
    one.edited.connect(told.append)
    return one, told


def test_a_number_field_steps_and_keeps_its_limits(qapp):
    one, told = field(qapp, low=0.0, high=1.0)
    one.show_value(0.25)
    keys(one, Qt.Key.Key_Up)
    assert told == [0.75]
    keys(one, Qt.Key.Key_Up)
    assert told[-1] == 1.0
    keys(one, Qt.Key.Key_Down, modifiers=Qt.KeyboardModifier.ShiftModifier)
    assert told[-1] == pytest.approx(0.95)
    type_into(one, "7")
    assert one.property("bad")
    assert "from 0 to 1" in one.toolTip()
    assert one.value() == pytest.approx(0.95)
    type_into(one, "0.5")
    assert not one.property("bad")
    assert told[-1] == 0.5


def test_typing_is_not_disturbed_by_news(qapp):
    one, told = field(qapp)
    one.show_value(1.0)
    one.activateWindow()
    one.setFocus()
    wait(one.hasFocus, "the keyboard", 5)
    one.selectAll()
    keys(one, "4")
    one.show_value(2.0)
    assert one.text() == "4", "what is being typed stays"
    keys(one, "2", Qt.Key.Key_Return)
    assert told == [42.0]
    one.clearFocus()
    one.show_value(3.0)
    assert one.text() == "3"


def test_a_whole_number_stays_whole(qapp):
    one, told = field(qapp, low=1, high=9)
    one.whole = True
    one.step = 1
    type_into(one, "3.6")
    assert told == [4]
    assert one.text() == "4"


def test_sliders_and_choices_tell_only_what_the_user_did(qapp):
    slider, told = Slider("S", "tip", 0.5, 8.0), []
    slider.moved.connect(told.append)
    slider.show_value(2.0)
    assert told == []
    keys(slider, Qt.Key.Key_Right)
    assert told == [pytest.approx(0.5 + 7.5 * 0.21)]
    choice, said = Choice([("a", "A", "first"), ("b", "B", "second")]), []
    choice.picked.connect(said.append)
    choice.show_value("b")
    assert said == []
    assert choice.button("b").isChecked()
    choice.button("a").click()
    assert said == ["a"]


def test_the_chooser_lists_what_can_be_had(qapp):
    """What is missing is left to the Derive station; one that is chosen all the same is shown greyed."""
    chooser = QuantityChooser("Q", "tip", plain=True)
    there = Quantity("speed", "Speed", "|u|", "m/s", "Motion", "about", "even")
    lacking = Quantity("mach", "Mach number", "M", "", "Gas", "about", "mach", missing="pressure")
    vector = Quantity("vorticity", "Vorticity", "ω", "1/s", "Turning", "about", "even", components=3)
    wall = Quantity("cf", "Skin friction", "cf", "", "Walls", "about", "even", place="wall")
    chooser.offer((there, lacking, vector, wall), "speed")
    assert [chooser.itemText(n) for n in range(chooser.count())] == ["Plain colour", "Speed"]
    chooser.offer((there, lacking, vector, wall), "speed", walls=True)
    assert [chooser.itemText(n) for n in range(chooser.count())] == ["Plain colour", "Speed", "Skin friction"]
    chooser.offer((there, lacking), "mach")
    assert [chooser.itemText(n) for n in range(chooser.count())] == ["Plain colour", "Speed", "Mach number (needs pressure)"]
    assert chooser.currentIndex() == 2
    model = chooser.model()
    assert not model.flags(model.index(2, 0)) & Qt.ItemFlag.ItemIsEnabled
    picked = []
    chooser.picked.connect(picked.append)
    chooser.show()
    pick(chooser, "Plain colour")
    chooser.hide()
    assert picked == [None]
    own = Quantity("file:Speed", "speed", "speed", "", "In the file", "about", "even")
    chooser.offer((there, own), "speed")
    assert [chooser.itemText(n) for n in range(chooser.count())] == ["Plain colour", "Speed [m/s]", "speed"], "a unit tells them apart"


def test_ranking_puts_the_likeliest_first():
    texts = ["Vorticity magnitude |ω|", "Add slice x", "Velocity x u", "Move the slice forward", "Isosurface"]
    best = sorted((r, t) for t in texts if (r := rank("slice", t)) is not None)
    assert [t for _, t in best] == ["Add slice x", "Move the slice forward"]
    assert rank("slice x", "Add slice x") is not None
    assert rank("x slice", "Add slice x") is not None
    assert rank("zzz", "Add slice x") is None
    assert rank("", "Add slice x") is not None


@pytest.fixture
def jobs(qapp):
    one = Jobs()
    yield one
    one.close()
    QApplication.processEvents()


def test_the_newest_wish_wins(jobs):
    begun, gate, done = [], threading.Event(), []

    def work(n):
        def run(token):
            begun.append(n)
            while not gate.is_set():
                token.check()
                time.sleep(0.005)
            return n

        return run

    for n in range(5):
        jobs.submit(Slot("layer"), "work", work(n), done.append, lambda e: pytest.fail(str(e)))
    wait(lambda: begun == [0], "the first")
    time.sleep(0.3)
    jobs.submit(Slot("layer"), "work", work(9), done.append, lambda e: pytest.fail(str(e)))
    wait(lambda: begun == [0, 9], "the newest")
    gate.set()
    wait(lambda: not jobs.is_busy(), "the end")
    assert done == [9], "what was overtaken is neither done nor told"


def test_quick_work_is_let_finish_so_that_a_drag_shows_something(jobs):
    done, gate = [], threading.Event()
    jobs.submit(Slot("layer"), "a", lambda _t: gate.wait(5) and "first", done.append, lambda _e: None)
    jobs.submit(Slot("layer"), "b", lambda _t: "second", done.append, lambda _e: None)
    gate.set()
    wait(lambda: not jobs.is_busy(), "the end")
    assert done == ["first", "second"]


def test_errors_are_told_and_faults_do_not_kill(jobs):
    told = []

    def fail(exc):
        def run(_token):
            raise exc

        return run

    jobs.submit(Slot("a"), "Reading", fail(FileError("Bad file.", "x.vtu", "Mend it.")), told.append, told.append)
    wait(lambda: len(told) == 1, "the error")
    assert str(told[0]) == "x.vtu: Bad file. Mend it."
    jobs.submit(Slot("a"), "Dividing", fail(ZeroDivisionError("oh")), told.append, told.append)
    wait(lambda: len(told) == 2, "the fault")
    assert "ZeroDivisionError: oh" in str(told[1])
    assert "Your study is safe" in str(told[1])
    jobs.submit(Slot("a"), "Holding", fail(MemoryError()), told.append, told.append)
    wait(lambda: len(told) == 3, "the memory error")
    assert "not enough memory" in str(told[2])
    jobs.submit(Slot("a"), "Fine", lambda _t: 5, told.append, told.append)
    wait(lambda: told[-1] == 5, "the answer")


def test_after_cancel_the_slot_works_again(jobs):
    done = []

    def slow(token):
        while True:
            token.check()
            time.sleep(0.005)

    jobs.submit(Slot("a"), "slow", slow, done.append, done.append)
    jobs.cancel(Slot("a"))
    wait(lambda: not jobs.is_busy(Slot("a")), "the cancel")
    assert done == []
    jobs.submit(Slot("a"), "quick", lambda _t: 1, done.append, done.append)
    wait(lambda: done == [1], "the answer")


def test_progress_reaches_the_window(jobs):
    seen = []
    jobs.progressed.connect(lambda: seen.append(jobs.foremost().fraction if jobs.foremost() else None))

    def work(token):
        for n in range(4):
            token.report(n / 4)
            time.sleep(0.1)

    jobs.submit(Slot("a"), "work", work, lambda _a: None, lambda _e: None)
    wait(lambda: not jobs.is_busy(), "the end")
    assert len(seen) >= 2
    assert seen == sorted(seen)
