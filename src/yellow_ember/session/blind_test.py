"""A blind comparison of two things: which of them X is, in random order, and what the answers are worth."""

from __future__ import annotations

import math
import random
from dataclasses import dataclass, field

SURE = 0.05
"""A guess does as well in so few tests that it counts as hearing."""


@dataclass
class BlindTest:
    """trials : how often X is asked; order : which of the two X is each time, False for A"""

    trials: int
    order: list[bool]
    answers: list[bool] = field(default_factory=list)

    @classmethod
    def made(cls, trials: int, seed: int | None = None) -> BlindTest:
        """A fresh one, in random order."""
        chance = random.Random(seed) if seed is not None else random.SystemRandom()
        return cls(trials, [chance.random() < 0.5 for _ in range(trials)])

    @property
    def done(self) -> bool:
        return len(self.answers) == self.trials

    @property
    def x_is_b(self) -> bool:
        """What X is now; IndexError when all was asked."""
        return self.order[len(self.answers)]

    def answer(self, x_is_b: bool) -> None:
        """Say what X is; the next X follows."""
        if self.done:
            raise ValueError("all was asked")
        self.answers.append(x_is_b)

    @property
    def right(self) -> int:
        return sum(given == was for given, was in zip(self.answers, self.order, strict=False))

    @property
    def chance(self) -> float:
        """How likely a guess gets at least as many right (binomial, one half)."""
        asked = len(self.answers)
        return sum(math.comb(asked, count) for count in range(self.right, asked + 1)) / 2.0**asked

    def verdict(self) -> str:
        """The result in one sentence."""
        asked = len(self.answers)
        if asked == 0:
            return "Nothing was answered."
        heard = "you hear it" if self.chance <= SURE else "this does not show that you hear it"
        percent = 100.0 * self.chance
        figure = f"{percent:.1f}" if percent >= 0.1 else "less than 0.1"
        return f"{self.right} of {asked}: {heard} (guessing does as well {figure} % of the time)."
