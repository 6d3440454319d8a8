"""Makes graphs, and works out new settings, in a thread beside the one that plays."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from dataclasses import dataclass

from yellow_ember.engine.graph import Graph
from yellow_ember.engine.graph_settings import GraphSettings
from yellow_ember.engine.live.changes import PackedSession, ValueChange, with_changes
from yellow_ember.engine.live.messages import EndRecording, Record
from yellow_ember.engine.live.meters import GraphMeters
from yellow_ember.engine.live.ports import Ports
from yellow_ember.session.values.drawn import with_macro_lanes
from yellow_ember.session.values.model import Session


@dataclass(frozen=True, slots=True)
class NewGraph:
    """A graph that was made for a session."""

    session: Session
    ports: Ports
    graph: Graph
    meters: GraphMeters


@dataclass(frozen=True, slots=True)
class NewValues:
    """A session that the last graph fits, and which of its strips have other values."""

    session: Session
    ports: Ports
    strip_ids: frozenset[str]


@dataclass(frozen=True, slots=True)
class _Build:
    """A graph is to be made of a session, or of the last one again; from nothing where it is `fresh`."""

    packed: PackedSession | None
    max_block: int
    fresh: bool


_Order = _Build | tuple[ValueChange, ...] | Record | EndRecording
Prepared = NewGraph | NewValues | Record | EndRecording
"""What the audio thread takes up, in the order in which it was asked for."""


class Preparer:
    """Takes sessions and value changes in their order, and gives out what the audio thread can take up at once.

    Whatever takes long happens here: unpacking, making graphs, and the tables and responses of new settings, which
    `Chain.rehearse` works out so that the audio thread finds them ready.

    Parameters
    ----------
    say : callable
        Told in words why a session can't be played; from the preparer's thread.
    """

    def __init__(self, say: Callable[[str], None]) -> None:
        self._say = say
        self._orders: queue.SimpleQueue[_Order | None] = queue.SimpleQueue()
        self._results: queue.SimpleQueue[Prepared] = queue.SimpleQueue()
        self._session: Session | None = None
        self._graph: Graph | None = None
        self._max_block = 0
        self._held: list[_Order | None] = []
        """The order that was met while values were gathered."""
        self._untold: frozenset[str] = frozenset()
        """Strips whose new values could not be worked out; they are told of with the next ones."""
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def close(self) -> None:
        """End the thread, once it has done what it is at."""
        self._orders.put(None)
        self._thread.join(timeout=2.0)

    # -- the audio thread's side --------------------------------------------------------

    def build(self, packed: PackedSession | None, max_block: int, *, fresh: bool) -> None:
        """Make a graph of a session (None for the last one) in blocks of at most `max_block` frames.

        Parameters
        ----------
        fresh : bool
            Nothing of the graph before goes on in it.
        """
        self._orders.put(_Build(packed, max_block, fresh))

    def change(self, changes: tuple[ValueChange, ...]) -> None:
        """Work out new values of the last session."""
        self._orders.put(changes)

    def pass_on(self, command: Record | EndRecording) -> None:
        """Give out a command behind all that was asked for before it."""
        self._orders.put(command)

    def result(self) -> Prepared | None:
        """Return the next result, or None where nothing is ready."""
        try:
            return self._results.get_nowait()
        except queue.Empty:
            return None

    # -- the thread ---------------------------------------------------------------------

    def _run(self) -> None:
        while (order := self._next_order()) is not None:
            try:
                self._results.put(self._done(order))
            except Exception as error:  # the engine plays on with what it has
                self._say(f"The session can't be played: {error}")

    def _done(self, order: _Order) -> Prepared:
        if isinstance(order, tuple):
            return self._changed(order)
        if isinstance(order, Record | EndRecording):
            return order
        self._max_block = order.max_block
        if order.packed is not None:
            self._session = order.packed.unpacked()
        return self._built(fresh=order.fresh)

    def _next_order(self) -> _Order | None:
        """The next order; values that came while the last one was worked out are taken together."""
        order = self._held.pop() if self._held else self._orders.get()
        while isinstance(order, tuple) and not self._orders.empty():
            following = self._orders.get()
            if not isinstance(following, tuple):
                self._held.append(following)
                break
            order += following
        return order

    def _built(self, *, fresh: bool) -> NewGraph:
        session = self._session
        assert session is not None, "a session comes before all else"
        reuse, self._graph = None if fresh else self._graph, None
        session = with_macro_lanes(session)
        graph = Graph(session, GraphSettings(session.quality.live, self._max_block, live=True), reuse)
        meters = GraphMeters(graph)
        self._graph, self._untold = graph, frozenset()
        return NewGraph(session, Ports.of(session), graph, meters)

    def _changed(self, changes: tuple[ValueChange, ...]) -> NewGraph | NewValues:
        assert self._session is not None, "a session comes before its changes"
        session = self._session = with_changes(self._session, changes)
        touched = self._untold | {change.strip_id for change in changes if change.strip_id}
        if self._graph is None or not all(self._graph.nodes[strip_id].fits(session.strip(strip_id))
                                          for strip_id in touched):
            return self._built(fresh=False)
        self._untold = touched
        session = with_macro_lanes(session)
        for strip_id in touched:
            self._graph.nodes[strip_id].rehearse(session.strip(strip_id))
        self._untold = frozenset()
        return NewValues(session, Ports.of(session), touched)
