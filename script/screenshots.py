#!/usr/bin/env python3
"""Draw the main views with the demo session into docs/screenshots.

Usage: screenshots.py [FOLDER]      (needs no display)
"""

import os
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for variable in ("XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
    os.environ[variable] = tempfile.mkdtemp()

from PyQt6.QtWidgets import QApplication

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.background import PrintState
from yellow_ember.app.state.controllers import Assignment
from yellow_ember.app.state.settings import Settings
from yellow_ember.app.tools.balance_field import BalanceField
from yellow_ember.app.tools.controllers_tool import ControllersTool
from yellow_ember.app.tools.dialogs import SettingsDialog
from yellow_ember.app.tools.line_up import LineUpTool
from yellow_ember.app.tools.meters import MetersTool
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.app.tools.reference_tool import ReferenceTool
from yellow_ember.app.tools.spread import Spread
from yellow_ember.app.tools.variation_sheet import VariationSheet
from yellow_ember.app.widgets import theme
from yellow_ember.app.workspace import Workspace
from yellow_ember.dsp.lanes import Lane, Point, Shape
from yellow_ember.engine.forking import start_server
from yellow_ember.engine.jobs.wave_sums import COLUMN_FRAMES
from yellow_ember.session.edits.edits import add_bus, add_stage, edit_strip, set_parameter, set_send, use_chain
from yellow_ember.session.edits.lane_edits import only_in, put_lane
from yellow_ember.session.edits.link_edits import link_strips
from yellow_ember.session.edits.time_edits import edit_passage
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.values.model import Loop, Send, new_stage
from yellow_ember.shipped import DEMO, FOUND_REEL


def wait(application: QApplication, until, limit: float = 60.0) -> None:
    end = time.monotonic() + limit
    while not until() and time.monotonic() < end:
        application.processEvents()
        time.sleep(0.01)


def seconds(application: QApplication, length: float) -> None:
    end = time.monotonic() + length
    wait(application, lambda: time.monotonic() > end)


def use_preset(window: MainWindow, name: str) -> None:
    """A preset on the chosen strip."""
    workspace, preset = window.workspace, find_preset(name)
    workspace.sessions.document.commit(name, lambda _: use_chain(
        workspace.sessions.session, workspace.selection.strip_id, preset.stages, preset.macros))


def line_up(application: QApplication, window: MainWindow, stage_id: str, keep) -> None:
    """The line-up bench, after another stock came on a machine that stays as it was."""
    workspace = window.workspace
    for name, value in (("line_up", "manual"), ("channel_spread_pct", 150.0), ("stock", "beacon")):
        workspace.sessions.document.commit(name, lambda _: set_parameter(workspace.sessions.session, "rhythm",
                                                                         stage_id, name, value))
    bench = workspace.tools.open(LineUpTool, "rhythm", stage_id)
    bench.bars["source"].ask("oscillator", commit=True)
    bench.bars["tone"].ask("10000", commit=True)
    seconds(application, 1.0)
    bench.start_alignment()
    wait(application, lambda: bench.log.count() == 6)
    keep("line-up")
    wait(application, lambda: bench._steps is None)
    bench.close()


def browser(application: QApplication, window: MainWindow, keep) -> None:
    """Presets tried on the voice."""
    window.workspace.selection.select("ships-announcer")
    result = window.workspace.tools.open(PresetBrowser)
    result.source.setCurrentText("voice")
    result.table.choose(3)
    wait(application, lambda: result.heard is not None)
    seconds(application, 0.5)
    keep("presets")
    result.go_back()


def benches(application: QApplication, window: MainWindow, settled, keep) -> None:
    """The drive family, each on a strip that it suits."""
    workspace = window.workspace

    def show(name: str, strip: str, preset: str, stage: str) -> None:
        workspace.selection.select(strip)
        use_preset(window, preset)
        workspace.selection.select(strip, next(entry.id for entry in workspace.selection.strip.chain if entry.kind
                                               == stage))
        wait(application, settled)
        seconds(application, 2.5)
        keep(name)

    show("amp-on-the-guitar", "plucked-guitar", "Direct guitar, miked near", "amp")
    show("cabinet-on-the-guitar", "plucked-guitar", "Direct guitar, miked far", "cabinet")
    show("bands-on-the-bass", "upright-bass", "Weight with clean lows", "bands")
    show("record", "harmonium", "Dusty loop", "vinyl")
    for strip in ("plucked-guitar", "upright-bass", "brushed-drums", "harmonium"):
        workspace.sessions.document.commit("Empty", lambda _: use_chain(workspace.sessions.session, strip, ()))


def balance(application: QApplication, window: MainWindow, settled, keep) -> None:
    """A drive on the bass as a field and as a sheet, four strips on one axis, and the meters."""
    workspace = window.workspace
    for strip, preset in (("brushed-drums", "Snare in the hold"), ("harmonium", "Warm reeds"),
                          ("plucked-guitar", "Two diodes"), ("upright-bass", "Keel weight")):
        workspace.selection.choose_only(strip)
        use_preset(window, preset)
    wait(application, settled)
    window.balance.snapshots.take(0)
    window.bench.open_field()
    field = window.findChild(BalanceField)
    wait(application, lambda: field.rounds == 3)
    keep("balance-field")
    field.close()
    window.bench.open_variations()
    sheet = window.findChild(VariationSheet)
    wait(application, lambda: not workspace.jobs.is_running_several(sheet))
    sheet.hear(sheet.tiles[8])
    seconds(application, 0.3)
    keep("variations")
    sheet.go_back()
    spread = workspace.tools.open(Spread)
    wait(application, lambda: len(spread.picture.lines) >= 4)
    keep("spread")
    spread.close()
    meters = workspace.tools.open(MetersTool)
    meters.wants_zone.click()
    workspace.playback.toggle_play()
    seconds(application, 6.0)
    keep("meters")
    meters.close()
    workspace.playback.toggle_play()
    for strip in ("brushed-drums", "harmonium", "plucked-guitar", "upright-bass"):
        workspace.sessions.document.commit("Empty", lambda _: use_chain(workspace.sessions.session, strip, ()))


def desk(application: QApplication, keep) -> None:
    """Sends, a link and prints on the desk, in the light look, which a window takes on when it is made."""
    theme.apply(application, "light")
    workspace = Workspace(Settings())
    window = MainWindow(workspace)
    window.show()
    workspace.start()
    workspace.sessions.open_path(DEMO)
    wait(application, lambda: workspace.playback.engine is not None and not workspace.imports.busy)
    for strip, preset in (("brushed-drums", "Deckhand drums"), ("upright-bass", "Keel weight"),
                          ("harmonium", "Dusty loop")):
        workspace.selection.choose_only(strip)
        use_preset(window, preset)
    session = add_bus(workspace.sessions.session, "Echo")
    bus = next(strip.id for strip in session.strips if strip.name == "Echo")
    session = add_stage(session, bus, new_stage("echo"))
    for strip, level in (("plucked-guitar", -9.0), ("ships-announcer", -14.0)):
        session = set_send(session, strip, Send(to=bus, level_db=level))
    workspace.sessions.document.commit("Desk", lambda _: link_strips(session, ("brushed-drums", "upright-bass")))
    workspace.selection.choose_only("plucked-guitar")
    use_preset(window, "Two diodes")
    workspace.playback.toggle_play()
    wait(application, lambda: all(workspace.prints.state(strip) is PrintState.PRINTED
                                  for strip in ("brushed-drums", "upright-bass", "harmonium")))
    seconds(application, 1.5)
    keep("desk-in-the-light", window)
    workspace.close()


def time_line(application: QApplication, keep) -> None:
    """A drive in the bridge alone, with lanes; and five minutes of all strips, zoomed in on eight bars."""
    workspace = Workspace(Settings())
    window = MainWindow(workspace)
    window.show()
    workspace.start()
    workspace.sessions.open_path(DEMO)
    commit, bass = workspace.sessions.document.commit, "upright-bass"
    workspace.selection.select(bass)
    stage = workspace.selection.strip.chain[0].id
    bridge = replace(next(passage for passage in workspace.sessions.session.passages if passage.name == "Bridge"),
                     fade_in=0.6, fade_out=1.2)
    commit("Bridge", lambda session: edit_passage(session.with_(loop=Loop(
        round(bridge.start * session.rate), round(bridge.end * session.rate))), bridge))
    commit("Only in", lambda session: only_in(session, bass, stage, bridge))
    drive = Lane(parameter="drive_db", points=(
        Point(0.0, 8.0), Point(20.0, 8.0, Shape.CURVE), Point(27.5, 22.0, Shape.HOLD), Point(30.0, 10.0)))
    volume = Lane(parameter="volume_db", points=(Point(18.0, -5.5), Point(24.0, -2.0), Point(30.0, -5.5)))
    commit("Drive", lambda session: put_lane(session, bass, stage, drive))
    commit("Volume", lambda session: put_lane(session, bass, "", volume))
    window._splitters["down"].setSizes([440, 260])
    wait(application, lambda: workspace.measurer.fresh(bass) and not workspace.matcher.busy)
    workspace.playback.locate(24 * 48000)
    workspace.playback.toggle_play()
    seconds(application, 4.0)
    keep("lanes-and-passages", window)
    workspace.playback.toggle_play()
    wait(application, lambda: not workspace.playback.state.playing)
    workspace.selection.select("ships-announcer")
    again = 40.0
    commit("Five minutes", lambda session: session.with_(loop=Loop(155 * 48000, 165 * 48000), strips=tuple(
        strip.with_(regions=tuple(replace(region, id=f"{region.id}-{turn}", start=turn * again)
                                  for turn in range(8) for region in strip.regions)) for strip in session.strips)))
    window.timeline.all_strips.click()
    workspace.time_view.show_stretch(150 * 48000, 170 * 48000)
    workspace.playback.locate(158 * 48000)
    workspace.playback.toggle_play()
    wait(application, lambda: (sum_of := workspace.session_waves.wave("master")) is not None
         and len(sum_of.after) * COLUMN_FRAMES > 300 * 48000)
    seconds(application, 2.0)
    keep("five-minutes-zoomed-in", window)
    workspace.close()


def guitar_comes_in(application: QApplication, keep) -> None:
    """A guitar played through an amp, armed, with the map of controllers."""
    workspace = Workspace(Settings(feed=str(DEMO.with_name("plucked-guitar.flac")), block=128))
    window = MainWindow(workspace)
    window.show()
    workspace.start()
    workspace.sessions.open_path(DEMO)
    workspace.selection.select("band")
    workspace.commands.find("Insert an input track").action.trigger()
    workspace.sessions.document.commit("Name", lambda session: edit_strip(
        session, workspace.selection.strip_id, lambda strip: strip.with_(name="Guest guitar")))
    use_preset(window, "Crunch in the saloon")
    workspace.recording.arm_chosen()
    for number, target in enumerate(("strip volume_db", "stage amp gain", "macro 1", "command Record")):
        workspace.controllers.keep(Assignment(f"cc 1 {20 + number}", target))
    workspace.tools.open(ControllersTool)
    wait(application, lambda: workspace.playback.state.live_latency is not None)
    seconds(application, 3.0)
    keep("guitar-comes-in", window)
    workspace.close()


def worn_tape(application: QApplication, window: MainWindow, settled, keep) -> None:
    """A track with damage at places of its own."""
    workspace = window.workspace
    workspace.selection.select("harmonium")
    workspace.sessions.document.commit("Empty", lambda _: use_chain(workspace.sessions.session, "harmonium", ()))
    window.path_view.add("wear")
    stage = workspace.selection.strip.chain[0]
    for name, value in (("drop_mode", "random"), ("crease_pct", 40.0), ("drop_note", "1/16"),
                        ("drop_steps", (None,) * 6 + (0.8, 0.6, 0.3) + (None,) * 11 + (0.0, 1.0))):
        workspace.sessions.document.commit(name, lambda _: set_parameter(workspace.sessions.session, "harmonium",
                                                                         stage.id, name, value))
    wait(application, settled)
    seconds(application, 2.5)
    keep("worn-tape-on-the-harmonium")


def dialogs(application: QApplication, window: MainWindow, keep) -> None:
    """What the program is told, and what a strip is to sound like."""
    settings = window.workspace.give(SettingsDialog, window)
    settings.show()
    seconds(application, 0.3)
    keep("settings", settings)
    settings.reject()
    window.workspace.selection.select("harmonium")
    reference = window.workspace.tools.open(ReferenceTool)
    reference.use_file(FOUND_REEL)
    wait(application, lambda: not window.workspace.jobs.is_running(reference), 120.0)
    reference.hear(reference.tiles[0])
    seconds(application, 3.0)
    keep("reference")
    window.work_area.close_all()


def main() -> None:
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else "docs/screenshots")
    folder.mkdir(parents=True, exist_ok=True)
    start_server()
    application = QApplication(sys.argv[:1])
    theme.apply(application)
    workspace = Workspace(Settings())
    window = MainWindow(workspace)
    window.show()
    workspace.start()
    workspace.sessions.open_path(DEMO)

    def keep(name: str, widget=window) -> None:
        widget.grab().save(str(folder / f"{name}.png"))

    def settled() -> bool:
        measurer = workspace.measurer
        fresh = measurer.fresh(workspace.selection.strip_id) and not measurer.busy
        return workspace.playback.engine is not None and fresh

    wait(application, settled)
    workspace.playback.toggle_play()
    # The other strips are measured and printed while one listens.
    wait(application, lambda: window.workspace.dissector.of("rhythm") is not None)
    seconds(application, 12.0)
    keep("tape-on-the-rhythm-bus")
    window.card.close_for_good()
    window.resize(1024, 700)
    seconds(application, 0.5)
    keep("tape-at-1024x700")
    window.resize(1280, 800)
    line_up(application, window, workspace.selection.strip.chain[0].id, keep)
    worn_tape(application, window, settled, keep)
    browser(application, window, keep)
    benches(application, window, settled, keep)
    workspace.playback.toggle_play()
    dialogs(application, window, keep)
    balance(application, window, settled, keep)
    workspace.close()
    time_line(application, keep)
    guitar_comes_in(application, keep)
    desk(application, keep)


if __name__ == "__main__":
    main()
