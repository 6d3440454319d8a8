"""The first start and learning: the card, the empty session, what a guide does, and help on a control."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from conftest import OpenWindow
from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.state.settings import load_settings, save_settings
from yellow_ember.app.tools.control_figure import draw_figure, figure_of
from yellow_ember.app.tools.help_pages import GUIDES, guides
from yellow_ember.app.tools.help_tool import HelpTool
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.dsp.parameters import Number, as_number
from yellow_ember.dsp.stages import STAGES, stage_kind
from yellow_ember.session.guide_steps import Guided, guide_steps, take_step
from yellow_ember.session.io.session_file import read_session
from yellow_ember.shipped import DEMO

DO_IT = re.compile(r"\(do:([^)]+)\)")


@pytest.fixture
def demo_window(open_window: OpenWindow) -> MainWindow:
    return open_window(DEMO)


# -- card -------------------------------------------------------------------------------------


def test_the_card_ticks_what_was_tried_and_goes_for_good(demo_window: MainWindow, open_window: OpenWindow,
                                                         qtbot: QtBot) -> None:
    window = demo_window
    card = window.card
    assert card.isVisible()
    assert list(card.steps) == ["play", "drive", "compare", "presets"]
    assert not any(button.text().startswith("\u2713") for button in card.steps.values())
    window.path_view.drive(1.0)
    window.path_view._commit_drive()
    card.steps["compare"].click()
    card.steps["compare"].click()
    card.steps["presets"].click()
    assert isinstance(window.work_area.current, PresetBrowser)
    card.steps["play"].click()
    qtbot.waitUntil(lambda: all(button.text().startswith("\u2713") for button in card.steps.values()), timeout=20000)
    assert card.height() <= 40
    card.close_for_good()
    assert not card.isVisible()
    save_settings(window.workspace.settings)
    again = open_window(DEMO, settings=load_settings())
    assert not again.card.isVisible()


def test_the_card_is_for_the_demo(window: MainWindow) -> None:
    assert not window.card.isVisible()


# -- empty session ----------------------------------------------------------------------------


def test_an_empty_session_says_what_to_do(open_window: OpenWindow) -> None:
    settings = load_settings()
    settings.recent = (str(DEMO),)
    window = open_window(None, settings=settings)
    assert window.start_page.isVisible()
    assert not window.bench.isVisible()
    names = [button.text() for button in window.start_page.findChildren(QPushButton)]
    assert {"Open audio files\u2026", "Open a session\u2026", "Open the demo", "night-ferry"} <= set(names)
    next(button for button in window.start_page.findChildren(QPushButton) if button.text() == "night-ferry").click()
    assert window.workspace.sessions.session.name == "Night Ferry to Saltmouth"
    assert window.bench.isVisible()
    assert not window.start_page.isVisible()


# -- guides -----------------------------------------------------------------------------------


def test_every_step_of_every_guide_can_be_done_in_the_demo(demo_window: MainWindow) -> None:
    session = read_session(DEMO)
    found = 0
    for page in guides():
        for text in DO_IT.findall(page.text):
            guided = Guided(session, "rhythm", session.strip("rhythm").chain[0].id)
            for step in guide_steps(text):
                if step.verb == "run":
                    assert demo_window.workspace.commands.find(step.rest)
                else:
                    guided = take_step(guided, step)
                    if step.verb == "strip":
                        assert guided.session.strip(guided.strip_id).name == step.rest
            found += 1
    assert found >= 20
    assert all("do:" in page.text for page in guides()), "each guide does something"


def test_a_step_sets_what_it_says() -> None:
    session = read_session(DEMO)
    guided = Guided(session, "rhythm", "")
    for step in guide_steps("strip Plucked guitar; add drive; set shape fold; set drive_db 13; add tame"):
        guided = take_step(guided, step)
    chain = guided.session.strip("plucked-guitar").chain
    assert [stage.kind for stage in chain] == ["drive", "tame"]
    assert (chain[0].params["shape"], chain[0].params["drive_db"]) == ("fold", 13.0)
    assert guided.stage_id == chain[1].id
    # A second time goes to what is there.
    for step in guide_steps("add drive; set drive_db 3"):
        guided = take_step(guided, step)
    assert [stage.kind for stage in guided.session.strip("plucked-guitar").chain] == ["drive", "tame"]
    elsewhere = take_step(guided, guide_steps("strip No such strip")[0])
    assert elsewhere.strip_id == guided.strip_id, "where the session has no such strip one stays"
    for wrong in ("set nothing 3", "set drive_db loud", "add fog", "preset Nowhere"):
        with pytest.raises((ValueError, KeyError)):
            take_step(guided, guide_steps(wrong)[0])
    with pytest.raises(ValueError, match="can't 'burn'"):
        guide_steps("burn it")


def test_do_it_is_one_step_of_the_history(demo_window: MainWindow) -> None:
    workspace = demo_window.workspace
    before = workspace.sessions.session
    tool = workspace.tools.open(HelpTool, demo_window.path_view.open_presets, demo_window.guide.do)
    tool.show_page("guide:bass-with-clean-lows")
    link = QUrl("do:" + DO_IT.findall((GUIDES / "1-bass-with-clean-lows.md").read_text("utf-8"))[0])
    tool.text.anchorClicked.emit(link)
    assert workspace.selection.strip_id == "upright-bass"
    drive = workspace.selection.strip.stage(workspace.selection.stage_id)
    assert (drive.kind, drive.params["drive_db"]) == ("drive", 12.0)
    assert "Undo takes it back" in workspace.messages.all[-1].text
    demo_window.undo()
    assert workspace.sessions.session.strips == before.strips
    demo_window.guide.do("add drive; set nonsense 4")
    assert "can't be done here" in workspace.messages.all[-1].text
    assert workspace.sessions.session.strips == before.strips
    demo_window.guide.do("run Before or after")
    assert workspace.playback.state is not None


def test_do_it_looks_like_a_button(demo_window: MainWindow) -> None:
    tool = demo_window.workspace.tools.open(HelpTool, demo_window.path_view.open_presets, demo_window.guide.do)
    tool.show_page("guide:bass-with-clean-lows")
    assert tool.text.toHtml().count("background-color") >= 4


# -- a control's paragraph --------------------------------------------------------------------


def test_help_on_a_control_is_its_paragraph_with_a_figure(demo_window: MainWindow, qtbot: QtBot) -> None:
    window = demo_window
    bar = window.bench.bar("bias_db")
    bar.setFocus()
    window.help()
    tool = window.work_area.current
    assert isinstance(tool, HelpTool)
    assert tool.page == "control:tape/bias_db"
    words = tool.text.toPlainText()
    assert stage_kind("tape").parameter("bias_db").help in words
    image = tool.text.loadResource(2, QUrl("figure:tape/bias_db"))
    assert isinstance(image, QImage)
    assert not image.isNull()
    assert window.path_view.isVisible(), "it lies over nothing one works on"


def test_figures_show_what_a_control_does() -> None:
    figure = figure_of(stage_kind("eq"), "tilt_db")
    assert figure is not None
    low, default, high = (curve.y for curve in figure.curves)
    assert low[0] > default[0] > high[0]
    assert low[-1] < default[-1] < high[-1]
    number = stage_kind("eq").number("tilt_db")
    assert figure.values[1] == number.text(number.default_value)
    assert not draw_figure(figure).isNull()


def test_most_drives_have_a_figure_and_none_is_of_nothing() -> None:
    for kind in STAGES:
        for parameter in kind.parameters:
            figure = figure_of(kind, parameter.id)
            if figure is not None:
                assert np.abs(np.nan_to_num(figure.curves[0].y) - np.nan_to_num(figure.curves[-1].y)).max() > 0.0
                assert len(figure.values) == len(figure.curves)
        if kind.drive is not None and kind.kind not in ("trim",):
            number = kind.number(kind.drive)
            assert isinstance(number, Number)
            assert as_number(number.maximum) > number.minimum
    for kind_name, name in (("drive", "drive_db"), ("tape", "bias_db"), ("amp", "gain"), ("comp", "ratio"),
                            ("cabinet", "speaker"), ("vinyl", "era")):
        assert figure_of(stage_kind(kind_name), name) is not None, (kind_name, name)


def test_every_control_has_a_page(demo_window: MainWindow) -> None:
    tool = demo_window.workspace.tools.open(HelpTool, demo_window.path_view.open_presets, demo_window.guide.do)
    for name in stage_kind("drive").defaults():
        tool.show_page(f"control:drive/{name}")
        assert stage_kind("drive").parameter(name).help in tool.text.toPlainText()
    with pytest.raises(KeyError):
        tool.show_page("control:drive/nothing")
    assert Path(GUIDES).is_dir()
