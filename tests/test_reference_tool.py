"""The window's reference tool: what is found can be heard while more is looked for, and is taken over in one step."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.reference_tool import ReferenceTool
from yellow_ember.measure.likeness.distance import Respect
from yellow_ember.session.values.model import Loop

STRIP, RATE = "upright-bass", 48000
_WAIT_MS = 90000


@pytest.fixture
def tool(window: MainWindow) -> ReferenceTool:
    workspace = window.workspace
    workspace.sessions.document.commit("Loop", lambda session: session.with_(loop=Loop(10 * RATE, 13 * RATE)))
    workspace.selection.select(STRIP)
    return workspace.tools.open(ReferenceTool)


def choose(tool: ReferenceTool, words: str) -> None:
    tool.source.setCurrentIndex(next(index for index in range(tool.source.count())
                                     if words in tool.source.itemText(index)))


def test_proposals_and_the_reference_are_heard_and_one_is_kept(window: MainWindow, tool: ReferenceTool,
                                                               qtbot: Any) -> None:
    document = window.workspace.sessions.document
    before = document.committed
    assert not tool.buttons["Apply"].isEnabled()
    choose(tool, "Plucked guitar")
    qtbot.mouseClick(tool.buttons["Search"], Qt.MouseButton.LeftButton)
    assert tool.buttons["Stop"].isEnabled()
    qtbot.waitUntil(lambda: tool.findings is not None, timeout=_WAIT_MS)
    assert tool.tiles[0].ready
    # Arrow keys hear them, the reference below the last.
    tool.setFocus()
    qtbot.keyClick(tool, Qt.Key.Key_Right)
    assert tool.heard is tool.tiles[0]
    heard = document.session.strip(STRIP)
    assert [stage.kind for stage in heard.chain] == [stage.kind for stage in tool.tiles[0].proposal.chain]
    assert heard.match_db == tool.tiles[0].proposal.offset_db
    for _ in range(3):
        qtbot.keyClick(tool, Qt.Key.Key_Down)
    assert tool.heard is tool.reference_tile
    assert document.session.strip(STRIP).chain == ()
    assert document.session.strip(STRIP).regions[0].audio == tool.findings.file
    assert document.committed == before
    assert not tool.buttons["Apply"].isEnabled()
    qtbot.mouseClick(tool.buttons["Stop"], Qt.MouseButton.LeftButton)
    # What is applied is one step, and can be undone.
    tool.hear(tool.tiles[1])
    kinds = [stage.kind for stage in tool.tiles[1].proposal.chain]
    qtbot.mouseClick(tool.buttons["Apply"], Qt.MouseButton.LeftButton)
    assert [stage.kind for stage in document.committed.strip(STRIP).chain] == kinds
    window.undo()
    assert document.committed == before


def test_weights_put_proposals_in_order_and_escape_leaves_all_as_it_was(window: MainWindow, tool: ReferenceTool,
                                                                        qtbot: Any) -> None:
    before = window.workspace.sessions.document.session
    choose(tool, "Harmonium")
    tool.search()
    qtbot.waitUntil(lambda: tool.findings is not None and len(tool.findings.proposals) > 2, timeout=_WAIT_MS)
    tool.cancel()
    for respect in Respect:
        for other, slider in tool.sliders.items():
            slider.setValue(slider.maximum() if other is respect else 0)
        apart = [tile.proposal.distance for tile in tool.tiles if tile.proposal is not None]
        # What nothing is known of puts nothing in order.
        steps = [one.steps[respect] for one in apart if one.sure[respect] > 0.0]
        assert steps == sorted(steps)
        qtbot.mouseClick(tool.rows[respect], Qt.MouseButton.LeftButton)
    tool.grab()
    tool.hear(tool.tiles[0])
    assert tool.buttons["More like this"].isEnabled()
    qtbot.mouseClick(tool.buttons["More like this"], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: tool.findings is not None, timeout=_WAIT_MS)
    qtbot.keyClick(tool, Qt.Key.Key_Escape)
    assert not tool.isVisible()
    assert window.workspace.sessions.document.session == before


def test_a_file_that_can_t_be_compared_with_is_refused_in_words(tool: ReferenceTool, tmp_path: Path,
                                                                qtbot: Any) -> None:
    soundfile.write(tmp_path / "short.wav", 0.1 * np.ones(RATE), RATE)
    tool.use_file(tmp_path / "short.wav")
    qtbot.waitUntil(lambda: "only 1.0 s long" in tool.state.text(), timeout=_WAIT_MS)
    assert tool.buttons["Search"].isEnabled()
    (tmp_path / "text.wav").write_text("no sound")
    tool.use_file(tmp_path / "text.wav")
    assert "text.wav" in tool.state.text()
    # A file that was used can be chosen again.
    assert tool.source.itemText(0) == "short.wav"


def test_a_long_chain_in_words_leaves_the_tiles_their_room(tool: ReferenceTool) -> None:
    narrow = tool.minimumSizeHint().width()
    tool.state.setText("heard: " + "Tape machine at Harbour (warm, mid output); " * 20)
    assert tool.minimumSizeHint().width() == narrow
