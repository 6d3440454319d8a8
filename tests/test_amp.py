"""The amp's circuits, through `yellow-ember process`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tones import RATE, Signal, decibels, process
from yellow_ember.dsp.amp_circuit import VOICE_BY_ID, ToneStack
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.speakers import SPEAKERS
from yellow_ember.dsp.stage import LOAD, Setup
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES

VOICES = tuple(VOICE_BY_ID)
OPEN: dict[str, Any] = {"bright": False, "sag_pct": 0.0}


def amp(folder: Path, signal: Signal, *options: str, **params: Any) -> Signal:
    return process(folder, signal, {"kind": "amp", "params": {**OPEN, **params}}, options=options)


def stack_by_nodes(stack: ToneStack, low: float, mid: float, high: float, hz: Signal) -> Signal:
    """Magnitude of the tone stack from its netlist alone, by admittances between its nodes.

    Nodes: 0 the treble control's top, 1 the slope resistor's end, 2 the treble control's bottom and
    the bass control's top, 3 the bass control's end and the middle control's top, 4 the middle
    control's slider, 5 the output at the treble control's slider.
    """
    tiny = 1e-3
    result = []
    for s in 2j * np.pi * hz:
        y, source = np.zeros((6, 6), complex), np.zeros(6, complex)

        def join(a: int, b: int | None, value: complex, y: Signal = y) -> None:
            y[a, a] += value
            if b is not None:
                y[b, b] += value
                y[a, b] -= value
                y[b, a] -= value

        def drive(a: int, value: complex, y: Signal = y, source: Signal = source) -> None:
            y[a, a] += value
            source[a] += value

        drive(0, s * stack.c1)
        drive(1, 1.0 / stack.slope)
        join(0, 5, 1.0 / max((1.0 - high) * stack.treble, tiny))
        join(5, 2, 1.0 / max(high * stack.treble, tiny))
        join(1, 2, s * stack.c2)
        join(2, 3, 1.0 / max(low * stack.bass, tiny))
        join(3, 4, 1.0 / max((1.0 - mid) * stack.middle, tiny))
        join(4, None, 1.0 / max(mid * stack.middle, tiny))
        join(1, 4, s * stack.c3)
        result.append(abs(np.linalg.solve(y, source)[5]))
    return np.array(result)


@pytest.mark.parametrize("voice", VOICES)
@pytest.mark.parametrize("settings", [(2.0, 5.0, 8.0), (9.0, 1.0, 3.0), (5.0, 10.0, 0.0), (0.0, 0.0, 10.0)])
def test_the_tone_stack_is_its_circuit(voice: str, settings: tuple[float, float, float], tmp_path: Path) -> None:
    """The change from all controls in their middle to others, against the netlist's, within 0.3 dB."""
    pulse = np.zeros((1, 2 * RATE))
    pulse[0, RATE // 2] = 1e-5
    result = []
    for low, mid, high in ((5.0, 5.0, 5.0), settings):
        out = amp(tmp_path, pulse, voice=voice, low=low, mid=mid, high=high, gain=6.0, master=7.0, out_db=12.0)
        result.append(np.abs(np.fft.rfft(out[0])))
    hz = np.array([50.0, 100.0, 200.0, 400.0, 800.0, 1500.0, 3000.0, 6000.0, 10000.0])
    change = decibels(result[1][(2 * hz).astype(int)] / result[0][(2 * hz).astype(int)])
    stack = VOICE_BY_ID[voice].tone
    expected = decibels(stack_by_nodes(stack, settings[0] / 10.0, settings[1] / 10.0, settings[2] / 10.0, hz)
                        / stack_by_nodes(stack, 0.5, 0.5, 0.5, hz))
    assert np.abs(change - expected).max() < 0.3


def worst_alias_db(signal: Signal, hz: float) -> float:
    """The strongest line below 20 kHz that is no harmonic, against the strongest that is."""
    part = signal[0, RATE // 2:RATE // 2 + RATE]
    power = np.abs(np.fft.rfft(part * np.kaiser(part.size, 20.0))) ** 2
    axis = np.fft.rfftfreq(part.size, 1.0 / RATE)
    audible = (axis > 30.0) & (axis < 20000.0)
    harmonic = np.abs(axis - np.round(axis / hz) * hz) < 30.0
    return float(10.0 * np.log10(power[audible & ~harmonic].max() / power[audible].max()))


@pytest.mark.parametrize("master", [5.0, 10.0])
@pytest.mark.parametrize("voice", VOICES)
def test_no_aliasing_above_70_db_at_full_gain(voice: str, master: float, tmp_path: Path) -> None:
    """1003 Hz, whose aliases fall between its harmonics."""
    tone = np.sin(2.0 * np.pi * 1003.0 * np.arange(2 * RATE) / RATE)[None, :]
    out = amp(tmp_path, tone, voice=voice, gain=10.0, master=master, high=7.0, presence=5.0, out_db=-24.0)
    assert worst_alias_db(out, 1003.0) < -70.0


def levels(signal: Signal, hz: int, count: int = 5) -> Signal:
    """Amplitudes of the first harmonics in the last half second, in dB."""
    part = signal[0, -RATE // 2:]
    spectrum = np.abs(np.fft.rfft(part * np.hanning(part.size)))
    return decibels(spectrum[[hz // 2 * k for k in range(1, count + 1) if hz * k < RATE // 2]] * 4.0 / part.size)


def tone(level_dbfs: float, hz: float = 220.0) -> Signal:
    return 10.0 ** (level_dbfs / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(RATE) / RATE)[None, :]


@pytest.mark.parametrize("voice", VOICES)
def test_gain_drives_the_preamp_and_master_the_power_valves(voice: str, tmp_path: Path) -> None:
    def third(level: float, **params: float) -> float:
        result = levels(amp(tmp_path, tone(level), voice=voice, out_db=-24.0, **params), 220)
        return float(result[2] - result[0])

    assert third(-18.0, gain=2.0, master=4.0) < -45.0
    assert third(-12.0, gain=9.0, master=4.0) > -30.0
    if voice in ("edge", "crunch"):
        assert third(-12.0, gain=6.0, master=10.0) > third(-12.0, gain=6.0, master=5.0) + 3.0


def test_an_amp_adds_even_and_odd_harmonics(tmp_path: Path) -> None:
    result = levels(amp(tmp_path, tone(-12.0), voice="crunch", gain=7.0), 220)
    assert result[1] - result[0] > -40.0
    assert result[2] - result[0] > -30.0


def test_bright_works_at_low_gain_and_not_at_full(tmp_path: Path) -> None:
    def tilt(bright: bool, gain: float) -> float:
        high, low = (levels(amp(tmp_path, tone(-60.0, hz), gain=gain, bright=bright, voice="crunch"), int(hz))[0]
                     for hz in (6000.0, 220.0))
        return float(high - low)

    assert tilt(True, 4.0) - tilt(False, 4.0) > 4.0
    assert abs(tilt(True, 10.0) - tilt(False, 10.0)) < 0.1


def test_presence_lifts_highs_of_the_power_stage(tmp_path: Path) -> None:
    def high(presence: float) -> float:
        return float(levels(amp(tmp_path, tone(-50.0, 5000.0), voice="lead", presence=presence), 5000)[0])

    assert high(10.0) - high(0.0) > 0.5


def test_sag_squeezes_what_follows_an_attack(tmp_path: Path) -> None:
    burst = tone(-6.0) * (np.arange(RATE) > 4800)

    def fall(sag: float) -> float:
        out = amp(tmp_path, burst, voice="crunch", gain=6.0, master=9.0, sag_pct=sag)
        early, delay = np.abs(out[0, 4900:6500]).max(), np.abs(out[0, 30000:40000]).max()
        return float(decibels(delay / early))

    assert fall(100.0) < fall(0.0) - 0.7


def test_blocking_a_loud_burst_leaves_the_next_quiet_note_thin_for_a_moment(tmp_path: Path) -> None:
    """Grid current charges the coupling capacitor, and it takes some hundredths of a second to come back."""
    signal = tone(-45.0, 440.0)
    signal[0, 4800:9600] += tone(0.0, 440.0)[0, 4800:9600]
    out = amp(tmp_path, signal, voice="lead", gain=8.0, master=5.0)
    just_after, later = (np.sqrt(np.mean(out[0, at:at + 960] ** 2)) for at in (9900, 40000))
    assert abs(decibels(just_after / later)) > 1.0


@pytest.mark.parametrize("voice", VOICES)
def test_high_notes_at_full_gain_alias_little(voice: str, tmp_path: Path) -> None:
    for hz, dbfs in ((9001.0, -1.0), (7507.0, -1.0), (997.0, -6.0)):
        signal = 10.0 ** (dbfs / 20.0) * np.sin(2.0 * np.pi * hz * np.arange(2 * RATE) / RATE)[None, :]
        out = amp(tmp_path, signal, voice=voice, gain=10.0, master=10.0, high=7.0, presence=5.0, out_db=-24.0)
        assert worst_alias_db(out, hz) < (-70.0 if hz < 2000.0 else -48.0), hz


def loaded_by(folder: Path, voice: str, presence: float, speaker: str, hz: Signal) -> Signal:
    """By how many dB a small signal is louder where the amp drives the cabinet than where it plays into it."""
    pulse = np.zeros((1, 2 * RATE))
    pulse[0, RATE // 2] = 1e-4
    head = {"kind": "amp", "params": {**OPEN, "voice": voice, "presence": presence}}
    box = {"kind": "cabinet", "params": {"speaker": speaker, "near_far": 0.0}}
    apart = process(folder, process(folder, pulse, head), box)
    together = process(folder, pulse, head, box)
    ratio = np.abs(np.fft.rfft(together[0])) / np.abs(np.fft.rfft(apart[0]))
    return decibels(ratio[np.round(2.0 * hz).astype(int)])


def test_a_cabinet_loads_the_amp_with_its_resonance_and_its_coil(tmp_path: Path) -> None:
    """Where the impedance rises, so does what comes out of the amp: more of it with less feedback."""
    resonance = next(each for each in SPEAKERS if each.id == "4x12-closed").resonance
    hz = np.array([resonance, 400.0, 8000.0])
    firm, loose = (loaded_by(tmp_path, voice, 0.0, "4x12-closed", hz) for voice in ("lead", "edge"))
    for low, middle, high in (firm, loose):
        assert low > middle + 1.0
        assert high > middle + 1.0
    assert loose[0] - loose[1] > firm[0] - firm[1] + 1.5
    present = loaded_by(tmp_path, "lead", 10.0, "4x12-closed", hz)
    assert present[2] > firm[2] + 2.0, "presence takes the feedback that holds the highs down"
    deep = loaded_by(tmp_path, "edge", 0.0, "bass-1x15", np.array([44.0, 95.0]))
    assert deep[0] > deep[1] + 1.0, "each speaker has its own resonance"


def test_an_impulse_response_and_a_cabinet_that_is_off_load_nothing(tmp_path: Path) -> None:
    signal = tone(-30.0)
    head = {"kind": "amp", "params": {**OPEN, "voice": "edge"}}
    off = {"kind": "cabinet", "on": False, "params": {"speaker": "4x12-closed"}}
    # A cabinet that is off still waits as long as one that is on.
    assert np.abs(process(tmp_path, signal, head, off) - process(tmp_path, signal, head)).max() < 1e-6


@pytest.mark.parametrize("voice", VOICES)
def test_silence_is_silent_at_once_and_again(voice: str, tmp_path: Path) -> None:
    signal = np.concatenate((np.zeros((1, RATE // 4)), tone(0.0), np.zeros((1, 2 * RATE))), axis=1)
    out = amp(tmp_path, signal, voice=voice, gain=10.0, master=10.0)
    assert np.abs(out[0, :RATE // 4 - 200]).max() < 1e-9
    assert decibels(np.abs(out[0, -RATE:]).max()) < -100.0


def test_an_amp_that_runs_feels_a_cabinet_that_is_put_behind_it() -> None:
    kinds = {kind.kind: kind for kind in STAGES}
    head, box = (StageSettings(id=name, kind=name, params=kinds[name].defaults()) for name in ("amp", "cabinet"))
    alone = Chain(Setup(48000.0, 1, 512, 4), [head])
    both = Chain(Setup(48000.0, 1, 512, 4), [head, box], alone)
    assert both.slots[0] is alone.slots[0]
    both.update([head, box])
    assert both.slots[0].settings.params[LOAD] == box.params["speaker"]
    both.update([head, replace(box, on=False)])
    assert LOAD not in both.slots[0].settings.params
