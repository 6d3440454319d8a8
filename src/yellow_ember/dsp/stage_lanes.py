"""Lanes of a hosted stage: its parameters, its mix and whether it is on, moved along the session by compiled code.

A parameter that glides is followed on the grid: what its settings are at many places of its control is worked out
beforehand, by setting a processor that nobody hears, and the words of the record in which they differ are moved from
one to the next.  Any other changes by crossfades of fixed length and place, between settings that are worked out
beforehand too.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.mixing import LEFT, VALUE, aim, jump
from yellow_ember.dsp.lanes import (
    GRID,
    LANE,
    Lane,
    LaneRecord,
    lane_at,
    lane_record,
    set_value,
    value_of,
)
from yellow_ember.dsp.parameters import Automation, Parameter, Switch, Value, Values
from yellow_ember.dsp.record import (
    Record,
    WordKind,
    block_at,
    matrix,
    real,
    record_at,
    setting,
    vector,
    whole,
    whole_setting,
    whole_vector,
)
from yellow_ember.dsp.stage import Processor
from yellow_ember.dsp.stage_settings import StageSettings, level_of
from yellow_ember.dsp.stage_values import DRY, MIX, ON, WET

ROWS = 129
"""Places of a control at which its settings are worked out."""
_FINEST = 512
"""Steps of a control at which settings are faded between."""
_MOST_SETTINGS = 256
"""Settings of one stage that are faded between; where a lane asks for more, steps are coarser."""
_WORD = 8


class FollowerRecord(Record):
    """A parameter that glides.

    Attributes
    ----------
    lane : int
        Where its lane's record lies.
    ramps : NDArray[np.int64]
        The words of the stage's memory at which its ramps begin.
    targets : Samples
        Where they go, by place of the control.
    words : NDArray[np.int64]
        Other words that it moves; those of the structure count down from -1.
    values : Samples
        What they are, by place of the control; of whole numbers the bits.
    is_whole : NDArray[np.int64]
        1 for whole numbers.
    """

    lane: int = whole()
    ramps: NDArray[np.int64] = whole_setting("ramps")
    targets: Samples = setting("rows", "ramps")
    words: NDArray[np.int64] = whole_setting("words")
    values: Samples = setting("rows", "words")
    is_whole: NDArray[np.int64] = whole_setting("words")


class CyclesRecord(Record):
    """Settings that are faded between.

    Attributes
    ----------
    length : int
        Frames from the beginning of a fade to that of the next.
    first : int
        How many such lengths lie before the first of `index`.
    index : NDArray[np.int64]
        Which settings hold at the beginning of each.
    settings, structures : Samples
        The bits of the stage's memory of settings, and of its structure, for each of them.
    is_set : NDArray[np.int64]
        1 for the words of the structure that are settings.
    state_words : int
        How many words of state lie before the settings.
    settling : int
        Frames that a stage with new settings runs unheard.
    """

    length: int = whole()
    first: int = whole()
    state_words: int = whole()
    settling: int = whole()
    index: NDArray[np.int64] = whole_setting("cycles")
    settings: Samples = setting("settings", "words")
    structures: Samples = setting("settings", "structure")
    is_set: NDArray[np.int64] = whole_setting("structure")


class StageLanesRecord(Record):
    """All lanes of a stage.

    Attributes
    ----------
    followers : NDArray[np.int64]
        Where the followers' records lie.
    cycles : int
        Where that of the settings lies that are faded between, 0 for none.
    gains : int
        1 where the mix, or the wet or dry level, has a lane.
    mix, wet, dry, on : int
        Where the lanes lie of what every stage has, 0 for none.
    mix_share, wet_gain, dry_gain : float
        What holds where there is none.
    wet_gains, dry_gains : Samples
        By place of the control.
    """

    cycles: int = whole()
    gains: int = whole()
    mix: int = whole()
    wet: int = whole()
    dry: int = whole()
    on: int = whole()
    mix_share: float = real()
    wet_gain: float = real()
    dry_gain: float = real()
    followers: NDArray[np.int64] = whole_setting("followers")
    wet_gains: Samples = setting(ROWS)
    dry_gains: Samples = setting(ROWS)


_FOLLOWER, CYCLES = FollowerRecord.dtype, CyclesRecord.dtype


@kernel
def between(table: Samples, position: float) -> float:
    """What lies at a position, 0 to 1, of a table (rows,)."""
    place = position * (table.shape[0] - 1)
    row = min(int(place), table.shape[0] - 2)
    return float(table[row] + (place - row) * (table[row + 1] - table[row]))


@kernel
def steer(ramp: Samples, target: float, frames: int) -> None:
    """Aim a ramp at a value in so many frames; 0 for at once."""
    if ramp[LEFT] == 0.0 and ramp[VALUE] == target:
        return
    if frames == 0:
        jump(ramp, target)
    else:
        aim(ramp, target, frames)


@kernel
def follow_lane(address: int, frame: float, memory: int, structure: int, frames: int) -> None:
    """Move what a parameter sets in a stage to where its lane is at a frame.

    Parameters
    ----------
    address : int
        Where the follower's record lies.
    memory, structure : int
        Where the stage's words and its structure lie.
    frames : int
        How long its ramps take, 0 for at once.
    """
    follower = record_at(address, _FOLLOWER)
    position = lane_at(record_at(follower.lane, LANE), frame)
    ramps, words, is_whole = whole_vector(follower.ramps), whole_vector(follower.words), whole_vector(follower.is_whole)
    targets, values = matrix(follower.targets), matrix(follower.values)
    place = position * (targets.shape[0] - 1)
    row = min(int(place), targets.shape[0] - 2)
    share = place - row
    for k in range(ramps.shape[0]):
        target = targets[row, k] + share * (targets[row + 1, k] - targets[row, k])
        steer(block_at(memory + _WORD * ramps[k], 1, 4)[0], target, frames)
    for k in range(words.shape[0]):
        at = memory + _WORD * words[k] if words[k] >= 0 else structure - _WORD * (words[k] + 1)
        if is_whole[k] == 1:
            block_at(at, 1, 1)[0, 0] = values[row + int(share + 0.5), k]
        else:
            block_at(at, 1, 1)[0, 0] = values[row, k] + share * (values[row + 1, k] - values[row, k])


@kernel
def settings_at(cycles: CyclesRecord, number: int) -> int:
    """Which settings hold at the beginning of a cycle, by its number from the session's start."""
    index = whole_vector(cycles.index)
    return int(index[min(max(number - cycles.first, 0), index.shape[0] - 1)])


@kernel
def take_settings(cycles: CyclesRecord, number: int, memory: int, structure: int) -> None:
    """Put settings into a stage, its state left as it is; memory, structure : where its words and structure lie"""
    settings, structures, is_set = matrix(cycles.settings), matrix(cycles.structures), whole_vector(cycles.is_set)
    target = block_at(memory + _WORD * cycles.state_words, 1, settings.shape[1])
    for k in range(settings.shape[1]):
        target[0, k] = settings[number, k]
    words = block_at(structure, 1, structures.shape[1])
    for k in range(structures.shape[1]):
        if is_set[k] == 1:
            words[0, k] = structures[number, k]


@kernel
def copy_state(cycles: CyclesRecord, source: int, target: int) -> None:
    """Let one of two stages go on from where the other is; source, target : where their words lie"""
    words = cycles.state_words
    before, behind = block_at(source, 1, words), block_at(target, 1, words)
    for k in range(words):
        behind[0, k] = before[0, k]


@kernel
def gains_at(lanes: StageLanesRecord, frame: float) -> tuple[float, float]:
    """Gains of what a stage makes and of what enters it, at a frame."""
    mix, wet, dry = lanes.mix_share, lanes.wet_gain, lanes.dry_gain
    if lanes.mix != 0:
        mix = lane_at(record_at(lanes.mix, LANE), frame)
    if lanes.wet != 0:
        wet = between(vector(lanes.wet_gains), lane_at(record_at(lanes.wet, LANE), frame))
    if lanes.dry != 0:
        dry = between(vector(lanes.dry_gains), lane_at(record_at(lanes.dry, LANE), frame))
    return wet * mix, dry + 1.0 - mix


class StageLanes:
    """The Python half: all lanes of a stage that are on.

    Parameters
    ----------
    make : Callable[[], Processor]
        Makes processors like those that are heard.
    fade_frames : int
        How long a crossfade takes.

    Attributes
    ----------
    drawn : frozenset[str]
        Ids of what has a lane.
    """

    def __init__(self, settings: StageSettings, make: Callable[[], Processor], rate: float, fade_frames: int) -> None:
        kind = settings.declaration
        lanes = {lane.parameter: lane for lane in settings.lanes if lane.on}
        self.drawn = frozenset(lanes)
        own = {parameter.id: parameter for parameter in (ON, MIX, WET, DRY)}
        self._kept: list[object] = []
        parameters = [kind.parameter(name) for name in lanes if name not in own]
        followers = _followers(settings, [(lanes[p.id], p) for p in parameters if p.automation is Automation.RAMP],
                               make, rate, self._kept)
        stepped = [(lanes[p.id], p) for p in parameters if p.id not in followers]
        record = self.record = StageLanesRecord.make(followers=len(followers))
        record.followers = np.array([follower.address for follower in followers.values()], np.int64)
        self._kept += followers.values()
        self.cycles = _cycles(settings, stepped, make, rate, fade_frames, self._kept) if stepped else None
        record.cycles = 0 if self.cycles is None else self.cycles.address
        for name, parameter in own.items():
            if name in lanes:
                lane = lane_record(lanes[name], parameter, rate, glides=True)
                self._kept.append(lane)
                setattr(record, name.partition("_")[0], lane.address)
        record.mix_share = settings.mix_pct / 100.0
        record.wet_gain, record.dry_gain = level_of(WET, settings.wet_db), level_of(DRY, settings.dry_db)
        for table, parameter in ((record.wet_gains, WET), (record.dry_gains, DRY)):
            table[:] = [level_of(parameter, value_of(parameter, row / (ROWS - 1))) for row in range(ROWS)]

        record.gains = int(not self.drawn.isdisjoint((MIX.id, WET.id, DRY.id)))

    @property
    def moves_gains(self) -> bool:
        """True where a lane moves the mix, or the wet or dry level."""
        return bool(self.record.gains)

    @property
    def decides_on(self) -> bool:
        """True where a lane says whether the stage is on."""
        return bool(self.record.on != 0)


def _with_value(base: Values, parameter: Parameter, position: float) -> Values:
    return {**base, parameter.id: set_value(parameter, position)}


def _followers(settings: StageSettings, lanes: Sequence[tuple[Lane, Parameter]], make: Callable[[], Processor],
               rate: float, kept: list[object]) -> dict[str, FollowerRecord]:
    """Followers of the parameters that can be followed, by their ids; others share words, or read other tables."""
    probes = {parameter.id: _Probe(settings.params, parameter, make) for _, parameter in lanes}
    counts: dict[int, int] = {}
    for probe in probes.values():
        for word in probe.moved:
            counts[word] = counts.get(word, 0) + 1
    result = {}
    for lane, parameter in lanes:
        probe = probes[parameter.id]
        if probe.can_be_followed and all(counts[word] == 1 for word in probe.moved):
            points = lane_record(lane, parameter, rate, glides=not isinstance(parameter, Switch))
            kept.append(points)
            result[parameter.id] = probe.follower(points)
    return result


class _Probe:
    """What a parameter moves in a stage's record, found by moving it in one that nobody hears."""

    def __init__(self, base: Values, parameter: Parameter, make: Callable[[], Processor]) -> None:
        processor = make()
        record = processor.record
        rows = 2 if isinstance(parameter, Switch) else ROWS
        processor.set(_with_value(base, parameter, 0.0), at_once=True)
        memory = np.empty((rows, record.words.size), np.int64)
        structure = np.empty((rows, record.structure.size), np.int64)
        tables, same_tables = record.shared_arrays, True
        for row in range(rows):
            processor.set(_with_value(base, parameter, row / (rows - 1)))
            memory[row], structure[row] = record.words, record.structure
            same_tables = same_tables and _are_equal(tables, record.shared_arrays)
        first = record.words.ctypes.data
        in_ramps = np.zeros(record.words.size, bool)
        ramps = []
        for ramp in processor.ramps:
            word = (ramp.state.ctypes.data - first) // _WORD
            in_ramps[word:word + 4] = True
            if np.any(memory[:, word + 1] != memory[0, word + 1]):
                ramps.append(word)
        changed = np.flatnonzero(np.any(memory != memory[0], axis=0) & ~in_ramps)
        kinds = record.structure_kinds()
        # A table that is made again and holds the same is no change.
        changed_structure = np.flatnonzero(np.any(structure != structure[0], axis=0)
                                           & (kinds != WordKind.SHARED.value))
        self.can_be_followed = same_tables
        self._ramps, self._targets = ramps, memory[:, [word + 1 for word in ramps]].view(np.float64)
        self._words = np.concatenate((changed, -1 - changed_structure))
        self._values = np.concatenate((memory[:, changed], structure[:, changed_structure]), axis=1).view(np.float64)
        self._kinds = np.concatenate((record.word_kinds[changed], kinds[changed_structure]))

    @property
    def moved(self) -> list[int]:
        """All words that it moves."""
        return [*self._ramps, *self._words.tolist()]

    def follower(self, lane: LaneRecord) -> FollowerRecord:
        """The record of a parameter with that lane."""
        rows = self._values.shape[0]
        made = FollowerRecord.make(rows=rows, ramps=len(self._ramps), words=self._words.size)
        made.lane = lane.address
        made.ramps, made.words = np.array(self._ramps, np.int64), self._words
        made.targets, made.values = self._targets, self._values
        made.is_whole = self._kinds == WordKind.WHOLE.value
        return made


def _are_equal(some: Sequence[NDArray[Any]], others: Sequence[NDArray[Any]]) -> bool:
    return len(some) == len(others) and all(one is other or np.array_equal(one, other)
                                            for one, other in zip(some, others, strict=True))


def _cycles(settings: StageSettings, lanes: Sequence[tuple[Lane, Parameter]], make: Callable[[], Processor],
            rate: float, fade_frames: int, kept: list[object]) -> CyclesRecord:
    """The settings that parameters which can't glide go through, each worked out once."""
    processor = make()
    settling = 0
    for _, parameter in lanes:
        for end in (0.0, 1.0):
            processor.set(_with_value(settings.params, parameter, end), at_once=True)
            settling = max(settling, processor.settling)
    # Whole cells of the grid: where a block is cut changes nothing.
    settling = -(-settling // GRID) * GRID
    length = settling + -(-fade_frames // GRID) * GRID
    points = [lane_record(lane, parameter, rate, glides=False) for lane, parameter in lanes]
    first = math.floor(min(record.frames[0] for record in points) / length)
    last = math.ceil(max(record.frames[-1] for record in points) / length)
    positions = np.array([[lane_at_frame(record, float(number * length)) for record in points]
                          for number in range(first, last + 1)])
    steps = _FINEST
    while len(places := np.unique(np.round(positions * steps), axis=0)) > _MOST_SETTINGS:
        steps //= 2
    numbers = {tuple(place): number for number, place in enumerate(places.tolist())}
    record = processor.record
    made = CyclesRecord.make(cycles=len(positions), settings=len(places), structure=record.structure.size,
                             words=record.words.size - record.carried.size)
    made.length, made.first, made.settling = length, first, settling
    made.state_words = record.carried.size
    made.index = np.array([numbers[tuple(place)] for place in np.round(positions * steps).tolist()])
    for number, place in enumerate(places):
        values: Mapping[str, Value] = settings.params
        for (_, parameter), at in zip(lanes, place / steps, strict=True):
            values = _with_value(values, parameter, float(at))
        processor.set(values, at_once=True)
        made.settings[number] = record.words[record.carried.size:].view(np.float64)
        made.structures[number] = record.structure.view(np.float64)
        kept.append(record.shared_arrays)
    made.is_set = record.structure_kinds() != WordKind.PLACE.value
    return made


@kernel
def _lane_at(address: int, frame: float) -> float:
    return lane_at(record_at(address, LANE), frame)


def lane_at_frame(record: LaneRecord, frame: float) -> float:
    """Where on its control a lane is at a frame, 0 to 1."""
    return float(_lane_at(record.address, frame))


