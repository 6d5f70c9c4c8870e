"""All that can be done, as one table: it feeds buttons, keys, the command field and the help page."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from tidal_lens.study.kinds import KINDS
from tidal_lens.study.kinds.kind import Kind, Tile

if TYPE_CHECKING:
    from tidal_lens.app.window import Window


@dataclass(frozen=True)
class Action:
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
        Does it in a window; the text is an argument or empty.
    enabled : callable
        Whether it makes sense now.
    listed : bool
        Whether the command field offers it.
    """

    id: str
    title: str
    keys: str
    help: str
    run: Callable[[Window, str], object]
    enabled: Callable[[Window], bool] = lambda _w: True
    listed: bool = True


def _open_case(w: Window) -> bool:
    return w.document.flow is not None


def _has_card(w: Window) -> bool:
    return w.document.chosen_layer is not None


def _adding(kind: Kind, tile: Tile) -> Action:
    """The command of a kind's tile."""
    def can(w: Window) -> bool:
        flow = w.document.flow
        return flow is not None and not kind.lacks(flow)

    return Action(tile.id, f"Add {tile.name[0].lower()}{tile.name[1:]}", "", tile.help, lambda w, a: w.add(kind, a or tile.argument), can)


def _can_step(w: Window) -> bool:
    layer, flow = w.document.chosen_layer, w.document.flow
    return layer is not None and flow is not None and layer.shape.stepped(1.0, flow) is not None


def _has_steps(w: Window) -> bool:
    return len(w.document.clock.times) > 1


def _looker(axis: int, sign: int) -> Callable[[Window, str], object]:
    return lambda w, _: w.view.eye.look_from(axis, sign)


ACTIONS: tuple[Action, ...] = (
    Action("open", "Open…", "Ctrl+O", "Open a result or a study.", lambda w, a: w.files.open_dialog(a)),
    Action("save", "Save study", "Ctrl+S", "Save the study.", lambda w, _: w.files.save(), _open_case),
    Action("save-as", "Save study as…", "Ctrl+Shift+S", "Save the study under another name.", lambda w, _: w.files.save_as(), _open_case),
    Action("save-flow", "Save the flow's data…", "", "Save the flow with the quantities in use, in an open format.",
           lambda w, a: w.files.save_data(a, card=False), _open_case),
    Action("save-card", "Save the card's geometry…", "", "Save the chosen surface or lines with the quantities in use.",
           lambda w, a: w.files.save_data(a, card=True), _has_card),
    Action("history", "Open the history of a run…", "", "Draw residuals and coefficients from a table, with a verdict.",
           lambda w, a: w.files.open_history(a)),
    Action("follow", "Follow a running solution…", "", "Watch a folder in which steps and a history grow.",
           lambda w, a: w.files.follow_run(a)),
    Action("stop-following", "Stop following the run", "", "Look into the folder no longer.", lambda w, _: w.histories.stop(),
           lambda w: w.histories.folder is not None),
    Action("demo", "Open the demo", "", "Open the demo: Kittiwake in steady flow.", lambda w, _: w.open_demo()),
    Action("demo-coarse", "Open the coarse demo", "", "Open Kittiwake on a coarser mesh, for comparison.",
           lambda w, _: w.open_demo("kittiwake coarse.vtm")),
    Action("demo-gust", "Open the gust demo", "", "Open Kittiwake in a gust: a time series.",
           lambda w, _: w.open_demo("kittiwake gust.cgns")),
    Action("memory", "Choose how much memory is kept…", "", "Choose how much of what can be worked out again may stay in memory.",
           lambda w, _: w.status.choose_limit()),
    Action("undo", "Undo", "Ctrl+Z", "Take the last change back.", lambda w, _: w.document.undo(),
           lambda w: bool(w.document.undo_what)),
    Action("redo", "Redo", "Ctrl+Shift+Z", "Bring a change back that was undone.", lambda w, _: w.document.redo(),
           lambda w: bool(w.document.redo_what)),
    Action("command", "Find a command or quantity", "Ctrl+K", "Type what to do or find.", lambda w, _: w.command.begin(), listed=False),
    Action("station-case", "Go to Case", "Alt+1", "Show the Case station.", lambda w, _: w.show_station("case")),
    Action("station-derive", "Go to Derive", "Alt+2", "Show the Derive station.", lambda w, _: w.show_station("derive")),
    Action("station-look", "Go to Look", "Alt+3", "Show the Look station.", lambda w, _: w.show_station("look")),
    Action("station-trace", "Go to Trace", "Alt+4", "Show the Trace station.", lambda w, _: w.show_station("trace")),
    *(_adding(kind, tile) for kind in KINDS for tile in kind.tiles),
    Action("colour-by", "Colour the chosen card by a quantity", "", "Colour the chosen card.", lambda w, a: w.cards.colour_by(a), _has_card,
           listed=False),
    Action("toggle-lamp", "Show or hide the card", "", "Light or put out the chosen card's lamp.", lambda w, a: w.cards.toggle_lamp(a),
           _has_card),
    Action("show-alone", "Show the card alone", "", "Show the chosen card alone; again: all.",
           lambda w, a: w.cards.show_alone(a), _has_card),
    Action("rename", "Rename the card", "F2", "Type another name for the chosen card.", lambda w, _: w.cards.rename(), _has_card),
    Action("duplicate", "Duplicate the card", "Ctrl+D", "Add a copy of the chosen card.", lambda w, _: w.cards.duplicate(), _has_card),
    Action("remove", "Remove the card", "Del", "Remove the chosen card.", lambda w, _: w.cards.remove(), _has_card),
    Action("focus-card", "Go to the card", "", "Give the keyboard to a card.", lambda w, a: w.cards.focus_card(a), _has_card, listed=False),
    Action("slice-forward", "Move the slice forward", "]", "Move the chosen slice a step up its axis.",
           lambda w, _: w.cards.step(1.0), _can_step),
    Action("slice-back", "Move the slice back", "[", "Move the chosen slice a step down its axis.",
           lambda w, _: w.cards.step(-1.0), _can_step),
    Action("slice-forward-fine", "Move the slice forward finely", "Shift+]", "Move the chosen slice a tenth of a step up its axis.",
           lambda w, _: w.cards.step(0.1), _can_step),
    Action("slice-back-fine", "Move the slice back finely", "Shift+[", "Move the chosen slice a tenth of a step down its axis.",
           lambda w, _: w.cards.step(-0.1), _can_step),
    Action("outline", "Draw or hide the outline", "O", "Draw the sharp edges of the flow's outside.",
           lambda w, _: w.cards.toggle_outline(), _open_case),
    Action("frame", "Frame everything", "F", "Bring the whole flow into the picture.", lambda w, _: w.view.eye.frame_all(), _open_case),
    Action("frame-card", "Frame the card", "Shift+F", "Bring the chosen card into the picture.",
           lambda w, _: w.view.eye.frame_chosen(), _has_card),
    *(Action(f"look-{name}{axis}", f"Look from {sign}{axis}", "", f"Look at the flow from {sign}{axis}.",
             _looker(number, way), _open_case)
      for number, axis in enumerate("xyz") for name, sign, way in (("plus-", "+", 1), ("minus-", "−", -1))),
    Action("step-back", "One step back in time", ",", "Show the step before.",
           lambda w, _: w.document.go_to_step(-1, relative=True), _has_steps),
    Action("play", "Play or pause", ".", "Play through the steps of a time series.",
           lambda w, _: w.top.transport.toggle(), _has_steps),
    Action("step-on", "One step on in time", "/", "Show the next step.",
           lambda w, _: w.document.go_to_step(1, relative=True), _has_steps),
    Action("fold-bench", "Fold the bench", "F9", "Hide or show the bench.", lambda w, _: w.fold_bench()),
    Action("fold-ledger", "Fold the ledger", "F10", "Hide or show the ledger.", lambda w, _: w.ledger.fold()),
    Action("theme", "Change the theme", "F8", "Change between the chart and night themes.", lambda w, _: w.change_theme()),
    Action("again", "Compute again", "F5", "Compute what failed or was cancelled.",
           lambda w, _: w.document.asking.compute_again(), _open_case),
    Action("cancel", "Cancel the running work", "Esc", "Give up what is being computed.", lambda w, _: w.document.asking.cancel_work(),
           lambda w: w.document.jobs.is_busy()),
    Action("help", "Keys and commands", "F1", "List all commands and their keys.", lambda w, _: w.show_help()),
    Action("quit", "Quit", "Ctrl+Q", "Close the window.", lambda w, _: w.close()),
)
BY_ID = {a.id: a for a in ACTIONS}
