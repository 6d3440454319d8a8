"""Lanes: what moves along the session sounds the same however it is cut, wherever it begins, heard or printed."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from yellow_ember.cli import main
from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.lanes import GRID, Lane, Point, Shape, lane_record, position_at
from yellow_ember.dsp.parameters import Automation, Group, Number, Switch
from yellow_ember.dsp.stage_lanes import lane_at_frame
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES
from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.jobs.measuring import measure_strip
from yellow_ember.engine.jobs.printing import PrintOrder, print_session
from yellow_ember.engine.jobs.strip_prints import print_file, print_strip
from yellow_ember.engine.transport import Transport
from yellow_ember.files.conformed import conform_all
from yellow_ember.session.io.file_format import SessionFileError
from yellow_ember.session.io.session_file import read_session, write_session
from yellow_ember.session.values.drawn import can_be_drawn, with_macro_lanes
from yellow_ember.session.values.macros import Bend, Macro, Target
from yellow_ember.session.values.model import Loop, Quality, Session, new_stage, session_from_audio

RATE = 48000
CENTRE = np.sqrt(0.5)


def lane(parameter: str, *points: tuple[float, float] | tuple[float, float, Shape]) -> Lane:
    return Lane(parameter=parameter, points=tuple(Point(*point) for point in points))


@pytest.fixture
def tone(tmp_path: Path) -> Session:
    """Four seconds of a sine at 1 kHz and -12 dBFS on one track."""
    soundfile.write(tmp_path / "tone.wav", 0.25 * np.sin(2.0 * np.pi * 1000.0 * np.arange(4 * RATE) / RATE), RATE,
                    subtype="FLOAT")
    session = session_from_audio([tmp_path / "tone.wav"], RATE).with_(ceiling_dbfs=0.0)
    conform_all(session.files, RATE)
    return session


def on_track(session: Session, *stages: StageSettings, lanes: tuple[Lane, ...] = ()) -> Session:
    return session.with_strip(session.strips[0].with_(chain=stages, lanes=lanes))


def moved(kind: str, *lanes: Lane, **params: float | bool) -> StageSettings:
    stage = new_stage(kind)
    return replace(stage, lanes=lanes, params={**stage.params, **params})


def heard(session: Session, frames: int, block: int = 512, start: int = 0, oversample: int = 2,
          graph: Graph | None = None) -> Samples:
    """What comes out of the master from a frame on, the latency taken off: (2, frames)."""
    graph = graph or Graph(session, GraphSettings(oversample, block))
    total = frames + graph.latency
    out = np.concatenate([graph.process([(at, block)], block).copy() for at in range(start, start + total, block)],
                         axis=1)
    return out[:, graph.latency:graph.latency + frames]


def decibels(ratio: float) -> float:
    return 20.0 * np.log10(max(ratio, 1e-15))


# -- the lane as such -----------------------------------------------------------------------

DB = Number(id="x", label="X", group=Group.OUTPUT, help="", unit="dB", minimum=-60.0, maximum=12.0, default=0.0)


@settings(deadline=None)
@given(st.lists(st.tuples(st.floats(0.0, 20.0), st.floats(-60.0, 12.0), st.sampled_from(list(Shape))), min_size=1,
                max_size=12), st.floats(-1.0, 25.0))
def test_compiled_and_shown_agree(points: list[tuple[float, float, Shape]], seconds: float) -> None:
    drawn = lane("x", *sorted(points, key=lambda point: point[0]))
    record = lane_record(drawn, DB, RATE, glides=False)
    frame = seconds * RATE
    near = {point[0] for point in points}
    if all(abs(seconds - at) > 1e-6 for at in near):
        assert lane_at_frame(record, frame) == pytest.approx(position_at(drawn, DB, seconds), abs=1e-6)


def test_a_step_of_what_glides_takes_a_moment() -> None:
    record = lane_record(lane("x", (1.0, -60.0, Shape.HOLD), (2.0, 12.0)), DB, RATE, glides=True)
    assert lane_at_frame(record, 2.0 * RATE) == 0.0
    assert lane_at_frame(record, 2.0 * RATE + 360) == pytest.approx(0.5)
    assert lane_at_frame(record, 2.0 * RATE + 720) == 1.0


# -- sound ----------------------------------------------------------------------------------


def pitch(part: Samples) -> float:
    """Hertz of a tone, from its first to its last rising crossing."""
    at = np.flatnonzero((part[:-1] < 0.0) & (part[1:] >= 0.0))
    exact = at - part[at] / (part[at + 1] - part[at])
    return float(RATE * (exact.size - 1) / (exact[-1] - exact[0]))


@pytest.mark.parametrize("low", [30.0, 70.0, 95.0])
def test_a_slowing_motor_bends_the_pitch_and_comes_back_in_step(tone: Session, low: float) -> None:
    slowed = lane("motor_pct", (0.5, 100.0), (1.0, low), (2.0, low), (2.4, 100.0))
    plain = heard(on_track(tone, moved("tape")), 4 * RATE)[0]
    bent = heard(on_track(tone, moved("tape", slowed, slows=True)), 4 * RATE)[0]
    assert pitch(bent[round(1.4 * RATE):round(1.9 * RATE)]) == pytest.approx(10.0 * low, rel=0.002)
    for before_or_after in (slice(RATE // 4, round(0.45 * RATE)), slice(3 * RATE, 4 * RATE - 1000)):
        difference = bent[before_or_after] - plain[before_or_after]
        assert decibels(float(np.abs(difference).max())) < -90.0


def test_a_motor_that_stops_falls_silent(tone: Session) -> None:
    out = heard(on_track(tone, moved("tape", lane("motor_pct", (0.5, 100.0), (1.2, 0.0)), slows=True)), 4 * RATE)[0]
    assert np.abs(out[2 * RATE:3 * RATE]).max() < 1e-4
    assert pitch(out[round(0.84 * RATE):round(0.86 * RATE)]) == pytest.approx(570.0, rel=0.06)


def test_a_gain_follows_its_lane(tone: Session) -> None:
    session = on_track(tone, moved("trim", lane(
        "gain_db", (0.5, 0.0), (1.5, -20.0), (2.5, 6.0, Shape.HOLD), (3.0, -6.0))))
    out = heard(session, round(3.5 * RATE))[0]

    def level(seconds: float) -> float:
        part = out[round(seconds * RATE) - 480:round(seconds * RATE) + 480]
        return decibels(float(np.sqrt(2.0) * part.std()) / (0.25 * CENTRE))

    for seconds, expected in ((0.3, 0.0), (1.0, -10.0), (1.25, -15.0), (2.0, -7.0), (2.7, 6.0), (3.2, -6.0)):
        assert level(seconds) == pytest.approx(expected, abs=0.1), seconds


KINDS = [kind for kind in STAGES if any(can_be_drawn(new_stage(kind.kind), parameter) for parameter in kind.parameters)]


def sweep(kind: str, automation: Automation) -> Lane | None:
    """A lane over the first number of a kind that moves so, from a third to two thirds of its range."""
    stage = new_stage(kind)
    for parameter in stage.declaration.parameters:
        if (isinstance(parameter, Number) and parameter.automation is automation and not parameter.whole
                and can_be_drawn(stage, parameter)):
            return lane(parameter.id, (0.3, parameter.at(0.33)), (1.2, parameter.at(0.67)), (1.6, parameter.at(0.4)))
    return None


@pytest.mark.parametrize("automation", list(Automation))
@pytest.mark.parametrize("kind", ["tape", "drive", "bands", "eq", "comp", "bits", "trim", "texture", "limit", "tame"])
def test_the_same_however_it_is_cut_and_wherever_it_begins(kind: str, automation: Automation, tone: Session) -> None:
    drawn = sweep(kind, automation)
    if drawn is None:
        pytest.skip("nothing of it moves so")
    session = on_track(tone, moved(kind, drawn))
    whole = heard(session, 2 * RATE)
    still = heard(on_track(tone, moved(kind)), 2 * RATE)
    if np.abs(whole - still).max() < 1e-5:
        pytest.skip("it changes nothing here")
    assert decibels(np.abs(heard(session, 2 * RATE, 333) - whole).max()) < -120.0
    assert decibels(np.abs(heard(session, 2 * RATE, 64) - whole).max()) < -120.0
    late = heard(session, RATE, 256, start=RATE)
    settled = RATE // 2
    assert decibels(np.abs(late[:, settled:] - whole[:, RATE + settled:]).max()) < -120.0


@pytest.mark.parametrize(("name", "points"), [
    ("on", ((0.0, 0.0, Shape.HOLD), (0.5, 0.0), (0.52, 1.0), (1.2, 1.0), (1.4, 0.0))),
    ("mix_pct", ((0.2, 0.0), (1.0, 100.0))), ("wet_db", ((0.2, -40.0), (1.0, 0.0))),
    ("dry_db", ((0.2, -40.0), (1.0, 0.0)))])
def test_what_every_stage_has_moves_too(name: str, points: tuple[tuple[float, float]], tone: Session) -> None:
    session = on_track(tone, moved("drive", lane(name, *points), drive_db=18.0))
    whole = heard(session, 2 * RATE)
    assert decibels(np.abs(heard(session, 2 * RATE, 100) - whole).max()) < -120.0
    assert decibels(np.abs(heard(session, RATE, 256, start=RATE) - whole[:, RATE:])[:, 9600:].max()) < -120.0


def test_off_in_a_lane_is_the_sound_as_it_came(tone: Session) -> None:
    only = lane("on", (0.0, 0.0, Shape.HOLD), (1.0, 0.0), (1.02, 1.0), (2.0, 1.0), (2.02, 0.0))
    out = heard(on_track(tone, moved("drive", only, drive_db=24.0)), 3 * RATE)
    dry, wet = heard(on_track(tone), 3 * RATE), heard(on_track(tone, moved("drive", drive_db=24.0)), 3 * RATE)
    assert np.abs(out[:, :RATE - GRID] - dry[:, :RATE - GRID]).max() < 1e-12
    kept = slice(RATE + 9600, 2 * RATE - GRID)
    assert np.abs(out[:, kept] - wet[:, kept]).max() < 1e-9
    assert np.abs(out[:, 2 * RATE + 2000:] - dry[:, 2 * RATE + 2000:]).max() < 1e-12


def test_several_lanes_of_one_stage(tone: Session) -> None:
    stage = moved("drive", lane("drive_db", (0.2, 0.0), (1.5, 20.0)), lane("out_db", (0.2, 0.0), (1.5, -12.0)),
                  lane("tone_hz", (0.4, 2000.0), (1.2, 12000.0)))
    session = on_track(tone, stage)
    whole = heard(session, 2 * RATE)
    assert decibels(np.abs(heard(session, 2 * RATE, 111) - whole).max()) < -120.0
    end = heard(on_track(tone, moved("drive", drive_db=20.0, out_db=-12.0, tone_hz=12000.0)), 2 * RATE)
    assert np.abs(whole[:, 90000:] - end[:, 90000:]).max() < 1e-4


def test_a_strips_volume_pan_mute_and_bypass(tone: Session) -> None:
    session = on_track(tone, moved("trim", gain_db=-6.0), lanes=(
        lane("volume_db", (0.5, 0.0), (1.0, -20.0)), lane("pan", (0.0, -100.0), (0.4, -100.0), (0.5, 100.0)),
        lane("bypass", (1.4, 0.0, Shape.HOLD), (1.5, 1.0)), lane("mute", (1.9, 0.0, Shape.HOLD), (2.0, 1.0))))
    out = heard(session, round(2.5 * RATE))

    def level(side: int, seconds: float) -> float:
        return decibels(float(np.abs(out[side, round(seconds * RATE):round(seconds * RATE) + 480]).max()) / 0.25)

    assert (level(0, 0.2), level(1, 0.2)) == (pytest.approx(-6.0, abs=0.05), pytest.approx(-300.0, abs=10.0))
    assert level(1, 0.5) == pytest.approx(-6.0, abs=0.5)
    assert level(1, 1.2) == pytest.approx(-26.0, abs=0.05)
    assert level(1, 1.6) == pytest.approx(-20.0, abs=0.05)
    assert level(1, 2.1) < -200.0
    assert decibels(np.abs(heard(session, round(2.5 * RATE), 77) - out).max()) < -250.0


def test_at_the_loops_end_a_stage_is_still_where_its_sound_is_from(tone: Session) -> None:
    """A drive in the looped stretch alone stays on while what comes from its end leaves the stages before it."""
    only = lane("on", (0.0, 0.0, Shape.HOLD), (0.5, 1.0, Shape.HOLD), (1.0, 0.0))
    session = on_track(tone, new_stage("tape"), moved("drive", only, drive_db=30.0)).with_(
        loop=Loop(RATE // 2 + 960, RATE))
    graph = Graph(session, GraphSettings(2, 512))
    transport = Transport()
    transport.go(RATE // 2 + 960)
    outs = [graph.process(transport.advance(512, session.loop), 512).copy() for _ in range(2 * RATE // 512)]
    out = np.concatenate(outs, axis=1)[0, 9600:]
    levels = np.sqrt(np.square(out[:out.size // 480 * 480]).reshape(-1, 480).mean(axis=1))
    # Off it would be heard at a level of its own; the loop's seams are one frame of a steady tone apart.
    assert decibels(levels.min() / np.median(levels)) > -1.0


def test_a_macros_lane_moves_what_it_moves(tone: Session) -> None:
    stage = new_stage("drive")
    macro = Macro("m", "Push", 0.0, (Target(stage.id, "drive_db", 0.0, 24.0), Target(stage.id, "out_db", 0.0, -12.0,
                                                                                     Bend.LATE)))
    session = on_track(tone, stage, lanes=(lane("m", (0.5, 0.0), (1.5, 100.0)),))
    session = session.with_strip(session.strips[0].with_(macros=(macro,)))
    lanes = {drawn.parameter: drawn for drawn in with_macro_lanes(session).strips[0].chain[0].lanes}
    numbers = {name: stage.declaration.number(name) for name in lanes}
    for percent in (0.0, 30.0, 50.0, 75.0, 100.0):
        for target in macro.targets:
            number = numbers[target.parameter]
            value = number.at(position_at(lanes[target.parameter], number, 0.5 + percent / 100.0))
            assert value == pytest.approx(target.value(number, percent), abs=0.15)
    assert np.abs(heard(session, 2 * RATE)[:, 80000:] - heard(on_track(tone, replace(
        stage, params={**stage.params, "drive_db": 24.0, "out_db": -12.0})), 2 * RATE)[:, 80000:]).max() < 1e-4


@pytest.mark.parametrize("automation", list(Automation))
@pytest.mark.parametrize("kind", [kind.kind for kind in KINDS if kind.kind not in ("vinyl", "wear")])
def test_no_click(kind: str, automation: Automation, tone: Session) -> None:
    """design/sound: no 5 ms window above 8 kHz rises more than 12 dB over its neighbours, here in a second's sweep."""
    stage = new_stage(kind)
    number = next((parameter for parameter in stage.declaration.parameters
                   if isinstance(parameter, Number) and parameter.automation is automation and not parameter.whole
                   and can_be_drawn(stage, parameter)), None)
    if number is None:
        pytest.skip("nothing of it moves so")
    drawn = lane(number.id, (1.0, number.minimum), (2.0, number.maximum))
    # The tone's own beginning is no click, and neither is its echo.
    track = tone.strips[0]
    faded = tone.with_strip(track.with_(regions=(replace(track.regions[0], fade_in=0.1),)))
    out = heard(on_track(faded, moved(kind, drawn)), 3 * RATE, oversample=4)[0, RATE // 2:]
    spectrum = np.fft.rfft(out)
    spectrum[:round(8000.0 * out.size / RATE)] = 0.0
    high = np.fft.irfft(spectrum)
    power = np.square(high[:high.size // 240 * 240]).reshape(-1, 240).mean(axis=1)[4:-4] + 1e-10
    around = np.maximum(np.maximum(power[:-4], power[4:]), np.maximum(power[1:-3], power[3:-1]))
    assert decibels(float(np.sqrt((power[2:-2] / around).max()))) < 12.0, number.id


def test_switches_and_lanes_that_are_off(tone: Session) -> None:
    switch = next(parameter for parameter in new_stage("trim").declaration.parameters if isinstance(parameter, Switch))
    session = on_track(tone, moved("trim", lane(switch.id, (0.0, 0.0, Shape.HOLD), (1.0, 1.0))))
    out = heard(session, 2 * RATE)
    plain = heard(on_track(tone, moved("trim")), 2 * RATE)
    assert np.abs(out[:, :RATE - GRID] - plain[:, :RATE - GRID]).max() < 1e-12
    assert np.abs(out[:, RATE + 4800:] + plain[:, RATE + 4800:]).max() < 1e-9
    off = replace(lane("gain_db", (0.0, -40.0)), on=False)
    assert np.array_equal(heard(on_track(tone, moved("trim", off)), RATE), plain[:, :RATE])


def test_a_value_changed_under_a_lane_leaves_it_in_charge(tone: Session) -> None:
    """Another control of the stage is turned while a lane moves the first: nothing jumps, both are obeyed."""
    stage = moved("drive", lane("drive_db", (0.0, 6.0), (4.0, 18.0)))
    before = on_track(tone, stage)
    after = on_track(tone, replace(stage, params={**stage.params, "out_db": -6.0}))
    graph = Graph(before, GraphSettings(2, 512))
    parts = []
    for number in range(3 * RATE // 512):
        if number == 100:
            graph.update(after)
        parts.append(graph.process([(number * 512, 512)], 512).copy())
    out = np.concatenate(parts, axis=1)[:, graph.latency:]
    assert np.abs(out[:, :50000] - heard(before, 2 * RATE)[:, :50000]).max() < 1e-9
    assert np.abs(out[:, 60000:90000] - heard(after, 2 * RATE)[:, 60000:90000]).max() < 1e-6


# -- files ----------------------------------------------------------------------------------


def test_lanes_are_saved_and_refused(tone: Session, tmp_path: Path) -> None:
    session = on_track(tone, moved("drive", lane("drive_db", (0.5, 1.0), (1.0, 3.0, Shape.CURVE), (4.0, 2.5))),
                       lanes=(lane("pan", (0.0, -20.0)),))
    path, bad = tmp_path / "s.ember", tmp_path / "bad.ember"
    write_session(session, path)
    assert read_session(path) == session
    words = path.read_text()
    for old, new, place in (
            ('"value": 3.0', '"value": NaN', r"points\[1\]|NaN"),
            ('"value": 3.0', '"value": 400.0', r"points\[1\].value"),
            ('"seconds": 4.0', '"seconds": 0.75', r"chain\[0\].lanes\[0\].points\[2\].seconds: must not lie before"),
            ('"parameter": "drive_db"', '"parameter": "shape"', r"lanes\[0\].parameter"),
            ('"parameter": "drive_db"', '"parameter": "warmth"', r"lanes\[0\].parameter: there is no 'warmth'"),
            ('"parameter": "pan"', '"parameter": "solo"', r"strips\[0\].lanes\[0\].parameter"),
            ('"shape": "curve"', '"shape": "zigzag"', r"points\[1\].shape")):
        assert old in words
        bad.write_text(words.replace(old, new, 1))
        with pytest.raises(SessionFileError, match=place):
            read_session(bad)
    many = ", ".join(f'{{"seconds": {at}.0, "value": 0.0}}' for at in range(10_001))
    start = words.index('"points": [', words.index('"parameter": "pan"'))
    bad.write_text(words[:start] + f'"points": [{many}]' + words[words.index("]", start) + 1:])
    with pytest.raises(SessionFileError, match=r"lanes\[0\].points"):
        read_session(bad)


# -- printed, frozen, through the command line ------------------------------------------------


def test_printed_frozen_and_rendered_obey_lanes(tone: Session, tmp_path: Path) -> None:
    session = on_track(tone, moved("drive", lane("drive_db", (0.5, 0.0), (2.5, 20.0))),
                       lanes=(lane("volume_db", (1.0, 0.0), (2.0, -12.0)),))
    session = session.with_(quality=Quality(live=4, printing=4))
    wanted = heard(session, 3 * RATE, oversample=4)
    printed = print_session(lambda _share: None, session, PrintOrder(tmp_path, end=3 * RATE))
    assert decibels(np.abs(soundfile.read(printed.files[0])[0].T - wanted).max()) < -120.0
    write_session(session, tmp_path / "s.ember")
    assert main(["render", str(tmp_path / "s.ember"), "--out", str(tmp_path / "out")]) == 0
    rendered = soundfile.read(next((tmp_path / "out").glob("*.wav")))[0].T[:, :3 * RATE]
    assert decibels(np.abs(rendered - wanted).max()) < -120.0
    track = session.strips[0]
    frozen = print_strip(lambda _share: None, session, track.id, 4 * RATE, 2**30)
    graph = Graph(session, GraphSettings(4, 512))
    graph.nodes[track.id].use_print(frozen, at_once=True)
    played = heard(session, 3 * RATE, graph=graph)
    assert decibels(np.abs(played[:, 4800:] - wanted[:, 4800:]).max()) < -120.0
    # Another lane is another print.
    other = on_track(session, moved("drive", lane("drive_db", (0.5, 0.0), (2.5, 10.0))))
    assert print_file(other, track.id, 4 * RATE) != print_file(session, track.id, 4 * RATE)


def test_measured_over_the_loop_with_its_lanes(tone: Session) -> None:
    session = on_track(tone, moved("trim", lane("gain_db", (0.0, 0.0, Shape.HOLD), (2.0, -12.0))))
    loud, quiet = (measure_strip(lambda _share: None, session.with_(loop=Loop(start, start + RATE)),
                                 session.strips[0].id) for start in (RATE // 2, 5 * RATE // 2))
    assert loud.offset_db == pytest.approx(0.0, abs=0.1)
    assert quiet.offset_db == pytest.approx(12.0, abs=0.1)
