"""Which strips take sound from outside the session, and which give theirs to the outside."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yellow_ember.session.values.live_input import InputKind
from yellow_ember.session.values.model import Session

MASTER_CHANNELS = 2


@dataclass(frozen=True, slots=True)
class Port:
    """A way in or out of one strip.

    Attributes
    ----------
    name : str
        As other programs see it; no other way in the same direction has it.
    channels : int
        One or two.
    card : tuple[int, ...]
        The card's channels, counted from 1, that it belongs to; empty where others connect to it.
    """

    strip_id: str
    name: str
    channels: int
    card: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Ports:
    """All ways in and out, beside the master's two channels."""

    ins: tuple[Port, ...] = ()
    outs: tuple[Port, ...] = ()

    @classmethod
    def of(cls, session: Session) -> Ports:
        """The ways that a session's strips ask for."""
        ins: list[Port] = []
        outs: list[Port] = []
        for strip in session.strips:
            if strip.listens and strip.live is not None:
                card = strip.live.channels if strip.live.kind is InputKind.CARD else ()
                ins.append(Port(strip.id, _free_name(ins, strip.name), len(strip.live.channels), card))
            if strip.own_ports:
                outs.append(Port(strip.id, _free_name(outs, strip.name), MASTER_CHANNELS))
        return cls(tuple(ins), tuple(outs))

    @property
    def rows_in(self) -> int:
        return sum(port.channels for port in self.ins)

    @property
    def rows_out(self) -> int:
        """The master's two first."""
        return MASTER_CHANNELS + sum(port.channels for port in self.outs)

    @property
    def card_inputs(self) -> int:
        """The highest channel of the card that something listens to, 0 for none."""
        return max((max(port.card) for port in self.ins if port.card), default=0)


class Crossing:
    """The block that comes in and the one that goes out, for one set of ports; float32.

    Attributes
    ----------
    came_in : NDArray[np.float32]
        (rows in, frames): the channels of `ports.ins` in their order.
    goes_out : NDArray[np.float32]
        (rows out, frames): the master's two, then the channels of `ports.outs`.
    clock : list[tuple[int, bytes]]
        MIDI clock that goes out with them: frames within the block, and messages.
    """

    def __init__(self, ports: Ports, block: int) -> None:
        self.ports = ports
        self.came_in: NDArray[np.float32] = np.zeros((ports.rows_in, block), np.float32)
        self.goes_out: NDArray[np.float32] = np.zeros((ports.rows_out, block), np.float32)
        self.clock: list[tuple[int, bytes]] = []


def _free_name(taken: list[Port], name: str) -> str:
    names = {port.name for port in taken}
    result, number = name, 2
    while result in names:
        result, number = f"{name} {number}", number + 1
    return result
