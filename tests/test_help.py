"""Help inside the program: every page is there, every link leads somewhere, the search finds."""

from __future__ import annotations

import re

import pytest
from PyQt6.QtCore import QUrl
from PyQt6.QtWidgets import QWidget

from yellow_ember.app.main_window import MainWindow
from yellow_ember.app.tools.help_pages import Page, guides, stage_pages
from yellow_ember.app.tools.help_tool import HelpTool
from yellow_ember.app.tools.preset_browser import PresetBrowser
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.io.presets import find_preset
from yellow_ember.session.io.sets import shipped_sets
from yellow_ember.session.values.live_input import INPUT_VALUES

PAGES = (*guides(), *stage_pages())
LINK = re.compile(r"\]\(((?:stage|guide|preset):[^)]+)\)")


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.key)
def test_every_link_leads_somewhere(page: Page) -> None:
    keys = {other.key for other in PAGES}
    for target in LINK.findall(page.text):
        if target.startswith("preset:"):
            find_preset(target.removeprefix("preset:"))
        else:
            assert target in keys


def test_the_common_jobs_have_guides_that_start_from_presets() -> None:
    titles = [page.title for page in guides()]
    assert titles == ["The order of work", "Bass with clean lows", "Drums to tape", "Voice through a megaphone",
                      "Bus glue", "Attic reel", "Old record", "Old only in the bridge", "Play a guitar through it",
                      "Send a mix's tracks through it", "Record dry, hear it coloured",
                      "Make it sound like that"]
    for page in guides()[1:]:
        assert "(preset:" in page.text
        assert "(stage:" in page.text
        # What a guide tells one to turn is there to be turned.
        kinds = {target.removeprefix("stage:") for target in LINK.findall(page.text) if target.startswith("stage:")}
        named = set(re.findall(r"(?<!\*)\*([A-Z][A-Za-z -]+)\*(?!\*)", page.text))
        known = {parameter.label for kind in STAGES for parameter in kind.parameters}
        known |= {choice.label.split(" (")[0] for kind in STAGES for parameter in kind.parameters
                  for choice in getattr(parameter, "choices", ())}
        known |= {parameter.label for parameter in INPUT_VALUES}
        known |= {"Mix", "Settings", "Name out", "Name in left", "Arm", "Takes", "Write what leaves the path as well"}
        known |= {"Propose bands", "Keep matched", "Only in", "Bridge", "Draw over time", "Ride", "Search",
                  "Found reel", "More like this", "Noise", "The passage Bridge", "Place by time stamp"}
        known |= {result.name for result in shipped_sets()}
        known |= {macro.name for target in LINK.findall(page.text) if target.startswith("preset:")
                  for macro in find_preset(target.removeprefix("preset:")).macros}
        assert not named - known, f"{page.title} names {named - known}"
        assert kinds <= {kind.kind for kind in STAGES}


def test_a_stage_s_page_says_all_that_is_declared() -> None:
    for kind, page in zip(STAGES, stage_pages(), strict=True):
        assert kind.purpose in page.text
        for parameter in kind.parameters:
            assert f"**{parameter.label}**" in page.text
            assert parameter.help in page.text


def test_help_opens_at_the_chosen_stage_and_searches(window: MainWindow) -> None:
    window.workspace.selection.select("upright-bass")
    window.path_view.add("vinyl")
    window.help()
    result = next(child for child in window.findChildren(QWidget) if isinstance(child, HelpTool))
    assert result.page == "stage:vinyl"
    assert "stylus" in result.text.toPlainText()
    result.search.setText("small speakers")
    titles = [result.list.item(row).text().strip() for row in range(result.list.count())]
    assert "Bass with clean lows" in titles
    assert "Limiter" not in titles
    result.search.clear()
    result.text.anchorClicked.emit(QUrl("guide:bus-glue"))
    assert result.page == "guide:bus-glue"
    assert "preset:" not in result.text.toPlainText(), "links are links"
    result.back.click()
    assert result.page == "stage:vinyl"
    result.text.anchorClicked.emit(QUrl("preset:Sunday record"))
    browser = next(child for child in window.work_area.open_tools if isinstance(child, PresetBrowser))
    assert [preset.name for preset in browser.shown] == ["Sunday record"]
    browser.close()
    result.close()
