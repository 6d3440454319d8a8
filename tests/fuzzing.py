"""Every stage with settings, signals, rates and blocks that nobody chose: what must hold for all of them.

A case follows from a seed and a number, so what failed can be run again alone:
`script/fuzz --seed S --case N`.
"""

from __future__ import annotations

import argparse
import itertools
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.signal import butter, sosfilt

from yellow_ember.dsp.arrays import Samples, gain
from yellow_ember.dsp.chain import Chain
from yellow_ember.dsp.parameters import Edges, Group, Impulse, Number, Option, Parameter, Steps, Switch, Value, Values
from yellow_ember.dsp.stage import Setup, StageKind
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES

RATES = (22050.0, 32000.0, 44100.0, 48000.0, 88200.0, 96000.0, 176400.0, 192000.0)
BLOCKS = (1, 7, 64, 480, 2048)
FACTORS = (1, 2, 4, 8)
_FRAMES = 6000
_CLICK_RATE, _CLICK_BLOCK = 48000.0, 256
_CLICK_DB = 12.0

Random = np.random.Generator
SIGNALS: dict[str, Callable[[Random, float], Samples]] = {
    "silence": lambda rng, rate: np.zeros(_FRAMES),
    "pulse": lambda rng, rate: np.eye(1, _FRAMES, 100)[0],
    "low sine": lambda rng, rate: np.sin(2.0 * np.pi * 45.0 * np.arange(_FRAMES) / rate),
    "high sine": lambda rng, rate: 0.9 * np.sin(2.0 * np.pi * 0.46 * np.arange(_FRAMES)),
    "top of the band": lambda rng, rate: np.where(np.arange(_FRAMES) % 2 == 0, 1.0, -1.0),
    "square": lambda rng, rate: np.sign(np.sin(2.0 * np.pi * 220.0 * np.arange(_FRAMES) / rate) + 1e-9),
    "white noise": lambda rng, rate: 0.3 * rng.standard_normal(_FRAMES),
    "brown noise": lambda rng, rate: 0.5 * _unit(np.cumsum(rng.standard_normal(_FRAMES))),
    "one-sided": lambda rng, rate: np.full(_FRAMES, 0.7),
    "sweep": lambda rng, rate: np.sin(np.cumsum(np.geomspace(0.003, 3.0, _FRAMES))),
    "bursts": lambda rng, rate: rng.standard_normal(_FRAMES) * (np.arange(_FRAMES) // 700 % 3 == 0),
    "next to nothing": lambda rng, rate: 1e-300 * rng.standard_normal(_FRAMES),
}


def _unit(signal: Samples) -> Samples:
    return np.asarray(signal / np.abs(signal).max())


@dataclass(frozen=True, slots=True)
class Case:
    """One stage with one of everything."""

    stage: StageSettings
    signal: str
    rate: float
    factor: int
    channels: int
    block: int
    seed: int

    def __str__(self) -> str:
        params = {name: value for name, value in self.stage.params.items()
                  if value != self.stage.declaration.defaults()[name]}
        return (f"{self.stage.kind}, {self.signal}, {self.rate:g} Hz, {self.factor}x, {self.channels} channels, "
                f"blocks of {self.block}: {params}")


def _number(rng: Random, parameter: Number) -> Value:
    ends = parameter.minimum, parameter.maximum
    value = float(rng.choice([*ends, parameter.at(rng.random())]))
    if parameter.whole:
        value = float(round(value))
    if parameter.unset_word and rng.random() < 0.2:
        return None
    return value


def _value(rng: Random, parameter: Parameter) -> Value:
    if isinstance(parameter, Number):
        return _number(rng, parameter)
    if isinstance(parameter, Option):
        return parameter.value_at(int(rng.integers(len(parameter.choices))))
    if isinstance(parameter, Switch):
        return bool(rng.integers(2))
    if isinstance(parameter, Steps):
        return tuple(float(rng.random()) for _ in range(int(rng.integers(parameter.longest))))
    if isinstance(parameter, Edges):
        count = int(rng.integers(1, parameter.most + 1))
        return tuple(np.geomspace(parameter.minimum, parameter.maximum, count + 2)[1:-1].tolist())
    assert isinstance(parameter, Impulse)
    return ""


def settings_of(rng: Random, kind: StageKind, share: float = 0.5) -> StageSettings:
    """A stage of which that share of parameters is elsewhere than at rest, most of them at an end."""
    values = {parameter.id: _value(rng, parameter) for parameter in kind.parameters if rng.random() < share}
    return StageSettings(id="a", kind=kind.kind, params=kind.complete(values),
                         mix_pct=float(rng.choice([100.0, 100.0, 50.0, 0.0])))


def case_of(seed: int, number: int) -> Case:
    rng = np.random.default_rng((seed, number))
    kind = STAGES[number % len(STAGES)]
    return Case(settings_of(rng, kind), str(rng.choice(list(SIGNALS))), float(rng.choice(RATES)),
                int(rng.choice(FACTORS)), int(rng.integers(1, 3)), int(rng.choice(BLOCKS)), int(rng.integers(1 << 31)))


def _run(case: Case, stage: StageSettings, signal: Samples, block: int) -> Samples:
    chain = Chain(Setup(case.rate, signal.shape[0], 2048, case.factor, seed=case.seed), [stage])
    return np.concatenate([chain.process(signal[:, start:start + block].copy()).copy()
                           for start in range(0, signal.shape[1], block)], axis=1)


def _most(stage: StageSettings) -> float:
    """A bound that no stage reaches whose level stays in hand: all that its settings give, and 60 dB more."""
    given = sum(max(float(value), 0.0) for parameter in stage.declaration.parameters
                if isinstance(parameter, Number) and parameter.unit == "dB"
                for value in [stage.params[parameter.id]] if isinstance(value, int | float))
    return gain(60.0 + given)


def faults(case: Case) -> Iterator[str]:
    """What does not hold, in words."""
    rng = np.random.default_rng(case.seed)
    one = SIGNALS[case.signal](rng, case.rate)
    signal = np.stack([one, np.roll(one, 40)][:case.channels])
    whole = _run(case, case.stage, signal, 512)
    if not np.all(np.isfinite(whole)):
        yield "it is not finite"
        return
    peak = float(np.abs(whole).max())
    if peak > _most(case.stage):
        yield f"it is not bounded: {peak:.3g}"
    if not np.array_equal(whole, _run(case, case.stage, signal, 512)):
        yield "a second time it is another sound"
    apart = float(np.abs(whole - _run(case, case.stage, signal, case.block)).max())
    if apart > 1e-5 * max(1.0, peak):
        yield f"blocks of {case.block} differ by {apart:.3g}"
    left = _left_behind(case)
    if left > gain(-100.0):
        yield f"a second after the sound {20.0 * np.log10(left):.1f} dBFS are left"


_LASTING: dict[str, Value] = {"decay_s": 0.3, "spin": "off", "from_speed": False, "freeze": False, "slows": False,
                             "print_through_db": -80.0, "sag_pct": 0.0}
_NO_LONGER = {"decay_ms": 100.0, "_time_ms": 30.0, "release_ms": 60.0, "feedback_pct": 30.0, "_q": 2.0}
"""What sounds on for long because that is what was asked for: values, and the most of all whose name ends so."""


def _soon_over(params: Values) -> Values:
    """The same with nothing in it that sounds on for a second by itself."""
    short = {name: value for name, value in _LASTING.items() if name in params}
    for name, value in params.items():
        for end, most in _NO_LONGER.items():
            if name.endswith(end) and isinstance(value, float):
                short[name] = min(max(value, -most), most)
        if name == "note" or name.endswith("_note"):
            short[name] = "free"
    return {**params, **short}


def _left_behind(case: Case) -> float:
    """What a burst leaves a second after its end, beside what the stage would say without it."""
    stage = replace(case.stage, params=_soon_over(case.stage.params))
    case = replace(case, factor=1, rate=min(case.rate, 48000.0))
    burst = round(0.1 * case.rate)
    after = round(1.2 * case.rate) + Chain(Setup(case.rate, 1, 2048, 1), [stage]).latency
    sound = np.zeros((case.channels, burst + after))
    sound[:, :burst] = 0.5 * np.random.default_rng(case.seed).standard_normal((case.channels, burst))
    last = round(0.2 * case.rate)
    struck, still = (_run(case, stage, signal, 2048)[:, -last:] for signal in (sound, np.zeros_like(sound)))
    return float(np.abs(struck - still).max())


# -- clicks -----------------------------------------------------------------------------------


def click_case_of(seed: int, number: int) -> tuple[StageSettings, Parameter, Value, Value]:
    """A stage near its defaults, one of its parameters, and the two values between which it moves."""
    # Noises are made of clicks, some of them.
    every = [(kind, parameter) for kind in STAGES for parameter in kind.parameters
             if not isinstance(parameter, Impulse) and parameter.group is not Group.NOISE]
    rng = np.random.default_rng((seed, 77, number))
    kind, parameter = every[int(rng.integers(len(every)))]
    stage = settings_of(rng, kind, 0.1)
    quiet = {name: False for name in ("noises", "noise") if name in stage.params}
    stage = replace(stage, mix_pct=100.0, params={**stage.params, **quiet})
    if isinstance(parameter, Number):
        return stage, parameter, parameter.minimum, parameter.maximum
    first, second = _value(rng, parameter), _value(rng, parameter)
    return stage, parameter, first, second


def _with(stage: StageSettings, parameter: Parameter, value: Value) -> StageSettings:
    return replace(stage, params={**stage.params, parameter.id: value})


def _high_power(row: Samples) -> Samples:
    """Mean square above 8 kHz of each 5 ms, and at least what nobody hears beside the sound, 85 dB below it."""
    left = sosfilt(butter(8, 8000.0, "high", fs=_CLICK_RATE, output="sos"), row)
    high, whole = (np.square(sound[sound.size % 240:]).reshape(-1, 240).mean(axis=1) for sound in (left, row))
    return np.asarray(high + max(1e-10, 3e-9 * float(whole.max())))


def _stands_out(power: Samples, held: float) -> float:
    """By how many dB one of some windows stands out of its neighbours and of what is heard anyway."""
    around = np.maximum(np.maximum(power[:-4], power[4:]), np.maximum(power[1:-3], power[3:-1]))
    return float(10.0 * np.log10((power[2:-2] / np.maximum(around, held)).max()))


def click_of_a_jump_db(size: float) -> float:
    """What is measured of a tone whose level jumps: the measure's own check."""
    tone = gain(-12.0) * np.sin(2.0 * np.pi * 1000.0 * np.arange(48000) / _CLICK_RATE)
    tone[24011:] *= 1.0 - size
    power = _high_power(tone)[40:]
    return _stands_out(power, float(np.median(power)))


def click_db(stage: StageSettings, parameter: Parameter, first: Value, second: Value) -> float:
    """By how much the loudest 5 ms above 8 kHz stand out while a value moves as a hand moves it, or a switch is set."""
    frames = round(1.4 * _CLICK_RATE)
    time_ = np.arange(frames) / _CLICK_RATE
    signal = gain(-12.0) * np.sin(2.0 * np.pi * 1000.0 * time_)[None, :] * np.minimum(time_ / 0.2, 1.0)

    def heard(at: Callable[[float], Value]) -> Samples:
        chain = Chain(Setup(_CLICK_RATE, 1, _CLICK_BLOCK, 4), [_with(stage, parameter, at(0.0))])
        outs, now = [], at(0.0)
        for start in range(0, frames, _CLICK_BLOCK):
            value = at(start / _CLICK_RATE)
            if value != now:
                chain.update([_with(stage, parameter, value)])
                now = value
            outs.append(chain.process(signal[:, start:start + _CLICK_BLOCK].copy())[:1].copy())
        return _high_power(np.concatenate(outs, axis=1)[0])[140:]

    moving: Callable[[float], Value]
    if isinstance(parameter, Number) and isinstance(first, float) and isinstance(second, float):
        low, high = parameter.position(first), parameter.position(second)

        def moving(seconds: float) -> Value:
            share = min(max((seconds - 0.7) / 0.5, 0.0), 1.0)
            value = parameter.at(low + share * (high - low))
            return float(round(value)) if parameter.whole else value
    else:
        def moving(seconds: float) -> Value:
            return first if seconds < 0.8 else second

    # What stands out while nothing moves, dropouts for one, is no click.
    return _stands_out(heard(moving), max(float(heard(lambda _: value).max()) for value in (first, second)))


def click_faults(seed: int, number: int) -> Iterator[str]:
    stage, parameter, first, second = click_case_of(seed, number)
    rise = click_db(stage, parameter, first, second)
    if rise > _CLICK_DB:
        yield f"{stage.kind}, {parameter.id} from {first} to {second} clicks, {rise:.1f} dB"


# -- running ----------------------------------------------------------------------------------


def run(seed: int, seconds: float, only: int | None = None) -> tuple[int, list[str]]:
    """How many cases were tried, and what did not hold, with how to repeat it."""
    told: list[str] = []
    end, tried = time.monotonic() + seconds, 0
    for number in itertools.count() if only is None else [only]:
        if only is None and time.monotonic() > end:
            break
        case = case_of(seed, number)
        tried += 1
        told += [f"{fault}: {case}\n  script/fuzz --seed {seed} --case {number}" for fault in faults(case)]
        told += [f"{fault}\n  script/fuzz --seed {seed} --case {number}" for fault in click_faults(seed, number)]
    return tried, told


def main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=600.0)
    parser.add_argument("--seed", type=int, default=int(time.strftime("%Y%m%d")))
    parser.add_argument("--case", type=int)
    options: Any = parser.parse_args(arguments)
    tried, told = run(options.seed, options.seconds, options.case)
    print("\n".join(told))
    print(f"{tried} cases with seed {options.seed}, {len(told)} faults")
    return 1 if told else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
