"""A chain's numbers moved to where its result comes nearest to the reference.

Each is moved a little aside to see which figures that changes; where all of them would be met at once is then tried,
more and less far (Levenberg and Marquardt: Nocedal and Wright, Numerical Optimization, 2nd ed., section 10.3).  What a
try shows corrects what is known of the figures' slopes (Broyden: the same, section 11.1), so that several tries can
follow before all numbers are moved aside again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from yellow_ember.engine.jobs.reference.grammar import Chain, Space
from yellow_ember.engine.jobs.reference.judging import Judged

_ASIDE, _LEAST_ASIDE = 0.05, 0.01
"""How far a number is moved along its control to see what it changes, at first and at last."""
_DAMPINGS = (0.01, 0.4)
_FARTHEST = 0.4
"""No number is moved farther at once."""
_OLD = 3
"""Rounds after which all numbers are moved aside again; until then slopes are mended by what tries have shown."""
_GAIN, _PATIENCE = 0.99, 2
"""So many rounds that bring less are the last."""
_UNFELT = 1e-4
"""A number that changes nothing stays where it is."""


def descend(judge_all: Callable[[Sequence[Chain]], list[Judged]], start: Judged, space: Space, rounds: int,
            chance: np.random.Generator) -> list[Judged]:
    """All that was judged on the way from a chain to what is near it and better.

    Parameters
    ----------
    space : Space
        What of the chain is moved.
    chance : np.random.Generator
        It tells which way a number is moved aside.
    """
    known: list[Judged] = []
    if not space.axes:
        return known
    best, here, step = start, np.array(space.here), _ASIDE
    slopes, age, stuck = np.zeros((0, 0)), _OLD, 0
    for _ in range(rounds):
        judged, places = [], []
        fresh = age == _OLD
        if fresh:
            aside = step * chance.choice((-1.0, 1.0), here.size)
            aside = np.where((here + aside < 0.0) | (here + aside > 1.0), -aside, aside)
            places = [here + move for move in np.diag(aside)]
            judged = judge_all([space.at(place) for place in places])
            slopes = np.stack([one.apart - best.apart for one in judged], axis=1) / aside
            step, age = max(0.6 * step, _LEAST_ASIDE), 0
        age += 1
        square, down = slopes.T @ slopes, -(slopes.T @ best.apart)
        weight = np.maximum(np.diag(square), _UNFELT * max(float(np.diag(square).max()), _UNFELT))
        moves = [np.linalg.solve(square + damping * np.diag(weight), down) for damping in _DAMPINGS]
        tried = [np.clip(here + np.clip(move, -_FARTHEST, _FARTHEST), 0.0, 1.0) for move in moves]
        there = judge_all([space.at(place) for place in tried])
        for place, one in zip(tried, there, strict=True):
            move = place - here
            surprise = one.apart - best.apart - slopes @ move
            slopes += np.outer(surprise, move) / max(float(move @ move), _LEAST_ASIDE**2)
        judged, places = judged + there, places + tried
        known += judged
        nearest, before = min(range(len(judged)), key=lambda index: judged[index].cost), best.cost
        if judged[nearest].cost < before:
            best, here = judged[nearest], places[nearest]
        if best.cost > _GAIN * before:
            stuck, age = stuck + fresh, _OLD
            if stuck == _PATIENCE:
                break
    return known
