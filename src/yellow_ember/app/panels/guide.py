"""Does what a guide's "Do it" stands for, as one step of the history."""

from __future__ import annotations

from yellow_ember.app.state.commands import Commands
from yellow_ember.app.state.messages import Messages
from yellow_ember.app.state.selection import Selection
from yellow_ember.app.state.session_keeper import SessionKeeper
from yellow_ember.session.edits.edits import difference
from yellow_ember.session.guide_steps import Guided, guide_steps, take_step


class Guide:
    """Edits come first and are one step; then what a guide runs of the menus' commands."""

    def __init__(self, sessions: SessionKeeper, selection: Selection, messages: Messages, commands: Commands) -> None:
        self._sessions, self._selection, self._messages, self._commands = sessions, selection, messages, commands

    def do(self, text: str) -> None:
        """Do some steps, and say what was done; nothing is done where one of them can't be."""
        guided = Guided(self._sessions.session, self._selection.strip_id, self._selection.stage_id)
        before = guided.session
        try:
            steps = guide_steps(text)
            for step in steps:
                if step.verb != "run":
                    guided = take_step(guided, step)
            commands = [self._commands.find(step.rest) for step in steps if step.verb == "run"]
            if guided.session is not before:
                self._sessions.document.commit("Step of a guide", difference(before, guided.session))
        except (ValueError, KeyError) as error:
            self._messages.warn(f"This step can't be done here: {error}")
            return
        self._selection.select(guided.strip_id, guided.stage_id)
        for command in commands:
            command.action.trigger()
        done = ", ".join(f"{step.verb} {step.rest}" for step in steps)
        self._messages.say(f"Done: {done}. Undo takes it back.")
