"""Running all strips of a graph: in one compiled call, by one thread or by several."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from types import TracebackType
from typing import Self

import numpy as np
from numpy.typing import NDArray

from yellow_ember.dsp.arrays import Samples
from yellow_ember.dsp.kernels import kernel
from yellow_ember.dsp.kernels.mixing import ceiling
from yellow_ember.dsp.record import (
    Record,
    address_of,
    block_in,
    call_at,
    real,
    record_at,
    setting,
    vector,
    whole,
    whole_scratch,
    whole_setting,
    whole_vector,
)
from yellow_ember.engine.strip import StripNode, StripRecord, TurnRecord, strip_address
from yellow_ember.engine.system_calls import (
    SEMAPHORE_WORDS,
    fetch_add,
    load,
    sched_yield,
    sem_init,
    sem_post,
    sem_wait,
    store,
)
from yellow_ember.engine.urgency import be_on_time

_PATIENCE = 2000
"""How often a thread looks whether another is ready before it lets others run."""
_WORD_BYTES = 8


class PlanRecord(Record):
    """Strips in an order in which each comes behind those that feed it.

    Attributes
    ----------
    run_strip : int
        Where the strips' compiled half lies.
    strips : NDArray[np.int64]
        Where their records lie.
    turns : NDArray[np.int64]
        Where the records of the last blocks lie.
    number : int
        How many there were.
    taken : NDArray[np.int64]
        How many strips were taken by a thread in this block.
    done : NDArray[np.int64]
        By row, the block that a strip is through with.
    ceiled : int
        Where the record of the strip lies that is held under `limit`, 0 for none.
    damaged : NDArray[np.int64]
        1 when a print was found damaged.
    """

    run_strip: int = whole()
    number: int = whole()
    ceiled: int = whole()
    limit: float = real()
    release: float = real()
    ceiling_gain: float = real()
    strips: NDArray[np.int64] = whole_setting("strips")
    turns: NDArray[np.int64] = whole_setting("places")
    ceiling_state: Samples = setting(1)
    damaged: NDArray[np.int64] = whole_scratch(1)
    taken: NDArray[np.int64] = whole_scratch(1)
    done: NDArray[np.int64] = whole_scratch("strips")


class CrewRecord(Record):
    """What the threads of a crew share.

    Attributes
    ----------
    plan : NDArray[np.int64]
        Where the record of the plan lies.
    open : NDArray[np.int64]
        1 while there is work.
    active : NDArray[np.int64]
        Threads that are at it.
    wake : NDArray[np.int64]
        A semaphore.
    over : NDArray[np.int64]
        1 when the threads are to end.
    """

    threads: int = whole()
    plan: NDArray[np.int64] = whole_scratch(1)
    open: NDArray[np.int64] = whole_scratch(1)
    active: NDArray[np.int64] = whole_scratch(1)
    over: NDArray[np.int64] = whole_scratch(1)
    wake: NDArray[np.int64] = whole_scratch(SEMAPHORE_WORDS)


_PLAN, _CREW, _STRIP, _TURN = PlanRecord.dtype, CrewRecord.dtype, StripRecord.dtype, TurnRecord.dtype


@kernel
def _await_word(address: int, value: int) -> None:
    """Wait until a word has a value, which takes microseconds where every thread has a core."""
    looks = 0
    while load(address) != value:
        looks += 1
        if looks > _PATIENCE:
            sched_yield()


@kernel
def _take_strips(address: int) -> None:
    """Run strips, one after the other, that no other thread has taken.

    Where none is a block behind others, each waits for those that feed it; as these come before it in the order, one
    that can go on is always being run.
    """
    plan = record_at(address, _PLAN)
    strips, turns = whole_vector(plan.strips), whole_vector(plan.turns)
    places = turns.shape[0]
    while True:
        index = fetch_add(address_of(plan.taken), 1)
        if index >= strips.shape[0]:
            return
        strip = record_at(strips[index], _STRIP)
        number = plan.number - strip.behind
        if places == 1:
            for row in whole_vector(strip.sources):
                _await_word(address_of(plan.done) + _WORD_BYTES * row, number)
        if number > 0:
            call_at(plan.run_strip, strips[index], turns[number % places], 0, 0)
        if strip.broken == 1:
            store(address_of(plan.damaged), 1)
        store(address_of(plan.done) + _WORD_BYTES * strip.row, plan.number)


@kernel
def _run(plan_address: int, crew_address: int) -> None:
    """Run all strips for a block; crew_address : where the record of the threads that help lies, 0 for none."""
    plan = record_at(plan_address, _PLAN)
    store(address_of(plan.taken), 0)
    if crew_address == 0:
        _take_strips(plan_address)
    else:
        crew = record_at(crew_address, _CREW)
        store(address_of(crew.plan), plan_address)
        store(address_of(crew.open), 1)
        for _ in range(min(crew.threads, plan.strips.size0 - 1)):
            sem_post(address_of(crew.wake))
        _take_strips(plan_address)
        # A thread that wakes from here on finds nothing to do; one that is at work is waited for.
        store(address_of(crew.open), 0)
        _await_word(address_of(crew.active), 0)
    if plan.ceiled != 0:
        strip, turns = record_at(plan.ceiled, _STRIP), whole_vector(plan.turns)
        number = plan.number - strip.behind
        if number > 0:
            frames = record_at(turns[number % turns.shape[0]], _TURN).frames
            out = block_in(strip.out, strip.place, 2, frames)
            plan.ceiling_gain = ceiling(out, plan.limit, plan.release, vector(plan.ceiling_state))


@kernel
def _start(address: int) -> None:
    crew = record_at(address, _CREW)
    sem_init(address_of(crew.wake), 0, 0)


@kernel
def _help(address: int) -> None:
    """Help whenever there is work, until it is over; a thread stays in here and never meets the interpreter."""
    crew = record_at(address, _CREW)
    while True:
        sem_wait(address_of(crew.wake))
        fetch_add(address_of(crew.active), 1)
        if load(address_of(crew.over)) == 1:
            return
        if load(address_of(crew.open)) == 1:
            _take_strips(load(address_of(crew.plan)))
        fetch_add(address_of(crew.active), -1)


@kernel
def _end(address: int) -> None:
    crew = record_at(address, _CREW)
    store(address_of(crew.over), 1)
    for _ in range(crew.threads):
        sem_post(address_of(crew.wake))


class Crew:
    """Threads that run strips side by side with whoever calls `Plan.run`, who counts as one of `threads`.

    What comes out is the same to the bit for any number of them.

    Parameters
    ----------
    on_time : bool
        They are scheduled like one that makes sound in real time.
    """

    def __init__(self, threads: int, *, on_time: bool = False) -> None:
        self.threads = threads
        self.record = CrewRecord.make()
        self.record.threads = threads - 1
        _start(self.record.address)
        self._helpers = [threading.Thread(target=self._help, args=(on_time,), daemon=True)
                         for _ in range(threads - 1)]
        for helper in self._helpers:
            helper.start()

    def _help(self, on_time: bool) -> None:
        if on_time:
            be_on_time()
        _help(self.record.address)

    def close(self) -> None:
        """End the threads."""
        _end(self.record.address)
        for helper in self._helpers:
            helper.join()
        self._helpers = []

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None,
                 trace: TracebackType | None) -> None:
        self.close()


class Plan:
    """The Python half of a plan.

    Parameters
    ----------
    places : int
        How many blocks are under way at the same time, where strips run behind those that feed them; else 1.
    """

    def __init__(self, nodes: Sequence[StripNode], max_block: int, places: int) -> None:
        record = self.record = PlanRecord.make(strips=len(nodes), places=places)
        self._nodes = nodes
        """Kept, since the record holds only where theirs lie."""
        self._turns = [TurnRecord.make(frames=max_block) for _ in range(places)]
        for place, turn in enumerate(self._turns):
            turn.place = place
        record.strips = np.array([node.record.address for node in nodes])
        record.turns = np.array([turn.address for turn in self._turns])
        record.run_strip = strip_address()
        record.ceiling_gain = 1.0
        record.ceiling_state.fill(1.0)
        self._damaged = record.damaged
        self._number = 0

    def run(self, stretches: Sequence[tuple[int, int]], frames: int, crew: Crew | None = None) -> None:
        """Run all strips for the next `frames`, which stretches (first frame, frames) of the time line make up."""
        self._number += 1
        turn = self._turns[self._number % len(self._turns)]
        turn.stretches[:len(stretches)] = stretches
        turn.count, turn.frames = len(stretches), frames
        self.record.number = self._number
        _run(self.record.address, 0 if crew is None else crew.record.address)

    def reset(self) -> None:
        """Forget what is under way."""
        self._number = 0
        self.record.done.fill(0)
        self.record.ceiling_state.fill(1.0)

    def met_damage(self) -> bool:
        """Return True, once, where a print that is played was found damaged on disk."""
        damaged = bool(self._damaged[0])
        self._damaged[0] = 0
        return damaged
