"""Everything that can be done: shortcuts, tiles, the command field and the help page are made from this list."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from tidal_lens.app.bench import STATIONS
from tidal_lens.app.desk import Desk
from tidal_lens.app.stations.station import Station
from tidal_lens.study.evaluate import tables_of
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.kinds.kind import Kind, Tile
from tidal_lens.study.plates import with_plate


@dataclass(frozen=True)
class Command:
    """Something that can be done.

    Attributes
    ----------
    id : str
        Unique name.
    title : str
        As shown.
    keys : str
        Shortcut, or nothing.
    help : str
        What it does, one sentence.
    run : callable
        Does it, given the desk and, if they were given, values of the types that it takes.
    enabled : callable
        Whether it makes sense now.
    takes : tuple of type
        What may be given to it, each of them left out at will.
    listed : bool
        Whether the command field offers it.
    """

    id: str
    title: str
    keys: str
    help: str
    run: Callable[..., object]
    enabled: Callable[[Desk], bool] = lambda _d: True
    takes: tuple[type, ...] = ()
    listed: bool = True

    def carry_out(self, desk: Desk, *given: object) -> None:
        """Do it if it makes sense now.

        Raises
        ------
        TypeError
            It does not take what is given.
        """
        fits = len(given) <= len(self.takes) and all(isinstance(g, t) for g, t in zip(given, self.takes, strict=False))
        if not fits:
            raise TypeError(f"{self.id} takes {[t.__name__ for t in self.takes]}, not {given}")
        if self.enabled(desk):
            self.run(desk, *given)


def _open_case(d: Desk) -> bool:
    return d.document.flow is not None


def _has_card(d: Desk) -> bool:
    return d.document.chosen_layer is not None


def _drawn_card(d: Desk) -> bool:
    layer = d.document.chosen_layer
    return layer is not None and layer.shape.geometry != "none"


def _tells(d: Desk) -> bool:
    result = d.document.asking.results.get(d.document.chosen or "")
    return result is not None and bool(tables_of(result, d.document.study))


def _takes_taps(d: Desk) -> bool:
    layer = d.document.chosen_layer
    return layer is not None and layer.shape.takes_taps


def _has_finding(d: Desk) -> bool:
    return d.view.findings.chosen is not None


def _can_step(d: Desk) -> bool:
    layer, flow = d.document.chosen_layer, d.document.flow
    return layer is not None and flow is not None and layer.shape.stepped(1.0, flow) is not None


def _title(d: Desk) -> str:
    evaluator = d.document.evaluator
    mach = ", Mach {mach}" if evaluator is not None and evaluator.store.reference.mach else ""
    return f"{{case}}{mach}{', t = {time}' if _has_steps(d) else ''}"


def _sweeps(d: Desk) -> bool:
    layer, evaluator = d.document.chosen_layer, d.document.evaluator
    return layer is not None and evaluator is not None and layer.shape.swept(0.0, evaluator.store) is not None


def _has_plates(d: Desk) -> bool:
    return bool(d.document.study.plates)


def _has_steps(d: Desk) -> bool:
    return len(d.document.clock.times) > 1


def _looker(axis: int, sign: int) -> Callable[[Desk], object]:
    return lambda d: d.view.eye.look_from(axis, sign)


def adding(kinds: Sequence[Kind]) -> Iterator[Command]:
    """Commands of the kinds' tiles; a tile's argument may be given in the place of its own."""
    for kind in kinds:
        for tile in kind.tiles:
            yield _adding(kind, tile)


def _adding(kind: Kind, tile: Tile) -> Command:
    def can(d: Desk) -> bool:
        return d.document.flow is not None and not kind.lacks(d.document.flow)

    def add(d: Desk, argument: str = tile.argument) -> None:
        chosen = d.document.chosen_layer
        if not argument and chosen is not None and kind.shape.takes(chosen.shape):
            argument = chosen.id
        d.add(kind, argument)

    return Command(tile.id, f"Add {tile.name[0].lower()}{tile.name[1:]}", "", tile.help, add, can, (str,))


def going(stations: Sequence[Station]) -> Iterator[Command]:
    """Commands that go to the stations."""
    for number, station in enumerate(stations):
        def go(d: Desk, name: str = station.name) -> None:
            d.show_station(name)

        yield Command(f"station-{station.name}", f"Go to {station.title}", f"Alt+{number + 1}", f"Show the {station.title} station.", go)


BASE: tuple[Command, ...] = (
    Command("open", "Open…", "Ctrl+O", "Open a result or a study.", lambda d, path="": d.files.open_dialog(path), takes=(str,)),
    Command("recent", "Open a recent file…", "Ctrl+Shift+O", "List files that were opened or saved last.",
            lambda d, path="": d.files.open_recent(path), takes=(str,)),
    Command("save", "Save study", "Ctrl+S", "Save the study.", lambda d: d.files.save(), _open_case),
    Command("save-as", "Save study as…", "Ctrl+Shift+S", "Save the study under another name.",
            lambda d, path="": d.files.save_as(path), _open_case, (str,)),
    Command("save-flow", "Save the flow's data…", "", "Save the flow with the quantities in use, in an open format.",
            lambda d, path="": d.files.save_flow(path), _open_case, (str,)),
    Command("save-card", "Save the card's geometry…", "", "Save the chosen surface or lines with the quantities in use.",
            lambda d, path="": d.files.save_card(path), _drawn_card, (str,)),
    Command("save-table", "Save the card's table…", "", "Save what the chosen card tells in rows and columns, as CSV.",
            lambda d, path="": d.files.save_table(path), _tells, (str,)),
    Command("lay-taps", "Lay an experiment over the section…", "", "Show measured points over the curves of the chosen section.",
            lambda d, path="": d.files.lay_taps(path), _takes_taps, (str,)),
    Command("save-beside", "Save the card's numbers in all cases…", "",
            "Save what the chosen card tells in all cases, side by side, as CSV.",
            lambda d, path="": d.files.save_several(d.ledger.beside.tables(), path), lambda d: d.ledger.beside.is_wanted, (str,)),
    Command("save-charts", "Save the card's charts…", "", "Save the chosen measure's charts as pictures: PNG or SVG.",
            lambda d, path="": d.files.save_charts(d.ledger.measure, path), lambda d: d.ledger.measure.has_charts, (str,)),
    Command("beside", "Open a case beside…", "", "Open another result beside this one: all cards are worked out for it too.",
            lambda d, path="": d.files.open_beside(path), _open_case, (str,)),
    Command("difference", "Take the difference", "", "Colour the chosen card by what its quantity differs in the second case.",
            lambda d, name="": d.document.difference(name), lambda d: bool(d.document.study.others), (str,)),
    Command("cases-shown", "Side by side, wipe, or the first alone", "", "Change how cases beside the first are shown.",
            lambda d, how="": d.cards.next_beside(how), lambda d: bool(d.document.study.others), (str,)),
    Command("apart", "Take the card's cases apart", "", "Make one card of each case of the chosen one, so that each is set by itself.",
            lambda d: d.cards.apart(), lambda d: _has_card(d) and bool(d.document.study.others)),
    Command("expect", "Expect a value", "", "Set a number from elsewhere beside one of the chosen measure's.",
            lambda d: d.ledger.measure.expected.begin(), lambda d: d.ledger.measure.is_wanted),
    Command("lift-charts", "Lift the charts", "U", "Lift the chosen measure's charts to half of the view; again: lay them back.",
            lambda d: d.lift_charts(), lambda d: d.ledger.measure.has_charts),
    Command("show-table", "List what the card tells", "", "Show the chosen card's table in the ledger; again: put it away.",
            lambda d: d.ledger.show_table(), lambda d: _tells(d) and d.view.findings.are_not_listed),
    Command("find-all", "Find all four", "Ctrl+L", "Find vortices, separation, shocks and recirculation, and list them in the ledger.",
            lambda d: d.find_all(), _open_case),
    *(Command(f"finding-{name}", title, "", text, act, _has_finding) for name, title, text, act in (
        ("go", "Go to the finding", "Bring the chosen finding into the picture.", lambda d: d.view.findings.go_there()),
        ("cut", "Cut across the finding", "Lay a slice across the chosen finding.", lambda d: d.view.findings.cut_across()),
        ("seed", "Seed around the finding", "Trace lines round the chosen finding.", lambda d: d.view.findings.seed_around()),
        ("profile", "Profile through the finding", "Draw quantities along a line through the chosen finding.",
         lambda d: d.view.findings.profile()),
        ("curve", "Curve along the finding", "Draw a number along the chosen finding; again: put it away.",
         lambda d: d.ledger.found.detail.toggle_curve()),
        ("time", "Follow the finding in time", "Look for the chosen finding at all steps of the series.",
         lambda d: d.ledger.found.detail.over_time()),
        ("keep", "Keep the finding", "Show the chosen finding whatever the strictness; again: let it decide.",
         lambda d: d.view.findings.say(verdict="" if d.view.findings.verdict == "keep" else "keep")),
        ("dismiss", "Dismiss the finding", "Show the chosen finding no longer; again: bring it back.",
         lambda d: d.view.findings.say(verdict="" if d.view.findings.verdict == "dismiss" else "dismiss")))),
    Command("save-finding-curve", "Save the numbers along the finding…", "", "Save all numbers along the chosen finding, as CSV.",
            lambda d, path="": d.files.save_rows(d.ledger.found.detail.table(), path), _has_finding, (str,)),
    Command("plate-add", "Keep a plate", "Ctrl+B", "Keep what is seen now as a plate: camera, lit cards, keys, time.",
            lambda d, name="": (d.document.edit(with_plate(d.document.study, name), "Keep a plate"), d.plates.made()), _open_case, (str,)),
    Command("plate-go", "Go to a plate", "", "Show what a plate shows.",
            lambda d, plate="": d.plates.go(plate) if plate else d.plates.next(), _has_plates, (str,), listed=False),
    Command("plate-next", "Go to the next plate", "Ctrl+Right", "Show the next plate; after the last comes the first.",
            lambda d: d.plates.next(), _has_plates),
    Command("plates-play", "Play the plates as a show", "", "Show all plates one after another; again: stop.",
            lambda d: d.plates.play(), _has_plates),
    Command("note-add", "Write a note", "Ctrl+E", "Write something over the view: it can point to a place of the flow, and hold numbers.",
            lambda d, text="": (d.show_notes(), d.document.add_note(text=text)), _open_case, (str,)),
    Command("note-title", "Write a title", "", "Write the case and its facts at the top of the view.",
            lambda d: (d.show_notes(), d.document.add_note(text=_title(d), size=20.0, bold=True, frame=False, place=(0.3, 0.03))),
            _open_case),
    Command("note-bar", "Lay a bar of length", "", "Lay a bar with its length over the view.",
            lambda d: (d.show_notes(), d.document.add_note(sort="bar", place=(0.4, 0.92), frame=False)), _open_case),
    Command("note-picture", "Lay a picture over the view…", "", "Lay a picture from a file over the view.",
            lambda d, path="": (d.show_notes(), d.files.add_picture(path)), _open_case, (str,)),
    Command("save-picture", "Save a picture…", "Ctrl+P", "Save a picture of what is seen, as set in the Tell station: PNG, SVG or PDF.",
            lambda d, path="": d.files.save_picture(path), _open_case, (str,)),
    Command("save-sweep", "Save the card's sweep as an animation…", "",
            "Save an animation in which the number of the chosen card runs: the place of a slice, the value of an isosurface.",
            lambda d, path="": (d.document.film_of_chosen(), d.files.save_film(path)), _sweeps, (str,)),
    Command("save-report", "Write a report…", "", "Write a report, as set in the Tell station: one HTML file, or a DOCX document.",
            lambda d, path="": d.files.save_report(path), _open_case, (str,)),
    Command("run", "Run over cases and steps…", "", "Make pictures, tables and reports for cases and steps, as set in the Tell station.",
            lambda d, path="": d.files.run(path), _open_case, (str,)),
    Command("run-case", "Run over another case too…", "", "Take another result into what the study is run over.",
            lambda d, path="": d.files.add_run_case(path), _open_case, (str,)),
    Command("save-script", "Save as a script…", "", "Write the study as Python, that makes the same pictures and tables without a window.",
            lambda d, path="": d.files.save_script(path), _open_case, (str,)),
    Command("save-film", "Save an animation…", "", "Save an animation, as set in the Tell station: MP4, GIF, WebP or numbered pictures.",
            lambda d, path="": d.files.save_film(path), _open_case, (str,)),
    Command("history", "Open the history of a run…", "", "Draw residuals and coefficients from a table, with a verdict.",
            lambda d, path="": d.files.open_history(path), takes=(str,)),
    Command("follow", "Follow a running solution…", "", "Watch a folder in which steps and a history grow.",
            lambda d, path="": d.files.follow_run(path), takes=(str,)),
    Command("stop-following", "Stop following the run", "", "Look into the folder no longer.", lambda d: d.histories.stop(),
            lambda d: d.histories.folder is not None),
    Command("demo", "Open the demo", "", "Open the demo: Kittiwake in steady flow.", lambda d: d.open_demo()),
    Command("demo-coarse", "Open the coarse demo", "", "Open Kittiwake on a coarser mesh, for comparison.",
            lambda d: d.open_demo("kittiwake coarse.vtm")),
    Command("demo-gust", "Open the gust demo", "", "Open Kittiwake in a gust: a time series.",
            lambda d: d.open_demo("kittiwake gust.cgns")),
    Command("demo-dipper", "Open Dipper", "", "Open Dipper: one passage of a ducted rotor, in the frame that turns with it.",
            lambda d: d.open_demo("dipper.cgns")),
    Command("demo-mooring", "Open Mooring", "", "Open Mooring: laminar plane flow past a cylinder at Reynolds number 40.",
            lambda d: d.open_demo("mooring.vtm")),
    Command("memory", "Choose how much memory is kept…", "", "Choose how much of what can be worked out again may stay in memory.",
            lambda d: d.choose_memory()),
    Command("undo", "Undo", "Ctrl+Z", "Take the last change back.", lambda d: d.document.undo(), lambda d: bool(d.document.undo_what)),
    Command("redo", "Redo", "Ctrl+Shift+Z", "Bring a change back that was undone.", lambda d: d.document.redo(),
            lambda d: bool(d.document.redo_what)),
    Command("command", "Find a command or quantity", "Ctrl+K", "Type what to do or find.", lambda d: d.look_up(), listed=False),
    Command("colour-by", "Colour the chosen card by a quantity", "", "Colour the chosen card.", lambda d, name="": d.cards.colour_by(name),
            _drawn_card, (str,), listed=False),
    Command("toggle-lamp", "Show or hide the card", "", "Light or put out the chosen card's lamp.",
            lambda d, card="": d.cards.toggle_lamp(card), _has_card, (str,)),
    Command("show-alone", "Show the card alone", "", "Show the chosen card alone; again: all.",
            lambda d, card="": d.cards.show_alone(card), _has_card, (str,)),
    Command("rename", "Rename the card", "F2", "Type another name for the chosen card.", lambda d, card="": d.cards.rename(card), _has_card,
            (str,)),
    Command("duplicate", "Duplicate the card", "Ctrl+D", "Add a copy of the chosen card.", lambda d, card="": d.cards.duplicate(card),
            _has_card, (str,)),
    Command("stack", "Stack the chosen cards", "Ctrl+G", "Put the chosen cards into one stack with one lamp (Ctrl+click chooses several).",
            lambda d: d.cards.stack(), lambda d: len(d.document.chosen_layers) > 1),
    Command("unstack", "Take the stack apart", "Ctrl+Shift+G", "Let the cards of the chosen card's stack stand alone again.",
            lambda d: d.cards.unstack(), lambda d: any(x.stack for x in d.document.chosen_layers)),
    Command("remove", "Remove the card", "Del", "Remove the chosen card; of a chosen line its seed.",
            lambda d, card="": (not card and d.view.picks.take_away()) or d.cards.remove(card),
            _has_card, (str,)),
    Command("focus-card", "Go to the card", "", "Give the keyboard to a card.", lambda d, card="": d.cards.focus_card(card), _has_card,
            (str,), listed=False),
    *(Command(f"slice-{way}{fine}", f"Move the slice {way}{' finely' if fine else ''}", f"{'Shift+' if fine else ''}{key}",
              f"Move the chosen slice a {'tenth of a ' if fine else ''}step {where} its axis.",
              lambda d, steps=sign * size: d.cards.step(steps), _can_step, (float,))
      for fine, size in (("", 1.0), ("-fine", 0.1)) for way, where, key, sign in (("forward", "up", "]", 1), ("back", "down", "[", -1))),
    Command("outline", "Draw or hide the outline", "O", "Draw the sharp edges of the flow's outside.",
            lambda d: d.cards.toggle_outline(), _open_case),
    Command("projection", "Parallel rays or perspective", "P", "Let rays be parallel, so that lengths compare, or see in perspective.",
            lambda d: d.view.eye.toggle_projection(), _open_case),
    Command("ground", "Ground of the view", "", "Change what is behind everything: as the theme has it, paper, white, ink.",
            lambda d, ground="": d.cards.next_ground(ground), _open_case, (str,)),
    Command("frame", "Frame everything", "F", "Bring the whole flow into the picture.", lambda d: d.view.eye.frame_all(), _open_case),
    Command("frame-card", "Frame the card", "Shift+F", "Bring the chosen card into the picture.",
            lambda d: d.view.eye.frame_chosen(), _has_card),
    *(Command(f"look-{name}{axis}", f"Look from {sign}{axis}", "", f"Look at the flow from {sign}{axis}.", _looker(number, way), _open_case)
      for number, axis in enumerate("xyz") for name, sign, way in (("plus-", "+", 1), ("minus-", "−", -1))),
    Command("step-back", "One step back in time", ",", "Show the step before.",
            lambda d: d.document.go_to_step(-1, relative=True), _has_steps),
    Command("over-time", "The card over time", "T", "Show the chosen card at several steps side by side; again: put them away.",
            lambda d: d.show_over_time(), _has_steps),
    Command("play", "Play or pause", ".", "Play through the steps of a time series.", lambda d: d.play(), _has_steps),
    Command("step-on", "One step on in time", "/", "Show the next step.",
            lambda d: d.document.go_to_step(1, relative=True), _has_steps),
    Command("fold-bench", "Fold the bench", "F9", "Hide or show the bench.", lambda d: d.fold_bench()),
    Command("fold-ledger", "Fold the ledger", "F10", "Hide or show the ledger.", lambda d: d.ledger.fold()),
    Command("theme", "Change the theme", "F8", "Change between the chart and night themes.", lambda d: d.change_theme()),
    Command("again", "Compute again", "F5", "Compute what failed or was cancelled.",
            lambda d: d.document.compute_again(), _open_case),
    Command("cancel", "Cancel the running work", "Esc", "Give up what is being computed, clicks that are waited for, lit places.",
            lambda d: d.document.clicks.give_up() or d.view.picks.drop() or d.view.lights.put_out() or d.document.asking.cancel_work(),
            lambda d: d.document.clicks.wish is not None or d.view.picks.of is not None or d.view.lights.of is not None
            or d.document.jobs.is_busy()),
    Command("help", "Help", "F1", "Show the guide, and all commands with their keys; searched by words.",
            lambda d, page="": d.show_help(page), takes=(str,)),
    Command("settings", "Settings", "Ctrl+,", "Theme, memory, threads, and what is remembered of files.", lambda d: d.show_settings()),
    Command("error-report", "Save an error report…", "", "Write down versions, what is open without any of its data, and faults of late.",
            lambda d, path="": d.save_report(path), takes=(str,)),
    Command("open-same", "Open another result with this study…", "",
            "Look at another result as at this one: cards, plates, notes and all; the study is saved under another name.",
            lambda d, path="": d.files.open_same(path), _open_case, (str,)),
    Command("about", "About and licences", "", "Tell the version, and the licences of all that comes along.",
            lambda d: d.show_help("about")),
    Command("quit", "Quit", "Ctrl+Q", "Close the window.", lambda d: d.close()),
)
COMMANDS: tuple[Command, ...] = (*BASE, *going(STATIONS), *adding(KINDS))
BY_ID = {c.id: c for c in COMMANDS}
