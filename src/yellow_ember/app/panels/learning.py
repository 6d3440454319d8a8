"""The entry of a control's menu by which a MIDI controller learns to move it."""

from __future__ import annotations

from yellow_ember.app.state.controllers import Controllers
from yellow_ember.app.widgets.value_bar import ValueBar


def add_learning(bar: ValueBar, controllers: Controllers, target: str) -> None:
    """Offer it in a bar's menu; target : what a controller will move"""
    bar.menu_opening.connect(lambda menu: menu.addAction("Learn a controller", lambda: controllers.learn(target)))
